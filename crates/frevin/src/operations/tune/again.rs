//! Asking again, after an update, about what has aged.

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::evidence::Age;
use frevin_core::ids::SceneName;
use frevin_core::layers::{ChangeId, Layers};
use frevin_core::preview::Wish;
use frevin_core::tune::{Goal, Mended};
use frevin_core::tweak::TweakId;
use frevin_core::verdict::Judge;
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::Pc;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::evidence::told;

/// What is asked again.
#[derive(Debug, Clone)]
pub(crate) struct Again {
    /// The revision of a profile that it asked about, as it is written.
    pub(crate) profile: String,
    pub(crate) scene: SceneName,
    pub(crate) goal: Goal,
    /// The tweaks whose evidence has aged.
    pub(crate) aged: BTreeSet<TweakId>,
    /// What has changed since.
    pub(crate) because: Vec<Age>,
    /// The change that holds what that evening kept, and what it holds: taken back first.
    pub(crate) held: Option<(ChangeId, Vec<Wish>)>,
    /// Of that, what was plainly wrong and was mended: it is mended anew.
    pub(crate) mended: Vec<Mended>,
}

/// What has aged of the latest evening in a scene, or in any.
///
/// # Errors
/// Where there was none, or nothing of it has aged.
pub(crate) fn again(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    scene: Option<&SceneName>,
) -> Result<Again, Failure> {
    let is_meant = |record: &SiftRecord| {
        record.design.evening.as_ref().is_some_and(|evening| !evening.is_played())
            // What ages is evidence, which is of frame rates.
            && record.design.judge == Judge::FrameRate
            && record.has_ended()
            && record.sift().is_ok_and(|sift| !sift.is_given_up())
            && scene.is_none_or(|scene| record.design.scene == *scene)
    };
    let records = ledger.sifts(&pc.identity().id)?;
    let found = records.iter().rfind(|record| is_meant(record));
    let none = || {
        Failure::new(Kind::NotFound, "there was no evening in this scene that could be asked again")
            .hint("`frevin tune` begins one")
    };
    let record = found.ok_or_else(none)?;
    let evening = record.design.evening.as_ref().ok_or_else(none)?;
    let scene = &record.design.scene;
    let evidence = told(context, pc, ledger, None)?;
    // The latest word on a tweak in the scene is what counts; it stands first.
    let mut looked_at = BTreeSet::new();
    let (mut aged, mut because) = (BTreeSet::new(), BTreeSet::new());
    for one in evidence.iter().filter(|one| one.evidence.scene.scene == *scene) {
        if looked_at.insert(one.evidence.used.clone()) && !one.aged.is_empty() {
            aged.insert(one.evidence.used.tweak.clone());
            because.extend(one.aged.iter().copied());
        }
    }
    if aged.is_empty() {
        let message = format!("nothing has aged since evening {}", record.id);
        return Err(Failure::new(Kind::Usage, message)
            .detail("Windows, the graphics driver and the game are what they were")
            .hint("`frevin tune` asks about what was not asked yet"));
    }
    let trial = record.sift()?.trial().map(|trial| ledger.trial(trial)).transpose()?;
    let kept = trial.map(|trial| trial.design.b.wishes).unwrap_or_default();
    let held = held(&ledger.layers(&record.pc)?, kept);
    let is_taken_back =
        |mended: &&Mended| held.as_ref().is_some_and(|(_, wishes)| wishes.contains(&mended.wish));
    let mended = evening.mended.iter().filter(is_taken_back).cloned().collect();
    let profile = match &record.design.revision {
        Some((name, number)) => format!("{name}@{number}"),
        None => record.design.title.clone(),
    };
    Ok(Again {
        profile,
        scene: scene.clone(),
        goal: evening.goal,
        aged,
        because: because.into_iter().collect(),
        held,
        mended,
    })
}

/// The change that holds most of these wishes, with those that it holds: what was taken back of them stays so.
fn held(layers: &Layers, wishes: Vec<Wish>) -> Option<(ChangeId, Vec<Wish>)> {
    let mut by_change: BTreeMap<ChangeId, Vec<Wish>> = BTreeMap::new();
    for wish in wishes {
        let mut all = layers.iter().flat_map(|(_, stack)| &stack.layers);
        if let Some(layer) = all.find(|layer| layer.used == wish.used) {
            by_change.entry(layer.change).or_default().push(wish);
        }
    }
    by_change.into_iter().max_by_key(|(_, wishes)| wishes.len())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;
    use frevin_core::layers::Layer;
    use frevin_core::setting::State;
    use frevin_core::tweak::TweakUse;

    fn wish(tweak: &str) -> Wish {
        let used = TweakUse::plain(tweak.parse().unwrap());
        Wish { used, settings: Vec::new(), consented: false }
    }

    #[test]
    fn what_is_held_is_what_the_change_with_most_of_it_holds() {
        let mut layers = Layers::new();
        let mut put = |value: &str, change: i64, tweak: &str| {
            let address = format!(r"registry:HKCU\Software\A#{value}").parse().unwrap();
            let layer =
                Layer { change: ChangeId(change), used: wish(tweak).used, state: State::Absent };
            layers.lay(&address, &State::Absent, layer);
        };
        put("One", 4, "knobs/one");
        put("Two", 7, "knobs/two");
        put("Three", 7, "knobs/three");
        let all =
            vec![wish("knobs/one"), wish("knobs/two"), wish("knobs/three"), wish("knobs/gone")];
        let (change, wishes) = held(&layers, all).unwrap();
        assert_eq!(change, ChangeId(7));
        let names: Vec<String> = wishes.iter().map(|wish| wish.used.to_string()).collect();
        assert_eq!(names, ["knobs/two", "knobs/three"]);
        assert!(held(&layers, vec![wish("knobs/gone")]).is_none());
    }
}
