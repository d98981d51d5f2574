//! Play: what is held of processes, around the game, and what is recorded of it.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;
#[path = "common/playing.rs"]
mod playing;

use std::process::{Child, Command, Stdio};
use std::time::Duration;

use common::Place;
use playing::{begun, id_of_game, kill, runs, wait_for};
use serde_json::Value;

/// A program that takes all of a processor, named as nothing else is.
struct Busy(Child);

impl Busy {
    fn begin(place: &Place) -> Self {
        let program = place.path().join("compressor");
        fs_err::copy("/bin/sh", &program).unwrap();
        let mut command = Command::new(program);
        command.args(["-c", "while :; do :; done"]).stdin(Stdio::null());
        Self(command.spawn().unwrap())
    }
}

impl Drop for Busy {
    fn drop(&mut self) {
        let _ = self.0.kill();
        let _ = self.0.wait();
    }
}

fn nice(id: u32) -> i64 {
    let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap();
    stat.rsplit_once(')').unwrap().1.split_whitespace().nth(16).unwrap().parse().unwrap()
}

fn processors(id: u32) -> String {
    let status = std::fs::read_to_string(format!("/proc/{id}/status")).unwrap();
    let line = status.lines().find(|line| line.starts_with("Cpus_allowed_list")).unwrap();
    line.split_whitespace().last().unwrap().to_owned()
}

fn events(place: &Place, kind: &str) -> Vec<Value> {
    let play = place.json(&["play", "show"]);
    let events = play["events"].as_array().unwrap().iter();
    events.filter(|event| event["event"] == kind).cloned().collect()
}

#[test]
fn a_game_that_goes_on_has_again_what_it_had() {
    let place = Place::new();
    let held = ["--program", "/bin/sleep", "--processors", "0", "--", "30"];
    let own = processors(std::process::id());
    // However it ends: by its owner's word, and with its watcher killed.
    for kills in [false, true] {
        let mut child = begun(&place, &held);
        let game = id_of_game(&wait_for(&place, "the game runs", runs));
        assert_eq!(processors(game), "0");
        if kills {
            let watcher = parent(game);
            child.kill().unwrap();
            kill(watcher);
            // Any command settles it.
            place.run(&["inspect"]).ok();
        } else {
            place.run(&["play", "stop"]).ok();
        }
        child.wait().unwrap();
        assert_eq!(processors(game), own, "killed: {kills}");
        assert_eq!(events(&place, "put-back").len(), 1);
        kill(game);
    }
}

fn parent(id: u32) -> u32 {
    let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap();
    stat.rsplit_once(')').unwrap().1.split_whitespace().nth(1).unwrap().parse().unwrap()
}

#[test]
fn another_program_that_takes_too_much_is_lowered_and_put_back() {
    let place = Place::new();
    let busy = Busy::begin(&place);
    let id = busy.0.id();
    let before = nice(id);
    let rule = ["--program", "/bin/sleep", "--lower-others", "5:1", "--", "60"];
    let mut child = begun(&place, &rule);
    wait_for(&place, "the game runs", runs);
    if !rustix::process::geteuid().is_root() {
        // Who may not raise a priority could not put it back: nothing is lowered.
        let status = wait_for(&place, "it is told", |status| status["problems"][0].is_string());
        assert!(status["problems"][0].as_str().unwrap().contains("could not put them back"));
    } else {
        wait_for(&place, "it is lowered", |_| nice(id) == 5);
        let lowered = events(&place, "lowered");
        assert!(lowered.iter().any(|one| one["file"] == "compressor"), "{lowered:?}");
    }
    // The watcher is killed: the next command puts it back.
    let game = id_of_game(&place.json(&["play", "status"]));
    kill(parent(game));
    child.kill().unwrap();
    child.wait().unwrap();
    place.run(&["inspect"]).ok();
    assert_eq!(nice(id), before);
    kill(game);
}

