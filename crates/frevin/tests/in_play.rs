//! Trials in play: a tweak switched on and off while a game is played, on a rehearsal PC and with the test loop.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::process::Stdio;
use std::time::{Duration, Instant};

use common::Place;
use insta::assert_snapshot;

const START: [&str; 6] = ["--yes", "trial", "start", "--in-play", "--scene", "canyon-run"];
/// In the model: frame time times 0.965.
const PLAN: [&str; 2] = ["--tweak", "power/active-plan"];

fn start(more: &[&str]) -> Vec<String> {
    START.iter().chain(more).map(|word| (*word).to_owned()).collect()
}

fn words(words: &[String]) -> Vec<&str> {
    words.iter().map(String::as_str).collect()
}

/// The model with a scene of its own: quiet, or as `scene` says.
fn with_scene(place: &Place, scene: &str) {
    let path = place.pc().join("model.toml");
    let model = fs_err::read_to_string(&path).unwrap();
    let end = model.find("[noise]").unwrap();
    let own = format!(
        "[[scenes]]\nname = \"own\"\ngame = \"Sample\"\ngraphics = \"low\"\nresolution = \"any\"\n\
         route = \"as it says\"\nframe_ms = 9.0\n{scene}\n\n"
    );
    fs_err::write(path, format!("{}{own}{}", &model[..end], &model[end..])).unwrap();
}

const QUIET: &str =
    "content = { deviation = 0.006, memory_s = 20, menu_s = 0, between_menus_s = 90 }";

#[test]
fn what_helps_is_found_in_play_and_kept() {
    let place = Place::new();
    with_scene(&place, QUIET);
    let said = place.run(
        &[&["--yes", "trial", "start", "--in-play", "--scene", "own", "--seed", "4"][..], &PLAN]
            .concat(),
    );
    assert_snapshot!(said.ok().out);
    let trial = place.json(&["trial", "show"]);
    assert_eq!((&trial["verdict"], &trial["kept"]), (&"better".into(), &true.into()));
    assert!(trial["segments"].as_u64().unwrap() >= 25, "{trial}");
    assert!(trial["minutes"].as_f64().unwrap() < 25.0);
    // What was switched was taken back; what is kept is a change of its own.
    assert_eq!(place.json(&["inspect"])["tweaks_in_force"], 1);
    let evidence = place.json(&["evidence", "list"]);
    assert_eq!(evidence["evidence"][0]["finding"], "helps", "{evidence}");
}

#[test]
fn what_does_nothing_leaves_the_pc_as_it_was_exactly() {
    let place = Place::new();
    with_scene(&place, QUIET);
    let before = place.pc_files();
    let menu = ["--tweak", "looks/menu-delay", "--set", "delay_ms=50", "--seed", "3"];
    let start = [&["--yes", "trial", "start", "--in-play", "--scene", "own"][..], &menu].concat();
    let trial = place.json(&start);
    assert_eq!((&trial["verdict"], &trial["kept"]), (&"same".into(), &false.into()), "{trial}");
    assert!(place.pc_files() == before);
    assert_eq!(place.json(&["recover"])["recovered"], "nothing");
}

#[test]
fn a_sitting_ends_when_its_time_is_out_and_goes_on_another_day() {
    let place = Place::new();
    let before = place.pc_files();
    let first = start(&[&PLAN[..], &["--minutes", "3", "--seed", "8"]].concat());
    place.run(&words(&first)).ok();
    let status = place.json(&["trial", "status"]);
    assert_eq!(status["next"]["what"], "play", "{status}");
    let minutes = status["next"]["minutes_played"].as_f64().unwrap();
    assert!((2.5..=3.5).contains(&minutes), "{minutes}");
    assert!(place.pc_files() == before, "between sittings the PC is as it was");
    // A change of something else blocks it, since what is compared would be another PC.
    place.run(&["--yes", "apply", "--tweak", "looks/menu-delay"]).fails(5);
    let mut sittings = 1;
    while place.json(&["trial", "show"])["progress"] == "going" {
        place.run(&["--yes", "trial", "resume"]);
        sittings += 1;
        assert!(sittings < 20, "forty minutes end it");
    }
    let trial = place.json(&["trial", "show"]);
    assert!(trial["sittings"].as_u64().unwrap() > 1, "{trial}");
    assert!(trial["minutes"].as_f64().unwrap() <= 41.0);
}

