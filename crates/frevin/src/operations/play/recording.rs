//! Frames of ordinary play: recorded while the game runs, and kept apart from those of scenes.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, mpsc};
use std::thread::JoinHandle;
use std::time::{Duration, Instant};

use frevin_core::ids::NameError;
use frevin_core::playing::{PlayEvent, PlayId, PlayRecording};
use frevin_core::setting::PowerSource;
use frevin_core::trial::in_play::PlaySource;
use frevin_core::visits::{InForce, RunSource, VisitContext, VisitId};
use frevin_frames::{FrameTally, LogReadings, RunConditions};
use frevin_ledger::{Ledger, NewRun, NewVisit, PlayRecord, VisitFor};
use frevin_pc::Pc;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::card_of_games;
use crate::measure::collector::FrameCollector;
use crate::measure::play_feed::{Frames, LiveFeed};

/// Frames are asked for so many seconds together.
const TOGETHER_S: f64 = 2.0;

/// Frames of a game, as they come.
pub(super) enum Recording {
    /// A rehearsal PC's game shows nothing: its frames are made when it has ended.
    Simulated { begun: Instant },
    /// A thread takes them in.
    Live { frames: mpsc::Receiver<Frames>, stop: Arc<AtomicBool>, thread: JoinHandle<()> },
}

impl Recording {
    /// Begins to take frames in.
    pub(super) fn begin(recording: &PlayRecording) -> Result<Self, Failure> {
        if recording.source == PlaySource::Scene {
            return Ok(Self::Simulated { begun: Instant::now() });
        }
        let mut feed = LiveFeed::begin(&recording.source)?;
        let stop = Arc::new(AtomicBool::new(false));
        let (send, frames) = mpsc::channel();
        let is_stopped = Arc::clone(&stop);
        let thread = std::thread::spawn(move || {
            let mut at_s = TOGETHER_S;
            while !is_stopped.load(Ordering::Relaxed) {
                match feed.until(at_s) {
                    // The game decides when play ends, not its frames.
                    Ok(fed) => drop(send.send(fed.frames)),
                    Err(_) => std::thread::sleep(Duration::from_secs_f64(TOGETHER_S)),
                }
                at_s = feed.now_s() + TOGETHER_S;
            }
        });
        Ok(Self::Live { frames, stop, thread })
    }

    /// Keeps what was recorded, with what was in force; nothing where there was nothing.
    pub(super) fn keep(
        self,
        context: &Context,
        pc: &mut dyn Pc,
        ledger: &mut Ledger,
        play: &PlayRecord,
        recording: &PlayRecording,
    ) -> Result<Option<VisitId>, Failure> {
        let frames: Vec<f64> = match self {
            Self::Simulated { begun } => simulated(context, recording, begun.elapsed())?,
            Self::Live { frames, stop, thread } => {
                stop.store(true, Ordering::Relaxed);
                drop(thread.join());
                frames.iter().flatten().map(|(_, length)| length).collect()
            }
        };
        if frames.len() < FEWEST_FRAMES {
            return Ok(None);
        }
        let visit = kept(context, pc, ledger, play, recording, &frames)?;
        let event = PlayEvent::Recorded { visit };
        ledger.add_play_event(play.id, context.clock.now(), &event)?;
        Ok(Some(visit))
    }
}

/// Figures of fewer frames say nothing.
const FEWEST_FRAMES: usize = 100;

/// The frames that a rehearsal PC's game would have shown, in the state that the PC is in.
fn simulated(
    context: &Context,
    recording: &PlayRecording,
    length: Duration,
) -> Result<Vec<f64>, Failure> {
    let mut pc = context.rehearsal_pc()?;
    let lock = context.lock(&mut pc)?;
    let mut play = pc.begin_play(&lock, recording.plays.as_str())?;
    let frames = pc.play_on(&mut play, length.as_secs_f64() * 1000.0)?;
    pc.end_play(&lock, &play)?;
    Ok(frames.into_iter().map(|(_, length)| length).collect())
}

fn kept(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    play: &PlayRecord,
    recording: &PlayRecording,
    frames: &[f64],
) -> Result<VisitId, Failure> {
    let id = pc.identity().id.clone();
    let (facts, boot) = (context.facts(pc)?, pc.boot()?);
    let card = card_of_games(&facts);
    let in_force = InForce::of(&ledger.layers(&id)?);
    let visit_context = VisitContext {
        waiting: Vec::new(),
        windows_build: Some(facts.windows.build),
        graphics_driver: card.and_then(|card| card.driver_version.clone()),
        graphics_memory_mib: card.and_then(|card| card.video_memory_mib),
    };
    let mut collector = FrameCollector::new(context.home());
    let mut tally = FrameTally::default();
    tally.see(frames);
    collector.push(frames.to_vec())?;
    let collected = collector.finish(tally)?;
    let frames_digest = collected.digest()?.to_owned();
    let visit = ledger.begin_visit(&NewVisit {
        scene: &recording.scene,
        pc: Some(&id),
        boot: Some(&boot),
        state_name: &state_name(play.id)?,
        at: play.begun_at,
        in_force: Some(&in_force),
        context: &visit_context,
        made_for: Some(VisitFor::Play(play.id)),
    })?;
    let run = NewRun {
        is_warm_up: false,
        source: match &recording.source {
            PlaySource::Scene => RunSource::Rehearsal,
            PlaySource::Program { file } => RunSource::Program(file.clone()),
            PlaySource::GrowingLog { file } => RunSource::LogFile(file.display().to_string()),
            PlaySource::TestLoop => RunSource::TestLoop,
        },
        boot: Some(boot),
        run_since_boot: None,
        was_waiting: false,
        conditions: RunConditions {
            detected: collected.detected,
            readings: LogReadings::default(),
            graphics_card: None,
            on_battery: Some(facts.power_source == PowerSource::Battery),
            while_recording: pc.environment()?.is_recording(),
            game_version: None,
            is_of_host: false,
        },
        metrics: collected.metrics,
        frames_digest,
    };
    ledger.add_run(visit, &run, &collected.frames)?;
    ledger.end_visit(visit, None)?;
    Ok(visit)
}

/// The label of what is recorded in a play.
fn state_name(id: PlayId) -> Result<frevin_core::ids::StateName, Failure> {
    format!("play-{id}")
        .parse()
        .map_err(|error: NameError| Failure::new(Kind::Internal, error.to_string()))
}