#[test]
fn standby_memory_is_given_back_by_a_formula_and_not_too_often() {
    let place = Place::new();
    // The rehearsal PC has 45 % on standby at first and little free; after a purge nothing is due.
    let rule = [
        "--program",
        "/bin/sleep",
        "--timer-ms",
        "0.5",
        "--purge-below",
        "facts.memory.size_mib / 8",
        "--purge-above",
        "facts.memory.size_mib / 4",
        "--",
        "4",
    ];
    let said = place.run(&[&["--yes", "play"][..], &rule].concat()).ok();
    assert!(said.out.contains("Standby memory was given back 1 time"), "{}", said.out);
    let purged = events(&place, "purged");
    let free = |when: &str| purged[0][when]["free_mib"].as_u64().unwrap();
    assert!(purged.len() == 1 && free("after") > free("before") + 4096, "{purged:?}");
    let timer = events(&place, "timer");
    assert_eq!(
        (&timer[0]["granted_ms"], &timer[0]["counts_for_all"]),
        (&0.5.into(), &false.into())
    );
    for bad in [
        &["--purge-below", "facts.memory.sise_mib"][..],
        &["--purge-below", "'much'"],
        &["--timer-ms", "0.1"],
        &["--lower-others", "120"],
        &["--purge-above", "5"],
    ] {
        place.run(&[&["--yes", "play", "--program", "/bin/sleep"][..], bad].concat()).fails(2);
    }
}

#[test]
fn frames_of_ordinary_play_are_recorded_and_kept_apart_from_scenes() {
    let place = Place::new();
    let before = place.pc_files();
    let plan = ["--tweak", "power/active-plan"];
    for _ in 0..2 {
        let play = ["--yes", "play", "canyon-run", "--seconds", "2", "--record"];
        place.run(&[&play[..], &plan].concat()).ok();
    }
    assert!(place.pc_files() == before);
    let play = place.json(&["play", "show"]);
    let visit = &play["visit"];
    assert_eq!((&visit["scene"], &visit["of_play"]), (&"play-canyon-run".into(), &play["id"]));
    // What was held was in force while it was recorded.
    assert_eq!(visit["in_force"]["uses"][0]["tweak"], "power/active-plan", "{visit}");
    let shown = place.run(&["play", "show"]).ok().out;
    assert!(shown.contains("in ordinary play") && shown.contains("1% low"), "{shown}");
    let compared = place.run(&["compare", "play-1", "play-2"]).fails(2);
    assert!(compared.err.contains("never the same twice"), "{}", compared.err);
    assert_eq!(place.json(&["evidence", "list"])["evidence"].as_array().unwrap().len(), 0);
}

#[test]
fn a_log_that_another_program_adds_to_is_recorded_while_it_is_played() {
    use std::io::Write as _;
    let place = Place::new();
    let log = place.path().join("session.csv");
    fs_err::write(&log, "frame_ms\n").unwrap();
    let words = ["--program", "/bin/sleep", "--record", "--growing", "session.csv"];
    let words = [&words[..], &["--processors", "0", "--", "6"]].concat();
    let mut child = begun(&place, &words);
    wait_for(&place, "the game runs", runs);
    while child.try_wait().unwrap().is_none() {
        let mut file = fs_err::OpenOptions::new().append(true).open(&log).unwrap();
        file.write_all("10\n9\n".repeat(10).as_bytes()).unwrap();
        std::thread::sleep(Duration::from_millis(190));
    }
    let play = place.json(&["play", "show"]);
    let run = &play["visit"]["runs"][0];
    let average = run["metrics"]["average_fps"].as_f64().unwrap_or_default();
    assert!((average - 105.26).abs() < 0.1, "{play}");
    place.run(&["--yes", "play", "--program", "/bin/sleep", "--record", "--", "1"]).fails(2);
}

