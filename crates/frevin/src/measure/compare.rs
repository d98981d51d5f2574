//! Comparing: two states of a PC by their recorded visits.

use std::collections::BTreeSet;

use frevin_core::environment::BeforeAndAfter;
use frevin_core::ids::{PcId, SceneName, StateName};
use frevin_core::tweak::{TweakId, TweakUse};
use frevin_core::verdict::{
    Comparison, Histories, Judge, Margins, PairLimit, VisitFigures, compare,
};
use frevin_core::visits::{
    Caution, Evidence, FrameLimit, Run, VisitId, VisitRecord, VisitStatus, cautions, limit_of_runs,
    pairs_of_states,
};
use frevin_ledger::{Ledger, VisitFilter};
use schemars::JsonSchema;
use serde::Serialize;

use crate::failure::{Failure, Kind};

/// What two states are compared by.
#[derive(Debug, Clone)]
pub(crate) struct CompareOptions {
    pub(crate) scene: Option<SceneName>,
    pub(crate) margins: Margins,
    pub(crate) limit: PairLimit,
}

/// Two states of a PC, compared by their recorded visits.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct Compared {
    pub(crate) scene: SceneName,
    pub(crate) a: StateName,
    pub(crate) b: StateName,
    #[serde(flatten)]
    pub(crate) comparison: Comparison,
    /// What weakens it.
    pub(crate) cautions: Vec<Caution>,
    #[serde(flatten)]
    pub(crate) around: Around,
    /// The visits of each pair.
    pub(crate) visits: Vec<(VisitId, VisitId)>,
}

/// What the PC was like around the visits of two states.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct Around {
    /// Around the visits of A.
    pub(crate) around_a: Vec<BeforeAndAfter>,
    /// Around the visits of B.
    pub(crate) around_b: Vec<BeforeAndAfter>,
    /// What limits the frames in A, where that can be told.
    pub(crate) limit_a: Option<FrameLimit>,
    /// What limits them in B.
    pub(crate) limit_b: Option<FrameLimit>,
}

/// What the PC was like around pairs of visits, and what weakens a comparison by them.
pub(crate) fn around_and_cautions(
    names: (&StateName, &StateName),
    pairs: &[(&VisitRecord, &VisitRecord)],
    unpaired: usize,
    not_whole: usize,
) -> (Around, Vec<Caution>) {
    let around = |visits: &mut dyn Iterator<Item = &VisitRecord>| -> Vec<BeforeAndAfter> {
        visits.filter_map(|visit| visit.environment.clone()).collect()
    };
    let around = Around {
        around_a: around(&mut pairs.iter().map(|(a, _)| *a)),
        around_b: around(&mut pairs.iter().map(|(_, b)| *b)),
        limit_a: limit_of(&mut pairs.iter().map(|(a, _)| *a)),
        limit_b: limit_of(&mut pairs.iter().map(|(_, b)| *b)),
    };
    (around, cautions(names, pairs, unpaired, not_whole))
}

/// What limits the frames of visits to one state.
fn limit_of(visits: &mut dyn Iterator<Item = &VisitRecord>) -> Option<FrameLimit> {
    limit_of_runs(visits.flat_map(|visit| visit.counted().map(|run| (run, &visit.context))))
}

/// Compares two states by the visits in the ledger: the first of A with the first of B, and so on.
pub(crate) fn compare_states(
    ledger: &Ledger,
    a: &StateName,
    b: &StateName,
    options: &CompareOptions,
) -> Result<Compared, Failure> {
    let visits_of = |state: &StateName| {
        let filter = VisitFilter {
            scene: options.scene.clone(),
            state_name: Some(state.clone()),
            is_the_owners: false,
        };
        let visits = ledger.visits(&filter)?;
        if visits.iter().any(|visit| visit.of_play.is_some()) {
            let message =
                format!("`{state}` was recorded in ordinary play, which is never the same twice");
            return Err(Failure::new(Kind::Usage, message)
                .detail("what happened in the game moves its frames more than a tweak does")
                .hint("`frevin trial start --tweak ID --in-play` switches it on and off while you play"));
        }
        if visits.is_empty() {
            let message = format!("no visits of the state `{state}` are recorded");
            return Err(Failure::new(Kind::NotFound, message)
                .hint("`frevin run list` shows what is recorded"));
        }
        Ok(visits)
    };
    let (all_a, all_b) = (visits_of(a)?, visits_of(b)?);
    let scene = scene_in_common(&all_a, &all_b)?;
    let not_whole = |visits: &[VisitRecord]| {
        visits.iter().filter(|v| v.scene == scene && v.status != VisitStatus::Whole).count()
    };
    let not_whole = not_whole(&all_a) + not_whole(&all_b);
    let whole = |visits: Vec<VisitRecord>| -> Vec<VisitRecord> {
        let counts =
            |visit: &VisitRecord| visit.scene == scene && visit.status == VisitStatus::Whole;
        visits.into_iter().filter(counts).collect()
    };
    let (of_a, of_b) = (whole(all_a), whole(all_b));
    let (of_a, of_b): (Vec<_>, Vec<_>) = (of_a.iter().collect(), of_b.iter().collect());
    compare_visits(scene, (a, &of_a), (b, &of_b), not_whole, options)
}

