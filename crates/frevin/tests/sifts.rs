//! Sifts: which of many tweaks matter, cut off and gone on with, and what they leave behind.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::{Place, Said};
use insta::assert_snapshot;
use serde_json::Value;

/// Pieces of advice: one that hurts, two that help, others that do nothing here.
const ADVICE: &str = r#"format = 1
name = "advice"
purpose = "What everybody says"
scene = "canyon-run"

[[tweaks]]
use = "power/active-plan"

[[tweaks]]
use = "recording/background"

[[tweaks]]
use = "services/diagnostics"

[[tweaks]]
use = "looks/menu-delay"
with = { delay_ms = 50 }

[[tweaks]]
use = "memory/large-file-cache"

[[tweaks]]
use = "clean/old-files"

[[tweaks]]
use = "boot/dynamic-tick"
"#;

const START: [&str; 5] = ["sift", "start", "advice", "--yes", "--seed"];

fn place() -> Place {
    let place = Place::new();
    place.write("advice.toml", ADVICE);
    place.run(&["profile", "save", "advice.toml"]).ok();
    place
}

fn with<'a>(more: &[&'a str]) -> Vec<&'a str> {
    START.iter().chain(more).copied().collect()
}

fn json(said: &Said) -> Value {
    serde_json::from_str(&said.out).unwrap_or_else(|_| panic!("{}{}", said.out, said.err))
}

fn fingerprint(place: &Place) -> String {
    place.json(&["rehearsal", "show"])["fingerprint"].to_string()
}

fn found(sift: &Value) -> Vec<(String, String)> {
    let of = |tweak: &Value, key: &str| tweak[key].as_str().unwrap().to_owned();
    let tweaks = sift["tweaks"].as_array().unwrap().iter();
    tweaks.map(|tweak| (of(tweak, "tweak"), of(tweak, "found"))).collect()
}

#[test]
fn what_matters_is_found_and_what_helps_is_kept() {
    let place = place();
    let said = place.run(&with(&["3"])).ok();
    assert_snapshot!(said.out);
    let shown = place.json(&["sift", "show"]);
    assert_eq!((&shown["verdict"], &shown["kept"]), (&"better".into(), &true.into()));
    let found = found(&shown);
    assert!(found.contains(&("memory/large-file-cache".into(), "hurts".into())), "{found:?}");
    assert!(found.contains(&("recording/background".into(), "helps".into())), "{found:?}");
    assert!(found.contains(&("looks/menu-delay".into(), "no-effect".into())), "{found:?}");
    // In force is what helped, and nothing else of it.
    let changes = place.json(&["rollback", "--list"]);
    let held: Vec<&Value> = changes["changes"]
        .as_array()
        .unwrap()
        .iter()
        .filter(|change| change["layers_left"].as_u64() != Some(0))
        .collect();
    assert_eq!(held.len(), 1, "{held:?}");
    assert_snapshot!(place.run(&["sift", "list"]).ok().out);
    assert_snapshot!(place.run(&["log"]).ok().out);
    // What it found is evidence, and a profile is made of it.
    assert_snapshot!(place.run(&["evidence", "list"]).ok().out);
    place.run(&["profile", "new", "good", "--from-evidence", "--purpose", "What helps"]).ok();
    let document = fs_err::read_to_string(place.path().join("good.toml")).unwrap();
    assert!(document.contains("use = \"recording/background\""), "{document}");
    assert!(document.contains("average FPS in canyon-run, by sift 1"), "{document}");
    assert!(!document.contains("large-file-cache"), "{document}");
    place.run(&["profile", "save", "good.toml"]).ok();
}

#[test]
fn what_was_measured_worse_is_said_before_it_is_applied() {
    let place = place();
    place.run(&with(&["3"])).ok();
    let preview = place.run(&["preview", "--tweak", "memory/large-file-cache"]).ok().out;
    assert!(preview.contains("was measured worse on this PC: -1"), "{preview}");
    let shown = place.run(&["tweak", "show", "memory/large-file-cache"]).ok().out;
    assert!(shown.contains("by sift 1") || shown.contains("sift 1,"), "{shown}");
    place.run(&["apply", "--tweak", "memory/large-file-cache", "--yes"]).ok();
    let inspected = place.run(&["inspect"]).ok().out;
    assert!(
        inspected.contains("In force, and memory/large-file-cache was measured"),
        "{inspected}"
    );
    assert!(!inspected.contains("recording/background was measured"), "{inspected}");
}

