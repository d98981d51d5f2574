//! An evening: planned, spent, cut off, given up.
#![allow(clippy::unwrap_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use common::knobs::{Knob, pc_with};
use serde_json::Value;

/// Eight tweaks, of which two are read by the PC's model: one helps by 6 %, one hurts by 5 %.
fn pc() -> Place {
    let mut knobs = [Knob::default(); 8];
    knobs[2].frame_time = 0.94;
    knobs[5].frame_time = 1.05;
    knobs[7].standing = "no-effect";
    pc_with(&knobs)
}

fn registry(place: &Place) -> String {
    fs_err::read_to_string(place.pc().join("settings/registry.json")).unwrap()
}

fn names(list: &Value) -> Vec<&str> {
    list.as_array().unwrap().iter().map(|one| one["tweak"].as_str().unwrap()).collect()
}

const TUNE: [&str; 8] =
    ["tune", "--candidates", "knobs", "--scene", "canyon-run", "--seed", "7", "--yes"];

#[test]
fn an_evening_keeps_what_is_proven_and_tells_what_it_gave() {
    let place = pc();
    let first = registry(&place);
    let plan = place.json(&["tune", "--candidates", "knobs", "--plan"]);
    // What is known to do nothing is not asked about.
    assert_eq!(names(&plan["plan"]["not_asked"]), ["knobs/knob-7"]);
    assert_eq!(registry(&place), first, "a plan changes nothing");

    let told = place.json(&TUNE);
    assert_eq!(names(&told["kept"]), ["knobs/knob-2"], "{told}");
    assert_eq!(told["verdict"], "better");
    assert_eq!(told["profile"], "tuned-canyon-run@1");
    let gain = &told["gain_percent"];
    let of = |end: &str| gain[end].as_f64().unwrap();
    assert!(of("low") < 6.4 && of("high") > 6.4 && of("low") > 2.0, "{gain}");
    assert!(told["spent_minutes"].as_f64() < told["budget_minutes"].as_f64(), "{told}");
    assert!(registry(&place).contains("Knob2") && !registry(&place).contains("Knob5"));

    let shown = place.run(&["tune", "status"]).ok().out;
    assert!(shown.contains("proven in turns against the PC as it came"), "{shown}");
    assert!(shown.contains("hurt") && shown.contains("knobs/knob-5"), "{shown}");
    let profile = place.run(&["profile", "show", "tuned-canyon-run@1"]).ok().out;
    assert!(profile.contains("by evening 1 of"), "{profile}");
    // Asked again, it says the same, and saves nothing anew.
    let again = place.json(&["tune", "resume"]);
    assert_eq!(again["profile"], "tuned-canyon-run@1");

    // One change holds it, and takes it back.
    let change = told["change"].as_i64().unwrap().to_string();
    assert!(shown.contains(&format!("frevin rollback {change}\n")), "{shown}");
    place.run(&["rollback", &change, "--yes"]).ok();
    assert_eq!(
        serde_json::from_str::<Value>(&registry(&place)).unwrap(),
        serde_json::from_str::<Value>(&first).unwrap()
    );
    // What its owner deletes is not saved anew by looking.
    place.run(&["profile", "delete", "tuned-canyon-run", "--yes"]).ok();
    let status = place.json(&["tune", "status"]);
    assert_eq!((&status["is_taken_back_since"], &status["change"]), (&true.into(), &Value::Null));
    place.run(&["tune", "resume"]).ok();
    let profiles = place.run(&["profile", "list"]).ok().out;
    assert!(!profiles.contains("tuned-"), "{profiles}");
}

#[test]
fn what_was_measured_here_is_asked_first_or_not_at_all() {
    let place = pc();
    place.run(&TUNE).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    let plan = place.json(&["tune", "--candidates", "knobs", "--plan"]);
    let asked = names(&plan["plan"]["asked"]);
    assert_eq!(asked[0], "knobs/knob-2", "{plan}");
    assert!(names(&plan["plan"]["not_asked"]).contains(&"knobs/knob-5"), "{plan}");
}