#[test]
fn a_profile_says_what_is_held_of_the_game_and_around_it() {
    let place = Place::new();
    let write = |name: &str, more: &str| {
        let text = format!("format = 1\nname = \"{name}\"\npurpose = \"For an evening\"\n{more}");
        fs_err::write(place.path().join(format!("{name}.toml")), text).unwrap();
    };
    write(
        "base",
        "\n[[while_playing]]\nuse = \"looks/menu-delay\"\n\n[playing]\nprocessors = \"0\"\ntimer_ms = 1.0\n",
    );
    place.run(&["profile", "save", "base.toml"]).ok();
    write("evening", "builds_on = [\"base\"]\n\n[playing]\ntimer_ms = 0.5\n");
    place.run(&["profile", "save", "evening.toml"]).ok();
    let play = ["--yes", "play", "--program", "/bin/sleep", "--profile", "evening", "--", "1"];
    place.run(&play).ok();
    let plan = place.json(&["play", "show"])["plan"].clone();
    assert_eq!(
        (&plan["process"]["processors"], &plan["pc"]["timer_ms"]),
        (&"0".into(), &0.5.into())
    );
    assert_eq!(plan["wishes"][0]["tweak"], "looks/menu-delay", "{plan}");
    let exported = place.run(&["profile", "export", "base"]).ok().out;
    assert!(exported.contains("[playing]\nprocessors = \"0\"\ntimer_ms = 1.0\n"), "{exported}");
    // What is wrong in it is told with its place, and what acts too late is a fault.
    write("bad", "[playing]\npriority = \"real-time\"\npurge_below_mib = \"facts.memory.siz\"\n");
    let said = place.run(&["profile", "check", "bad.toml"]).fails(4);
    assert!(said.err.contains("bad.toml:5:12") && said.err.contains("bad.toml:6:"), "{}", said.err);
    write("late", "[[while_playing]]\nuse = \"graphics/self-scheduling\"\n");
    let said = place.run(&["profile", "check", "late.toml"]);
    assert!(format!("{}{}", said.out, said.err).contains("has ended"), "{} {}", said.out, said.err);
}

/// Waits until something is so.
fn wait_until(what: &str, is_so: impl Fn() -> bool) {
    let begun = std::time::Instant::now();
    while !is_so() {
        assert!(begun.elapsed() < Duration::from_secs(30), "{what}");
        std::thread::sleep(Duration::from_millis(100));
    }
}

#[test]
fn games_of_a_table_are_held_for_whenever_they_run() {
    let place = Place::new();
    let before = place.pc_files();
    let text = "format = 1\nname = \"evening\"\npurpose = \"p\"\n\n[[while_playing]]\nuse = \"power/active-plan\"\n";
    fs_err::write(place.path().join("evening.toml"), text).unwrap();
    place.run(&["profile", "save", "evening.toml"]).ok();
    place.run(&["play", "games", "on"]).fails(2);
    place.run(&["play", "games", "add", "Riders.exe", "--profile", "nowhere"]).fails(3);
    place.run(&["play", "games", "add", "Riders.exe", "--profile", "evening"]).ok();
    let on = place.json(&["--yes", "play", "games", "on"]);
    assert_eq!((&on["games"][0]["file"], &on["are_looked_for"]), (&"riders".into(), &true.into()));
    wait_until("it looks", || place.json(&["play", "games", "list"])["is_looking"] == true);
    // The entry by which Windows starts it is a change like any other.
    let registry = fs_err::read_to_string(place.pc().join("settings/registry.json")).unwrap();
    assert!(registry.contains("Frevin looks for games"), "{registry}");
    // A program of that name is started by somebody else.
    let program = place.path().join("riders");
    fs_err::copy("/bin/sleep", &program).unwrap();
    let mut game = Command::new(&program).arg("60").spawn().unwrap();
    let is_held = || runs(&place.json(&["play", "status"]));
    wait_until("it is found and held for", is_held);
    game.kill().unwrap();
    game.wait().unwrap();
    let has_ended = || place.json(&["play", "show"])["ended"][1] == "game-ended";
    wait_until("it is put back", has_ended);
    let off = place.json(&["play", "games", "off"]);
    assert_eq!(off["are_looked_for"], false, "{off}");
    wait_until("it ends", || place.json(&["play", "games", "list"])["is_looking"] == false);
    assert!(place.pc_files() == before);
    place.run(&["play", "games", "remove", "riders.exe"]).ok();
    place.run(&["play", "games", "remove", "riders.exe"]).fails(3);
}

