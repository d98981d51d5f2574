//! `--json`: every command that reports gives the same data to programs, and nothing else on
//! standard output.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::collections::BTreeSet;

use common::Place;
use insta::assert_snapshot;
use serde_json::Value;

/// The names of an object's fields, and of those of objects in it, as paths.
fn shape(value: &Value) -> BTreeSet<String> {
    fn walk(value: &Value, path: &str, shape: &mut BTreeSet<String>) {
        match value {
            Value::Object(fields) => {
                for (name, field) in fields {
                    walk(field, &format!("{path}.{name}"), shape);
                }
            }
            Value::Array(items) => {
                items.iter().for_each(|item| walk(item, &format!("{path}[]"), shape));
                if items.is_empty() {
                    shape.insert(format!("{}[]", path.trim_start_matches('.')));
                }
            }
            _ => {
                shape.insert(path.trim_start_matches('.').to_owned());
            }
        }
    }
    let mut names = BTreeSet::new();
    walk(value, "", &mut names);
    names
}

fn lines(value: &Value) -> String {
    shape(value).into_iter().collect::<Vec<_>>().join("\n")
}

#[test]
fn the_program_writes_the_schemas_that_it_carries() {
    let place = Place::new();
    let folder = place.path().join("schemas");
    place.run(&["schemas", folder.to_str().unwrap()]).ok();
    let documents = |folder: &std::path::Path| -> Vec<(std::ffi::OsString, Value)> {
        let mut documents: Vec<_> = fs_err::read_dir(folder)
            .unwrap()
            .map(|entry| {
                let text = fs_err::read_to_string(entry.as_ref().unwrap().path()).unwrap();
                (entry.unwrap().file_name(), serde_json::from_str(&text).unwrap())
            })
            .collect();
        documents.sort_by(|(one, _), (other, _)| one.cmp(other));
        documents
    };
    let in_docs = std::path::Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/output");
    assert_eq!(documents(&folder), documents(&in_docs));
}