#[test]
fn tweaks_that_cannot_be_switched_back_and_forth_are_left_out_and_named() {
    let place = place();
    let said = json(&place.run(&with(&["3", "--json"])).ok());
    let names: Vec<String> = found(&said).into_iter().map(|(tweak, _)| tweak).collect();
    assert!(!names.contains(&"clean/old-files".to_owned()), "{names:?}");
    // With `--yes` nobody is asked for those for experts.
    let one = "format = 1\nname = \"one\"\npurpose = \"p\"\nscene = \"canyon-run\"\n\
               [[tweaks]]\nuse = \"clean/old-files\"\n[[tweaks]]\nuse = \"looks/menu-delay\"\n";
    place.write("one.toml", one);
    place.run(&["profile", "save", "one.toml"]).ok();
    let said = place.run(&["sift", "start", "one", "--yes"]).fails(2);
    assert!(said.err.contains("fewer than two tweaks change something"), "{}", said.err);
    assert!(said.err.contains("cleaned away"), "{}", said.err);
}

#[test]
fn a_power_cut_anywhere_is_gone_on_from_and_says_the_same() {
    let calm = place();
    calm.run(&with(&["7"])).ok();
    let expected = calm.json(&["sift", "show"]);
    let cut = place();
    cut.run(&["rehearsal", "fault", "--power-cut-after", "3"]).ok();
    let first = cut.run(&with(&["7"]));
    assert_ne!(first.code, 0);
    let mut cuts = 0;
    loop {
        cut.run(&["rehearsal", "fault", "--none"]).ok();
        if cuts < 6 {
            let after = (5 * cuts + 2).to_string();
            cut.run(&["rehearsal", "fault", "--power-cut-after", &after]).ok();
        }
        cuts += 1;
        assert!(cuts < 40);
        if cut.run(&["sift", "resume"]).code == 0 {
            break;
        }
    }
    assert!(cuts > 4, "{cuts}");
    let shown = cut.json(&["sift", "show"]);
    // What the PC gave differs after a restart more; what is concluded from what it gave does not hang on the cuts.
    assert_eq!(found(&shown), found(&expected));
    assert_eq!(shown["kept"], expected["kept"]);
}

#[test]
fn giving_up_puts_the_pc_back_and_nothing_else_is_done_meanwhile() {
    let place = place();
    let at_first = fingerprint(&place);
    place.run(&["rehearsal", "fault", "--power-cut-after", "9"]).ok();
    assert_ne!(place.run(&with(&["5"])).code, 0);
    place.run(&["rehearsal", "fault", "--none"]).ok();
    let refused = place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]);
    assert_ne!(refused.code, 0);
    let refused = place.run(&["trial", "start", "--tweak", "looks/menu-delay", "--yes"]);
    assert!(
        refused.err.contains("sift 1") || refused.err.contains("interrupted"),
        "{}",
        refused.err
    );
    let status = place.json(&["sift", "status", "--peek"]);
    assert_eq!(status["progress"], "measuring");
    place.run(&["sift", "abandon"]).ok();
    assert_eq!(fingerprint(&place), at_first);
    let shown = place.json(&["sift", "show", "1"]);
    assert_eq!((&shown["is_given_up"], &shown["verdict"]), (&true.into(), &Value::Null));
    assert!(place.json(&["evidence", "list"])["evidence"].as_array().unwrap().is_empty());
}

#[test]
fn a_budget_limits_configurations_and_one_that_fits_nothing_is_refused_with_what_is_needed() {
    let place = place();
    let said = place.run(&with(&["3", "--budget", "30min"])).fails(2);
    assert!(said.err.contains("at least"), "{}", said.err);
    assert!(said.err.contains("--budget"), "{}", said.err);
    let said = json(&place.run(&with(&["3", "--budget", "3h", "--json"])).ok());
    let most = said["most_configurations"].as_u64().unwrap();
    assert!(most < 64 && most.is_multiple_of(4), "{most}");
    assert!(said["configurations"].as_u64().unwrap() <= most + 2);
}

/// Experts' tweaks need a word each; they are on for the first time in starts of their own.
#[test]
fn a_tweak_for_experts_takes_a_word_of_its_own() {
    let place = place();
    let rows = |more: &[&str]| {
        let said = json(&place.run(&with(more)).ok());
        place.run(&["rollback", "--all", "--yes"]).ok();
        place.run(&["rehearsal", "restart"]).ok();
        found(&said).into_iter().map(|(tweak, _)| tweak).collect::<Vec<_>>()
    };
    let expert = "memory/large-file-cache";
    let is_expert = place.json(&["tweak", "show", expert])["risk"] == "expert";
    let without = rows(&["3", "--json"]);
    assert_eq!(without.contains(&expert.to_owned()), !is_expert, "{without:?}");
}
