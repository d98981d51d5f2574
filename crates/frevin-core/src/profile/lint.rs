//! What is to be said of a profile that reads well: of its tweaks, alone and together, and on a PC.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::json;
use std::collections::{BTreeMap, BTreeSet};
use std::ops::Range;

use super::document::{Entry, Profile};
use crate::facts::Facts;
use crate::setting::{Address, State, protection};
use crate::tweak::{Catalogue, Standing, Tweak, TweakId, Wanted};

/// Something to be said of a profile that reads well.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Remark {
    /// The tweak that it is about.
    pub tweak: TweakId,
    /// What kind of remark it is.
    pub kind: RemarkKind,
    /// The remark, with its reason.
    pub text: String,
    /// What can be done about it.
    pub mend: String,
    /// Where the tweak stands in the document, in bytes.
    pub span: Range<usize>,
}

/// Kinds of remark.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RemarkKind {
    /// It does not fit this PC and would be left out.
    DoesNotFit,
    /// This build of Windows no longer has what it sets.
    Superseded,
    /// It cannot be combined with another of the profile.
    Conflict,
    /// It does nothing without another that the profile lacks.
    NeedsAnother,
    /// Another of the profile comes to the same end in another way.
    SameEnd,
    /// Another of the profile wants all that it wants.
    Repeats,
    /// It sets something that an earlier one of the profile sets otherwise.
    Undoes,
    /// The PC is as it wants already.
    DoesNothing,
    /// It does nothing, or harm, anywhere.
    PoorStanding,
    /// Practitioners contradict each other about it.
    Contested,
    /// It touches what is protected.
    Protected,
    /// It is to be held while playing, and acts only when the game has long ended.
    ActsTooLate,
}

impl RemarkKind {
    /// Whether a profile with such a remark should be mended before it is used.
    pub fn is_fault(self) -> bool {
        matches!(
            self,
            Self::Conflict
                | Self::NeedsAnother
                | Self::Undoes
                | Self::PoorStanding
                | Self::ActsTooLate
        )
    }
}

/// A PC that a profile is held against.
pub struct Against<'a> {
    /// What is known of it.
    pub facts: &'a Facts,
    /// What its settings hold.
    pub read: &'a dyn Fn(&Address) -> State,
}

/// What is to be said of a profile's tweaks; what only a PC tells, where there is one.
///
/// The profile stands alone: what it builds on has been taken over.
pub fn remarks(
    profile: &Profile,
    catalogue: &Catalogue,
    against: Option<&Against<'_>>,
) -> Vec<Remark> {
    let own = of_list(&profile.entries, &[], catalogue, against);
    // What is held while playing lies above what is applied, which may be what it needs.
    let held = of_list(&profile.while_playing, &profile.entries, catalogue, against);
    own.into_iter().chain(held).chain(too_late(&profile.while_playing, catalogue)).collect()
}

fn of_list(
    list: &[Entry],
    applied: &[Entry],
    catalogue: &Catalogue,
    against: Option<&Against<'_>>,
) -> Vec<Remark> {
    let mut linter = Linter {
        listed: list.iter().chain(applied).map(|entry| &entry.tweak).collect(),
        so_far: BTreeSet::new(),
        against,
        wanted_so_far: BTreeMap::new(),
        remarks: Vec::new(),
    };
    for entry in list {
        if let Some(tweak) = catalogue.get(&entry.tweak) {
            linter.entry(entry, tweak);
            linter.so_far.insert(&entry.tweak);
        }
    }
    linter.remarks
}

/// Tweaks that are to be held while playing, and act later than that.
fn too_late(while_playing: &[Entry], catalogue: &Catalogue) -> Vec<Remark> {
    let remark = |entry: &Entry| {
        let tweak = catalogue.get(&entry.tweak)?;
        (!tweak.takes_effect().is_felt_by_the_next_program()).then(|| Remark {
            tweak: entry.tweak.clone(),
            kind: RemarkKind::ActsTooLate,
            text: "acts when the game that it is held for has ended".to_owned(),
            mend: "list it under `tweaks`, and apply it".to_owned(),
            span: entry.span.clone(),
        })
    };
    while_playing.iter().filter_map(remark).collect()
}

struct Linter<'a> {
    listed: BTreeSet<&'a TweakId>,
    so_far: BTreeSet<&'a TweakId>,
    against: Option<&'a Against<'a>>,
    /// Who first wanted what of each setting.
    wanted_so_far: BTreeMap<Address, (TweakId, State)>,
    remarks: Vec<Remark>,
}

