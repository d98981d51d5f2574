//! Reports: pages that stand alone, drawings that lose no frame, nothing private.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;

fn read(place: &Place, file: &str) -> String {
    fs_err::read_to_string(place.path().join(file)).unwrap()
}

/// What every page has to be.
fn stands_alone(page: &str) {
    assert!(page.starts_with("<!DOCTYPE html>") && page.contains("<html lang=\"en\">"));
    for foreign in ["<script", "<link", "<iframe", "url(", "src=", "href=", "@import", "http"] {
        assert!(!page.contains(foreign), "{foreign}");
    }
    assert_eq!(page.matches("<h1").count(), 1);
    assert!(page.contains("prefers-color-scheme:dark") && page.contains("@media print"));
    // Whoever sees nothing is told what each drawing shows.
    let drawings = page.matches("<svg").count();
    assert_eq!(page.matches("role=\"img\"").count(), drawings);
    assert_eq!(page.matches("<desc id=").count(), drawings);
    assert_eq!(page.matches("<table").count(), page.matches("<caption>").count());
}

#[test]
fn the_page_of_a_trial_says_what_was_found_and_how_it_is_taken_back() {
    let place = Place::new();
    let trial = ["--yes", "trial", "start", "--scene", "canyon-run", "--seed", "4"];
    place.run(&[&trial[..], &["--tweak", "recording/background"]].concat()).ok();
    let told = place.json(&["report", "trial", "--figures", "figures"]);
    assert_eq!((&told["of"], &told["verdict"]), (&"trial".into(), &"better".into()));
    let page = read(&place, "frevin-trial.html");
    stands_alone(&page);
    for said in [
        "Is recording/background better than the PC as it is, in canyon-run?",
        "Yes: it is better.",
        "is in force",
        "frevin rollback ",
        "HistoricalCaptureEnabled",
        "What the numbers mean",
        "Conditions and doubts",
    ] {
        assert!(page.contains(said), "{said}");
    }
    // Every pair is there, with both states.
    let pairs = told["visits"].as_array().unwrap().len();
    assert!(page.contains(&format!("All {pairs} pairs")));
    assert_eq!(told["figures"]["pairs"].as_array().unwrap().len(), pairs);
    for name in ["intervals", "frame-times", "by-length", "up-to-length", "pairs"] {
        let svg = read(&place, &format!("figures/trial-{name}.svg"));
        assert!(svg.starts_with("<svg") && svg.contains("xmlns=") && svg.ends_with("</svg>"));
        assert!(read(&place, &format!("figures/trial-{name}.csv")).lines().count() > 2);
        // A picture of points needs a font, which not every PC has.
        if let Ok(png) = fs_err::read(place.path().join(format!("figures/trial-{name}.png"))) {
            assert!(png.starts_with(b"\x89PNG") && png.len() > 5000, "{name}");
        }
    }
    // No frame is lost on the way into a drawing: the longest of the trial is in it.
    let longest = |arm: usize| {
        let stretches = told["figures"]["frames"][arm]["shape"]["stretches"].as_array().unwrap();
        stretches.iter().map(|one| one["longest_ms"].as_f64().unwrap()).fold(0.0, f64::max)
    };
    let visits = place.json(&["run", "list"]);
    let runs = visits["visits"]
        .as_array()
        .unwrap()
        .iter()
        .flat_map(|visit| visit["runs"].as_array().unwrap());
    let counted = runs.filter(|run| run["is_warm_up"] == false);
    let of_runs = counted.map(|run| run["metrics"]["longest_frame_ms"].as_f64().unwrap());
    assert_eq!(longest(0).max(longest(1)), of_runs.fold(0.0, f64::max));
    // It is not written over unless somebody says so.
    place.run(&["report", "trial"]).fails(2);
    place.run(&["report", "trial", "--replace"]).ok();
    place.run(&["report", "trial", "99", "--file", "none.html"]).fails(3);
    assert!(!place.path().join("none.html").exists());
}

