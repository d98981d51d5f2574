//! Measuring: visits recorded and imported.

use std::time::Duration;

use frevin_core::frames::{FrameSeries, metrics};
use frevin_core::profile::{ProfileName, SceneName};
use frevin_core::tweak::TweakId;
use frevin_ledger::{Ledger, NewRun, NewVisit, RunSource, Scene, VisitId, Waiting};
use frevin_pc::Pc;
use frevin_pc::rehearsal::RehearsalPc;

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
    let progress = session.progress((warm_up + recording.runs) as u64, "recording");
    let mut runs = Vec::new();
    for index in 0..warm_up + recording.runs {
        let run = pc.record(&lock, recording.scene.as_str(), recording.seconds)?;
        runs.push(NewRun {
            is_warm_up: index < warm_up,
            source: RunSource::Rehearsal,
            boot: Some(boot.0.clone()),
            run_since_boot: Some(run.conditions.run_since_boot),
            waits_for_restart: !waiting.is_empty(),
            metrics: metrics(&run.series),
            series: run.series,
        });
        progress.inc(1);
    }
    progress.finish_and_clear();
    let tweaks = tweaks_in_force(ledger, &id)?;
    Ok(ledger.add_visit(&NewVisit {
        scene: recording.scene,
        pc: Some(&id),
        state_name: recording.state_name,
        recorded_at: session.clock.now(),
        tweaks: &tweaks,
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
}

/// The conditions on the PC that is meant, if one is; it has to be as its tweaks want it.
pub(crate) fn conditions(session: &Session, despite_waiting: bool) -> Result<Conditions, Failure> {
    let Some(pc) = session.pc_if_named()? else {
        let tweaks = Vec::new();
        return Ok(Conditions { pc: None, boot: None, tweaks, waits_for_restart: false });
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
    let conditions = conditions(session, recording.despite_waiting)?;
    let scene = test_loop_scene()?;
    ledger.add_scene(&scene)?;
    let warm_up = recording.warm_up.unwrap_or(0);
    let progress = session.progress((warm_up + recording.runs) as u64, "running the test loop");
    let mut runs = Vec::new();
    for index in 0..warm_up + recording.runs {
        let series = test_loop::run(Duration::from_secs_f64(recording.seconds))
            .map_err(|reason| Failure::new(Kind::Internal, reason))?;
        runs.push(NewRun {
            is_warm_up: index < warm_up,
            source: RunSource::TestLoop,
            boot: conditions.boot.clone(),
            run_since_boot: None,
            waits_for_restart: conditions.waits_for_restart,
            metrics: metrics(&series),
            series,
        });
        progress.inc(1);
    }
    progress.finish_and_clear();
    Ok(ledger.add_visit(&NewVisit {
        scene: &scene.name,
        pc: conditions.pc.as_deref(),
        state_name: recording.state_name,
        recorded_at: session.clock.now(),
        tweaks: &conditions.tweaks,
        runs: &runs,
    })?)
}

/// A run read from a log, about to be kept.
pub(crate) fn imported_run(file: String, series: FrameSeries, is_warm_up: bool) -> NewRun {
    NewRun {
        is_warm_up,
        source: RunSource::LogFile(file),
        boot: None,
        run_since_boot: None,
        waits_for_restart: false,
        metrics: metrics(&series),
        series,
    }
}
