//! Measuring: visits recorded and imported.

use std::time::Duration;

use frevin_core::facts::Facts;
use frevin_core::frames::{FrameSeries, Metrics, RunConditions, ShownConditions, tally};
use frevin_core::profile::{ProfileName, SceneName};
use frevin_core::setting::PowerSource;
use frevin_core::surroundings::{BeforeAndAfter, Surroundings};
use frevin_core::tweak::TweakId;
use frevin_ledger::{Ledger, NewRun, NewVisit, Run, RunFrames, RunSource, Scene, VisitId, Waiting};
use frevin_pc::Pc;
use frevin_pc::rehearsal::RehearsalPc;

use indicatif::ProgressBar;

use super::network::{Probing, Target};
use super::{refuse_unfinished, test_loop};
use crate::failure::{Failure, Kind};
use crate::session::Session;

/// How a visit is recorded.
pub(crate) struct Recording<'a> {
    pub(crate) scene: &'a SceneName,
    pub(crate) state_name: &'a ProfileName,
    /// Runs that count.
    pub(crate) runs: usize,
    /// Runs before them that do not; where nothing is said, one after a restart and else none.
    pub(crate) warm_up: Option<usize>,
    pub(crate) seconds: f64,
    /// Whether to record although something waits for a restart.
    pub(crate) despite_waiting: bool,
    pub(crate) told: &'a ToldConditions,
    /// What is pinged before and after.
    pub(crate) ping: Option<&'a Target>,
}

/// How an address is pinged before and after a visit.
const PINGS: Probing =
    Probing { count: 20, pause: Duration::from_millis(100), patience: Duration::from_millis(1000) };

/// What a PC is like at the moment; nothing where there is neither a PC nor anything to ping.
pub(crate) fn look_around(
    pc: Option<&dyn Pc>,
    ping: Option<&Target>,
) -> Result<Option<Surroundings>, Failure> {
    if pc.is_none() && ping.is_none() {
        return Ok(None);
    }
    let of_pc = pc.map(Pc::surroundings).transpose()?.unwrap_or_default();
    let ping = ping.map(|target| target.ping(PINGS, &ProgressBar::hidden())).transpose()?;
    Ok(Some(Surroundings { ping, ..of_pc }))
}

fn before_and_after(
    before: Option<Surroundings>,
    after: Option<Surroundings>,
) -> Option<BeforeAndAfter> {
    Some(BeforeAndAfter { before: before?, after: after? })
}

/// Conditions that the owner tells.
#[derive(Debug, Clone, Default)]
pub(crate) struct ToldConditions {
    pub(crate) on_battery: Option<bool>,
    pub(crate) while_recording: Option<bool>,
    pub(crate) game_version: Option<String>,
}

impl ToldConditions {
    /// With what a PC says of itself, where the owner says nothing.
    pub(crate) fn on(mut self, facts: &Facts) -> Self {
        self.on_battery = self.on_battery.or(Some(facts.power_source == PowerSource::Battery));
        self
    }

    fn with(&self, shown: ShownConditions) -> RunConditions {
        RunConditions {
            shown,
            on_battery: self.on_battery,
            while_recording: self.while_recording,
            game_version: self.game_version.clone(),
        }
    }
}

/// Frames, their figures, and what they show of the conditions that they were recorded under.
pub(crate) struct TalliedFrames {
    pub(crate) frames: RunFrames,
    pub(crate) metrics: Metrics,
    pub(crate) shown: ShownConditions,
}

impl From<FrameSeries> for TalliedFrames {
    fn from(series: FrameSeries) -> Self {
        let (metrics, shown) = tally(&series);
        Self { frames: series.into(), metrics, shown }
    }
}

/// A run about to be kept, of which nothing else is known.
pub(crate) fn run_of(
    source: RunSource,
    frames: TalliedFrames,
    is_warm_up: bool,
    told: &ToldConditions,
) -> NewRun {
    NewRun {
        is_warm_up,
        source,
        boot: None,
        run_since_boot: None,
        waits_for_restart: false,
        conditions: told.with(frames.shown),
        metrics: frames.metrics,
        frames: frames.frames,
    }
}