#[test]
fn pages_of_a_sift_a_change_a_play_and_the_pc() {
    let place = Place::new();
    let text = "format = 1\nname = \"advice\"\npurpose = \"p\"\nscene = \"canyon-run\"\n\n\
                [[tweaks]]\nuse = \"recording/background\"\n\n[[tweaks]]\nuse = \"memory/large-file-cache\"\n\n\
                [[tweaks]]\nuse = \"looks/menu-delay\"\n\n[[tweaks]]\nuse = \"clean/old-files\"\n";
    fs_err::write(place.path().join("advice.toml"), text).unwrap();
    place.run(&["profile", "save", "advice.toml"]).ok();
    place.run(&["--yes", "sift", "start", "advice", "--seed", "2"]).ok();
    let sift = place.json(&["report", "sift"]);
    let page = read(&place, "frevin-sift.html");
    stands_alone(&page);
    assert!(page.contains("Which of advice@1 matter in canyon-run?"), "{}", sift["title"]);
    assert!(page.contains("hurts") && page.contains("helps") && page.contains("left out"));
    place.run(&["report"]).ok();
    let page = read(&place, "frevin-pc.html");
    stands_alone(&page);
    assert!(page.contains("What is plainly wrong") && page.contains("helps: +"));
    let change = place.json(&["log"])["changes"].as_array().map_or(1, Vec::len).to_string();
    place.run(&["report", "change", &change]).ok();
    stands_alone(&read(&place, &format!("frevin-change-{change}.html")));
    let play = ["--yes", "play", "canyon-run", "--seconds", "2", "--record"];
    place.run(&[&play[..], &["--tweak", "looks/menu-delay", "--set", "delay_ms=10"]].concat()).ok();
    place.run(&["report", "play"]).ok();
    let page = read(&place, "frevin-play.html");
    stands_alone(&page);
    assert!(page.contains("in ordinary play") && page.contains("No scene and no other play"));
}

#[test]
fn what_was_played_is_shown_segment_by_segment_and_names_of_people_are_not() {
    let place = Place::new();
    let trial = ["--yes", "trial", "start", "--in-play", "--scene", "canyon-run", "--seed", "5"];
    place.run(&[&trial[..], &["--tweak", "power/active-plan"]].concat());
    let told = place.json(&["report", "trial"]);
    let page = read(&place, "frevin-trial.html");
    stands_alone(&page);
    assert!(page.contains("Segments in the order in which they were played"));
    let segments = told["figures"]["segments"].as_array().unwrap().len();
    assert_eq!(segments as u64, told["segments"].as_u64().unwrap());
    // A value that gives a name away is shown without it.
    let path = r"registry:HKCU\Software\Own#Path";
    let tweak = format!(
        "id = \"own/path\"\ntitle = \"A path\"\nwhat = \"Sets it.\"\nwhy = \"It is known.\"\nmay_break = \"Nothing.\"\n\
         standing = \"contested\"\nstanding_reason = \"A test.\"\nrisk = \"safe\"\ntakes_effect = \"now\"\n\
         [[settings]]\naddress = '{path}'\ntype = \"string\"\nvalue = 'C:\\Users\\Rosalind\\game.ini'\n\
         [[sources]]\ntitle = \"None\"\nstates = \"None.\"\n"
    );
    fs_err::create_dir_all(place.path().join("home/tweaks/own")).unwrap();
    fs_err::write(place.path().join("home/tweaks/own/path.toml"), tweak).unwrap();
    let change = place.json(&["--yes", "apply", "--tweak", "own/path"])["change"].to_string();
    place.run(&["report", "change", &change]).ok();
    let page = read(&place, &format!("frevin-change-{change}.html"));
    assert!(page.contains(r"C:\Users\someone\game.ini") && !page.contains("Rosalind"), "{page}");
    place.run(&["report", "change", &change, "--with-private", "--replace"]).ok();
    assert!(read(&place, &format!("frevin-change-{change}.html")).contains("Rosalind"));
}

#[test]
fn ideas_are_explained_and_manual_pages_written() {
    let place = Place::empty();
    let list = place.run(&["help"]).ok();
    let topics = place.json(&["help"])["topics"].clone();
    for topic in topics.as_array().unwrap() {
        let name = topic["topic"].as_str().unwrap();
        assert!(list.out.contains(name), "{name}");
        let said = place.run(&["help", name]).ok();
        assert!(said.out.len() > 200, "{name}");
        // Commands that a text names are there.
        for command in
            said.out.split('`').skip(1).step_by(2).filter(|text| text.starts_with("frevin "))
        {
            let word = command.split_whitespace().nth(1).unwrap();
            place.run(&[word, "--help"]).ok();
        }
    }
    place.run(&["help", "nothing"]).fails(3);
    place.run(&["manual", "man"]).ok();
    let page = fs_err::read_to_string(place.path().join("man/frevin-trial-start.1")).unwrap();
    assert!(page.contains(".TH frevin-trial-start 1") && page.contains("in\\-play"), "{page}");
}

