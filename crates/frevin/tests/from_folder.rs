//! Runs that no rehearsal PC records: logs that another program writes while Frevin waits for them,
//! and the test loop.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::io::Write as _;
use std::process::Stdio;
use std::time::Duration;

use common::Place;

/// Writes a log as a recorder does: its heading at once, its frames bit by bit.
fn record(path: &std::path::Path, frames: usize) {
    let mut file = fs_err::File::create(path).unwrap();
    writeln!(file, "frame,frame time (ms)").unwrap();
    for part in 0..4 {
        for frame in 0..frames / 4 {
            writeln!(file, "{},{}", part * frames / 4 + frame, 10 + frame % 5).unwrap();
        }
        file.flush().unwrap();
        std::thread::sleep(Duration::from_millis(300));
    }
}

#[test]
fn logs_are_taken_when_they_are_finished_and_not_before() {
    let place = Place::new();
    place.add_mill();
    let logs = place.path().join("logs");
    fs_err::create_dir(&logs).unwrap();
    fs_err::write(logs.join("yesterday.csv"), "ms\n5\n5\n5\n5\n").unwrap();
    let folder = logs.display().to_string();
    let arguments = [
        "run",
        "record",
        "--scene",
        "mill",
        "--state",
        "before",
        "--from-folder",
        &folder,
        "--runs",
        "1",
        "--warm-up",
        "1",
        "--unchanged-for",
        "1",
        "--give-up-after",
        "60",
        "--json",
    ];
    let mut command = place.command(&arguments);
    let waiting = command.stdout(Stdio::piped()).stderr(Stdio::piped()).spawn().unwrap();
    std::thread::sleep(Duration::from_millis(500));
    fs_err::write(logs.join("notes.txt"), "remember the milk\n").unwrap();
    record(&logs.join("first.csv"), 400);
    record(&logs.join("second.csv"), 800);
    let output = waiting.wait_with_output().unwrap();
    let said = String::from_utf8(output.stdout).unwrap();
    assert!(output.status.success(), "{said}{}", String::from_utf8_lossy(&output.stderr));
    let report: serde_json::Value = serde_json::from_str(&said).unwrap();
    let runs = report["visit"]["runs"].as_array().unwrap();
    let frames: Vec<_> =
        runs.iter().map(|run| run["metrics"]["frames"].as_u64().unwrap()).collect();
    assert_eq!(frames, [400, 800], "all of each log, and none of what lay there");
    let warm_up: Vec<_> = runs.iter().map(|run| run["is_warm_up"].as_bool().unwrap()).collect();
    assert_eq!(warm_up, [true, false]);
    assert!(report["passed_over"][0].as_str().unwrap().contains("notes.txt"), "{report}");
    assert!(report["visit"]["pc"].is_string(), "the PC that is meant is told: {report}");
}

#[test]
fn waiting_has_an_end() {
    let place = Place::new();
    place.add_mill();
    let folder = place.path().display().to_string();
    let record = ["run", "record", "--scene", "mill", "--state", "before", "--from-folder"];
    let said = place.run(&[&record[..], &[&folder, "--give-up-after", "0"]].concat()).fails(11);
    assert!(said.err.contains("0 finished logs came within 0 s"), "{}", said.err);
    let said = place.run(&[&record[..], &["nowhere"]].concat()).fails(3);
    assert!(said.err.contains("cannot be watched"), "{}", said.err);
}

#[test]
fn the_test_loop_is_a_real_measurement_and_a_scene_of_its_own() {
    let place = Place::new();
    let record = ["run", "record", "--test-loop", "--runs", "2", "--seconds", "1", "--state"];
    for state in ["before", "after"] {
        let visit = place.json(&[&record[..], &[state]].concat())["visit"].clone();
        assert_eq!(visit["scene"], "test-loop");
        let runs = visit["runs"].as_array().unwrap();
        assert_eq!(runs.len(), 2);
        for run in runs {
            assert_eq!(run["source"], "test-loop");
            // It is paced: a slow PC shows fewer frames, none shows more.
            let frames = run["metrics"]["frames"].as_u64().unwrap();
            assert!((1..=125).contains(&frames), "{run}");
        }
    }
    let run = place.json(&["run", "export", "1", "--format", "jsonl", "--file", "frames.jsonl"]);
    assert_eq!(run["run"], 1);
    let compared = place.run(&["compare", "before", "after", "--scene", "test-loop", "--json"]);
    let found: serde_json::Value = serde_json::from_str(&compared.out).unwrap();
    assert_eq!(found["pairs"], 1, "{found}");
    assert_eq!(compared.code, 0, "one pair decides nothing: {}", compared.err);
    let usage = place.run(&["run", "record", "--test-loop", "--scene", "mill", "--state", "x"]);
    assert_eq!(usage.code, 2, "{}", usage.err);
}