/// Under what a run was recorded; runs of earlier ledgers are looked at now.
pub(crate) fn conditions_of(ledger: &Ledger, run: &Run) -> Result<RunConditions, Failure> {
    match &run.conditions {
        Some(conditions) => Ok(conditions.clone()),
        None => {
            let (_, shown) = tally(&ledger.frames(run.id)?);
            Ok(ToldConditions::default().with(shown))
        }
    }
}

/// What conditions say of a run, in sentences.
pub(crate) fn marks(conditions: &RunConditions) -> Vec<String> {
    let shown = &conditions.shown;
    let cap = shown.frame_cap.map(|cap| {
        let (cap_fps, share) = (cap.fps, cap.share * 100.0);
        if cap.waits_for_display {
            format!(
                "It looks to have waited for a display of {cap_fps:.1} pictures a second: {share:.0} % of the frames \
                 took a whole number of them."
            )
        } else {
            format!(
                "It looks to have been under a frame cap: {share:.0} % of the frames make just {cap_fps:.1} a second."
            )
        }
    });
    let phases = shown.phases.iter().map(|phase| {
        format!(
            "From {:.0} s on, for {:.0} s, frames are unlike the rest ({:.1} ms on average): a menu, a loading \
             screen, another place?",
            phase.from_s, phase.seconds, phase.mean_ms
        )
    });
    let pauses = shown.pauses.iter().map(|pause| {
        format!("A pause at {:.0} s: nothing was shown for {:.1} s.", pause.from_s, pause.seconds)
    });
    let battery = (conditions.on_battery == Some(true)).then(|| "On battery.".to_owned());
    let recording = (conditions.while_recording == Some(true))
        .then(|| "While a video was recorded.".to_owned());
    let version = conditions.game_version.iter().map(|version| format!("Game version {version}."));
    cap.into_iter()
        .chain(phases)
        .chain(pauses)
        .chain(battery)
        .chain(recording)
        .chain(version)
        .collect()
}

/// The scenes of a rehearsal PC.
pub(crate) fn scenes_of(pc: &RehearsalPc) -> Result<Vec<Scene>, Failure> {
    let scene = |scene: &frevin_pc::rehearsal::ModelScene| {
        let name =
            scene.name.parse().map_err(|error: frevin_core::profile::ProfileNameError| {
                Failure::new(Kind::BadInput, format!("in the model of this PC: {error}"))
            })?;
        Ok(Scene {
            name,
            game: scene.game.clone(),
            graphics: scene.graphics.clone(),
            resolution: scene.resolution.clone(),
            route: scene.route.clone(),
        })
    };
    pc.model().scenes.iter().map(scene).collect()
}

/// Records a visit on a rehearsal PC.
pub(crate) fn record(
    session: &Session,
    pc: &mut RehearsalPc,
    ledger: &mut Ledger,
    recording: &Recording<'_>,
) -> Result<VisitId, Failure> {
    let lock = session.lock(pc)?;
    refuse_unfinished(ledger, pc)?;
    let scenes = scenes_of(pc)?;
    let Some(scene) = scenes.iter().find(|scene| scene.name == *recording.scene) else {
        let known: Vec<_> = scenes.iter().map(|scene| scene.name.as_str()).collect();
        let message = format!("this PC has no scene `{}`", recording.scene);
        return Err(
            Failure::new(Kind::NotFound, message).hint(format!("it has {}", known.join(", ")))
        );
    };
    let id = pc.identity().id.clone();
    let boot = pc.boot()?;
    let waiting = ledger.waiting_for_restart(&id, &boot.0)?;
    if !recording.despite_waiting && !waiting.is_empty() {
        return Err(refuse_waiting(&waiting));
    }
    ledger.add_scene(scene)?;
    let is_fresh = pc.clock()?.runs_since_boot == 0;
    let warm_up = recording.warm_up.unwrap_or(usize::from(is_fresh));
    let told = recording.told.clone().on(&session.facts(pc)?);
    let progress = session.progress((warm_up + recording.runs) as u64, "recording");
    let before = look_around(Some(pc), recording.ping)?;
    let mut runs = Vec::new();
    for index in 0..warm_up + recording.runs {
        let run = pc.record(&lock, recording.scene.as_str(), recording.seconds)?;
        runs.push(NewRun {
            boot: Some(boot.0.clone()),
            run_since_boot: Some(run.run_since_boot),
            waits_for_restart: !waiting.is_empty(),
            ..run_of(RunSource::Rehearsal, run.series.into(), index < warm_up, &told)
        });
        progress.inc(1);
    }
    progress.finish_and_clear();
    let around = before_and_after(before, look_around(Some(pc), recording.ping)?);
    let tweaks = tweaks_in_force(ledger, &id)?;
    Ok(ledger.add_visit(&NewVisit {
        scene: recording.scene,
        pc: Some(&id),
        state_name: recording.state_name,
        recorded_at: session.clock.now(),
        tweaks: &tweaks,
        surroundings: around.as_ref(),
        runs: &runs,
    })?)
}

