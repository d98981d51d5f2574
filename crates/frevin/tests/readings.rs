//! What is read beside frames: latency, how busy what was, what limits the frames, who records.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

/// An effect of a tweak of looks, which acts at once, on latency alone.
const SHORTER: &str = r#"
[[effects]]
name = "Menus open at once"
reads = { delay = 'visual:menu-delay' }
when = "delay == 0"
latency = 0.9
"#;

const TRIAL: [&str; 8] =
    ["trial", "start", "--tweak", "looks/menu-delay", "--scene", "canyon-run", "--yes", "--seed"];

fn with<'a>(more: &[&'a str]) -> Vec<&'a str> {
    TRIAL.iter().chain(more).copied().collect()
}

/// A place whose PC answers sooner with menus that open at once.
fn place() -> Place {
    let place = Place::new();
    let model = place.pc().join("model.toml");
    let text = fs_err::read_to_string(&model).unwrap();
    fs_err::write(model, text + SHORTER).unwrap();
    place
}

#[test]
fn latency_is_judged_where_it_is_told() {
    let place = place();
    let said = place.run(&with(&["1", "--judge", "latency", "--set", "delay_ms=0"])).ok();
    assert_snapshot!(said.out);
    let shown = place.json(&["trial", "show"]);
    assert_eq!((&shown["verdict"], &shown["kept"]), (&"better".into(), &true.into()));
    assert_eq!(shown["findings"][0]["primary"], "latency-median");
    let (a, b) = (&shown["findings"][0]["a_ms"], &shown["findings"][0]["b_ms"]);
    assert!((b.as_f64().unwrap() / a.as_f64().unwrap() - 0.9).abs() < 0.01, "{a} {b}");
}

#[test]
fn latency_guards_frame_rate() {
    let place = place();
    place.run(&["apply", "--tweak", "looks/menu-delay", "--set", "delay_ms=0", "--yes"]).ok();
    // Leaving it out makes frames answer later, and changes nothing else.
    let without = ["--without", "looks/menu-delay", "--scene", "canyon-run", "--seed", "1"];
    let said = place.run(&[&["trial", "start", "--yes"][..], &without].concat()).fails(1);
    assert!(said.out.contains("latency +11"), "{}", said.out);
    let shown = place.json(&["trial", "show"]);
    assert_eq!(shown["reason"], "longer-latency");
    assert_eq!(shown["kept"], false);
}

#[test]
fn where_nothing_tells_latency_it_is_said_and_what_would() {
    let place = Place::empty();
    place.run(&["rehearsal", "new", "pc", "--like", "old-pc"]).ok();
    let at_first = place.json(&["rehearsal", "show"])["fingerprint"].clone();
    let said = place.run(&with(&["1", "--judge", "latency"])).fails(4);
    assert!(said.err.contains("tells no latency"), "{}", said.err);
    assert!(said.err.contains("a column of latency"), "{}", said.err);
    place.run(&["trial", "abandon"]).ok();
    assert_eq!(place.json(&["rehearsal", "show"])["fingerprint"], at_first);
}

/// A log of so many frames with the columns that some programs write.
fn log(latency: &str, frame_ms: f64, latency_ms: f64, busy_ms: f64) -> String {
    let rows = (0..600).map(|row| {
        let odd = f64::from(row % 7) / 10.0;
        format!("{},{},{}\n", frame_ms + odd, latency_ms + odd, busy_ms + odd)
    });
    format!("Frame time (ms),{latency} (ms),GPU busy (ms)\n{}", rows.collect::<String>())
}

#[test]
fn columns_of_a_log_are_told_and_say_what_limits_the_frames() {
    let place = Place::new();
    place.add_mill();
    place.write("a.csv", log("Display latency", 10.0, 31.0, 9.8));
    place.write("b.csv", log("Display latency", 12.0, 33.0, 6.0));
    place.write("c.csv", log("Click latency", 12.5, 50.0, 6.0));
    let import = |file: &str, state: &str| {
        place.run(&["run", "import", file, "--scene", "mill", "--state", state]).ok();
    };
    import("a.csv", "before");
    import("b.csv", "after");
    let shown = place.run(&["run", "show", "1"]).ok().out;
    assert!(shown.contains("The graphics card limits the frames: it is busy 98 %"), "{shown}");
    assert!(shown.contains("31.30 ms  `Display latency (ms)`, of 600 frames"), "{shown}");
    let json = place.json(&["run", "show", "2"]);
    assert_eq!(json["limit"]["limited_by"], "not-graphics-card");
    let compared = place.json(&["compare", "before", "after"]);
    assert_eq!(compared["limit_a"]["limited_by"], "graphics-card");
    let guards = |compared: &serde_json::Value| compared["guards"].to_string();
    assert!(guards(&compared).contains("latency"), "{compared}");
    import("c.csv", "other");
    let compared = place.run(&["compare", "before", "other"]).ok();
    assert!(compared.out.contains("columns of several names"), "{}", compared.out);
    assert!(!compared.out.contains("guard: latency"), "{}", compared.out);
}

#[test]
fn a_recorder_that_runs_is_noticed_and_services_are_looked_at() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "services/prefetch", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    let record = |state: &str| {
        let scene = ["--scene", "canyon-run", "--state", state, "--runs", "1"];
        place.run(&[&["run", "record"][..], &scene].concat()).ok().out
    };
    let calm = record("calm");
    assert!(!calm.contains("recorder"), "{calm}");
    assert!(calm.contains("SysMain runs"), "{calm}");
    place.run(&["rehearsal", "fault", "--recorder", "grab.exe"]).ok();
    let recorded = record("calm");
    assert!(recorded.contains("a recorder runs"), "{recorded}");
    assert!(recorded.contains("While a video was recorded"), "{recorded}");
    let inspected = place.run(&["inspect"]).ok().out;
    assert!(inspected.contains("In canyon-run: The processor limits the frames"), "{inspected}");
}