#[test]
fn what_cannot_be_switched_in_play_is_refused_with_the_reason() {
    let place = Place::new();
    for (tweak, reason) in [
        ("services/one-service", "which is not switched every few seconds"),
        ("power/processor-ceiling", "builds up and wears off over minutes"),
        ("graphics/self-scheduling", "acts after a restart"),
    ] {
        let mut more = vec!["--tweak", tweak];
        if tweak == "services/one-service" {
            more.extend(["--set", "service=Spooler"]);
        }
        let said = place.run(&words(&start(&more)));
        let said = said.fails(5);
        assert!(said.err.contains(reason), "{tweak}: {}", said.err);
        assert!(said.err.contains("without --in-play"), "{}", said.err);
    }
    place.run(&words(&start(&[&PLAN[..], &["--loop", "4"]].concat()))).fails(2);
    place.run(&["trial", "start", "--tweak", "power/active-plan", "--minutes", "3"]).fails(2);
}

#[test]
fn a_cap_ends_it_undecided_with_the_reason() {
    let place = Place::new();
    with_scene(&place, QUIET);
    // Frames of one length: a limiter.
    let path = place.pc().join("model.toml");
    let model = fs_err::read_to_string(&path).unwrap();
    fs_err::write(&path, model.replace("frame_spread = 0.055", "frame_spread = 0.0005")).unwrap();
    let menu = ["--tweak", "looks/menu-delay", "--seed", "3"];
    let start = [&["--yes", "trial", "start", "--in-play", "--scene", "own"][..], &menu].concat();
    let said = place.run(&start).ok();
    assert!(said.out.contains("frames look to be capped"), "{}", said.out);
    assert_eq!(place.json(&["trial", "show"])["unjudged"], "capped");
}

#[test]
fn a_benchmark_that_repeats_is_compared_place_by_place() {
    let place = Place::new();
    with_scene(
        &place,
        "loop_s = 60.0\ncontent = { deviation = 0.15, memory_s = 10, menu_s = 0, between_menus_s = 90 }",
    );
    let more = ["--tweak", "power/active-plan", "--loop", "60", "--seed", "6"];
    let start = [&["--yes", "trial", "start", "--in-play", "--scene", "own"][..], &more].concat();
    let trial = place.json(&start);
    assert_eq!(
        (&trial["verdict"], &trial["segment_s"]),
        (&"better".into(), &10.0.into()),
        "{trial}"
    );
}

#[test]
fn killed_at_any_moment_one_command_puts_the_pc_back() {
    let place = Place::new();
    let before = place.pc_files();
    let words_of_start = start(&[&PLAN[..], &["--seed", "2"]].concat());
    let mut unfinished = 0;
    for after_ms in [5, 20, 60, 0, 120, 200, 0, 300, 450, 700] {
        let is_going = place.run(&["trial", "status", "--json"]).out.contains("\"going\"");
        let resume = ["--yes".to_owned(), "trial".to_owned(), "resume".to_owned()];
        let arguments = if is_going { &resume[..] } else { &words_of_start };
        match after_ms {
            // However busy this machine is, it is in the middle of the play then.
            0 => place.run_and_kill_at_a_write(&words(arguments)),
            _ => place.run_and_kill(&words(arguments), Duration::from_millis(after_ms)),
        }
        let recovered = place.json(&["--yes", "recover"]);
        unfinished += usize::from(recovered["recovered"] == "change-undone");
        // What the verdict kept is in force; before it nothing is.
        if place.json(&["inspect"])["tweaks_in_force"] == 0 {
            assert!(place.pc_files() == before, "killed after {after_ms} ms");
        }
    }
    assert!(unfinished > 0, "no kill fell into the play");
    place.run(&["--yes", "trial", "abandon"]);
    place.run(&["--yes", "rollback", "--all"]);
    assert!(place.pc_files() == before);
}

/// A program under load whose frames a log tells as they come: what is tried is real time, and really over.
#[test]
fn a_log_that_grows_is_followed_while_it_is_written() {
    let place = Place::new();
    let log = place.path().join("growing.csv");
    fs_err::write(&log, "frame_ms\n10\n").unwrap();
    let more = ["--growing", "growing.csv", "--minutes", "0.8", "--seed", "1"];
    let start = [&["--yes", "trial", "start", "--in-play"][..], &PLAN, &more].concat();
    let mut child = place.command(&start).stdout(Stdio::null()).spawn().unwrap();
    let begun = Instant::now();
    let mut written_ms = 0.0;
    while child.try_wait().unwrap().is_none() {
        assert!(begun.elapsed() < Duration::from_secs(120), "a minute has ended");
        let due = begun.elapsed().as_secs_f64() * 1000.0;
        let mut rows = String::new();
        while written_ms < due {
            let frame = 9.0 + f64::from((written_ms as u32) % 7) / 5.0;
            rows.push_str(&format!("{frame}\n"));
            written_ms += frame;
        }
        append(&log, &rows);
        std::thread::sleep(Duration::from_millis(200));
    }
    let status = place.json(&["trial", "show"]);
    // Its rows were played, and segments of them judged: whether a pair is whole hangs on how busy the machine is.
    assert!(status["next"]["minutes_played"].as_f64().unwrap() >= 0.6, "{status}");
    assert_eq!(status["scenes"][0], "play-growing");
}

