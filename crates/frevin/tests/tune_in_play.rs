//! An evening that begins with play, and evenings for something else than frames.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::net::TcpListener;
use std::thread;
use std::time::Duration;

use common::Place;
use common::knobs::{Knob, pc_with};
use serde_json::Value;

/// Three that act at once, of which the second helps by 8 % and the third hurts by 8 %; three that act after a restart, of
/// which the second helps by 6 %.
fn pc() -> Place {
    let at_once = |frame_time| Knob { acts_at_once: true, frame_time, ..Knob::default() };
    let late = |frame_time| Knob { frame_time, ..Knob::default() };
    pc_with(&[at_once(1.0), at_once(0.92), at_once(1.08), late(1.0), late(0.94), late(1.0)])
}

const TUNE: [&str; 8] =
    ["tune", "--candidates", "knobs", "--in-play", "--as-it-is", "--seed", "7", "--yes"];

fn names(list: &Value) -> Vec<&str> {
    list.as_array().unwrap().iter().map(|one| one["tweak"].as_str().unwrap()).collect()
}

fn found(told: &Value, tweak: &str) -> String {
    let all = told["found"].as_array().unwrap();
    let of: Vec<&Value> = all.iter().filter(|one| one["tweak"] == tweak).collect();
    assert_eq!(of.len(), 1, "{tweak} is told once: {told}");
    of[0]["found"].as_str().unwrap().to_owned()
}

#[test]
fn what_acts_at_once_is_asked_in_play_and_proven_with_the_rest() {
    let place = pc();
    let first = place.settings();
    let plan = place.json(&["tune", "--candidates", "knobs", "--in-play", "--plan"]);
    let in_play = names(&plan["plan"]["in_play"]["asked"]);
    assert_eq!(in_play, ["knobs/knob-0", "knobs/knob-1", "knobs/knob-2"]);
    assert_eq!(names(&plan["plan"]["asked"]), ["knobs/knob-3", "knobs/knob-4", "knobs/knob-5"]);
    assert_eq!(place.settings(), first, "a plan changes nothing");
    let shown = place.run(&["tune", "--candidates", "knobs", "--in-play", "--plan"]).ok().out;
    assert!(shown.contains("3 tweaks are asked about while you play"), "{shown}");

    let told = place.json(&TUNE);
    assert_eq!(told["tune"], 2, "the part in runs is a sift of its own");
    assert_eq!(names(&told["kept"]), ["knobs/knob-1", "knobs/knob-4"], "{told}");
    assert_eq!(found(&told, "knobs/knob-2"), "hurts");
    assert_eq!(told["verdict"], "better");
    let minutes = told["played"]["minutes"].as_f64().unwrap();
    assert!(minutes > 1.0 && told["spent_minutes"].as_f64().unwrap() > minutes, "{told}");
    // Both gains together, 8.7 and 6.4 %.
    let gain = &told["gain_percent"];
    let of = |end: &str| gain[end].as_f64().unwrap();
    assert!(of("low") < 15.6 && of("high") > 15.6, "{gain}");
    // The part that was played is told by the one that came after it, and its page has what both found.
    let page = place.run(&["report", "tune", "1", "--file", "page.html"]).ok();
    assert!(page.out.contains("page.html"), "{}", page.out);
    let page = fs_err::read_to_string(place.path().join("page.html")).unwrap();
    assert!(page.contains("of play, switched every few seconds"), "{page}");
    for knob in ["knobs/knob-1", "knobs/knob-2", "knobs/knob-4"] {
        assert!(page.contains(&format!("{knob}: ")), "{knob} is drawn");
    }
    let played = place.run(&["sift", "show", "1"]).ok().out;
    assert!(played.contains("with what helps of the rest of its evening"), "{played}");
    let profile = place.run(&["profile", "show", "tuned-canyon-run"]).ok().out;
    assert!(profile.contains("knobs/knob-1") && profile.contains("knobs/knob-4"), "{profile}");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);
}

#[test]
fn put_off_or_given_up_while_it_is_played_it_leaves_nothing() {
    let place = pc();
    let first = place.settings();
    // A short sitting: what was played is kept, and the PC is what it was meanwhile.
    let sat = place.json(&[&TUNE[..], &["--minutes", "0.8"]].concat());
    assert_eq!((&sat["progress"], &sat["is_in_play"]), (&"measuring".into(), &true.into()));
    assert!(sat["most_minutes_still"].as_f64().unwrap() > 60.0, "{sat}");
    assert_eq!(place.settings(), first);
    let status = place.run(&["tune", "status"]).ok().out;
    assert!(status.contains("played 1 min of at most") && status.contains("play, and"), "{status}");
    assert_eq!(place.json(&["tune", "pause"])["progress"], "paused");
    let given_up = place.json(&["tune", "abandon"]);
    assert_eq!(given_up["is_given_up"], true);
    assert_eq!(place.settings(), first);
    place.run(&["tune", "resume"]).ok();
    assert_eq!(place.json(&["sift", "list"])["sifts"].as_array().unwrap().len(), 1);
}

