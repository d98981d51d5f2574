//! The catalogue, held against what a new Windows is.
//!
//! `windows_defaults.csv` says, for every setting that a definition may write, what a new Windows holds
//! there, per release. It was written from memory: a row is `firm` or `unsure`. Where a thing is not part
//! of a release it is `missing`, and `owners` where only the owner's own choice says which it is.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::facts::Facts;
use frevin_core::setting::{Address, BALANCED, State};
use frevin_core::tweak::{
    Argument, Arguments, Catalogue, Choice, ParameterKind, Tweak, Wanted, state_from_words,
};

const TABLE: &str = include_str!("windows_defaults.csv");

/// The releases of the table, by build.
const RELEASES: [u32; 3] = [19_045, 22_631, 26_100];

/// Tweaks that by themselves bring back what a new Windows has: they are for PCs where it was changed.
const MENDS: [&str; 15] = [
    "boot/all-processors",
    "boot/clock-synchronisation",
    "graphics/highest-refresh",
    "input/pointer-speed",
    "memory/page-file",
    "network/receive-side-scaling",
    "services/remote-registry",
    "storage/trimming",
    "features/hypervisor-platform",
    "features/sandbox",
    "features/virtual-machine-platform",
    "features/virtual-machines",
    "graphics/interrupts-by-message",
    "network/interrupts-by-message",
    "network/old-file-sharing",
];

#[derive(Debug, Clone, PartialEq)]
enum Default {
    State(State),
    Missing,
    Owners,
}

struct Row {
    by_release: [Default; 3],
    is_firm: bool,
}

fn table() -> BTreeMap<Address, Row> {
    let mut rows = BTreeMap::new();
    for line in TABLE.lines().skip(1) {
        let mut cells: Vec<&str> = line.rsplitn(5, ',').collect();
        cells.reverse();
        let [address, first, second, third, known] = cells[..] else { panic!("{line}") };
        let address: Address = address.parse().unwrap_or_else(|e| panic!("{line}: {e}"));
        let default = |words: &str| match words {
            "missing" => Default::Missing,
            "owners" => Default::Owners,
            words => Default::State(
                state_from_words(&address, words).unwrap_or_else(|e| panic!("{line}: {e}")),
            ),
        };
        let by_release = [first, second, third].map(default);
        assert!(["firm", "unsure"].contains(&known), "{line}");
        let row = Row { by_release, is_firm: known == "firm" };
        assert!(rows.insert(address, row).is_none(), "{line} stands there twice");
    }
    rows
}

/// Whether the table speaks of a setting: of power plans, of the one in force in a new Windows.
fn is_spoken_of(address: &Address) -> bool {
    !matches!(address, Address::PowerValue { plan, .. } if *plan != BALANCED)
}

fn releases_of(tweak: &Tweak) -> impl Iterator<Item = usize> {
    let builds = tweak.builds;
    (0..RELEASES.len()).filter(move |at| {
        builds.first.is_none_or(|first| RELEASES[*at] >= first)
            && builds.last.is_none_or(|last| RELEASES[*at] <= last)
    })
}

fn settings(tweak: &Tweak, arguments: &Arguments) -> Vec<Wanted> {
    let resolve = |facts: &Facts| tweak.resolve(arguments, facts).unwrap_or_default();
    Facts::references().iter().flat_map(resolve).filter(|w| is_spoken_of(&w.address)).collect()
}

/// Whether settings are, on a release, as a new Windows has them; nothing where none of them is there.
fn is_as_new(settings: &[Wanted], table: &BTreeMap<Address, Row>, release: usize) -> Option<bool> {
    let row = |wanted: &Wanted| {
        table.get(&wanted.address).unwrap_or_else(|| panic!("no row for {}", wanted.address))
    };
    let of = |wanted: &Wanted| match &row(wanted).by_release[release] {
        Default::State(state) => Some(*state == wanted.state),
        Default::Missing => None,
        // What nobody has set yet is absent.
        Default::Owners => Some(wanted.state == State::Absent),
    };
    settings.iter().filter_map(of).reduce(|a, b| a && b)
}

