//! Sifts in play: many tweaks switched while a game is played, on a rehearsal PC.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::time::Duration;

use common::Place;
use insta::assert_snapshot;

/// Eight knobs, of which the second makes frames come 9 % faster and the fifth 8 % slower; the sixth cannot be combined
/// with the seventh, and the eighth does nothing without the first. With them what cannot be sifted in play.
fn knobs(place: &Place) {
    let folder = place.path().join("home/tweaks/own");
    fs_err::create_dir_all(&folder).unwrap();
    let mut profile =
        "format = 1\nname = \"knobs\"\npurpose = \"To be sifted\"\nscene = \"canyon-run\"\n"
            .to_owned();
    let mut model = fs_err::read_to_string(place.pc().join("model.toml")).unwrap();
    for at in 1..=8 {
        let more = match at {
            6 => "conflicts = [\"own/knob-7\"]\n",
            8 => "needs = [\"own/knob-1\"]\n",
            _ => "",
        };
        let tweak = format!(
            "id = \"own/knob-{at}\"\ntitle = \"Turn knob {at}\"\nwhat = \"Turns it.\"\nwhy = \"It is known.\"\n\
             may_break = \"Nothing.\"\nstanding = \"contested\"\nstanding_reason = \"To be found out.\"\n\
             risk = \"safe\"\ntakes_effect = \"now\"\nfelt_within_seconds = 0.5\n{more}\
             [[settings]]\naddress = 'registry:HKCU\\Software\\Own#Knob{at}'\ntype = \"dword\"\nvalue = 1\n\
             [[sources]]\ntitle = \"None\"\nstates = \"None.\"\n"
        );
        fs_err::write(folder.join(format!("knob-{at}.toml")), tweak).unwrap();
        profile.push_str(&format!("\n[[tweaks]]\nuse = \"own/knob-{at}\"\n"));
        let time = match at {
            2 => 0.917,
            5 => 1.083,
            _ => continue,
        };
        model.push_str(&format!(
            "\n[[effects]]\nname = \"Knob {at}\"\nreads = {{ knob = 'registry:HKCU\\Software\\Own#Knob{at}' }}\n\
             when = \"knob == 1\"\nframe_time = {time}\n"
        ));
    }
    for other in ["graphics/self-scheduling", "power/processor-ceiling", "looks/end-task"] {
        profile.push_str(&format!("\n[[tweaks]]\nuse = \"{other}\"\n"));
    }
    fs_err::write(place.pc().join("model.toml"), model).unwrap();
    fs_err::write(place.path().join("knobs.toml"), profile).unwrap();
    place.run(&["profile", "save", "knobs.toml"]).ok();
}

const START: [&str; 5] = ["--yes", "sift", "start", "knobs", "--in-play"];

#[test]
fn what_helps_of_many_is_found_in_play_tried_and_kept() {
    let place = Place::new();
    knobs(&place);
    let before = place.pc_files();
    let said = place.run(&[&START[..], &["--seed", "2"]].concat());
    assert_snapshot!(said.ok().out);
    let sift = place.json(&["sift", "show"]);
    let found = |id: &str| {
        let tweaks = sift["tweaks"].as_array().unwrap().iter();
        tweaks.clone().find(|one| one["tweak"] == id).unwrap()["found"].clone()
    };
    assert_eq!((found("own/knob-2"), found("own/knob-5")), ("helps".into(), "hurts".into()));
    assert_eq!(found("own/knob-6"), "no-effect");
    assert_eq!((&sift["verdict"], &sift["kept"]), (&"better".into(), &true.into()), "{sift}");
    assert!(sift["segments"].as_u64().unwrap() >= 24 && sift["minutes"].as_f64().unwrap() < 40.0);
    // The trial of what helped was played too.
    assert!(place.json(&["trial", "show"])["segments"].as_u64().unwrap() >= 24);
    let evidence = place.json(&["evidence", "list"])["evidence"].clone();
    let of = |id: &str| {
        let all = evidence.as_array().unwrap().iter();
        all.filter(|one| one["tweak"] == id).map(|one| one["finding"].clone()).collect::<Vec<_>>()
    };
    assert_eq!(of("own/knob-5"), ["hurts"], "{evidence}");
    place.run(&["--yes", "rollback", "--all"]).ok();
    assert!(place.pc_files() == before);
}