#[test]
fn cut_off_it_goes_on_and_given_up_it_leaves_the_pc_as_it_was() {
    let place = pc();
    let first = registry(&place);
    place.run(&["rehearsal", "fault", "--power-cut-after", "45"]).ok();
    let cut = place.run(&TUNE);
    assert_ne!(cut.code, 0, "{}", cut.out);
    // Another beginning is refused, with what goes on and what puts the PC back.
    let refused = place.run(&TUNE);
    assert!(refused.err.contains("frevin tune resume"), "{}", refused.err);
    let status = place.json(&["tune", "status"]);
    assert_ne!(status["progress"], "ended");
    let given_up = place.json(&["tune", "abandon"]);
    assert_eq!(given_up["is_given_up"], true);
    assert_eq!(
        serde_json::from_str::<Value>(&registry(&place)).unwrap(),
        serde_json::from_str::<Value>(&first).unwrap()
    );
    place.run(&["tune", "abandon"]).fails(3);
}

#[test]
fn what_is_plainly_wrong_is_mended_first_and_proven_with_the_rest() {
    let place = pc();
    let first = place.settings();
    let plan = place.json(&[&TUNE[..], &["--plan"]].concat());
    let wrong = ["graphics/highest-refresh", "recording/background"];
    assert_eq!(names(&plan["mends"]), wrong);
    assert!(plan["by_hand"].to_string().contains("memory-below-its-speed"), "{plan}");
    assert_eq!(place.settings(), first, "a plan mends nothing");

    let told = place.json(&TUNE);
    assert_eq!(names(&told["mended"]), wrong, "{told}");
    // One change holds it with what helped: both were tried against the PC as it came.
    assert_eq!(told["mended"][0]["change"], told["change"]);
    assert_eq!(told["frame_limit"]["limited_by"], "processor");
    assert!(place.json(&["inspect"])["found"].to_string().find("recording/background").is_none());
    let profile = place.run(&["profile", "show", "tuned-canyon-run"]).ok().out;
    assert!(profile.contains("Every game is recorded in the background; tried with"), "{profile}");

    let file = place.path().join("evening.html").display().to_string();
    let page = place.json(&["report", "tune", "--file", &file]);
    assert_eq!(page["of"], "tune");
    let rates = page["rates"].as_array().unwrap();
    assert!(rates[0]["after_fps"].as_f64() > rates[0]["before_fps"].as_f64(), "{rates:?}");
    let page = fs_err::read_to_string(&file).unwrap();
    for said in [
        "Before and after",
        "What did it",
        "What did not",
        "from the PC as it came",
        "tune --again",
    ] {
        assert!(page.contains(said), "{said}");
    }
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);

    // Where its owner wants it as it is, nothing is mended.
    let told = place.json(&[&TUNE[..], &["--as-it-is"]].concat());
    assert_eq!(told["mended"], serde_json::json!([]), "{told}");
    assert!(place.json(&["inspect"])["found"].to_string().contains("recording/background"));
}

#[test]
fn what_did_not_stay_in_the_trial_is_mended_all_the_same() {
    let place = pc();
    let first = place.settings();
    // Given up in the trial at the end, all of it goes.
    place.run(&["rehearsal", "fault", "--power-cut-after", "90"]).ok();
    place.run(&TUNE);
    place.run(&["rehearsal", "fault", "--none"]).ok();
    assert_eq!(place.json(&["tune", "status"])["progress"], "in-trial");
    // Whoever takes it for the sift that it is gives up all of it too.
    let told = place.json(&["sift", "abandon"]);
    assert_eq!((&told["is_given_up"], &told["kept"]), (&true.into(), &serde_json::json!([])));
    assert_eq!(place.settings(), first);

    // Where nothing helps, what was mended stays.
    let place = pc();
    let model = place.pc().join("model.toml");
    let text = fs_err::read_to_string(&model).unwrap();
    fs_err::write(&model, text.split("[[effects]]").next().unwrap()).unwrap();
    let told = place.json(&TUNE);
    assert_eq!((names(&told["kept"]).len(), names(&told["mended"]).len()), (0, 2), "{told}");
    assert_eq!((&told["is_kept"], &told["profile"]), (&false.into(), &Value::Null), "{told}");
    assert_ne!(told["verdict"], "better");
    let shown = place.run(&["tune", "status"]).ok().out;
    assert!(shown.contains("Mended first, and stays mended whatever was found"), "{shown}");
    assert!(shown.contains("Nothing is kept"), "{shown}");
}

