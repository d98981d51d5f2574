//! Evidence: contradicted, aged, sent out with nothing private, pooled over PCs.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

const TRIAL: [&str; 6] = ["trial", "start", "--scene", "canyon-run", "--yes", "--tweak"];

fn try_out(place: &Place, tweak: &str, seed: &str) {
    let trial = [&TRIAL[..], &[tweak, "--seed", seed]].concat();
    assert!(place.run(&trial).code <= 1);
}

#[test]
fn a_trial_of_one_tweak_is_evidence_and_ages_with_the_pc() {
    let place = Place::new();
    try_out(&place, "memory/large-file-cache", "1");
    let list = place.json(&["evidence", "list"]);
    let one = &list["evidence"][0];
    assert_eq!((&one["finding"], &one["origin"]), (&"hurts".into(), &"trial".into()));
    assert!(one["standard_error"].as_f64().unwrap() > 0.0);
    assert!(one["aged"].as_array().unwrap().is_empty());
    // Another driver.
    let facts = place.pc().join("facts.toml");
    let text = fs_err::read_to_string(&facts).unwrap();
    let driver = place.json(&["inspect"])["facts"]["graphics"][0]["driver_version"].clone();
    assert!(text.contains(driver.as_str().unwrap()), "{text}");
    fs_err::write(&facts, text.replace(driver.as_str().unwrap(), "9.99")).unwrap();
    let shown = place.run(&["evidence", "show", "memory/large-file-cache"]).ok().out;
    assert!(shown.contains("another graphics driver since then"), "{shown}");
    assert!(
        shown.contains("frevin trial start --tweak memory/large-file-cache --scene"),
        "{shown}"
    );
}

#[test]
fn visits_of_ones_own_to_two_states_are_evidence_once_they_decide() {
    let place = Place::new();
    let record = |state: &str| {
        place.run(&["run", "record", "--scene", "canyon-run", "--state", state]).ok();
    };
    for _ in 0..4 {
        assert!(place.json(&["evidence", "list"])["evidence"].as_array().unwrap().is_empty());
        record("before");
        place.run(&["apply", "--tweak", "memory/large-file-cache", "--yes"]).ok();
        place.run(&["rehearsal", "restart"]).ok();
        record("after");
        place.run(&["rollback", "--all", "--yes"]).ok();
        place.run(&["rehearsal", "restart"]).ok();
    }
    let list = place.json(&["evidence", "list"]);
    let one = &list["evidence"][0];
    assert_eq!((&one["origin"], &one["finding"]), (&"comparison".into(), &"hurts".into()));
    assert_eq!(list["evidence"].as_array().unwrap().len(), 1);
}

#[test]
fn what_contradicts_is_shown_and_not_averaged() {
    let place = Place::new();
    try_out(&place, "memory/large-file-cache", "1");
    // The same tweak on the same PC does the opposite from now on.
    let model = place.pc().join("model.toml");
    let text = fs_err::read_to_string(&model).unwrap();
    let at = text.find("The file cache pushes the game out").unwrap();
    let (before, after) = text.split_at(at);
    let end = after.find("[[effects]]").unwrap_or(after.len());
    let (own, others) = after.split_at(end);
    let factors = ["frame_time", "stutters", "slow_frames"];
    let kept = own.lines().filter(|line| !factors.iter().any(|factor| line.starts_with(factor)));
    let own = kept.collect::<Vec<_>>().join("\n") + "\nframe_time = 0.9\n\n";
    fs_err::write(&model, format!("{before}{own}{others}")).unwrap();
    try_out(&place, "memory/large-file-cache", "2");
    let list = place.run(&["evidence", "list"]).ok().out;
    assert_eq!(list.matches("Contradicted").count(), 2, "{list}");
}

#[test]
fn evidence_goes_out_without_anything_private_and_comes_in_once() {
    let place = Place::new();
    try_out(&place, "memory/large-file-cache", "1");
    let id = place.json(&["inspect"])["pc"]["id"].as_str().unwrap().to_owned();
    for format in ["csv", "json", "parquet"] {
        let file = format!("e.{format}");
        place.run(&["evidence", "export", &file]).ok();
        let bytes = fs_err::read(place.path().join(&file)).unwrap();
        let text = String::from_utf8_lossy(&bytes);
        assert!(!text.contains(&id) && !text.contains("Test desktop"), "{text}");
    }
    let text = fs_err::read_to_string(place.path().join("e.csv")).unwrap();
    let heading = text.lines().next().unwrap();
    assert_snapshot!(heading);
    let files = ["evidence", "import", "e.csv", "e.json", "e.parquet"];
    let imported = place.json(&files);
    assert_eq!((&imported["rows"], &imported["new"]), (&3.into(), &1.into()));
    // A file that is there stays as it is.
    place.run(&["evidence", "export", "e.csv"]).fails(4);
}

/// Six PCs of the reference, and one more with other arguments.
fn six() -> String {
    let heading = "pc,tweak,arguments,metric,game,graphics,resolution,origin,date,windows_build,\
                   graphics_driver,game_version,finding,ln_ratio,standard_error\n";
    let y = [0.021, 0.034, -0.002, 0.015, 0.041, 0.008];
    let se = [0.004, 0.006, 0.005, 0.003, 0.009, 0.006];
    let row = |(pc, (y, se)): (usize, (&f64, &f64))| {
        format!(
            "pc-{pc},power/active-plan,{{}},average-fps,Gorsehollow Riders,high,1920x1080,trial,\
             2026-03-01,26100,,,helps,{y},{se}\n"
        )
    };
    heading.to_owned() + &y.iter().zip(&se).enumerate().map(row).collect::<String>()
}

#[test]
fn several_pcs_are_pooled_as_the_reference_has_them() {
    let place = Place::empty();
    place.write("six.csv", six());
    let said = place.run(&["evidence", "pool", "six.csv"]).ok();
    assert_snapshot!(said.out);
    let pooled = place.json(&["evidence", "pool", "six.csv"])["tweaks"][0].clone();
    let close = |value: &serde_json::Value, expected: f64| {
        let value = value.as_f64().unwrap();
        assert!((value - expected).abs() < 1e-6, "{value} is not {expected}");
    };
    close(&pooled["pooled"]["mean"], 0.018_726_3);
    close(&pooled["pooled"]["prediction"][0], -0.025_382_7);
    close(&pooled["pooled"]["prediction"][1], 0.062_835_3);
    assert_eq!((&pooled["pcs"], &pooled["worse"]), (&6.into(), &1.into()));
    fs_err::create_dir(place.path().join("many")).unwrap();
    fs_err::copy(place.path().join("six.csv"), place.path().join("many/a.csv")).unwrap();
    let folder = place.json(&["evidence", "pool", "many"]);
    assert_eq!(folder["tweaks"][0]["pooled"], pooled["pooled"]);
}

#[test]
fn strangers_rows_that_are_no_evidence_are_refused_with_their_place() {
    let place = Place::empty();
    for (bad, says) in [
        (six().replace("helps,0.041", "helps,nan"), "row 5"),
        (six().replace("power/active-plan", "rm -rf"), "no tweak's name"),
        (six().replace(",standard_error", ",error"), "standard_error"),
        ("[{}]".to_owned(), "missing field"),
        ("PAR1 and then nothing".to_owned(), "arquet"),
        (String::new(), "there is no evidence"),
    ] {
        place.write("bad.csv", &bad);
        let said = place.run(&["evidence", "pool", "bad.csv"]);
        assert_ne!(said.code, 0, "{bad}");
        assert!(said.err.contains(says), "{bad}: {}", said.err);
    }
}
