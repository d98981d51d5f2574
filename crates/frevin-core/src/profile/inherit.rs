//! Profiles that build on others.

use std::collections::BTreeSet;

use super::document::{Base, Entry, Profile};
use super::playing::Playing;
use super::revision::RevisionName;
use crate::document::{BadDocument, Problem};
use crate::tweak::TweakId;

/// Profiles may build on each other this deep.
const MAX_DEPTH: usize = 8;

/// Why a profile that another builds on was not had.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum NoBase {
    /// There is none of that name.
    Unknown,
    /// It cannot be read any more.
    Broken(String),
}

/// The profile with the tweaks of those that it builds on taken over, so that it stands alone.
///
/// Tweaks come in the order of the profiles named, then its own. Where two have the same tweak, the
/// later one's uses of it replace all of the earlier one's, in their place. `base` finds a profile by name; `name` and
/// `text` are the document that `profile` was read from, for messages.
///
/// # Errors
/// [`BadDocument`] where a base is not there, where they build on each other in a ring or too deep,
/// or where `without` names a tweak that none of them has.
pub fn stand_alone(
    name: &str,
    text: &str,
    profile: &Profile,
    base: &mut dyn FnMut(&RevisionName) -> Result<Profile, NoBase>,
) -> Result<Profile, BadDocument> {
    let mut problems = Vec::new();
    let mut all = Lists::default();
    for named in &profile.builds_on {
        match inherited(named, base, &mut vec![profile.name.to_string()]) {
            Ok(taken) => all.take_over(taken),
            Err(message) => {
                let advice =
                    "`frevin profile list` and `frevin profile ready-made` show those there are";
                problems.push(Problem::at(named.span.clone(), message).advise(advice));
            }
        }
    }
    for without in &profile.without {
        if !all.do_without(&without.tweak) && problems.is_empty() {
            let message =
                format!("none of the profiles that this builds on has `{}`", without.tweak);
            problems.push(Problem::at(without.span.clone(), message).advise("remove it"));
        }
    }
    all.take_over(Lists::of(profile.clone()));
    if !problems.is_empty() {
        return Err(BadDocument::new(name, text, problems));
    }
    let Lists { entries, while_playing, playing } = all;
    let alone = Profile { builds_on: Vec::new(), without: Vec::new(), ..profile.clone() };
    Ok(Profile { entries, while_playing, playing, ..alone })
}

/// What is taken over of a profile.
#[derive(Default)]
struct Lists {
    entries: Vec<Entry>,
    while_playing: Vec<Entry>,
    playing: Playing,
}

impl Lists {
    fn of(profile: Profile) -> Self {
        let Profile { entries, while_playing, playing, .. } = profile;
        Self { entries, while_playing, playing }
    }

    fn take_over(&mut self, later: Self) {
        take_over(&mut self.entries, later.entries);
        take_over(&mut self.while_playing, later.while_playing);
        self.playing = later.playing.over(std::mem::take(&mut self.playing));
    }

    /// Takes a tweak out; whether it was there.
    fn do_without(&mut self, tweak: &TweakId) -> bool {
        let lists = [&mut self.entries, &mut self.while_playing];
        let mut was_there = false;
        for list in lists {
            let count = list.len();
            list.retain(|entry| entry.tweak != *tweak);
            was_there |= list.len() < count;
        }
        was_there
    }
}

fn inherited(
    named: &Base,
    base: &mut dyn FnMut(&RevisionName) -> Result<Profile, NoBase>,
    way: &mut Vec<String>,
) -> Result<Lists, String> {
    let name = named.name.profile.to_string();
    if way.contains(&name) {
        return Err(format!("`{}` builds on itself: {} → {name}", name, way.join(" → ")));
    }
    if way.len() >= MAX_DEPTH {
        return Err(format!("profiles build on each other {MAX_DEPTH} deep at the most"));
    }
    let profile = base(&named.name).map_err(|error| match error {
        NoBase::Unknown => format!("there is no profile `{}` to build on", named.name),
        NoBase::Broken(reason) => format!("`{}` cannot be built on: {reason}", named.name),
    })?;
    way.push(name);
    let mut all = Lists::default();
    for named in &profile.builds_on {
        all.take_over(inherited(named, base, way)?);
    }
    way.pop();
    for without in &profile.without {
        all.do_without(&without.tweak);
    }
    all.take_over(Lists::of(profile));
    Ok(all)
}

