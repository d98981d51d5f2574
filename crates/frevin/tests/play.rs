//! Play: what is held while a game runs is put back whatever ends it. The games here are made up: real processes that
//! sleep.
#![cfg(target_os = "linux")]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

#[path = "common/playing.rs"]
mod playing;

use std::time::{Duration, Instant};

use common::Place;
use playing::{begun, id_of_game, kill, runs, wait_for};

const PLAN: [&str; 2] = ["--tweak", "power/active-plan"];

/// The watcher of this place, found by the home that it was given.
fn watcher(place: &Place) -> Option<u32> {
    let home = place.path().join("home").display().to_string();
    let ids = std::fs::read_dir("/proc").unwrap().flatten();
    let mut ids = ids.filter_map(|entry| entry.file_name().to_str()?.parse::<u32>().ok());
    ids.find(|id| {
        let line = std::fs::read(format!("/proc/{id}/cmdline")).unwrap_or_default();
        let line = String::from_utf8_lossy(&line).replace('\0', " ");
        line.contains(" play watch ") && line.contains(&home)
    })
}

#[test]
fn what_is_held_is_in_force_while_the_game_runs_and_gone_afterwards() {
    let place = Place::new();
    let before = place.pc_files();
    let mut child =
        begun(
            &place,
            &[
                &[
                    "canyon-run",
                    "--seconds",
                    "8",
                    "--priority",
                    "below-normal",
                    "--processors",
                    "0",
                ][..],
                &PLAN,
            ]
            .concat(),
        );
    let status = wait_for(&place, "the game runs", runs);
    assert!(place.pc_files() != before, "the plan is another while the game runs");
    let id = id_of_game(&status);
    let of_process = std::fs::read_to_string(format!("/proc/{id}/status")).unwrap();
    assert!(of_process.lines().any(|line| line == "Cpus_allowed_list:\t0"), "{of_process}");
    let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).unwrap();
    let nice = stat.rsplit_once(')').unwrap().1.split_whitespace().nth(16).unwrap();
    assert_eq!(nice, "5");
    // Other commands work meanwhile, and a change is not unfinished because a game runs.
    place.run(&["--yes", "apply", "--tweak", "looks/menu-delay", "--set", "delay_ms=20"]).ok();
    place.run(&["--yes", "rollback", "--tweak", "looks/menu-delay"]).ok();
    // Two games are told apart: the second is refused. So is a trial.
    place.run(&[&["--yes", "play", "canyon-run"][..], &PLAN].concat()).fails(5);
    place
        .run(&["--yes", "trial", "start", "--tweak", "looks/menu-delay", "--scene", "canyon-run"])
        .fails(5);
    assert!(child.wait().unwrap().success());
    assert!(place.pc_files() == before);
    let plays = place.json(&["play", "list"]);
    assert_eq!(plays["plays"][0]["ended"][1], "game-ended", "{plays}");
}

#[test]
fn it_is_put_back_when_it_is_stopped_or_the_game_is_killed() {
    let place = Place::new();
    let before = place.pc_files();
    let mut child = begun(&place, &[&["canyon-run", "--seconds", "60"][..], &PLAN].concat());
    let game = id_of_game(&wait_for(&place, "the game runs", runs));
    let stopped = place.json(&["play", "stop"]);
    assert_eq!(stopped["ending"], "stopped", "{stopped}");
    assert!(place.pc_files() == before);
    assert!(std::path::Path::new(&format!("/proc/{game}")).exists(), "the game goes on");
    kill(game);
    assert!(child.wait().unwrap().success());

    let mut child = begun(&place, &[&["canyon-run", "--seconds", "60"][..], &PLAN].concat());
    kill(id_of_game(&wait_for(&place, "the game runs", runs)));
    assert!(child.wait().unwrap().success());
    assert!(place.pc_files() == before);
    place.run(&["play", "stop"]).fails(3);
}

#[test]
fn killed_in_any_way_the_next_command_puts_it_back() {
    let place = Place::new();
    let before = place.pc_files();
    for round in 0..9_u64 {
        let mut child = begun(&place, &[&["canyon-run", "--seconds", "40"][..], &PLAN].concat());
        // At any moment: before the change, in the middle of it, while the game runs.
        let mut watching = watcher(&place);
        while round % 3 == 1 && watching.is_none() && child.try_wait().unwrap().is_none() {
            watching = watcher(&place);
        }
        std::thread::sleep(Duration::from_millis(round * 41));
        match round % 3 {
            0 => child.kill().unwrap(),
            1 => watching.into_iter().for_each(kill),
            _ => {
                child.kill().unwrap();
                watcher(&place).into_iter().for_each(kill);
            }
        }
        let game = place.json(&["play", "status"])["processes"][0].as_u64();
        if round % 3 == 0 {
            // The watcher goes on by itself.
            let _ = child.wait();
            wait_for(&place, "its watcher holds it, or it never began", |status| {
                runs(status) || status["play"].is_null()
            });
            let said = place.run(&["play", "stop"]);
            assert!([0, 3].contains(&said.code), "{}{}", said.out, said.err);
        } else {
            let _ = child.wait();
        }
        wait_for(&place, "nothing is held", |status| status["play"].is_null());
        assert!(place.pc_files() == before, "round {round}");
        game.into_iter().for_each(|id| kill(u32::try_from(id).unwrap()));
    }
    assert_eq!(place.json(&["recover"])["recovered"], "nothing");
}