#[test]
fn what_strangers_write_is_shown_and_never_run() {
    let place = Place::new();
    let tweak = r#"id = "own/sly"
title = "A title"
what = "Sets it."
why = "It is known."
may_break = "Nothing."
standing = "contested"
standing_reason = "A test."
risk = "safe"
takes_effect = "now"
[[settings]]
address = 'registry:HKCU\Software\Own#<script>'
type = "string"
value = '"><img src=x onerror=alert(1)></td><script>alert(2)</script>'
[[sources]]
title = "None"
states = "None."
"#;
    fs_err::create_dir_all(place.path().join("home/tweaks/own")).unwrap();
    fs_err::write(place.path().join("home/tweaks/own/sly.toml"), tweak).unwrap();
    let change = place.json(&["--yes", "apply", "--tweak", "own/sly"])["change"].to_string();
    place.run(&["report", "change", &change]).ok();
    let page = read(&place, &format!("frevin-change-{change}.html"));
    assert!(!page.contains("<script") && !page.contains("<img"), "{page}");
    assert!(page.contains("&lt;script&gt;alert(2)"), "{page}");
    // Taken back, the page says so, and names no way back that is none.
    place.run(&["--yes", "rollback", "--all"]).ok();
    place.run(&["report", "change", &change, "--replace"]).ok();
    let page = read(&place, &format!("frevin-change-{change}.html"));
    assert!(page.contains("None of it is in force.") && !page.contains("frevin rollback"));
}

#[test]
fn a_pc_of_which_nothing_is_known_has_a_page_and_what_is_not_there_has_none() {
    let place = Place::new();
    place.run(&["report", "pc", "--file", "pc.html"]).ok();
    let page = read(&place, "pc.html");
    stands_alone(&page);
    assert!(page.contains("Nothing of Frevin's.") && page.contains("What it is"));
    for none in [&["trial"][..], &["sift"], &["play"], &["change", "7"]] {
        let words = [&["report"][..], none, &["--file", "none.html"]].concat();
        place.run(&words).fails(3);
    }
    assert!(!place.path().join("none.html").exists());
    // A folder that is not there is no place for a page.
    let said = place.run(&["report", "pc", "--file", "nowhere/pc.html"]);
    assert_ne!(said.code, 0);
}

#[test]
fn a_symptom_leads_to_what_is_in_force_and_the_command_that_takes_it_back() {
    let place = Place::new();
    let none = place.run(&["rollback", "--suspect", "no sound"]).ok();
    assert!(none.out.contains("it was not Frevin"), "{}", none.out);
    place.run(&["--yes", "apply", "--tweak", "recording/background"]).ok();
    place.run(&["--yes", "apply", "--tweak", "looks/menu-delay"]).ok();
    let found = place.json(&["rollback", "--suspect", "my recordings are gone"]);
    assert_eq!(found["suspects"].as_array().unwrap().len(), 1, "{found}");
    assert_eq!(
        (&found["suspects"][0]["tweak"], &found["suspects"][0]["change"]),
        (&"recording/background".into(), &1.into())
    );
    let said = place.run(&["rollback", "--suspect", "my recordings are gone"]).ok().out;
    let command = "frevin rollback 1 --tweak recording/background";
    assert!(said.contains(command), "{said}");
    let words: Vec<&str> = command.split_whitespace().skip(1).chain(["--yes"]).collect();
    place.run(&words).ok();
    // Nothing in force speaks of it any more: then all that is in force is shown.
    let left = place.json(&["rollback", "--suspect", "my recordings are gone"]);
    assert_eq!(
        (&left["any_speaks_of_it"], &left["suspects"][0]["tweak"]),
        (&false.into(), &"looks/menu-delay".into())
    );
}