/// What comes later holds: its uses of a tweak replace all earlier ones of that tweak, in their place.
fn take_over(entries: &mut Vec<Entry>, taken: Vec<Entry>) {
    let mut replaced: BTreeSet<TweakId> = BTreeSet::new();
    for entry in taken {
        let place = entries.iter().position(|known| known.tweak == entry.tweak);
        match place {
            Some(place) if replaced.insert(entry.tweak.clone()) => {
                entries.retain(|known| known.tweak != entry.tweak);
                entries.insert(place.min(entries.len()), entry);
            }
            _ => {
                replaced.insert(entry.tweak.clone());
                entries.push(entry);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tweak::{Argument, Catalogue};

    #[test]
    fn what_is_held_while_playing_is_taken_over_too() {
        let catalogue = Catalogue::built_in().unwrap();
        let read = |name: &str, rest: &str| {
            let text = format!("format = 1\nname = \"{name}\"\npurpose = \"p\"\n{rest}");
            (Profile::parse("p.toml", &text, &catalogue).unwrap(), text)
        };
        let (base, _) = read(
            "base",
            "[[while_playing]]\nuse = \"looks/menu-delay\"\nwith = { delay_ms = 10 }\n\
             [[while_playing]]\nuse = \"power/active-plan\"\n[playing]\ntimer_ms = 1.0\nunthrottled = true\n",
        );
        let (own, text) = read(
            "own",
            "builds_on = [\"base\"]\nwithout = [\"power/active-plan\"]\n\
             [[while_playing]]\nuse = \"looks/menu-delay\"\nwith = { delay_ms = 50 }\n[playing]\ntimer_ms = 0.5\n",
        );
        let alone = stand_alone("p.toml", &text, &own, &mut |_| Ok(base.clone())).unwrap();
        let held: Vec<_> = alone.while_playing.iter().map(|entry| entry.tweak.as_str()).collect();
        assert_eq!(held, ["looks/menu-delay"]);
        assert_eq!(alone.while_playing[0].arguments["delay_ms"], Argument::Whole(50));
        assert!(alone.playing.process.unthrottled);
        assert_eq!(alone.playing.timer.unwrap().to_string(), "0.5 ms");
        assert!(alone.entries.is_empty());
    }

    fn parse(text: &str) -> Profile {
        Profile::parse("p.toml", text, &Catalogue::built_in().unwrap()).unwrap()
    }

    const BASE: &str = "format = 1\nname = \"base\"\npurpose = \"p\"\n\
        [[tweaks]]\nuse = \"looks/menu-delay\"\nwith = { delay_ms = 100 }\n\
        [[tweaks]]\nuse = \"power/active-plan\"\n[[tweaks]]\nuse = \"boot/menu-timeout\"\n";

    fn alone(text: &str) -> Result<Profile, BadDocument> {
        stand_alone("p.toml", text, &parse(text), &mut |name| match name.profile.as_str() {
            "base" => Ok(parse(BASE)),
            "ring" => {
                Ok(parse("format = 1\nname = \"ring\"\npurpose = \"p\"\nbuilds_on = [\"top\"]"))
            }
            _ => Err(NoBase::Unknown),
        })
    }

    #[test]
    fn tweaks_are_taken_over_changed_and_left_out() {
        let top = "format = 1\nname = \"top\"\npurpose = \"p\"\nbuilds_on = [\"base@2\"]\n\
            without = [\"boot/menu-timeout\"]\n[[tweaks]]\nuse = \"network/throttling\"\n\
            [[tweaks]]\nuse = \"looks/menu-delay\"\nwith = { delay_ms = 7 }\nnote = \"quick\"\n";
        let profile = alone(top).unwrap();
        let tweaks: Vec<_> = profile.entries.iter().map(|entry| entry.tweak.as_str()).collect();
        assert_eq!(tweaks, ["looks/menu-delay", "power/active-plan", "network/throttling"]);
        assert_eq!(profile.entries[0].arguments["delay_ms"], Argument::Whole(7));
        let again = parse(&profile.to_document());
        assert_eq!(again.to_document(), profile.to_document());
        assert_eq!(again.entries.len(), 3);
        assert_eq!(parse(top).to_document().lines().nth(3), Some("builds_on = [\"base@2\"]"));
    }

    #[test]
    fn what_cannot_be_built_on_is_told_with_its_place() {
        let head = "format = 1\nname = \"top\"\npurpose = \"p\"\n";
        for (line, message) in [
            ("builds_on = [\"nowhere\"]", "there is no profile `nowhere` to build on"),
            ("builds_on = [\"ring\"]", "`top` builds on itself: top → ring → top"),
            (
                "builds_on = [\"base\"]\nwithout = [\"power/throttling\"]",
                "none of the profiles that this builds on has `power/throttling`",
            ),
        ] {
            let bad = alone(&format!("{head}{line}")).unwrap_err();
            assert_eq!(bad.problems[0].message, message);
            assert!(bad.problems[0].span.is_some());
        }
    }
}
