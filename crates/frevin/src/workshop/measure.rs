//! Measuring: visits recorded and imported, and states compared.

use frevin_core::frames::{FrameSeries, metrics};
use frevin_core::profile::{ProfileName, SceneName};
use frevin_core::tweak::TweakId;
use frevin_core::verdict::{Comparison, Margins, PairLimit, Rule, Visit, compare};
use frevin_ledger::{
    Ledger, NewRun, NewVisit, RunFilter, RunSource, Scene, VisitId, VisitRecord, Waiting,
};
use frevin_pc::Pc;
use frevin_pc::rehearsal::RehearsalPc;
use serde::Serialize;

use super::refuse_unfinished;
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
    let lock = pc.lock()?;
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

/// What two states are compared by.
#[derive(Debug, Clone)]
pub(crate) struct CompareOptions {
    pub(crate) scene: Option<SceneName>,
    pub(crate) margins: Margins,
    pub(crate) limit: PairLimit,
}

/// Two states of a PC, compared by their recorded visits.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct Compared {
    pub(crate) scene: SceneName,
    pub(crate) a: ProfileName,
    pub(crate) b: ProfileName,
    #[serde(flatten)]
    pub(crate) comparison: Comparison,
    /// What weakens it.
    pub(crate) cautions: Vec<String>,
    /// The visits of each pair.
    pub(crate) visits: Vec<(VisitId, VisitId)>,
}

/// Compares two states by the visits in the ledger: the first of A with the first of B, and so on.
pub(crate) fn compare_states(
    ledger: &Ledger,
    a: &ProfileName,
    b: &ProfileName,
    options: &CompareOptions,
) -> Result<Compared, Failure> {
    let visits_of = |state: &ProfileName| {
        let filter = RunFilter { scene: options.scene.clone(), state_name: Some(state.clone()) };
        let visits = ledger.visits(&filter)?;
        if visits.is_empty() {
            let message = format!("no visits of the state `{state}` are recorded");
            return Err(Failure::new(Kind::NotFound, message)
                .hint("`frevin run list` shows what is recorded"));
        }
        Ok(visits)
    };
    let (all_a, all_b) = (visits_of(a)?, visits_of(b)?);
    let scene = scene_in_common(&all_a, &all_b)?;
    let of_scene = |visits: Vec<VisitRecord>| -> Vec<VisitRecord> {
        visits.into_iter().filter(|visit| visit.scene == scene).collect()
    };
    let (of_a, of_b) = (of_scene(all_a), of_scene(all_b));
    let pairs: Vec<(VisitRecord, VisitRecord)> =
        of_a.iter().cloned().zip(of_b.iter().cloned()).collect();
    let visits = pairs
        .iter()
        .map(|(a, b)| Ok((counted(a)?, counted(b)?)))
        .collect::<Result<Vec<_>, Failure>>()?;
    let rule = Rule::new(options.limit, None);
    Ok(Compared {
        scene,
        a: a.clone(),
        b: b.clone(),
        comparison: compare(&visits, &rule, options.margins),
        cautions: cautions(&pairs, of_a.len().abs_diff(of_b.len())),
        visits: pairs.iter().map(|(a, b)| (a.id, b.id)).collect(),
    })
}

fn scene_in_common(a: &[VisitRecord], b: &[VisitRecord]) -> Result<SceneName, Failure> {
    let mut common: Vec<&SceneName> = a
        .iter()
        .map(|visit| &visit.scene)
        .filter(|scene| b.iter().any(|visit| visit.scene == **scene))
        .collect();
    common.sort();
    common.dedup();
    match common[..] {
        [scene] => Ok(scene.clone()),
        [] => Err(Failure::new(Kind::BadInput, "the two states were recorded in different scenes")
            .hint("only the same scene can be compared; `frevin run list` shows what there is")),
        _ => {
            let names: Vec<_> = common.iter().map(ToString::to_string).collect();
            Err(Failure::new(Kind::Usage, "the two states were recorded in several scenes")
                .hint(format!("choose one with --scene: {}", names.join(", "))))
        }
    }
}

fn counted(visit: &VisitRecord) -> Result<Visit, Failure> {
    let runs = visit.runs.iter().filter(|run| !run.is_warm_up).map(|run| run.metrics).collect();
    Visit::new(runs)
        .map_err(|error| Failure::new(Kind::BadInput, format!("visit {}: {error}", visit.id.0)))
}

/// What weakens a comparison of these pairs.
fn cautions(pairs: &[(VisitRecord, VisitRecord)], unpaired: usize) -> Vec<String> {
    let mut cautions = Vec::new();
    let visits = || pairs.iter().flat_map(|(a, b)| [a, b]);
    let interleaved =
        pairs.windows(2).all(|two| two[0].0.id.max(two[0].1.id) < two[1].0.id.min(two[1].1.id));
    if !interleaved {
        cautions.push(
            "The visits were not made in turns: a PC that slowly warms up or fills up would look \
             like a difference. Record A and B alternately."
                .to_owned(),
        );
    }
    if unpaired > 0 {
        cautions.push(format!("Visits without a partner, and left out: {unpaired}."));
    }
    if visits().any(|visit| visit.runs.iter().any(|run| run.waits_for_restart)) {
        cautions.push(
            "Some runs were recorded while something waited for a restart: they may not show the \
             state that they are named after."
                .to_owned(),
        );
    }
    let first_runs = visits()
        .flat_map(|visit| &visit.runs)
        .filter(|run| !run.is_warm_up && run.run_since_boot == Some(1))
        .count();
    if first_runs > 0 {
        cautions.push(format!(
            "Runs that were the first after a restart, and count all the same: {first_runs}. \
             They are slower than what follows."
        ));
    }
    if visits().any(|visit| visit.runs.iter().filter(|run| !run.is_warm_up).count() < 3) {
        cautions.push(
            "Some visits have fewer than three runs: one odd run weighs more there.".to_owned(),
        );
    }
    let mut pcs: Vec<_> = visits().map(|visit| &visit.pc).collect();
    pcs.sort();
    pcs.dedup();
    if pcs.len() > 1 {
        cautions.push("The visits are not all of the same PC.".to_owned());
    }
    cautions
}