#[test]
fn what_helps_and_stutters_is_not_kept_and_it_is_told_why() {
    let mut knobs = [Knob::default(); 8];
    knobs[2] = Knob { frame_time: 0.93, stutters: 5.0, ..Knob::default() };
    let place = pc_with(&knobs);
    let told = place.json(&TUNE);
    assert_eq!((&told["is_kept"], &told["reason"]), (&false.into(), &"more-stutters".into()));
    assert_eq!(told["vetoes"][0]["guard"], "stutters", "{told}");
    assert!(told["gain_percent"]["low"].as_f64() > Some(2.0), "{told}");
    assert!(!registry(&place).contains("Knob2"));
    let shown = place.run(&["tune", "status"]).ok().out;
    assert!(shown.contains("Against it: stutters +"), "{shown}");
    assert!(shown.contains("helped, not kept  1: knobs/knob-2 (+"), "{shown}");
    place.run(&["report", "tune", "--file", "page.html"]).ok();
    let page = fs_err::read_to_string(place.path().join("page.html")).unwrap();
    assert!(page.contains("Against it: stutters +"));
    assert!(page.contains("Of it only what was plainly wrong is mended still"));
}

#[test]
fn what_was_mended_is_proven_where_nothing_else_helps() {
    let place = pc();
    let model = place.pc().join("model.toml");
    let text = fs_err::read_to_string(&model).unwrap();
    let recording = r"registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\GameDVR#AllowGameDVR";
    let effect = format!(
        "[[effects]]\nname = \"No recording\"\nreads = {{ policy = '{recording}' }}\nwhen = \"policy == 0\"\n\
         frame_time = 0.93\n"
    );
    fs_err::write(&model, text.split("[[effects]]").next().unwrap().to_owned() + &effect).unwrap();
    let first = place.settings();
    let told = place.json(&TUNE);
    assert_eq!((names(&told["kept"]).len(), &told["is_kept"]), (0, &true.into()), "{told}");
    assert!(told["gain_percent"]["low"].as_f64() > Some(3.0), "{told}");
    assert_eq!(told["mended"][0]["change"], told["change"]);
    let shown = place.run(&["profile", "show", "tuned-canyon-run"]).ok().out;
    assert!(shown.contains("recording/background") && !shown.contains("knobs/"), "{shown}");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);
}

#[test]
fn on_every_shipped_pc_it_mends_what_can_be_taken_back_and_tells_what_cannot() {
    for (kind, candidates, mended, by_hand) in [
        ("laptop", "laptop-at-the-wall@1", "graphics/games-gpu", "on-battery"),
        ("handheld", "handheld-in-the-hand@1", "graphics/highest-refresh", "clock-sags"),
        ("old-pc", "all-out@1", "memory/page-file", "old-graphics-driver"),
    ] {
        let place = Place::empty();
        place.run(&["rehearsal", "new", "pc", "--like", kind]).ok();
        let before = place.pc_files();
        let plan = place.json(&["tune", "--plan", "--scene", "canyon-run"]);
        assert_eq!(plan["title"], candidates);
        assert!(names(&plan["mends"]).contains(&mended), "{kind}: {plan}");
        assert!(plan["by_hand"].to_string().contains(by_hand), "{kind}: {plan}");
        // Nothing is in both lists, and what is mended is not asked about.
        let asked = names(&plan["plan"]["asked"]);
        for mend in names(&plan["mends"]) {
            assert!(!asked.contains(&mend), "{kind}: {mend}");
        }
        let hours =
            plan["plan"]["sift_s"].as_u64().unwrap() + plan["plan"]["trial_s"].as_u64().unwrap();
        assert!(hours <= 3 * 3600, "{kind}: {plan}");
        assert_eq!(place.pc_files(), before, "a plan changes nothing");
    }
}