/// Compares visits of two states of one scene, in the order in which they were made.
fn compare_visits(
    scene: SceneName,
    (a, of_a): (&StateName, &[&VisitRecord]),
    (b, of_b): (&StateName, &[&VisitRecord]),
    not_whole: usize,
    options: &CompareOptions,
) -> Result<Compared, Failure> {
    let mut pairs: Vec<(&VisitRecord, &VisitRecord)> =
        of_a.iter().copied().zip(of_b.iter().copied()).collect();
    let visits = pairs
        .iter()
        .map(|(a, b)| Ok((counted(a)?, counted(b)?)))
        .collect::<Result<Vec<_>, Failure>>()?;
    let columns: BTreeSet<&str> =
        pairs.iter().flat_map(|(a, b)| [a, b]).flat_map(|visit| visit.latency_columns()).collect();
    let visits: Vec<_> = match columns.len() {
        0 | 1 => visits,
        _ => visits.iter().map(|(a, b)| (a.without_latency(), b.without_latency())).collect(),
    };
    let comparison =
        compare(Judge::FrameRate, &visits, options.limit, options.margins, &Histories::default());
    // What the verdict does not look at needs no caution.
    pairs.truncate(comparison.pairs);
    let unpaired = of_a.len().abs_diff(of_b.len());
    let (around, cautions) = around_and_cautions((a, b), &pairs, unpaired, not_whole);
    Ok(Compared {
        scene,
        a: a.clone(),
        b: b.clone(),
        comparison,
        cautions,
        around,
        visits: pairs.iter().map(|(a, b)| (a.id, b.id)).collect(),
    })
}

/// What a ledger has measured of one tweak on one PC.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct Measured {
    #[serde(flatten)]
    pub(crate) evidence: Evidence,
    /// States that differ in one use of this tweak alone, compared: without it first.
    pub(crate) comparisons: Vec<MeasuredUse>,
}

/// What was measured of one use of a tweak.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct MeasuredUse {
    /// The tweak with its arguments.
    pub(crate) of: TweakUse,
    #[serde(flatten)]
    pub(crate) compared: Compared,
}

/// What the ledger has measured of a tweak on a PC: of each use by itself, and of this PC alone.
pub(crate) fn measured(ledger: &Ledger, pc: &PcId, tweak: &TweakId) -> Result<Measured, Failure> {
    // Trials and sifts tell by themselves what they have found.
    let filter = VisitFilter { is_the_owners: true, ..VisitFilter::default() };
    let visits = ledger.visits(&filter)?;
    let (evidence, pairs) = pairs_of_states(&visits, pc, tweak);
    let options =
        CompareOptions { scene: None, margins: Margins::default(), limit: PairLimit::default() };
    let mut comparisons = Vec::new();
    for pair in pairs {
        let (Some(a), Some(b)) = (pair.without.first(), pair.with.first()) else { continue };
        let (a, b) = (a.state_name.clone(), b.state_name.clone());
        let (without, with) = ((&a, &pair.without[..]), (&b, &pair.with[..]));
        let compared = compare_visits(pair.scene, without, with, 0, &options)?;
        comparisons.push(MeasuredUse { of: pair.used, compared });
    }
    Ok(Measured { evidence, comparisons })
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

/// The figures of a visit, over its runs that count.
pub(crate) fn counted(visit: &VisitRecord) -> Result<VisitFigures, Failure> {
    let runs: Vec<_> = visit.counted().map(|run| run.metrics).collect();
    let latencies: Vec<_> = visit.counted().map(Run::latency).collect();
    VisitFigures::of(&runs)
        .map(|figures| figures.with_latencies(&latencies))
        .map_err(|error| Failure::new(Kind::BadInput, format!("visit {}: {error}", visit.id.0)))
}