fn append(path: &std::path::Path, rows: &str) {
    use std::io::Write as _;
    let mut file = fs_err::OpenOptions::new().append(true).open(path).unwrap();
    file.write_all(rows.as_bytes()).unwrap();
}

#[test]
fn the_test_loop_is_played_on_this_pc() {
    let place = Place::new();
    let more = ["--test-loop", "--minutes", "0.8", "--seed", "1"];
    let start = [&["--yes", "trial", "start", "--in-play"][..], &PLAN, &more].concat();
    place.run(&start).ok();
    let status = place.json(&["trial", "status"]);
    assert_eq!(status["scenes"][0], "test-loop");
    let minutes = status["next"]["minutes_played"].as_f64().unwrap();
    assert!(minutes >= 0.7, "{status}");
}

/// The processors that a process and those that it began may run on.
#[cfg(target_os = "linux")]
fn allowed_processors(root: u32) -> std::collections::BTreeSet<String> {
    let parent_of = |id: u32| -> Option<u32> {
        let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
        stat.rsplit(')').next()?.split_whitespace().nth(1)?.parse().ok()
    };
    let ids = std::fs::read_dir("/proc").unwrap().flatten();
    let ids = ids.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    let own = ids.filter(|id| *id == root || parent_of(*id) == Some(root));
    let of = |id: u32| {
        let status = std::fs::read_to_string(format!("/proc/{id}/status")).ok()?;
        let line = status.lines().find(|line| line.starts_with("Cpus_allowed_list"))?;
        Some(line.split_whitespace().last()?.to_owned())
    };
    own.filter_map(of).collect()
}

/// What is tried is really given and taken, segment after segment, and to nobody else. Whether it is worse is for machines
/// that nobody else uses to tell.
#[cfg(target_os = "linux")]
#[test]
fn what_a_program_is_given_is_tried_with_the_test_loop_in_real_time() {
    let processors = std::thread::available_parallelism().unwrap().get();
    if processors < 2 {
        return;
    }
    let place = Place::new();
    let own = || allowed_processors(std::process::id()).into_iter().next_back().unwrap();
    let allowed = own();
    let more = ["--processors", "0", "--seed", "1", "--minutes", "1"];
    let start = [&["--yes", "trial", "start", "--in-play", "--test-loop"][..], &more].concat();
    let mut child = place.command(&start).stdout(Stdio::null()).spawn().unwrap();
    let mut seen = std::collections::BTreeSet::new();
    while child.try_wait().unwrap().is_none() {
        seen.extend(allowed_processors(child.id()));
        std::thread::sleep(Duration::from_millis(100));
    }
    assert!(seen.contains("0") && seen.contains(&allowed), "{seen:?}, all are {allowed}");
    let trial = place.json(&["trial", "status", "--peek"]);
    // Whether its pairs count is up to how busy this machine is.
    assert!(trial["peek"]["segments"].as_u64() > Some(1), "{trial}");
    if trial["progress"] == "going" {
        let said = place.run(&["trial", "abandon"]).ok();
        assert!(said.out.contains("given up"), "{}", said.out);
    } else {
        assert_ne!(place.json(&["trial", "show"])["verdict"], "better", "{trial}");
    }
    // Other programs were let be.
    assert_eq!(own(), allowed);
    place.run(&["--yes", "trial", "start", "--in-play", "--growing", "x.csv", "--processors", "0"]);
}

#[test]
fn what_a_program_is_given_is_tried_only_where_it_is_known_which_one_it_is() {
    let place = Place::new();
    let said = place.run(&[
        "--yes",
        "trial",
        "start",
        "--in-play",
        "--scene",
        "canyon-run",
        "--processors",
        "0",
    ]);
    let said = said.fails(2);
    assert!(said.err.contains("not known which program"), "{}", said.err);
    // Nothing is begun that the owner would have to end.
    place.run(&["trial", "abandon"]).fails(3);
    for wrong in [
        &["--processors", "0"][..],
        &["--in-play", "--test-loop", "--processors", "all"],
        &["--in-play", "--test-loop", "--priority", "real-time"],
        &["--in-play", "--test-loop", "--unthrottled", "--tweak", "looks/menu-delay"],
    ] {
        place.run(&[&["--yes", "trial", "start"][..], wrong].concat()).fails(2);
    }
    assert_eq!(place.json(&["recover"])["recovered"], "nothing");
}