#[test]
fn every_setting_of_the_catalogue_has_its_row_and_no_row_is_left_over() {
    let table = table();
    let mut written = BTreeSet::new();
    let mut without = BTreeSet::new();
    for tweak in Catalogue::built_in().unwrap().iter() {
        for wanted in tweak.sample_settings().unwrap() {
            if is_spoken_of(&wanted.address) && !table.contains_key(&wanted.address) {
                without.insert(format!("{}: {}", tweak.id, wanted.address));
            }
            written.insert(wanted.address);
        }
    }
    assert!(without.is_empty(), "{without:#?}");
    let left: Vec<_> = table.keys().filter(|address| !written.contains(*address)).collect();
    assert!(left.is_empty(), "{left:#?}");
    let firm = table.values().filter(|row| row.is_firm).count();
    assert!(firm * 2 > table.len(), "most of it has to be known: {firm} of {}", table.len());
}

#[test]
fn what_nothing_is_chosen_of_changes_something() {
    let table = table();
    let mut idle = BTreeSet::new();
    for tweak in Catalogue::built_in().unwrap().iter() {
        let is_by_hand = tweak.manual.is_some();
        if is_by_hand || tweak.to_be_chosen(&Arguments::new()).next().is_some() {
            continue;
        }
        let settings = settings(tweak, &tweak.complete(&Arguments::new()));
        let changes =
            releases_of(tweak).any(|release| is_as_new(&settings, &table, release) == Some(false));
        if !changes {
            idle.insert(tweak.id.to_string());
        }
    }
    let listed: BTreeSet<String> = MENDS.iter().map(|id| (*id).to_owned()).collect();
    let unlisted: Vec<_> = idle.difference(&listed).collect();
    assert!(unlisted.is_empty(), "without choices these do nothing: {unlisted:#?}");
}

#[test]
fn what_is_as_in_a_new_windows_says_so() {
    let table = table();
    let (mut unsaid, mut untrue) = (Vec::new(), Vec::new());
    for tweak in Catalogue::built_in().unwrap().iter() {
        for (name, parameter) in &tweak.parameters {
            let ParameterKind::Choice { choices } = &parameter.kind else { continue };
            for choice in choices {
                let mut arguments = tweak.complete(&tweak.sample_arguments());
                arguments.insert(name.clone(), Argument::Choice(choice.name.clone()));
                // Only what hangs on this choice tells anything of it.
                let other = |other: &&Choice| other.name != choice.name;
                let settings: Vec<Wanted> = settings(tweak, &arguments)
                    .into_iter()
                    .filter(|wanted| {
                        choices.iter().filter(other).any(|other| {
                            let mut with = arguments.clone();
                            with.insert(name.clone(), Argument::Choice(other.name.clone()));
                            settings(tweak, &with).iter().any(|elsewhere| {
                                elsewhere.address == wanted.address
                                    && elsewhere.state != wanted.state
                            })
                        })
                    })
                    .collect();
                let as_new: Vec<bool> = releases_of(tweak)
                    .filter_map(|release| is_as_new(&settings, &table, release))
                    .collect();
                let is_as_new = !as_new.is_empty() && as_new.iter().all(|is| *is);
                let is_firm = settings.iter().all(|wanted| table[&wanted.address].is_firm);
                let text = choice.meaning.to_lowercase();
                let says_so = choice.name == "as-windows-does"
                    || [
                        "windows has",
                        "windows does",
                        "most pcs",
                        "most adapters",
                        "changes nothing",
                    ]
                    .iter()
                    .chain(&["windows uses", "windows decides"])
                    .any(|words| text.contains(words));
                let at = format!("{} {name} = {}", tweak.id, choice.name);
                if is_as_new && is_firm && !says_so {
                    unsaid.push(at.clone());
                }
                if choice.name == "as-windows-does" && !is_as_new && is_firm {
                    untrue.push(at);
                }
            }
        }
    }
    assert!(unsaid.is_empty(), "they change nothing in a new Windows: {unsaid:#?}");
    assert!(untrue.is_empty(), "a new Windows does otherwise: {untrue:#?}");
}

#[test]
fn what_a_new_windows_holds_can_be_put_back() {
    for (address, row) in table() {
        for default in row.by_release {
            if default == Default::State(State::Absent) {
                assert!(address.may_be_absent(), "{address} could not be taken away again");
            }
        }
    }
}
