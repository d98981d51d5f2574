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

/// A tweak for experts needs a word of its own, and is on for the first time in a start of its own.
#[test]
fn a_tweak_for_experts_takes_a_word_of_its_own() {
    const EXPERT: &str = "boot/platform-tick";
    let place = Place::new();
    assert_eq!(place.json(&["tweak", "show", EXPERT])["risk"], "expert");
    place.write("advice.toml", ADVICE.replace("boot/dynamic-tick", EXPERT));
    place.run(&["profile", "save", "advice.toml"]).ok();
    let boots = || place.json(&["rehearsal", "show"])["clock"]["boots"].as_u64().unwrap();
    let sifted = |more: &[&str]| {
        let before = boots();
        let said = json(&place.run(&with(more)).ok());
        let trial = place.json(&["trial", "show"]);
        let pairs = trial["pairs"].as_u64().unwrap();
        let starts = boots() - before - 2 * pairs;
        place.run(&["rollback", "--all", "--yes"]).ok();
        place.run(&["rehearsal", "restart"]).ok();
        let is_sifted = found(&said).iter().any(|(tweak, _)| tweak == EXPERT);
        (is_sifted, starts - said["configurations"].as_u64().unwrap())
    };
    assert_eq!(sifted(&["3", "--json"]), (false, 0), "a word for everything is none for it");
    assert_eq!(sifted(&["3", "--json", "--expert", EXPERT]), (true, 1));
}

#[test]
fn giving_up_while_what_helps_is_tried_gives_up_the_trial_too() {
    let place = place();
    let at_first = fingerprint(&place);
    let cut = |after: &str, command: &[&str]| {
        place.run(&["rehearsal", "fault", "--power-cut-after", after]).ok();
        assert_ne!(place.run(command).code, 0, "it ended before it was cut off");
        place.run(&["rehearsal", "fault", "--none"]).ok();
        place.json(&["sift", "status"])["progress"].clone()
    };
    let mut progress = cut("6", &with(&["3"]));
    for _ in 0..60 {
        if progress == "in-trial" {
            break;
        }
        // More than one switch writes, or what is undone each time would be all that is ever done.
        progress = cut("20", &["sift", "resume"]);
    }
    assert_eq!(progress, "in-trial");
    place.run(&["sift", "abandon"]).ok();
    assert_eq!(fingerprint(&place), at_first);
    let shown = place.json(&["sift", "show"]);
    assert_eq!((&shown["progress"], &shown["kept"]), (&"ended".into(), &false.into()));
    assert_eq!(shown["reason"], "abandoned");
    assert_eq!(place.json(&["trial", "show"])["reason"], "abandoned");
    // What the sift itself had found stands.
    assert!(!found(&shown).is_empty());
}

/// Own tweaks of one value each: two that exclude each other, and one that needs another.
fn own_tweaks(place: &Place) {
    for (name, value, more) in [
        ("one", 1, "conflicts = [\"knob/two\"]\n"),
        ("two", 2, ""),
        ("three", 3, "needs = [\"knob/four\"]\n"),
        ("four", 4, ""),
    ] {
        let text = format!(
            "id = \"knob/{name}\"\ntitle = \"Turn knob {name}\"\nwhat = \"Turns it.\"\nwhy = \"Somebody said so.\"\n\
             may_break = \"Nothing.\"\nstanding = \"contested\"\nstanding_reason = \"Nobody knows.\"\n\
             risk = \"safe\"\ntakes_effect = \"now\"\n{more}\n[[settings]]\n\
             address = 'registry:HKCU\\Software\\Knobs#{name}'\ntype = \"dword\"\nvalue = {value}\n\n\
             [[sources]]\ntitle = \"None\"\nstates = \"None.\"\n"
        );
        fs_err::create_dir_all(place.path().join("home").join("tweaks/knob")).unwrap();
        fs_err::write(place.path().join("home").join(format!("tweaks/knob/{name}.toml")), text)
            .unwrap();
    }
    let uses: String = ["one", "two", "three", "four"]
        .map(|name| format!("\n[[tweaks]]\nuse = \"knob/{name}\"\n"))
        .concat();
    let head = "format = 1\nname = \"knobs\"\npurpose = \"p\"\nscene = \"canyon-run\"\n";
    place.write("knobs.toml", head.to_owned() + &uses);
    place.run(&["profile", "save", "knobs.toml"]).ok();
}