#[test]
fn put_off_it_leaves_nothing_unproven_and_goes_on_where_it_was() {
    let place = pc();
    place.run_and_kill(&TUNE, std::time::Duration::from_millis(1200));
    if place.run(&["tune", "status"]).code != 0 {
        // This machine was too slow to begin it.
        return;
    }
    let told = place.json(&["tune", "pause"]);
    assert_eq!(told["progress"], "paused", "{told}");
    assert!(!registry(&place).contains("Knob"), "nothing of what is asked about is in force");
    // It is the one that is meant until it goes on.
    assert!(place.run(&TUNE).err.contains("frevin tune resume"));
    let again = place.json(&["tune", "pause"]);
    assert_eq!(again["progress"], "paused");
    let shown = place.run(&["tune", "status"]).ok().out;
    assert!(shown.contains("it is put off"), "{shown}");
    let told = place.json(&["tune", "resume"]);
    assert_eq!((&told["progress"], names(&told["kept"])), (&"ended".into(), vec!["knobs/knob-2"]));
    place.run(&["tune", "pause"]).fails(3);
}

#[test]
fn whoever_works_on_it_in_another_window_is_asked_to_put_it_off() {
    let place = pc();
    let mut child = place.command(&TUNE).stdout(std::process::Stdio::null()).spawn().unwrap();
    while place.run(&["tune", "status"]).code != 0 {
        std::thread::sleep(std::time::Duration::from_millis(20));
    }
    let asked = place.run(&["tune", "pause"]);
    child.wait().unwrap();
    if !asked.out.contains("was asked to put it off") {
        // It had come to its end by then.
        return;
    }
    let told = place.json(&["tune", "status"]);
    assert!(["paused", "ended"].contains(&told["progress"].as_str().unwrap()), "{told}");
    let told = place.json(&["tune", "resume"]);
    assert_eq!(names(&told["kept"]), ["knobs/knob-2"]);
}

#[test]
fn after_an_update_what_has_aged_is_asked_again() {
    let place = pc();
    let again = ["tune", "--again", "--seed", "8", "--yes"];
    place.run(&again).fails(3);
    place.json(&TUNE);
    let nothing = place.run(&again).fails(2);
    assert!(nothing.err.contains("nothing has aged since evening 1"), "{}", nothing.err);

    let kept = place.settings();
    place.run(&["rehearsal", "update", "--graphics-driver", "9.9"]).ok();
    let updated = place.settings();
    let plan = place.json(&[&again[..], &["--plan"]].concat());
    assert_eq!(plan["because"], serde_json::json!(["other-driver"]));
    // The largest first; what hurt then is not worth another evening.
    assert_eq!(names(&plan["plan"]["asked"])[0], "knobs/knob-2");
    assert!(names(&plan["plan"]["not_asked"]).contains(&"knobs/knob-5"), "{plan}");
    assert_eq!(place.settings(), updated);

    // Given up, what the evening before kept is in force again, the update's own settings too.
    place.run(&["rehearsal", "fault", "--power-cut-after", "70"]).ok();
    place.run(&again);
    place.run(&["rehearsal", "fault", "--none"]).ok();
    let told = place.json(&["tune", "abandon"]);
    assert_eq!((&told["tune"], &told["is_given_up"]), (&2.into(), &true.into()));
    assert_eq!(told["mended"], serde_json::json!([]), "what it mended itself is taken back");
    assert!(place.settings() == kept, "what was kept is not in force again");
    // What its owner takes back afterwards stays so.
    place.run(&["rollback", "--all", "--yes"]).ok();
    place.run(&["tune", "abandon"]).fails(3);
    assert!(!registry(&place).contains("Knob2"));
    place.run(&["apply", "tuned-canyon-run", "--yes"]).ok();
    assert!(place.settings() == kept, "its profile holds the same");

    let told = place.json(&again);
    assert_eq!((names(&told["kept"]), &told["is_again"]), (vec!["knobs/knob-2"], &true.into()));
    assert_eq!(told["profile"], "tuned-canyon-run@2");
    assert_eq!(names(&told["mended"]).len(), 2, "{told}");
}