#[test]
fn killed_in_play_and_after_it_comes_to_the_same_end() {
    let place = pc();
    let first = place.settings();
    let undisturbed = place.json(&TUNE);
    let place = pc();
    let mut words: Vec<&str> = TUNE.to_vec();
    for kill in 1..=6 {
        place.run_and_kill(&words, Duration::from_millis(120 * kill));
        if place.run(&["tune", "status"]).code == 0 {
            words = vec!["tune", "resume"];
        }
    }
    place.run(&words).ok();
    let told = place.json(&["tune", "status"]);
    assert_eq!(told["progress"], "ended", "{told}");
    assert_eq!(names(&told["kept"]), names(&undisturbed["kept"]));
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);
}

#[test]
fn where_nothing_is_left_to_ask_what_helped_in_play_is_proven_at_once() {
    let knob = |frame_time| Knob { acts_at_once: true, frame_time, ..Knob::default() };
    let place = pc_with(&[knob(0.92), knob(1.09)]);
    let told = place.json(&TUNE);
    assert_eq!(names(&told["kept"]), ["knobs/knob-0"], "{told}");
    assert_eq!((&told["configurations"], &told["verdict"]), (&0.into(), &"better".into()));
    let shown = place.run(&["tune", "status"]).ok().out;
    assert!(shown.contains("Asked about in play for"), "{shown}");

    let place = pc_with(&[Knob::default(), knob(0.92)]);
    let refused = place.run(&TUNE).fails(2);
    assert!(refused.err.contains("fewer than two of these tweaks"), "{}", refused.err);
}

#[test]
fn an_evening_for_latency_keeps_what_lowers_it() {
    let of = |frame_time, latency| Knob { frame_time, latency, ..Knob::default() };
    let place = pc_with(&[of(1.0, 0.85), of(1.0, 1.12), of(1.0, 1.0)]);
    let first = place.settings();
    let latency = ["tune", "--candidates", "knobs", "--judge", "latency", "--seed", "7", "--yes"];
    let told = place.json(&[&latency[..], &["--as-it-is"]].concat());
    assert_eq!((&told["goal"], &told["judge"]), (&"latency".into(), &"latency".into()));
    assert_eq!(names(&told["kept"]), ["knobs/knob-0"], "{told}");
    assert_eq!(found(&told, "knobs/knob-1"), "hurts");
    // Less is better: a sixth less.
    let effect = |of: &Value| of["effect_percent"].as_f64().unwrap();
    assert!((-18.0..-12.0).contains(&effect(&told["kept"][0])), "{told}");
    let gain = told["gain_percent"]["estimate"].as_f64().unwrap();
    assert!((-18.0..-12.0).contains(&gain), "{told}");
    assert_eq!(told["profile"], "low-latency-canyon-run@1");
    let sift = place.run(&["sift", "show"]).ok().out;
    assert!(sift.contains("median latency") && !sift.contains("from-evidence"), "{sift}");
    // It is no evidence of frame rates, and nothing of it ages.
    let known = place.json(&["evidence", "list"]);
    assert!(known["evidence"].as_array().unwrap().is_empty(), "{known}");
    place.run(&["tune", "--again", "--yes"]).fails(3);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);
}

#[test]
fn where_nothing_tells_latency_an_evening_for_it_begins_nothing() {
    let place = pc_with(&[Knob::default(), Knob::default(), Knob::default()]);
    let scenes = place.pc().join("scenes.toml");
    let model = if scenes.exists() { scenes } else { place.pc().join("model.toml") };
    let text = fs_err::read_to_string(&model).unwrap();
    let without: Vec<&str> = text.lines().filter(|line| !line.starts_with("latency = {")).collect();
    assert_ne!(without.len(), text.lines().count(), "scenes tell latency: {text}");
    fs_err::write(&model, without.join("\n")).unwrap();
    let first = place.settings();
    let latency = ["tune", "--candidates", "knobs", "--judge", "latency", "--seed", "7", "--yes"];
    let said = place.run(&latency).fails(4);
    assert!(said.err.contains("tells no latency"), "{}", said.err);
    assert_eq!(place.settings(), first);
    place.run(&["tune", "status"]).fails(3);
}

#[test]
fn an_evening_for_ping_needs_no_game_and_mends_nothing() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    thread::spawn(move || listener.incoming().for_each(drop));
    let place = pc_with(&[Knob::default(), Knob::default(), Knob::default()]);
    let first = place.settings();
    let ping = ["tune", "--candidates", "knobs", "--judge", "ping", "--yes", "--seed", "7"];
    place.run(&ping).fails(2);
    let other = ["tune", "--candidates", "knobs", "--ping", &address, "--plan"];
    assert!(place.run(&other).fails(2).err.contains("goes with --judge ping"));
    let told = place.json(&[&ping[..], &["--ping", &address, "--ping-pause-ms", "0"]].concat());
    assert_eq!((&told["scene"], &told["judge"]), (&"network".into(), &"ping".into()));
    assert_eq!(told["progress"], "ended");
    assert!(told["mended"].as_array().unwrap().is_empty(), "{told}");
    assert_eq!(told["found"].as_array().unwrap().len(), 3);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);
    // Where there is no such address, nothing is begun.
    place.run(&[&ping[..], &["--ping", "no.such.name.invalid:1"]].concat()).fails(3);
    assert_eq!(place.json(&["sift", "list"])["sifts"].as_array().unwrap().len(), 1);
    assert_eq!(place.settings(), first);
}