#[test]
fn what_excludes_each_other_is_never_on_together_and_needs_are_met() {
    let place = Place::new();
    own_tweaks(&place);
    let effect = "\n[[effects]]\nname = \"Three\"\nreads = { three = 'registry:HKCU\\Software\\Knobs#three' }\n\
                  when = \"three == 3\"\nframe_time = 0.95\n";
    let model = place.pc().join("model.toml");
    let text = fs_err::read_to_string(&model).unwrap();
    fs_err::write(model, text + effect).unwrap();
    let boots = || place.json(&["rehearsal", "show"])["clock"]["boots"].as_u64().unwrap();
    let before = boots();
    let start = ["sift", "start", "knobs", "--yes", "--seed", "2", "--runs-per-restart", "2"];
    let sift = json(&place.run(&[&start[..], &["--json"]].concat()).ok());
    assert_eq!(boots(), before, "every tweak acts at once, so nothing restarts");
    assert_eq!(sift["restarts"], false);
    let found = found(&sift);
    assert!(found.contains(&("knob/three".into(), "helps".into())), "{found:?}");
    assert!(found.contains(&("knob/one".into(), "no-effect".into())), "{found:?}");
    // What helped comes with what it needs.
    let helped: Vec<&str> = sift["helped"]
        .as_array()
        .unwrap()
        .iter()
        .map(|one| one["tweak"].as_str().unwrap())
        .collect();
    assert_eq!(helped, ["knob/three", "knob/four"]);
    let registry = fs_err::read_to_string(place.pc().join("settings/registry.json")).unwrap();
    assert!(registry.contains("Knobs") && !registry.contains("\"one\""), "{registry}");
    // Each configuration was one change, in which one and two were never together.
    for change in place.json(&["rollback", "--list"])["changes"].as_array().unwrap() {
        let steps = change["steps"].as_array().unwrap().iter();
        let wanted: Vec<&str> = steps
            .filter(|step| step["reason"] == "wanted")
            .map(|step| step["tweak"].as_str().unwrap())
            .collect();
        assert!(!(wanted.contains(&"knob/one") && wanted.contains(&"knob/two")), "{wanted:?}");
        assert!(!wanted.contains(&"knob/three") || wanted.contains(&"knob/four"), "{wanted:?}");
    }
    // What one sift has seen of the noise is known to the next.
    place.run(&["rollback", "--all", "--yes"]).ok();
    let again = json(&place.run(&[&start[..], &["--json"]].concat()).ok());
    assert_eq!((&sift["with_history"], &again["with_history"]), (&false.into(), &true.into()));
    let evidence = place.json(&["evidence", "list", "--scene", "canyon-run"]);
    assert_eq!(evidence["evidence"].as_array().unwrap().len(), 8);
    // Own tweaks are nothing to others.
    let said = place.run(&["evidence", "export", "own.csv"]).fails(3);
    assert!(said.err.contains("a tweak of your own"), "{}", said.err);
}

#[test]
fn a_second_process_sees_how_far_a_sift_is_and_cannot_drive_it_too() {
    let place = place();
    place.run(&["rehearsal", "fault", "--power-cut-after", "12"]).ok();
    assert_ne!(place.run(&with(&["5"])).code, 0);
    place.run(&["rehearsal", "fault", "--none"]).ok();
    let home = place.path().join("home").join("trial.lock");
    let held = fs_err::OpenOptions::new().write(true).open(home).unwrap();
    held.file().lock().unwrap();
    let refused = place.run(&["sift", "resume"]);
    assert!(refused.err.contains("another Frevin is driving"), "{}", refused.err);
    assert_eq!(place.json(&["sift", "status"])["progress"], "measuring");
    assert!(place.run(&["sift", "status"]).ok().out.contains("`frevin sift resume`"));
    drop(held);
    place.run(&["sift", "resume"]).ok();
    assert_eq!(place.json(&["sift", "list"])["sifts"][0]["progress"], "ended");
}