#[test]
fn what_cannot_be_sifted_in_play_is_left_out_with_the_reason() {
    let place = Place::new();
    knobs(&place);
    let more = ["--prefer", "own/knob-7", "--minutes", "0.7"];
    place.run(&[&START[..], &more].concat()).ok();
    let left_out = place.json(&["sift", "show"])["left_out"].clone();
    let shown = serde_json::to_string(&left_out).unwrap();
    for reason in [
        "it excludes own/knob-7; --prefer sifts it in its place",
        "it does nothing without own/knob-1",
        "it acts after a restart",
        "it builds up and wears off over minutes",
        "nothing says how soon it is felt",
    ] {
        assert!(shown.contains(reason), "{reason}: {shown}");
    }
    place.run(&[&START[..], &["--budget", "1h"]].concat()).fails(2);
    place.run(&["sift", "start", "knobs", "--smallest-effect", "2"]).fails(2);
    assert_eq!(place.json(&["sift", "list"])["sifts"].as_array().unwrap().len(), 1);
}

#[test]
fn it_is_played_in_sittings_and_given_up_whenever_its_owner_wants() {
    let place = Place::new();
    knobs(&place);
    let before = place.pc_files();
    place.run(&[&START[..], &["--minutes", "2", "--seed", "4"]].concat()).ok();
    let status = place.json(&["sift", "status"]);
    assert_eq!((&status["progress"], &status["sittings"]), (&"measuring".into(), &1.into()));
    assert!(place.pc_files() == before, "between sittings the PC is as it was");
    assert_eq!(place.json(&["sift", "resume"])["sittings"], 2);
    assert_snapshot!(place.run(&["sift", "status"]).ok().out);
    place.run(&["sift", "abandon"]).ok();
    assert!(place.pc_files() == before);
    assert_eq!(place.json(&["recover"])["recovered"], "nothing");
}

#[test]
fn killed_at_any_moment_one_command_puts_the_pc_back() {
    let place = Place::new();
    knobs(&place);
    let before = place.pc_files();
    let begin = [&START[..], &["--seed", "5"]].concat();
    let mut unfinished = 0;
    for after_ms in [60, 150, 0, 300, 450, 0, 600, 900] {
        let has_begun = place.json(&["sift", "list"])["sifts"].as_array().unwrap().len() == 1;
        let words: &[&str] = if has_begun { &["--yes", "sift", "resume"] } else { &begin };
        match after_ms {
            // However busy this machine is, it is in the middle of the play then.
            0 => place.run_and_kill_at_a_write(words),
            _ => place.run_and_kill(words, Duration::from_millis(after_ms)),
        }
        let recovered = place.json(&["--yes", "recover"]);
        unfinished += usize::from(recovered["recovered"] == "change-undone");
        if place.json(&["inspect"])["tweaks_in_force"] == 0 {
            assert!(place.pc_files() == before, "killed after {after_ms} ms");
        }
    }
    assert!(unfinished > 0, "no kill fell into the play");
    place.run(&["sift", "abandon"]);
    place.run(&["--yes", "rollback", "--all"]);
    assert!(place.pc_files() == before);
}

#[test]
fn a_benchmark_that_repeats_is_sifted_place_by_place_for_smaller_effects() {
    let place = Place::new();
    knobs(&place);
    let path = place.pc().join("model.toml");
    let model = fs_err::read_to_string(&path).unwrap();
    let content = "loop_s = 60.0\ncontent = { deviation = 0.15, memory_s = 10, menu_s = 0, between_menus_s = 90 }\n";
    fs_err::write(
        &path,
        model.replacen("frame_ms = 11.6\n", &format!("frame_ms = 11.6\n{content}"), 1),
    )
    .unwrap();
    let sift = place.json(&[&START[..], &["--loop", "60", "--seed", "3"]].concat());
    assert_eq!((&sift["smallest_effect_percent"], &sift["segment_s"]), (&3.0.into(), &10.0.into()));
    assert_eq!(
        (&sift["is_sorted"], &sift["is_detrended"]),
        (&true.into(), &false.into()),
        "{sift}"
    );
    let found: Vec<_> =
        sift["tweaks"].as_array().unwrap().iter().map(|one| &one["found"]).collect();
    assert_eq!(found.iter().filter(|one| ***one == "helps").count(), 1, "{sift}");
    assert_eq!(found.iter().filter(|one| ***one == "hurts").count(), 1, "{sift}");
    // A loop that is too short to settle in is refused.
    let place = Place::new();
    knobs(&place);
    place.run(&[&START[..], &["--loop", "3"]].concat()).fails(2);
}
