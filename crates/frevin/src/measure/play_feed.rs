//! Frames of play that goes on: recorded without a break while settings are switched.

mod growing_log;

use std::time::{Duration, Instant};

use frevin_core::ids::SceneName;
use frevin_core::trial::in_play::PlaySource;
use frevin_pc::rehearsal::Play;
use frevin_pc::{PcLock, Restarts};

use self::growing_log::GrowingLog;
use super::scene_source::SceneRecording;
use super::test_loop::{self, Pace};
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// Frames as they come: when each began, in milliseconds from the beginning, and how long it took.
pub(crate) type Frames = Vec<(f64, f64)>;

/// What a feed has given up to a moment.
pub(crate) struct Fed {
    pub(crate) frames: Frames,
    /// Up to when all frames are known, in seconds from the beginning.
    pub(crate) known_until_s: f64,
    /// Whether the game has ended.
    pub(crate) is_over: bool,
}

impl Fed {
    fn up_to(frames: Frames, known_until_s: f64) -> Self {
        Self { frames, known_until_s, is_over: false }
    }
}

/// A program that has shown nothing for so many segments has ended.
const SILENT_SEGMENTS: u32 = 5;

/// A game that is played, whose frames come.
pub(crate) enum PlayFeed {
    /// A rehearsal PC plays: time goes as fast as it can be simulated.
    Rehearsal(Box<Play>),
    /// This PC plays.
    Live(LiveFeed),
}

/// A game on this PC whose frames come as it shows them.
pub(crate) struct LiveFeed {
    begun: Instant,
    frames: LiveFrames,
}

enum LiveFrames {
    /// Frevin's own workload.
    TestLoop,
    /// A program that runs, traced.
    Traced { file: String, silent: u32 },
    /// Another program adds to a log.
    GrowingLog(GrowingLog),
}

impl PlayFeed {
    /// Begins to play, on a PC that is locked.
    pub(crate) fn begin(
        context: &Context,
        pc: &mut dyn Restarts,
        lock: &PcLock,
        source: &PlaySource,
        scene: &SceneName,
    ) -> Result<Self, Failure> {
        let live = |frames| Ok(Self::Live(LiveFeed { begun: Instant::now(), frames }));
        match source {
            PlaySource::TestLoop | PlaySource::Program { .. } | PlaySource::GrowingLog { .. } => {
                LiveFeed::begin(source).map(Self::Live)
            }
            PlaySource::Scene => match context.scene_recording(scene)? {
                Some(SceneRecording { program: Some(file), .. }) => {
                    live(LiveFrames::Traced { file, silent: 0 })
                }
                Some(SceneRecording { test_loop: true, .. }) => live(LiveFrames::TestLoop),
                Some(_) => {
                    let message = format!("the logs of `{scene}` are read when they are finished");
                    Err(Failure::new(Kind::Usage, message).hint(
                        "trace the game with --program NAME, or follow its log with --growing FILE",
                    ))
                }
                None => match pc.as_rehearsal() {
                    Some(pc) => Ok(Self::Rehearsal(Box::new(pc.begin_play(lock, scene.as_str())?))),
                    None => Err(unknown_scene(scene)),
                },
            },
        }
    }

    /// How long play has gone on by the clock, in seconds; nothing where it is simulated.
    pub(crate) fn now_s(&self) -> Option<f64> {
        match self {
            Self::Rehearsal(_) => None,
            Self::Live(feed) => Some(feed.now_s()),
        }
    }

    /// Plays on up to a moment, in seconds from the beginning, and gives the frames since the last such.
    pub(crate) fn until(&mut self, pc: &mut dyn Restarts, at_s: f64) -> Result<Fed, Failure> {
        match self {
            Self::Rehearsal(play) => {
                let pc = pc.as_rehearsal().ok_or_else(no_rehearsal)?;
                Ok(Fed::up_to(pc.play_on(play, at_s * 1000.0)?, at_s))
            }
            Self::Live(feed) => feed.until(at_s),
        }
    }

    /// Ends it.
    pub(crate) fn end(self, pc: &mut dyn Restarts, lock: &PcLock) -> Result<(), Failure> {
        match self {
            Self::Rehearsal(play) => {
                let pc = pc.as_rehearsal().ok_or_else(no_rehearsal)?;
                Ok(pc.end_play(lock, &play)?)
            }
            Self::Live(_) => Ok(()),
        }
    }
}

impl LiveFeed {
    /// Begins to take frames in.
    pub(crate) fn begin(source: &PlaySource) -> Result<Self, Failure> {
        let frames = match source {
            PlaySource::TestLoop => LiveFrames::TestLoop,
            PlaySource::Program { file } => LiveFrames::Traced { file: file.clone(), silent: 0 },
            PlaySource::GrowingLog { file } => LiveFrames::GrowingLog(GrowingLog::open(file)?),
            PlaySource::Scene => {
                return Err(Failure::new(Kind::Internal, "a scene is played by its own PC"));
            }
        };
        Ok(Self { begun: Instant::now(), frames })
    }

    /// How long it has gone on, in seconds.
    pub(crate) fn now_s(&self) -> f64 {
        self.begun.elapsed().as_secs_f64()
    }

    /// Gives the frames since the last such moment up to this one, in seconds from the beginning.
    pub(crate) fn until(&mut self, at_s: f64) -> Result<Fed, Failure> {
        let (now_s, left) = left(self.begun, at_s);
        match &mut self.frames {
            LiveFrames::TestLoop => {
                let series = test_loop::run(left, Pace::Free)
                    .map_err(|reason| Failure::new(Kind::Internal, reason))?;
                Ok(Fed::up_to(placed(now_s, series.frame_ms()), at_s))
            }
            LiveFrames::Traced { file, silent } => {
                match super::sources::record_presents(file, left) {
                    Ok((series, _)) => {
                        *silent = 0;
                        Ok(Fed::up_to(placed(now_s, series.frame_ms()), at_s))
                    }
                    // It shows nothing now, as while it loads, or it has ended.
                    Err(failure) if failure.kind == Kind::NotFound && now_s > 0.0 => {
                        *silent += 1;
                        std::thread::sleep(self::left(self.begun, at_s).1);
                        let is_over = *silent >= SILENT_SEGMENTS;
                        Ok(Fed { frames: Vec::new(), known_until_s: at_s, is_over })
                    }
                    Err(failure) => Err(failure),
                }
            }
            LiveFrames::GrowingLog(log) => {
                std::thread::sleep(left);
                log.read_on(self.begun.elapsed())
            }
        }
    }
}

fn unknown_scene(scene: &SceneName) -> Failure {
    let message = format!("it is not known how `{scene}` is recorded");
    Failure::new(Kind::Usage, message).hint("name the game with --program NAME")
}

fn no_rehearsal() -> Failure {
    Failure::new(Kind::Internal, "a rehearsal PC plays, and none is meant")
}

/// How late it is, in seconds from the beginning, and how long until a moment.
fn left(begun: Instant, at_s: f64) -> (f64, Duration) {
    let now_s = begun.elapsed().as_secs_f64();
    (now_s, Duration::from_secs_f64((at_s - now_s).max(0.05)))
}

/// Frames that follow each other from a moment on.
fn placed(begin_s: f64, frame_ms: &[f64]) -> Frames {
    let mut at = begin_s * 1000.0;
    frame_ms
        .iter()
        .map(|length| {
            let begin = at;
            at += length;
            (begin, *length)
        })
        .collect()
}