impl Linter<'_> {
    fn entry(&mut self, entry: &Entry, tweak: &Tweak) {
        let mut said = Vec::new();
        let mut say = |kind, text: String, mend: String| said.push((kind, text, mend));
        let is_left_out = self.misfits(entry, tweak, &mut say);
        for other in tweak.conflicts.iter().filter(|other| self.listed.contains(other)) {
            let mend = format!("keep `{}` or `{other}`, and remove the other", tweak.id);
            say(RemarkKind::Conflict, format!("cannot be combined with `{other}`"), mend);
        }
        for other in tweak.needs.iter().filter(|other| !self.listed.contains(other)) {
            let mend = format!("add `{other}`, or remove this");
            say(RemarkKind::NeedsAnother, format!("does nothing without `{other}`"), mend);
        }
        for other in tweak.alternatives.iter().filter(|other| self.so_far.contains(other)) {
            let text = format!("comes to the same end as `{other}` before it");
            say(RemarkKind::SameEnd, text, "one of the two is enough: remove the other".to_owned());
        }
        let measured = "measure it: apply it, record runs with and without, compare them";
        match tweak.standing {
            Standing::NoEffect | Standing::Harmful => {
                let text = format!("{}: {}", tweak.standing, tweak.standing_reason);
                say(RemarkKind::PoorStanding, text, format!("remove it; or {measured}"));
            }
            Standing::Contested => {
                let text = format!("contested: {}", tweak.standing_reason);
                say(RemarkKind::Contested, text, measured.to_owned());
            }
            Standing::Sound | Standing::Plausible => {}
        }
        let sample = Facts::reference();
        let facts = self.against.map_or(&sample, |against| against.facts);
        // What cannot be computed has been told as a misfit, or will be when it is previewed.
        let wanted = tweak.resolve(&entry.arguments, facts).unwrap_or_default();
        if !is_left_out {
            self.among_others(tweak, &wanted, &mut say);
        }
        if let Some((address, why)) =
            wanted.iter().find_map(|w| Some((&w.address, protection(&w.address)?)))
        {
            let mend =
                format!("apply the profile with --allow-protected {}, or remove it", tweak.id);
            let text = format!("touches {address}, which {}", why.reason);
            say(RemarkKind::Protected, text, mend);
        }
        for (kind, text, mend) in said {
            let (tweak, span) = (entry.tweak.clone(), entry.span.clone());
            self.remarks.push(Remark { tweak, kind, text, mend, span });
        }
    }

    /// Whether the tweak would be left out on the PC.
    fn misfits(
        &self,
        entry: &Entry,
        tweak: &Tweak,
        say: &mut impl FnMut(RemarkKind, String, String),
    ) -> bool {
        let Some(against) = self.against else { return false };
        let build = against.facts.windows.build;
        let is_superseded = tweak.builds.last.is_some_and(|last| build > last);
        let mut misfits = tweak.misfits(against.facts);
        if let Some(when) = &entry.when
            && when.holds(&json!({ "facts": against.facts.variables() })) == Ok(false)
        {
            misfits.push(format!("the profile asks for it only where {}", when.source()));
        }
        for misfit in &misfits {
            let kind = if is_superseded { RemarkKind::Superseded } else { RemarkKind::DoesNotFit };
            let mend = match kind {
                RemarkKind::Superseded => "remove it, or keep it for an older PC",
                _ => "leave it: it is left out here, and applied where it fits",
            };
            say(kind, format!("does not fit this PC: {misfit}"), mend.to_owned());
        }
        !misfits.is_empty()
    }

    /// What is to be said of a tweak beside those before it, and on the PC.
    fn among_others(
        &mut self,
        tweak: &Tweak,
        wanted: &[Wanted],
        say: &mut impl FnMut(RemarkKind, String, String),
    ) {
        let mut repeated: Option<TweakId> = None;
        let mut is_repeat = !wanted.is_empty();
        for Wanted { address, state, .. } in wanted {
            match self.wanted_so_far.get(address) {
                Some((first, same)) if same == state => {
                    repeated.get_or_insert_with(|| first.clone());
                }
                Some((first, other)) => {
                    is_repeat = false;
                    let text =
                        format!("sets {address} to {state}, and `{first}` before it to {other}");
                    let mend = format!("keep `{first}` or this, or give both the same choices");
                    say(RemarkKind::Undoes, text, mend);
                }
                None => is_repeat = false,
            }
        }
        if let (true, Some(first)) = (is_repeat, repeated) {
            let text = format!("`{first}` before it does all of this already");
            say(RemarkKind::Repeats, text, "remove one of the two".to_owned());
        }
        if let Some(against) = self.against
            && !wanted.is_empty()
            && wanted.iter().all(|w| (against.read)(&w.address) == w.state)
        {
            let text = "does nothing on this PC: it is so already".to_owned();
            let mend = "leave it for other PCs, or remove it";
            say(RemarkKind::DoesNothing, text, mend.to_owned());
        }
        for Wanted { address, state, .. } in wanted {
            let own = || (tweak.id.clone(), state.clone());
            self.wanted_so_far.entry(address.clone()).or_insert_with(own);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::Value;

    fn kinds(text: &str, against: Option<&Against<'_>>) -> Vec<(String, RemarkKind)> {
        let catalogue = Catalogue::built_in().unwrap();
        let head = "format = 1\nname = \"x\"\npurpose = \"p\"\n";
        let profile = Profile::parse("x.toml", &format!("{head}{text}"), &catalogue).unwrap();
        let remarks = remarks(&profile, &catalogue, against);
        assert!(remarks.iter().all(|remark| !remark.mend.is_empty() && !remark.text.is_empty()));
        remarks.into_iter().map(|remark| (remark.tweak.to_string(), remark.kind)).collect()
    }

    fn uses(tweaks: &[&str]) -> String {
        tweaks.iter().map(|tweak| format!("[[tweaks]]\nuse = \"{tweak}\"\n")).collect()
    }

    fn only(tweak: &str, kind: RemarkKind) -> Vec<(String, RemarkKind)> {
        vec![(tweak.to_owned(), kind)]
    }

    #[test]
    fn what_is_held_while_playing_is_looked_through_as_well() {
        let playing = |tweaks: &[&str]| -> String {
            tweaks.iter().map(|tweak| format!("[[while_playing]]\nuse = \"{tweak}\"\n")).collect()
        };
        let of = |tweak: &str, kind| (tweak.to_owned(), kind);
        let late = of("graphics/self-scheduling", RemarkKind::ActsTooLate);
        let found = kinds(&playing(&["graphics/self-scheduling", "looks/menu-delay"]), None);
        assert!(found.contains(&late), "{found:?}");
        assert!(RemarkKind::ActsTooLate.is_fault());
        // Applied, it is no fault; and what is applied is not repeated by what is held above it.
        assert!(!kinds(&uses(&["graphics/self-scheduling"]), None).contains(&late));
        let both = format!("{}{}", uses(&["looks/menu-delay"]), playing(&["looks/menu-delay"]));
        assert_eq!(kinds(&both, None), []);
        // What excludes what is applied is told.
        let clash = format!(
            "{}{}",
            uses(&["graphics/windowed-games"]),
            playing(&["graphics/exclusive-full-screen"])
        );
        let conflict = of("graphics/exclusive-full-screen", RemarkKind::Conflict);
        assert!(kinds(&clash, None).contains(&conflict));
    }

    #[test]
    fn tweaks_are_held_against_each_other() {
        let found =
            kinds(&uses(&["graphics/windowed-games", "graphics/exclusive-full-screen"]), None);
        let conflict = ("graphics/exclusive-full-screen".to_owned(), RemarkKind::Conflict);
        assert!(found.contains(&conflict), "{found:?}");
        let both = uses(&["recording/background", "recording/captures"]);
        assert_eq!(kinds(&both, None), []);
        let of = |tweak: &str, kind| (tweak.to_owned(), kind);
        assert_eq!(
            kinds(&uses(&["looks/menu-delay", "power/own-plan", "power/active-plan"]), None),
            [
                of("power/active-plan", RemarkKind::Conflict),
                of("power/active-plan", RemarkKind::Undoes)
            ]
        );
        assert!(RemarkKind::Undoes.is_fault());
        let same = uses(&["privacy/location", "services/geolocation"]);
        assert_eq!(kinds(&same, None), only("services/geolocation", RemarkKind::SameEnd));
    }

    #[test]
    fn what_does_nothing_or_harm_is_told() {
        assert_eq!(
            kinds(&uses(&["network/reserved-bandwidth"]), None),
            only("network/reserved-bandwidth", RemarkKind::PoorStanding)
        );
        let protected = kinds(&uses(&["security/cloud-protection"]), None);
        let expected = ("security/cloud-protection".to_owned(), RemarkKind::Protected);
        assert!(protected.contains(&expected), "{protected:?}");
    }

    #[test]
    fn a_pc_tells_what_does_not_fit_and_what_is_so_already() {
        let facts = Facts::reference();
        let menu_delay: Address = "visual:menu-delay".parse().unwrap();
        let read = |address: &Address| match address {
            address if *address == menu_delay => Value::Milliseconds(0).into(),
            _ => State::Absent,
        };
        let against = Against { facts: &facts, read: &read };
        let text = "[[tweaks]]\nuse = \"looks/menu-delay\"\nwith = { delay_ms = 0 }\n";
        assert_eq!(kinds(text, Some(&against)), only("looks/menu-delay", RemarkKind::DoesNothing));
        let old = uses(&["tasks/maps"]);
        let superseded = only("tasks/maps", RemarkKind::Superseded);
        assert_eq!(kinds(&old, Some(&against)), superseded);
        assert_eq!(kinds(&old, None), []);
        let search = kinds(&uses(&["services/file-search"]), Some(&against));
        assert_eq!(search[0].1, RemarkKind::DoesNotFit);
    }
}