#[test]
fn a_launcher_is_followed_to_the_game_that_it_starts() {
    let place = Place::new();
    let before = place.pc_files();
    let script = "sleep 6 & exit 0";
    let launcher = [&["--program", "/bin/sh"][..], &PLAN, &["--", "-c", script]].concat();
    let begun_at = Instant::now();
    let mut child = begun(&place, &launcher);
    wait_for(&place, "the game runs", runs);
    assert!(child.wait().unwrap().success());
    assert!(begun_at.elapsed() > Duration::from_millis(5900), "it was held until the game ended");
    assert!(place.pc_files() == before);
}

#[test]
fn a_profiles_own_list_is_what_is_held_while_playing() {
    let place = Place::new();
    place.write(
        "evening.toml",
        "format = 1\nname = \"evening\"\npurpose = \"Play\"\n\n[[tweaks]]\nuse = \"looks/menu-delay\"\n\n\
         [[while_playing]]\nuse = \"power/active-plan\"\n\n[[while_playing]]\nuse = \"graphics/self-scheduling\"\n",
    );
    place.run(&["profile", "save", "evening.toml", "-m", "first"]).ok();
    let played =
        place.json(&["--yes", "play", "canyon-run", "--seconds", "0.5", "--profile", "evening"]);
    assert_eq!(
        (&played["ending"], &played["settings"]),
        (&"game-ended".into(), &1.into()),
        "{played}"
    );
    let left_out = &played["left_out"][0];
    assert_eq!(left_out["tweak"], "graphics/self-scheduling");
    assert!(
        left_out["reasons"][0].as_str().unwrap().contains("acts after a restart"),
        "{left_out}"
    );
    // As it is saved, it stays.
    assert!(place.run(&["profile", "export", "evening"]).ok().out.contains("[[while_playing]]"));
}

#[test]
fn what_cannot_be_begun_is_told_and_nothing_is_held() {
    let place = Place::new();
    let before = place.pc_files();
    let gone = place.run(&[&["--yes", "play", "--program", "/no/such/game"][..], &PLAN].concat());
    assert_eq!(gone.code, 1);
    assert!(gone.out.contains("/no/such/game does not start"), "{}", gone.out);
    // What ends at once was the game all the same.
    let short = [&["--yes", "play", "--program", "/bin/true"][..], &PLAN].concat();
    assert_eq!(place.json(&short)["ending"], "game-ended");
    place.run(&["--yes", "play", "canyon-run"]).fails(2);
    place.run(&[&["--yes", "play", "nowhere"][..], &PLAN].concat()).fails(3);
    place.run(&[&["--yes", "play"][..], &PLAN].concat()).fails(2);
    place.run(&["--yes", "play", "canyon-run", "--priority", "realtime"]).fails(2);
    place.run(&["--yes", "play", "canyon-run", "--processors", "some"]).fails(2);
    assert!(place.pc_files() == before);
    assert!(place.run(&["play", "status"]).ok().out.contains("Nothing is held"));
}

#[test]
fn a_game_that_is_waited_for_is_held_when_it_comes() {
    let place = Place::new();
    // A file of its own name, since other games may run on this machine.
    let game = place.path().join("gorsehollow-riders");
    fs_err::copy("/bin/sleep", &game).unwrap();
    let attach = [&["--attach", "gorsehollow-riders.exe", "--processors", "0"][..]].concat();
    let mut child = begun(&place, &attach);
    wait_for(&place, "it is watched", |status| status["is_watched"] == true);
    let mut riders = std::process::Command::new(&game).arg("60").spawn().unwrap();
    let status = wait_for(&place, "the game has come", runs);
    assert_eq!(id_of_game(&status), riders.id());
    riders.kill().unwrap();
    riders.wait().unwrap();
    assert!(child.wait().unwrap().success());
}

#[test]
fn what_is_held_on_one_pc_is_settled_there_whatever_is_done_on_another() {
    let place = Place::new();
    place.run(&["rehearsal", "new", "other"]).ok();
    let before = place.pc_files();
    let mut child = begun(&place, &[&["canyon-run", "--seconds", "20"][..], &PLAN].concat());
    let game = id_of_game(&wait_for(&place, "the game runs", runs));
    child.kill().unwrap();
    child.wait().unwrap();
    watcher(&place).into_iter().for_each(kill);
    kill(game);
    assert!(place.pc_files() != before, "it is still held");
    // Commands on another PC of the same home: neither looking nor playing there loses it.
    place.run(&["--pc", "other", "inspect"]).ok();
    let there = ["--yes", "--pc", "other", "play", "canyon-run", "--seconds", "0.2"];
    place.run(&[&there[..], &PLAN].concat()).ok();
    assert!(place.pc_files() != before);
    let said = place.run(&["inspect"]).ok();
    assert!(said.err.contains("it is put back"), "{}", said.err);
    assert!(place.pc_files() == before);
}

#[test]
fn a_ledger_that_is_damaged_while_something_is_held_can_still_be_looked_at_and_mended() {
    let place = Place::new();
    let mut child = begun(&place, &[&["canyon-run", "--seconds", "20"][..], &PLAN].concat());
    let game = id_of_game(&wait_for(&place, "the game runs", runs));
    let before = place.run(&["ledger", "backup", "copy.sqlite3"]);
    before.ok();
    child.kill().unwrap();
    child.wait().unwrap();
    watcher(&place).into_iter().for_each(kill);
    kill(game);
    for ending in ["", "-wal", "-shm"] {
        let _ = fs_err::remove_file(place.path().join(format!("home/ledger.sqlite3{ending}")));
    }
    place.write("home/ledger.sqlite3", "no database at all");
    let said = place.run(&["ledger", "restore", "copy.sqlite3", "--yes"]).ok();
    assert!(said.err.contains("not put back yet"), "{}", said.err);
    // With the ledger back, the next command does.
    assert!(place.run(&["inspect"]).ok().err.contains("it is put back"));
    assert_eq!(place.json(&["inspect"])["tweaks_in_force"], 0);
}
