//! What Frevin asks at a terminal, answered as a person would: `script` gives each command one.
#![cfg(unix)]
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::io::Write as _;
use std::process::{Command, Stdio};

use common::Place;

/// Runs a command at a terminal whose owner types `keys`. Gives its exit code and what was shown.
fn at_a_terminal(place: &Place, command: &str, keys: &str) -> (i32, String) {
    let mut child = Command::new("script")
        .args(["--quiet", "--return", "--command"])
        .arg(format!("{} {command}", env!("CARGO_BIN_EXE_frevin")))
        .arg("/dev/null")
        .env_clear()
        .env("PATH", std::env::var_os("PATH").unwrap())
        .env("SHELL", "/bin/sh")
        .env("TERM", "xterm")
        .env("NO_COLOR", "1")
        .env("FREVIN_HOME", place.path().join("home"))
        .env("FREVIN_PC", place.pc())
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .spawn()
        .unwrap();
    let mut stdin = child.stdin.take().unwrap();
    stdin.write_all(keys.as_bytes()).unwrap();
    // The terminal stays open until the command has ended.
    let output = child.wait_with_output().unwrap();
    drop(stdin);
    (output.status.code().unwrap(), String::from_utf8_lossy(&output.stdout).into_owned())
}

fn mode(place: &Place) -> String {
    let text = fs_err::read_to_string(place.pc().join("settings/display.json")).unwrap();
    let displays: serde_json::Value = serde_json::from_str(&text).unwrap();
    displays["Lumet 27Q"]["values"]["mode"]["mode"].as_str().unwrap().to_owned()
}

const HIGHEST: &str = "apply --tweak graphics/highest-refresh";

#[test]
fn a_display_goes_back_unless_somebody_can_read_it() {
    let place = Place::new();
    let before = mode(&place);
    let (code, shown) = at_a_terminal(&place, HIGHEST, "yn\n");
    assert_eq!(code, 6, "{shown}");
    assert!(shown.contains("Can you read this on every display?"), "{shown}");
    assert!(shown.contains("all of it was undone"), "{shown}");
    assert_eq!(mode(&place), before);

    let (code, shown) = at_a_terminal(&place, HIGHEST, "yy\n");
    assert_eq!(code, 0, "{shown}");
    assert_ne!(mode(&place), before);
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(mode(&place), before);
}

#[test]
fn nothing_is_done_without_a_word_for_it() {
    let place = Place::new();
    let before = place.pc_files();
    let (code, shown) = at_a_terminal(&place, "apply --tweak looks/menu-delay", "n");
    assert_eq!(code, 2, "{shown}");
    assert!(shown.contains("nothing was changed, as you wished"), "{shown}");
    assert_eq!(place.pc_files(), before);
}

#[test]
fn drift_is_settled_as_its_owner_chooses() {
    let place = Place::new();
    let delay = "visual:menu-delay";
    for (keys, left) in [("\u{1b}[B\r", 90), ("\u{1b}[B\u{1b}[B\r", 50)] {
        place.run(&["apply", "--tweak", "looks/menu-delay", "--set", "delay_ms=50", "--yes"]).ok();
        place.run(&["rehearsal", "fault", "--others-write", &format!("{delay}=90")]).ok();
        let (_, shown) = at_a_terminal(&place, "drift", keys);
        let now = place.json(&["tweak", "show", "looks/menu-delay"])["here"]["settings"][0].clone();
        assert_eq!(now["now"]["value"]["milliseconds"], left, "{shown}");
        place.run(&["rollback", "--all", "--force", "--yes"]).ok();
        place.run(&["rehearsal", "fault", "--others-write", &format!("{delay}=400")]).ok();
    }
}

#[test]
fn what_only_the_owner_knows_is_asked_once() {
    let place = Place::empty();
    place.run(&["rehearsal", "new", "pc", "--like", "laptop"]).ok();
    let path = place.pc().join("facts.toml");
    let facts = fs_err::read_to_string(&path).unwrap().replace("\nprinter = false", "");
    let unknown = "[unknown]\n\"uses.printer\" = \"only the owner can say\"\n\
                   \"firmware.large_graphics_window\" = \"Windows does not tell\"\n";
    fs_err::write(&path, format!("{facts}\n{unknown}")).unwrap();
    // Passed over; then no answer, and one.
    let (code, shown) = at_a_terminal(&place, "inspect --ask", "\rperhaps\r\x15yes\r");
    assert_eq!(code, 0, "{shown}");
    assert!(shown.contains("it takes yes or no") && shown.contains("1 answer kept"), "{shown}");
    let inspected = place.json(&["inspect"]);
    assert_eq!(inspected["facts"]["uses"]["printer"], true);
    let unknown: Vec<_> = inspected["facts"]["unknown"].as_object().unwrap().keys().collect();
    assert_eq!(unknown, ["firmware.large_graphics_window"]);
    let (_, shown) = at_a_terminal(&place, "inspect --ask", "stop\r");
    assert!(shown.contains("1 of 1") && shown.contains("0 answers kept"), "{shown}");
}

#[test]
fn an_evening_asks_a_word_for_each_thing_that_it_mends() {
    let place = Place::new();
    let before = place.pc_files();
    // Display yes, recording no, and no evening after all.
    let (code, shown) = at_a_terminal(&place, "tune --scene canyon-run", "ynn");
    assert_eq!(code, 2, "{shown}");
    for asked in
        ["Mend it first (graphics/highest-refresh)?", "Mend it first (recording/background)?"]
    {
        assert!(shown.contains(asked), "{asked}: {shown}");
    }
    let mended_first = shown.split("Plainly wrong, and mended first").nth(1).unwrap();
    let mended_first = mended_first.split("Only you can mend this").next().unwrap();
    assert!(mended_first.contains("graphics/highest-refresh"), "{shown}");
    assert!(!mended_first.contains("recording/background"), "{shown}");
    // What is left as it is may be asked about like any other.
    let asked = shown.split("asked about  ").nth(1).unwrap();
    assert!(asked.contains("recording/background"), "{shown}");
    assert!(shown.contains("Begin it?") && shown.contains("as you wished"), "{shown}");
    assert_eq!(place.pc_files(), before);
    place.run(&["tune", "status"]).fails(3);
}

#[test]
fn an_evening_asks_about_each_tweak_for_experts() {
    let place = Place::new();
    let text = "format = 1\nname = \"bold\"\npurpose = \"Also what is for experts\"\nscene = \"canyon-run\"\n\
                \n[[tweaks]]\nuse = \"power/active-plan\"\n\n[[tweaks]]\nuse = \"power/no-idle-states\"\n\
                \n[[tweaks]]\nuse = \"looks/menu-delay\"\n";
    place.write("bold.toml", text);
    place.run(&["profile", "save", "bold.toml"]).ok();
    let plan = place.json(&["tune", "--plan", "--candidates", "bold"]);
    let left_out = plan["left_out"].to_string();
    assert!(left_out.contains("--expert power/no-idle-states"), "{plan}");
    let (_, shown) = at_a_terminal(&place, "tune --candidates bold --as-it-is", "nn");
    assert!(shown.contains("Ask about power/no-idle-states too? It is for experts."), "{shown}");
    let plan =
        place.json(&["tune", "--plan", "--candidates", "bold", "--expert", "power/no-idle-states"]);
    assert!(plan["plan"].to_string().contains("power/no-idle-states"), "{plan}");
}
