//! Comparing: two states of a PC by their recorded visits.

use std::collections::BTreeSet;

use frevin_core::profile::{ProfileName, SceneName};
use frevin_core::surroundings::BeforeAndAfter;
use frevin_core::tweak::TweakId;
use frevin_core::verdict::{Comparison, Margins, PairLimit, Rule, Visit, compare};
use frevin_ledger::{Ledger, Run, RunFilter, VisitId, VisitRecord};
use serde::Serialize;

use super::around::{SideBySide, of_states};
use super::like_with_like::{CountedRun, condition_cautions};
use super::measure::conditions_of;
use crate::failure::{Failure, Kind};

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
    /// What the PC was like around the visits, on average: first of A, second of B.
    pub(crate) around: Vec<SideBySide>,
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
        cautions: cautions(&pairs, of_a.len().abs_diff(of_b.len()))
            .into_iter()
            .chain(conditions(ledger, (a, b), &pairs)?)
            .collect(),
        around: {
            let of = |visits: &mut dyn Iterator<Item = &VisitRecord>| -> Vec<BeforeAndAfter> {
                visits.filter_map(|visit| visit.surroundings.clone()).collect()
            };
            let (of_a, of_b) =
                (of(&mut pairs.iter().map(|(a, _)| a)), of(&mut pairs.iter().map(|(_, b)| b)));
            of_states(&of_a, &of_b)
        },
        visits: pairs.iter().map(|(a, b)| (a.id, b.id)).collect(),
    })
}

/// What a ledger has measured of one tweak on one PC.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct Measured {
    /// Visits recorded with it in force.
    pub(crate) visits_with: usize,
    /// Visits recorded without it.
    pub(crate) visits_without: usize,
    /// States that differ in this tweak alone, compared: without it first.
    pub(crate) comparisons: Vec<Compared>,
}

/// What the ledger has measured of a tweak on a PC.
pub(crate) fn measured(ledger: &Ledger, pc: &str, tweak: &TweakId) -> Result<Measured, Failure> {
    let mut visits = ledger.visits(&RunFilter::default())?;
    visits.retain(|visit| visit.pc.as_deref() == Some(pc));
    let (with, without): (Vec<_>, Vec<_>) =
        visits.into_iter().partition(|visit| visit.tweaks.contains(tweak));
    let rest = |visit: &VisitRecord| -> BTreeSet<TweakId> {
        visit.tweaks.iter().filter(|other| *other != tweak).cloned().collect()
    };
    let mut pairs = BTreeSet::new();
    for a in &without {
        for b in with.iter().filter(|b| b.scene == a.scene && rest(b) == rest(a)) {
            pairs.insert((a.scene.clone(), a.state_name.clone(), b.state_name.clone()));
        }
    }
    let mut comparisons = Vec::new();
    for (scene, a, b) in pairs {
        let options = CompareOptions {
            scene: Some(scene),
            margins: Margins::default(),
            limit: PairLimit::default(),
        };
        // One state's name for both would compare it with itself.
        if a != b {
            comparisons.push(compare_states(ledger, &a, &b, &options)?);
        }
    }
    Ok(Measured { visits_with: with.len(), visits_without: without.len(), comparisons })
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

/// What the conditions of runs do to a comparison.
fn conditions(
    ledger: &Ledger,
    (a, b): (&ProfileName, &ProfileName),
    pairs: &[(VisitRecord, VisitRecord)],
) -> Result<Vec<String>, Failure> {
    let counted = |visit: &VisitRecord| -> Result<Vec<CountedRun>, Failure> {
        let runs = visit.runs.iter().filter(|run| !run.is_warm_up);
        let counted = |run: &Run| {
            Ok(CountedRun { seconds: run.metrics.seconds, conditions: conditions_of(ledger, run)? })
        };
        runs.map(counted).collect()
    };
    let (mut of_a, mut of_b) = (Vec::new(), Vec::new());
    for (visit_a, visit_b) in pairs {
        of_a.extend(counted(visit_a)?);
        of_b.extend(counted(visit_b)?);
    }
    Ok(condition_cautions((a.as_str(), &of_a), (b.as_str(), &of_b)))
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
    let of_one_state = |visits: &mut dyn Iterator<Item = &VisitRecord>| {
        let mut tweaks = visits.map(|visit| &visit.tweaks);
        let first = tweaks.next();
        tweaks.all(|others| Some(others) == first)
    };
    if !of_one_state(&mut pairs.iter().map(|(a, _)| a))
        || !of_one_state(&mut pairs.iter().map(|(_, b)| b))
    {
        cautions.push(
            "Visits with one name were made with different tweaks in force: the name stands for \
             more than one state."
                .to_owned(),
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