fn refuse_waiting(waiting: &[Waiting]) -> Failure {
    let line = |waiting: &Waiting| match &waiting.tweak {
        Some(tweak) => format!("{} ({tweak})", waiting.address),
        None => format!("{} (rolled back)", waiting.address),
    };
    Failure::new(Kind::Guarded, "nothing was recorded: something still waits for a restart")
        .details(waiting.iter().map(line))
        .hint("restart the PC first (a rehearsal PC: `frevin rehearsal restart`)")
        .hint("--despite-waiting records all the same")
}

/// The tweaks that hold settings of a PC.
pub(crate) fn tweaks_in_force(ledger: &Ledger, pc: &str) -> Result<Vec<TweakId>, Failure> {
    let layers = ledger.layers(pc)?;
    let mut tweaks: Vec<TweakId> = layers
        .iter()
        .flat_map(|(_, stack)| stack.layers.iter().map(|layer| layer.tweak.clone()))
        .collect();
    tweaks.sort();
    tweaks.dedup();
    Ok(tweaks)
}

/// What is known of a PC while runs are made that it does not record itself.
pub(crate) struct Conditions {
    pub(crate) pc: Option<String>,
    pub(crate) boot: Option<String>,
    pub(crate) tweaks: Vec<TweakId>,
    pub(crate) waits_for_restart: bool,
    pub(crate) told: ToldConditions,
    /// The PC itself, to be looked at again.
    live: Option<Box<dyn Pc>>,
    before: Option<Surroundings>,
}

impl Conditions {
    /// What the PC was like before, and is now.
    pub(crate) fn around(self, ping: Option<&Target>) -> Result<Option<BeforeAndAfter>, Failure> {
        Ok(before_and_after(self.before, look_around(self.live.as_deref(), ping)?))
    }

    /// A run that was recorded under them.
    pub(crate) fn mark(&self, run: NewRun) -> NewRun {
        NewRun { boot: self.boot.clone(), waits_for_restart: self.waits_for_restart, ..run }
    }
}

/// The conditions on the PC that is meant, if one is; it has to be as its tweaks want it.
pub(crate) fn conditions(
    session: &Session,
    despite_waiting: bool,
    told: ToldConditions,
    ping: Option<&Target>,
) -> Result<Conditions, Failure> {
    let Some(pc) = session.pc_if_named()? else {
        let (pc, boot, tweaks) = (None, None, Vec::new());
        let before = look_around(None, ping)?;
        let (waits_for_restart, live) = (false, None);
        return Ok(Conditions { pc, boot, tweaks, waits_for_restart, told, live, before });
    };
    let ledger = session.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    let id = pc.identity().id.clone();
    let boot = pc.boot()?.0;
    let waiting = ledger.waiting_for_restart(&id, &boot)?;
    if !despite_waiting && !waiting.is_empty() {
        return Err(refuse_waiting(&waiting));
    }
    Ok(Conditions {
        tweaks: tweaks_in_force(&ledger, &id)?,
        waits_for_restart: !waiting.is_empty(),
        boot: Some(boot),
        told: told.on(&session.facts(&*pc)?),
        before: look_around(Some(&*pc), ping)?,
        live: Some(pc),
        pc: Some(id),
    })
}