#[test]
fn a_shortcut_starts_a_game_and_holds_its_profile() {
    let place = Place::new();
    let text = "format = 1\nname = \"evening\"\npurpose = \"p\"\n\n[playing]\nprocessors = \"0\"\n";
    fs_err::write(place.path().join("evening.toml"), text).unwrap();
    place.run(&["profile", "save", "evening.toml"]).ok();
    let words = ["play", "games", "shortcut", "riders.sh", "--program", "/bin/sleep"];
    place.run(&[&words[..], &["--profile", "evening", "--", "1"]].concat()).ok();
    // It is not written over.
    let again = place.run(&[&words[..], &["--profile", "evening"]].concat());
    assert_ne!(again.code, 0);
    let opened = Command::new(place.path().join("riders.sh")).stdout(Stdio::null()).status();
    assert!(opened.unwrap().success());
    let play = place.json(&["play", "show"]);
    assert_eq!(
        (&play["ended"][1], &play["plan"]["start"]["command"][1]),
        (&"game-ended".into(), &"1".into())
    );
}

#[test]
fn colours_of_a_display_are_held_and_come_back() {
    let place = Place::new();
    let before = place.pc_files();
    let colours = ["--tweak", "graphics/display-colours", "--set", "display=Lumet 27Q"];
    let words = [&["--program", "/bin/sleep"][..], &colours, &["--", "20"]].concat();
    let mut child = begun(&place, &words);
    wait_for(&place, "the game runs", runs);
    let displays = fs_err::read_to_string(place.pc().join("settings/display.json")).unwrap();
    assert!(displays.contains("colours"), "{displays}");
    place.run(&["play", "stop"]).ok();
    child.wait().unwrap();
    assert!(place.pc_files() == before);
}

#[test]
fn a_play_is_told_with_what_was_held_and_what_happened() {
    let place = Place::new();
    place.run(&["play", "show"]).fails(3);
    let held =
        ["--processors", "0", "--timer-ms", "1", "--purge-below", "4096", "--lower-others", "90:9"];
    let words = [
        &["--yes", "play", "canyon-run", "--seconds", "1.5", "--tweak", "looks/menu-delay"][..],
        &held,
    ]
    .concat();
    let said = place.run(&words).ok();
    assert!(said.out.contains("The game has ended."), "{}", said.out);
    let shown = place.run(&["play", "show", "1"]).ok().out;
    for line in [
        "Play 1: looks/menu-delay",
        "processors",
        "timer",
        "1 ms",
        "below 4096 MiB free",
        "lowered where they take over 90 % of all processors for 9 s",
        "counts for the program that makes it",
        "Standby memory was given back 1 time",
    ] {
        let shown = shown.split_whitespace().collect::<Vec<_>>().join(" ");
        assert!(shown.contains(line), "{line}: {shown}");
    }
    // Every process that something was held of has what it had before, in the ledger.
    let all_held = events(&place, "held");
    assert!(!all_held.is_empty());
    for one in &all_held {
        assert!(one["process"]["made"].is_u64(), "{one}");
        let numbers = one["before"]["processors"].as_array().unwrap();
        assert!(!numbers.is_empty() && one["before"]["priority"].is_null(), "{one}");
    }
    place.run(&["play", "show", "2"]).fails(3);
    assert_eq!(place.json(&["play", "list"])["plays"].as_array().unwrap().len(), 1);
    place.run(&["ledger", "check"]).ok();
}

#[test]
fn memory_is_shown_and_given_back_once_and_now() {
    let place = Place::new();
    let before = place.pc_files();
    let shown = place.json(&["play", "memory"]);
    assert!(shown["after"].is_null() && shown["total_mib"].as_u64().unwrap() >= 8192, "{shown}");
    let given = place.json(&["play", "memory", "--purge"]);
    let free = |of: &Value| of["free_mib"].as_u64().unwrap();
    assert!(free(&given["after"]) > free(&given) + 1024, "{given}");
    assert!(given["after"]["standby_mib"].as_u64() < given["standby_mib"].as_u64());
    let said = place.run(&["play", "memory", "--purge"]).ok().out;
    assert!(said.contains("on standby") && said.contains("fills once more"), "{said}");
    assert!(place.pc_files() == before, "no setting moves");
}
