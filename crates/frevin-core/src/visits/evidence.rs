//! Evidence: which visits tell what one use of a tweak does.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::{BTreeMap, BTreeSet};

use super::{RunSource, VisitRecord, VisitStatus};
use crate::ids::{PcId, SceneName, StateDigest};
use crate::tweak::{TweakId, TweakUse};

/// Visits that a ledger holds for or against a tweak, on one PC.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Evidence {
    /// Visits with it in force.
    pub visits_with: usize,
    /// Visits without it.
    pub visits_without: usize,
    /// Visits of which it is not known what was in force.
    pub visits_not_known: usize,
}

/// Two states of one PC in one scene that differ in one use of a tweak and in nothing else.
#[derive(Debug, Clone, PartialEq)]
pub struct StatePair<'a> {
    /// The scene.
    pub scene: SceneName,
    /// The use of the tweak, with its arguments.
    pub used: TweakUse,
    /// The visits without it.
    pub without: Vec<&'a VisitRecord>,
    /// The visits with it.
    pub with: Vec<&'a VisitRecord>,
}

/// The kind of a source: frames of two kinds are not compared for evidence.
pub(super) fn kind_of(source: &RunSource) -> u8 {
    match source {
        RunSource::Rehearsal => 0,
        RunSource::LogFile(_) => 1,
        RunSource::Program(_) => 2,
        RunSource::TestLoop => 3,
    }
}

/// What `visits` hold of a tweak on a PC: how many, and every two states that differ in one use of
/// it alone. Visits of other PCs, and those that are not whole, say nothing; nor does a visit of
/// which it is not known what was in force.
pub fn pairs_of_states<'a>(
    visits: &'a [VisitRecord],
    pc: &PcId,
    tweak: &TweakId,
) -> (Evidence, Vec<StatePair<'a>>) {
    type Key = (SceneName, StateDigest, BTreeSet<TweakUse>, Option<u8>);
    let mut evidence = Evidence { visits_with: 0, visits_without: 0, visits_not_known: 0 };
    let mut states: BTreeMap<Key, Vec<&VisitRecord>> = BTreeMap::new();
    let own = visits
        .iter()
        .filter(|visit| visit.pc.as_ref() == Some(pc) && visit.status == VisitStatus::Whole)
        // Where no game was played, nothing is known of frames.
        .filter(|visit| visit.counted().next().is_some());
    for visit in own {
        let Some(in_force) = &visit.in_force else {
            evidence.visits_not_known += 1;
            continue;
        };
        if in_force.uses.iter().any(|used| used.tweak == *tweak) {
            evidence.visits_with += 1;
        } else {
            evidence.visits_without += 1;
        }
        let uses: BTreeSet<TweakUse> = in_force.uses.iter().cloned().collect();
        let kind = visit.counted().next().map(|run| kind_of(&run.source));
        let key = (visit.scene.clone(), in_force.digest.clone(), uses, kind);
        states.entry(key).or_default().push(visit);
    }
    let mut pairs = Vec::new();
    for ((scene, _, uses, kind), with) in &states {
        // What was chosen is not known of ledgers of earlier versions: no evidence of any use.
        let of_tweak: Vec<_> = uses.iter().filter(|used| used.tweak == *tweak).collect();
        for used in of_tweak.into_iter().filter(|used| used.arguments.is_some()) {
            let mut rest = uses.clone();
            rest.remove(used);
            for ((other_scene, _, other_uses, other_kind), without) in &states {
                if (other_scene, other_uses, other_kind) == (scene, &rest, kind) {
                    pairs.push(StatePair {
                        scene: scene.clone(),
                        used: used.clone(),
                        without: without.clone(),
                        with: with.clone(),
                    });
                }
            }
        }
    }
    pairs.sort_by(|a, b| (&a.scene, &a.used).cmp(&(&b.scene, &b.used)));
    (evidence, pairs)
}