#[test]
fn too_short_an_evening_says_how_long_the_shortest_is() {
    let place = pc();
    let short = place.run(&[
        "tune",
        "--candidates",
        "knobs",
        "--budget",
        "20min",
        "--scene",
        "canyon-run",
        "--yes",
    ]);
    assert_eq!(short.code, 2, "{}", short.err);
    assert!(short.err.contains("the shortest evening takes"), "{}", short.err);
    place.run(&["tune", "status"]).fails(3);
}

#[test]
fn killed_at_any_moment_it_goes_on_to_the_same_end() {
    let place = pc();
    let undisturbed = place.json(&TUNE);
    place.run(&["rollback", "--all", "--yes"]).ok();

    let place = pc();
    let mut words: Vec<&str> = TUNE.to_vec();
    for kill in 1..=6 {
        place.run_and_kill(&words, std::time::Duration::from_millis(150 * kill));
        if place.run(&["tune", "status"]).code == 0 {
            // Whoever takes it for the sift that it is comes to the same end.
            words = vec!["sift", "resume"];
        } else {
            // It was cut off while something was mended, before it was an evening.
            place.run(&["recover", "--yes"]);
        }
    }
    place.run(&words);
    let told = place.json(&["tune", "status"]);
    assert_eq!(told["progress"], "ended", "{told}");
    assert_eq!(told["profile"], "tuned-canyon-run@1");
    assert_eq!(names(&told["kept"]), names(&undisturbed["kept"]));
    assert_eq!(told["verdict"], undisturbed["verdict"]);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert!(!registry(&place).contains("Knob"), "all of it is taken back");
}