#[test]
fn plans_and_changes() {
    let place = Place::with_evening();
    assert_snapshot!(lines(&place.json(&["preview", "evening"])), @"
    by_hand[]
    changed_by_others[]
    dangers[]
    denied[]
    does_not_fit[]
    left_out[]
    measured_worse[]
    parts_left_out[]
    refusals[]
    steps[].action
    steps[].address
    steps[].after.value
    steps[].after.value.milliseconds
    steps[].after.value.plan
    steps[].after.value.registry.bytes
    steps[].after.value.registry.type
    steps[].after.value.run
    steps[].after.value.start.delayed
    steps[].after.value.start.type
    steps[].arguments.by_policy.flag
    steps[].arguments.delay_ms.whole
    steps[].arguments.other_plan.text
    steps[].arguments.plan.choice
    steps[].arguments.start.choice
    steps[].before
    steps[].before.value.milliseconds
    steps[].before.value.plan
    steps[].before.value.registry.bytes
    steps[].before.value.registry.type
    steps[].before.value.run
    steps[].before.value.start.delayed
    steps[].before.value.start.type
    steps[].reason
    steps[].reason.needed-by
    steps[].takes_effect
    steps[].tweak
    takes_effect
    title
    waiting[]
    ");
    let applied = place.json(&["apply", "evening", "--yes"]);
    assert_snapshot!(lines(&applied), @"
    by_hand[]
    change
    displays_put_back[]
    in_force_by[]
    left_out[]
    parts_left_out[]
    restore_point.made.number
    takes_effect
    title
    undo_files.copy
    undo_files.registry
    undo_files.sheet
    written
    ");
    assert_eq!(applied["written"], common::EVENING_WRITES);
    assert_snapshot!(lines(&place.json(&["snapshot", "list"])), @"
    snapshots[].id
    snapshots[].is_whole
    snapshots[].pc
    snapshots[].reason
    snapshots[].settings
    snapshots[].taken_at
    ");
    assert_snapshot!(lines(&place.json(&["rollback", "1", "--yes"])), @"
    left_in_place[]
    let_go
    refused[]
    takes_effect
    way_back.changed_by_others[]
    way_back.steps[].write.address
    way_back.steps[].write.after
    way_back.steps[].write.after.value.milliseconds
    way_back.steps[].write.after.value.plan
    way_back.steps[].write.after.value.registry.bytes
    way_back.steps[].write.after.value.registry.type
    way_back.steps[].write.after.value.run
    way_back.steps[].write.after.value.start.delayed
    way_back.steps[].write.after.value.start.type
    way_back.steps[].write.before.value
    way_back.steps[].write.before.value.milliseconds
    way_back.steps[].write.before.value.plan
    way_back.steps[].write.before.value.registry.bytes
    way_back.steps[].write.before.value.registry.type
    way_back.steps[].write.before.value.run
    way_back.steps[].write.before.value.start.delayed
    way_back.steps[].write.before.value.start.type
    written
    ");
}

#[test]
fn measurements() {
    let place = Place::new();
    let record = |state: &str| {
        place.json(&["run", "record", "--scene", "canyon-run", "--state", state, "--seconds", "2"])
    };
    assert_snapshot!(lines(&record("a")), @"
    visit.context.graphics_driver
    visit.context.graphics_memory_mib
    visit.context.waiting[]
    visit.context.windows_build
    visit.environment.after.available_memory_mib
    visit.environment.after.encoders[]
    visit.environment.after.free_gib.C:
    visit.environment.after.free_gib.D:
    visit.environment.after.parked_threads
    visit.environment.after.ping
    visit.environment.after.processes
    visit.environment.after.processor_mhz
    visit.environment.after.refresh_hz.Lumet 22S
    visit.environment.after.refresh_hz.Lumet 27Q
    visit.environment.after.services_running
    visit.environment.before.available_memory_mib
    visit.environment.before.encoders[]
    visit.environment.before.free_gib.C:
    visit.environment.before.free_gib.D:
    visit.environment.before.parked_threads
    visit.environment.before.ping
    visit.environment.before.processes
    visit.environment.before.processor_mhz
    visit.environment.before.refresh_hz.Lumet 22S
    visit.environment.before.refresh_hz.Lumet 27Q
    visit.environment.before.services_running
    visit.id
    visit.in_force.digest
    visit.in_force.uses[]
    visit.operation
    visit.pc
    visit.recorded_at
    visit.runs[].boot
    visit.runs[].conditions.detected.frame_cap
    visit.runs[].conditions.detected.pauses[]
    visit.runs[].conditions.detected.phases[]
    visit.runs[].conditions.game_version
    visit.runs[].conditions.graphics_card
    visit.runs[].conditions.is_of_host
    visit.runs[].conditions.on_battery
    visit.runs[].conditions.readings.graphics_busy_share
    visit.runs[].conditions.readings.latency.column
    visit.runs[].conditions.readings.latency.frames
    visit.runs[].conditions.readings.latency.median_ms
    visit.runs[].conditions.readings.latency.percentile_95_ms
    visit.runs[].conditions.readings.processor_busy_share
    visit.runs[].conditions.while_recording
    visit.runs[].id
    visit.runs[].is_warm_up
    visit.runs[].metrics.average_fps
    visit.runs[].metrics.frames
    visit.runs[].metrics.longest_frame_ms
    visit.runs[].metrics.low_0_1_percent_fps
    visit.runs[].metrics.low_1_percent_fps
    visit.runs[].metrics.median_fps
    visit.runs[].metrics.pacing_ms
    visit.runs[].metrics.pacing_share
    visit.runs[].metrics.seconds
    visit.runs[].metrics.slowest_0_1_percent_average_fps
    visit.runs[].metrics.slowest_1_percent_average_fps
    visit.runs[].metrics.standard_deviation_ms
    visit.runs[].metrics.stutter.events
    visit.runs[].metrics.stutter.events_per_minute
    visit.runs[].metrics.stutter.excess_share
    visit.runs[].metrics.stutter.frames
    visit.runs[].metrics.time_weighted_low_1_percent_fps
    visit.runs[].run_since_boot
    visit.runs[].source
    visit.runs[].was_waiting
    visit.scene
    visit.state_name
    visit.status
    ");
    for state in ["b", "a", "b", "a", "b", "a", "b"] {
        record(state);
    }
    assert_snapshot!(lines(&place.json(&["compare", "a", "b"])), @"
    a
    around_a[].after.available_memory_mib
    around_a[].after.encoders[]
    around_a[].after.free_gib.C:
    around_a[].after.free_gib.D:
    around_a[].after.parked_threads
    around_a[].after.ping
    around_a[].after.processes
    around_a[].after.processor_mhz
    around_a[].after.refresh_hz.Lumet 22S
    around_a[].after.refresh_hz.Lumet 27Q
    around_a[].after.services_running
    around_a[].before.available_memory_mib
    around_a[].before.encoders[]
    around_a[].before.free_gib.C:
    around_a[].before.free_gib.D:
    around_a[].before.parked_threads
    around_a[].before.ping
    around_a[].before.processes
    around_a[].before.processor_mhz
    around_a[].before.refresh_hz.Lumet 22S
    around_a[].before.refresh_hz.Lumet 27Q
    around_a[].before.services_running
    around_b[].after.available_memory_mib
    around_b[].after.encoders[]
    around_b[].after.free_gib.C:
    around_b[].after.free_gib.D:
    around_b[].after.parked_threads
    around_b[].after.ping
    around_b[].after.processes
    around_b[].after.processor_mhz
    around_b[].after.refresh_hz.Lumet 22S
    around_b[].after.refresh_hz.Lumet 27Q
    around_b[].after.services_running
    around_b[].before.available_memory_mib
    around_b[].before.encoders[]
    around_b[].before.free_gib.C:
    around_b[].before.free_gib.D:
    around_b[].before.parked_threads
    around_b[].before.ping
    around_b[].before.processes
    around_b[].before.processor_mhz
    around_b[].before.refresh_hz.Lumet 22S
    around_b[].before.refresh_hz.Lumet 27Q
    around_b[].before.services_running
    b
    cautions[].caution
    findings[].a_fps
    findings[].b_fps
    findings[].decided_after_pairs
    findings[].decision
    findings[].difference.estimate
    findings[].difference.high
    findings[].difference.low
    findings[].margin
    findings[].primary
    guards[].difference.estimate
    guards[].difference.high
    guards[].difference.low
    guards[].guard
    guards[].state
    guards[].vetoed_after_pairs
    is_finished
    limit_a.busy_share
    limit_a.limited_by
    limit_b.busy_share
    limit_b.limited_by
    pair_limit
    pairs
    pairs_after_verdict
    pairs_are_of
    scene
    verdict
    visits[][]
    ");
    assert_snapshot!(lines(&place.json(&["scene", "list"])), @"
    on_this_pc[].game
    on_this_pc[].graphics
    on_this_pc[].name
    on_this_pc[].resolution
    on_this_pc[].route
    scenes[].game
    scenes[].graphics
    scenes[].name
    scenes[].resolution
    scenes[].route
    ");
}

#[test]
fn numbers_mean_the_same_in_words_and_in_json() {
    let place = Place::new();
    let record = ["run", "record", "--scene", "canyon-run", "--state", "a", "--seconds", "5"];
    place.run(&record).ok();
    let json = place.json(&["run", "show", "2"]);
    let words = place.run(&["run", "show", "2"]).ok().out;
    for (figure, label) in [
        ("average_fps", "average FPS"),
        ("low_1_percent_fps", "1% low FPS"),
        ("median_fps", "median FPS"),
        ("time_weighted_low_1_percent_fps", "1% low by time"),
    ] {
        let number = json["metrics"][figure].as_f64().unwrap();
        let line = words.lines().find(|line| line.trim_start().starts_with(label)).unwrap();
        assert!(line.contains(&format!("{number:.1}")), "{line} lacks {number:.1}");
    }
}

#[test]
fn a_failure_is_json_too_and_the_exit_code_is_the_same() {
    let place = Place::with_evening();
    for args in [
        &["preview", "nothing"][..],
        &["apply", "evening"],
        &["inspect", "--pc", "nowhere"],
        &["tweak", "show", "a/b"],
        &["compare", "a", "b"],
    ] {
        let words = place.run(args);
        let json = place.json(args);
        assert_eq!(json["error"]["exit_code"], words.code, "{args:?}");
        let message = json["error"]["message"].as_str().unwrap();
        assert!(words.err.contains(message), "{args:?}: {}", words.err);
        assert!(words.out.is_empty(), "{args:?}: {}", words.out);
    }
}

#[test]
fn completions_are_printed_for_every_shell() {
    let place = Place::empty();
    for shell in ["bash", "zsh", "fish", "powershell", "elvish"] {
        let said = place.run(&["completions", shell]).ok();
        assert!(said.out.contains("frevin"), "{shell}");
    }
}

#[test]
fn help_is_there_for_every_command_and_says_what_it_does() {
    let place = Place::empty();
    let said = place.run(&["--help"]).ok();
    for command in [
        "demo",
        "inspect",
        "tweak",
        "profile",
        "preview",
        "apply",
        "rollback",
        "recover",
        "report",
        "snapshot",
        "drift",
        "scene",
        "run",
        "compare",
        "rehearsal",
    ] {
        let line = said.out.lines().find(|line| line.trim_start().starts_with(command));
        let line = line.unwrap_or_else(|| panic!("{command} is missing of\n{}", said.out));
        assert!(line.split_whitespace().count() > 3, "{line}");
        assert!(place.run(&[command, "--help"]).ok().out.contains("Usage:"));
    }
}