/// The scene of the test loop: the same work everywhere, so that runs of it can be compared.
pub(crate) fn test_loop_scene() -> Result<Scene, Failure> {
    let name = "test-loop".parse().map_err(|error: frevin_core::profile::ProfileNameError| {
        Failure::new(Kind::Internal, error.to_string())
    })?;
    Ok(Scene {
        name,
        game: "Frevin's test loop".to_owned(),
        graphics: "none".to_owned(),
        resolution: "none".to_owned(),
        route: format!(
            "fixed work on {} threads, {} frames a second",
            test_loop::THREADS,
            test_loop::FRAMES_PER_S
        ),
    })
}

/// Runs the test loop as a visit.
pub(crate) fn record_test_loop(
    session: &Session,
    ledger: &mut Ledger,
    recording: &Recording<'_>,
) -> Result<VisitId, Failure> {
    ledger.add_scene(&test_loop_scene()?)?;
    record_here(session, ledger, recording, &RunSource::TestLoop, |length| {
        test_loop::run(length).map_err(|reason| Failure::new(Kind::Internal, reason))
    })
}

/// Records a running program as a visit.
pub(crate) fn record_process(
    session: &Session,
    ledger: &mut Ledger,
    recording: &Recording<'_>,
    process: &str,
) -> Result<VisitId, Failure> {
    ledger.scene(recording.scene)?;
    let source = RunSource::Program(process.to_owned());
    record_here(session, ledger, recording, &source, |length| record_presents(process, length))
}

/// Records a visit on the PC that Frevin runs on, each run by a function of its length.
fn record_here(
    session: &Session,
    ledger: &mut Ledger,
    recording: &Recording<'_>,
    source: &RunSource,
    record: impl Fn(Duration) -> Result<FrameSeries, Failure>,
) -> Result<VisitId, Failure> {
    let told = recording.told.clone();
    let conditions = conditions(session, recording.despite_waiting, told, recording.ping)?;
    let warm_up = recording.warm_up.unwrap_or(0);
    let progress = session.progress((warm_up + recording.runs) as u64, "recording");
    let mut runs = Vec::new();
    for index in 0..warm_up + recording.runs {
        let series = record(Duration::from_secs_f64(recording.seconds))?;
        let run = run_of(source.clone(), series.into(), index < warm_up, &conditions.told);
        runs.push(conditions.mark(run));
        progress.inc(1);
    }
    progress.finish_and_clear();
    let (pc, tweaks) = (conditions.pc.clone(), conditions.tweaks.clone());
    let around = conditions.around(recording.ping)?;
    Ok(ledger.add_visit(&NewVisit {
        scene: recording.scene,
        pc: pc.as_deref(),
        state_name: recording.state_name,
        recorded_at: session.clock.now(),
        tweaks: &tweaks,
        surroundings: around.as_ref(),
        runs: &runs,
    })?)
}

#[cfg(windows)]
fn record_presents(process: &str, length: Duration) -> Result<FrameSeries, Failure> {
    use frevin_pc::windows::RecordError;

    let recorded = frevin_pc::windows::record_presents(process, length).map_err(|error| {
        let kind =
            if matches!(error, RecordError::Denied(_)) { Kind::Guarded } else { Kind::NotFound };
        let failure = Failure::new(kind, error.to_string()).hint("nothing was recorded");
        match error {
            RecordError::NotRunning(_) => failure.hint("start it, and write the name of its file"),
            RecordError::NoFrames { .. } => {
                failure.hint("is it the program that shows the game, and not one that starts it?")
            }
            RecordError::Denied(_) => failure.hint("run Frevin as administrator"),
            _ => failure.hint("`frevin run record --from-folder` takes logs of other programs"),
        }
    })?;
    if recorded.lost > 0 {
        tracing::warn!("Windows lost {} events: frames they lay in are left out", recorded.lost);
    }
    Ok(recorded.series)
}

#[cfg(not(windows))]
fn record_presents(_process: &str, _length: Duration) -> Result<FrameSeries, Failure> {
    let message = "programs can only be recorded on Windows";
    Err(Failure::new(Kind::Usage, message)
        .hint("`frevin run record --from-folder` takes logs of other programs")
        .hint("`frevin run record --test-loop` measures frame pacing on any PC"))
}