#[test]
fn a_plan_says_what_will_be_done_and_how_long_it_takes() {
    let place = pc();
    let shown = place.run(&["tune", "--candidates", "knobs", "--plan", "--budget", "6h"]).ok().out;
    insta::assert_snapshot!(shown, @"
    An evening of 6 h: what of knobs@1 helps in canyon-run?
    Plainly wrong, and mended first
      Lumet 27Q runs at 60 hertz; at 2560x1440 it offers 165. (graphics/highest-refresh)
      Windows keeps the last moments of every game in case they are wanted. (recording/background)

    Only you can mend this, and had better before anything is measured
      Memory runs below the speed that its modules name: frevin tweak steps firmware/memory-profile
      The processor sees graphics memory through a small window: frevin tweak steps
      firmware/large-graphics-window

      look   a run tells what limits the frames
      ask    7 tweaks are asked about at once, in at most 64 configurations (a restart, a run to warm up and one of 60 s): 4 h 6 min at most
      prove  what helped is tried together against the PC as it came: 1 h 39 min at most
      find   effects of 0.7 % and more on average FPS, in four of five cases
      keep   what is better, as a profile; all else is taken back exactly
    A rehearsal PC plays all of it in a moment; the times are those of a real one.

      asked about   expected            may be
      knobs/knob-0    +0.9 %  -3.2 % to +4.0 %
      knobs/knob-1    +0.9 %  -3.2 % to +4.0 %
      knobs/knob-2    +0.9 %  -3.2 % to +4.0 %
      knobs/knob-3    +0.9 %  -3.2 % to +4.0 %
      knobs/knob-4    +0.9 %  -3.2 % to +4.0 %
      knobs/knob-5    +0.9 %  -3.2 % to +4.0 %
      knobs/knob-6    +0.9 %  -3.2 % to +4.0 %
      not this time (1): knobs/knob-7
    ");
    let short = place.json(&["tune", "--candidates", "knobs", "--plan", "--budget", "1h"]);
    assert!(short["plan"]["asked"].as_array().unwrap().len() < 7, "{short}");
    assert!(short["plan"]["trial_runs"].as_u64() < Some(3), "{short}");
}

#[test]
fn without_a_profile_named_one_for_the_kind_of_pc_is_asked_about() {
    let place = Place::new();
    let plan = place.json(&["tune", "--plan", "--scene", "canyon-run"]);
    assert_eq!(plan["title"], "all-out@1", "{plan}");
    let asked = names(&plan["plan"]["asked"]);
    assert!(asked.contains(&"recording/captures"), "{asked:?}");
    // What is about something else than frames comes last, whatever it is well founded for.
    let place_of = |tweak: &str| asked.iter().position(|one| *one == tweak);
    assert!(place_of("power/active-plan") < place_of("privacy/advertising-id"), "{asked:?}");
    let help = place.run(&["help", "tune"]).ok().out;
    assert!(help.contains("within the time there is"), "{help}");
}

#[test]
fn the_demo_of_an_evening_ends_with_its_page_and_the_pc_as_it_came() {
    let place = Place::new();
    let told = place.json(&["demo", "--evening"]);
    assert_eq!(told["is_as_at_first"], true);
    let evening = &told["evening"];
    assert_eq!(
        (&evening["verdict"], &evening["budget_minutes"]),
        (&"better".into(), &180.0.into())
    );
    assert!(evening["gain_percent"]["low"].as_f64() > Some(0.0), "{evening}");
    let page = told["report"].as_str().unwrap().rsplit('/').next().unwrap();
    let text = fs_err::read_to_string(place.path().join(page)).unwrap();
    assert!(text.contains("What an evening made of this PC in canyon-run"));
    assert!(!text.contains("<script"));
}

#[test]
fn for_a_quiet_pc_what_costs_no_frames_is_kept() {
    let place = pc();
    let first = place.settings();
    let quiet = ["tune", "--quiet-pc", "--scene", "canyon-run", "--seed", "5", "--yes"];
    let plan = place.json(&[&quiet[..], &["--plan"]].concat());
    assert_eq!((&plan["goal"], &plan["title"]), (&"quiet".into(), &"quiet@1".into()));
    let shown = place.run(&[&quiet[..], &["--plan"]].concat()).ok().out;
    assert!(shown.contains("what of quiet@1 costs no frames in canyon-run?"), "{shown}");
    assert!(shown.contains("costs none"), "{shown}");

    // Of the knobs, one hurts and one helps: what hurts is not kept, all else is.
    let knobs = [&quiet[..], &["--candidates", "knobs"]].concat();
    let told = place.json(&knobs);
    let kept = names(&told["kept"]);
    assert!(kept.contains(&"knobs/knob-2") && kept.contains(&"knobs/knob-0"), "{told}");
    assert!(!kept.contains(&"knobs/knob-5"), "{told}");
    assert_eq!(told["profile"], "quiet-canyon-run@1");
    // What was mended has its own change, and hides nothing of what the rest costs.
    assert!(names(&told["mended"]).contains(&"recording/background"), "{told}");
    assert_ne!(told["mended"][0]["change"], told["change"]);
    let shown = place.run(&["tune", "status"]).ok().out;
    assert!(shown.contains("Less power and noise for the same frames"), "{shown}");
    assert!(shown.contains("or what was mended"), "{shown}");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.settings(), first);
}

#[test]
fn where_frames_are_capped_nothing_is_begun() {
    let place = pc();
    let first = place.settings();
    let model = place.pc().join("model.toml");
    let mut text = fs_err::read_to_string(&model).unwrap();
    // Frames as even as a cap makes them.
    for (what, even) in [("frame_spread", "0.0004"), ("per_minute", "0.0"), ("share", "0.0")] {
        let old = text.lines().find(|line| line.starts_with(&format!("{what} ="))).unwrap();
        text = text.replacen(&old.to_owned(), &format!("{what} = {even}"), 1);
    }
    fs_err::write(&model, text).unwrap();
    let refused = place.run(&TUNE).fails(5);
    assert!(refused.err.contains("nothing was begun: frames are capped"), "{}", refused.err);
    assert!(refused.err.contains("--despite-cap"), "{}", refused.err);
    assert_eq!(place.settings(), first, "what was mended before it is taken back");
    place.run(&["tune", "status"]).fails(3);
}
