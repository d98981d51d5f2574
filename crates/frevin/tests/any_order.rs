//! Applied and rolled back in any order, with restarts in between, the PC ends as it began, to the
//! byte. The core has the same test on a model; this one drives the program.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use proptest::prelude::*;

const FILE: &str = "file=documents/Gorsehollow Riders/options.ini";

/// Tweaks of every kind of setting that has rules of its own, and what is chosen of them.
const TWEAKS: [(&str, &[&str]); 18] = [
    ("looks/menu-delay", &[]),
    ("looks/effects-level", &[]),
    ("power/throttling", &[]),
    ("recording/background", &[]),
    ("services/printing", &[]),
    ("services/prefetch", &[]),
    ("power/active-plan", &[]),
    ("power/own-plan", &[]),
    ("memory/page-file", &["size=share", "drives=C:, D:"]),
    ("graphics/variable-refresh", &[]),
    ("graphics/windowed-games", &["windowed=off"]),
    ("graphics/program-compatibility", &[r"program=C:\Games\Gorsehollow\riders.exe"]),
    ("input/key-shortcuts", &[]),
    ("games/ini-value", &[FILE, "section=Input", "key=Raw", "value=1"]),
    ("clean/old-files", &[]),
    ("startup/entries", &["entries=user-registry/Orrinfell Lighting"]),
    ("network/name-servers", &["adapter=Ethernet", "servers=192.0.2.53, 192.0.2.54"]),
    ("graphics/highest-refresh", &[]),
];

#[derive(Debug, Clone)]
enum Deed {
    ApplyProfile,
    ApplyTweak(usize),
    RollBackChange(i64),
    RollBackTweak(usize),
    Restart,
}

fn deeds() -> impl Strategy<Value = Vec<Deed>> {
    let deed = prop_oneof![
        2 => Just(Deed::ApplyProfile),
        4 => (0..TWEAKS.len()).prop_map(Deed::ApplyTweak),
        2 => (1..6i64).prop_map(Deed::RollBackChange),
        2 => (0..TWEAKS.len()).prop_map(Deed::RollBackTweak),
        1 => Just(Deed::Restart),
    ];
    prop::collection::vec(deed, 3..12)
}

/// How many rows of deeds: FREVIN_ORDERS, or a few.
fn config() -> ProptestConfig {
    let orders = std::env::var("FREVIN_ORDERS").ok().and_then(|text| text.parse().ok());
    let cases = orders.unwrap_or(16);
    ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(cases) }
}

proptest! {
    #![proptest_config(config())]

    #[test]
    fn everything_goes_back(deeds in deeds()) {
        let place = Place::with_evening();
        let facts = place.pc().join("facts.toml");
        let text = fs_err::read_to_string(&facts).unwrap();
        fs_err::write(&facts, text.replace("printer = true", "printer = false")).unwrap();
        let at_first = place.pc_files();
        let mut changes = 0;
        for deed in deeds {
            match deed {
                Deed::ApplyProfile => {
                    changes += i64::from(place.json(&["apply", "evening", "-y"])["change"].is_i64());
                }
                Deed::ApplyTweak(tweak) => {
                    let (tweak, chosen) = TWEAKS[tweak];
                    let mut args = vec!["apply", "--tweak", tweak, "-y"];
                    chosen.iter().for_each(|chosen| args.extend(["--set", chosen]));
                    let applied = place.json(&args);
                    prop_assert!(applied.get("error").is_none(), "{}", applied);
                    changes += i64::from(applied["change"].is_i64());
                }
                Deed::RollBackChange(change) if change <= changes => {
                    place.run(&["rollback", &change.to_string(), "-y"]).ok();
                }
                Deed::RollBackChange(_) => {}
                Deed::RollBackTweak(tweak) => {
                    place.run(&["rollback", "--tweak", TWEAKS[tweak].0, "-y"]).ok();
                }
                Deed::Restart => {
                    place.run(&["rehearsal", "restart"]).ok();
                }
            }
            prop_assert!(place.json(&["drift"])["drifted"].as_array().unwrap().is_empty());
        }
        place.run(&["rollback", "--all", "-y"]).ok();
        place.run(&["rehearsal", "restart"]).ok();
        prop_assert_eq!(place.pc_files(), at_first);
    }
}
