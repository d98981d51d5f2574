//! What the catalogue promises, on the rehearsal PCs that it is tried on.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::collections::BTreeSet;

use common::Place;
use serde_json::Value;

const PCS: [&str; 4] = ["desktop", "laptop", "handheld", "old-pc"];

fn place_like(pc: &str) -> Place {
    let place = Place::empty();
    place.run(&["rehearsal", "new", "pc", "--like", pc]).ok();
    place
}

fn ids<'a>(list: &'a Value, name: &str) -> Vec<&'a str> {
    list.as_array().unwrap().iter().map(|one| one[name].as_str().unwrap()).collect()
}

const GRAPHICS: &str =
    "registry:HKCU\\SOFTWARE\\Microsoft\\DirectX\\UserGpuPreferences#DirectXUserGlobalSettings";

/// What the value that lists pairs holds, read as a whole.
fn held(place: &Place) -> String {
    let file = place.pc().join("settings/registry.json");
    let registry: Value = serde_json::from_slice(&fs_err::read(file).unwrap()).unwrap();
    let key = ["SOFTWARE", "Microsoft", "DirectX", "UserGpuPreferences"];
    let key = key.iter().fold(&registry["HKCU"], |key, name| &key["keys"][name]);
    let bytes = key["values"]["DirectXUserGlobalSettings"]["bytes"].as_str().unwrap();
    let byte = |at: usize| u8::from_str_radix(&bytes[at..at + 2], 16).unwrap();
    let units = (0..bytes.len()).step_by(4).map(|at| u16::from_le_bytes([byte(at), byte(at + 2)]));
    String::from_utf16(&units.collect::<Vec<_>>()).unwrap().trim_end_matches('\0').to_owned()
}

/// A string of pairs with foreign ones in it: applied, changed by somebody else, drifted, rolled back.
#[test]
fn a_pair_is_changed_among_others_and_they_stay() {
    let place = place_like("desktop");
    let at_first = held(&place);
    assert_eq!(at_first, "VRROptimizeEnable=0;AutoHDREnable=1;");
    let applied = place.json(&["apply", "--tweak", "graphics/variable-refresh", "--yes"]);
    place.run(&["apply", "--tweak", "graphics/windowed-games", "--yes"]).ok();
    assert_eq!(held(&place), "VRROptimizeEnable=1;AutoHDREnable=1;SwapEffectUpgradeEnable=1;");
    // The way back without Frevin is the whole value, as it was before the change.
    assert_eq!(applied["change"], 1);
    let undo = place.path().join("home/undo");
    let undo = fs_err::read_dir(undo).unwrap().next().unwrap().unwrap().path();
    let undo: Vec<u16> = fs_err::read(undo.join("change-1.reg"))
        .unwrap()
        .chunks_exact(2)
        .map(|pair| u16::from_le_bytes([pair[0], pair[1]]))
        .collect();
    let undo = String::from_utf16(&undo).unwrap();
    assert!(
        undo.contains("\"DirectXUserGlobalSettings\"=\"VRROptimizeEnable=0;AutoHDREnable=1;\"")
    );

    // A foreign pair comes, and another goes: neither is Frevin's, and nothing has drifted.
    let part = GRAPHICS.replacen("registry:", "registry-part:", 1);
    for (pair, state) in [("New", "7"), ("AutoHDREnable", "absent")] {
        let write = format!("{part}#pair:{pair}={state}");
        place.run(&["rehearsal", "fault", "--others-write", &write]).ok();
    }
    assert!(place.json(&["drift"])["drifted"].as_array().unwrap().is_empty());
    assert_eq!(held(&place), "VRROptimizeEnable=1;SwapEffectUpgradeEnable=1;New=7;");
    // One of Frevin's own is changed: that has drifted, and that alone.
    place
        .run(&["rehearsal", "fault", "--others-write", &format!("{part}#pair:VRROptimizeEnable=9")])
        .ok();
    let drifted = place.json(&["drift"]);
    assert_eq!(ids(&drifted["drifted"], "address"), [format!("{part}#pair:VRROptimizeEnable")]);
    place.run(&["rollback", "--all", "--yes"]).fails(9);
    place.run(&["rollback", "--all", "--force", "--yes"]).ok();
    assert_eq!(held(&place), "VRROptimizeEnable=0;New=7;", "what others wrote stays");
}

#[test]
fn words_bits_and_a_value_that_was_not_there_come_back_to_the_byte() {
    let place = place_like("desktop");
    let at_first = place.pc_files();
    let riders = r"program=C:\Games\Gorsehollow\riders.exe";
    let mill = r"program=C:\Games\Mill\mill.exe";
    place.run(&["apply", "--tweak", "graphics/program-compatibility", "--set", riders, "-y"]).ok();
    place.run(&["apply", "--tweak", "graphics/program-windowed", "--set", mill, "-y"]).ok();
    place.run(&["apply", "--tweak", "input/key-shortcuts", "-y"]).ok();
    place.run(&["snapshot", "take", "--name", "now"]).ok();
    let snapshot = place.run(&["snapshot", "show", "4"]).ok().out;
    assert!(snapshot.contains("~ RUNASADMIN DISABLEDXMAXIMIZEDWINDOWEDMODE"), "{snapshot}");
    assert!(snapshot.contains("\"506\""), "the bit is off, and the others are as they were");
    assert!(snapshot.contains("SwapEffectUpgradeEnable=1;"), "{snapshot}");
    place.run(&["rollback", "--all", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn power_values_go_to_the_plan_in_force_and_to_both_kinds_of_cores() {
    let place = place_like("laptop");
    let plans = |args: &[&str]| -> BTreeSet<String> {
        let plan = place.json(args);
        let steps = plan["steps"].as_array().unwrap().iter();
        let addresses = steps.map(|step| step["address"].as_str().unwrap().to_owned());
        addresses.filter(|address| address.contains("#mains")).collect()
    };
    let both = plans(&["preview", "--tweak", "power/core-parking"]);
    let processor = "381b4222-f694-41f0-9685-ff5bb260df2e/54533251-82be-4824-96c1-47b60b740d00";
    for class in ["8583", "8584"] {
        let address = format!("power:{processor}/0cc5b647-c1df-4637-891a-dec35c31{class}#mains");
        assert!(both.contains(&address), "{both:?}");
    }
    let fast = plans(&["preview", "--tweak", "power/core-parking", "--set", "cores=fast"]);
    assert_eq!(fast.len(), 1);
    place.write(
        "fast.toml",
        "format = 1\nname = \"fast\"\npurpose = \"p\"\n[[tweaks]]\nuse = \"power/usb-suspend\"\n\
         [[tweaks]]\nuse = \"power/active-plan\"\n",
    );
    let there = plans(&["preview", "fast.toml"]);
    assert!(there.iter().all(|address| address.contains("8c5e7fda")), "{there:?}");
}

/// After its findings were mended, by tweaks and by hand, nothing is found.
#[test]
fn a_pc_in_good_order_is_told_so() {
    for pc in PCS {
        let place = place_like(pc);
        for _ in 0..4 {
            let report = place.json(&["inspect"]);
            assert_eq!(report["untold"], Value::Array(Vec::new()), "{pc}");
            let by_hand = place.json(&["rehearsal", "mend"])["by_hand"].clone();
            for finding in report["found"].as_array().unwrap() {
                let id = finding["id"].as_str().unwrap();
                if by_hand.as_array().unwrap().contains(&finding["id"]) {
                    place.run(&["rehearsal", "mend", id]).ok();
                    continue;
                }
                let tweak = finding["tweak"].as_str().unwrap_or_else(|| panic!("{pc}: {id}"));
                let chosen: &[&str] = match tweak {
                    "startup/entries" => &[
                        "--set",
                        "entries=user-registry/Tessel Chat, user-registry/Tessel Meetings, \
                         user-registry/Store Front, user-registry/Wallpaper Wheel, \
                         user-registry/Player Tray, user-registry/Orrinfell Lighting, \
                         user-registry/Gorsehollow Launcher, user-folder/Notes.lnk, \
                         task/Orrinfell Updater",
                    ],
                    "memory/page-file" => &["--set", "size=system-managed"],
                    "boot/platform-clock" => &["--set", "use=as-windows-does"],
                    _ => &[],
                };
                let apply = ["apply", "--tweak", tweak, "--allow-protected", tweak, "--yes"];
                place.run(&[&apply[..], chosen].concat()).ok();
            }
            place.run(&["rehearsal", "restart"]).ok();
        }
        let report = place.json(&["inspect"]);
        assert_eq!(ids(&report["found"], "id"), [""; 0], "{pc}");
    }
}

/// Each line of each ready-made profile does something on one of the PCs that it is for.
#[test]
fn every_line_of_a_ready_made_profile_does_something_where_it_is_for() {
    let places = PCS.map(place_like);
    let ready = frevin_core::profile::ready_made();
    assert!(ready.len() >= 9);
    for profile in ready {
        let name = profile.name.as_str();
        let mut idle: Option<BTreeSet<String>> = None;
        for place in &places {
            place.run(&["profile", "new", "mine", "--from", name, "--file", "mine.toml"]).ok();
            let plan = place.json(&["preview", "mine.toml"]);
            fs_err::remove_file(place.path().join("mine.toml")).unwrap();
            let does: BTreeSet<&str> = plan["steps"]
                .as_array()
                .unwrap()
                .iter()
                .filter(|step| step["action"] == "write")
                .chain(plan["by_hand"].as_array().unwrap())
                .map(|one| one["tweak"].as_str().unwrap())
                .collect();
            let all = plan["steps"]
                .as_array()
                .unwrap()
                .iter()
                .chain(plan["left_out"].as_array().unwrap())
                .chain(plan["does_not_fit"].as_array().unwrap())
                .chain(plan["by_hand"].as_array().unwrap());
            let here: BTreeSet<String> = all
                .map(|one| one["tweak"].as_str().unwrap())
                .filter(|tweak| !does.contains(tweak))
                .map(str::to_owned)
                .collect();
            idle = Some(match idle {
                None => here,
                Some(idle) => idle.intersection(&here).cloned().collect(),
            });
        }
        let idle = idle.unwrap();
        assert!(idle.is_empty(), "{name}: {idle:?} do nothing on any rehearsal PC");
    }
}

#[test]
fn what_has_to_be_chosen_is_asked_for_and_rules_are_kept() {
    let place = place_like("desktop");
    let said = place.run(&["apply", "--tweak", "security/game-folder-exclusion", "--yes"]).fails(2);
    assert!(said.err.contains("--set folders="), "{}", said.err);
    let hours = ["preview", "--tweak", "updates/active-hours", "--set", "from_hour=0"];
    let said = place.run(&[&hours[..], &["--set", "to_hour=23"]].concat()).ok();
    assert!(said.out.contains("Windows takes a span of 1 to 18 hours."), "{}", said.out);
    let shown = place.run(&["tweak", "show", "startup/entries"]).ok().out;
    assert!(shown.contains("frevin apply --tweak startup/entries --set entries=…"), "{shown}");
    assert!(shown.contains("none: it has to be chosen"), "{shown}");
    let shown = place.run(&["tweak", "show", "firmware/firmware-update"]).ok().out;
    assert!(!shown.contains("frevin apply"), "what a person does is not applied: {shown}");
    let danger = shown.find("A power cut in the middle").unwrap();
    assert!(danger < shown.find("May break").unwrap(), "{shown}");
}

#[test]
fn devices_are_listed_and_one_that_can_be_spared_is_started_anew() {
    let place = place_like("desktop");
    place.run(&["apply", "--tweak", "network/interrupt-moderation", "--yes"]).ok();
    let listed = place.json(&["device", "list"]);
    let ethernet = |report: &Value| {
        let devices = report["devices"].as_array().unwrap().iter();
        devices.clone().find(|device| device["name"] == "Ethernet").unwrap()["waiting"].clone()
    };
    assert_eq!(ethernet(&listed), 1);
    let restarted = place.json(&["device", "restart", "Ethernet", "--yes"]);
    let option = "adapter:Ethernet#option-*InterruptModeration";
    assert_eq!(restarted["took_effect"], serde_json::json!([option]));
    assert_eq!(ethernet(&place.json(&["device", "list"])), 0);
    let card = listed["devices"][0]["device_id"].as_str().unwrap();
    let said = place.run(&["device", "restart", card, "--yes"]).fails(5);
    assert!(said.err.contains("could not be spared"), "{}", said.err);
    place.run(&["device", "restart", "Nothing", "--yes"]).fails(3);
}

#[test]
fn a_list_of_values_is_taken_into_a_games_file_one_by_one() {
    let place = Place::new();
    let file = place.pc().join("files/documents/Gorsehollow Riders/options.ini");
    let before = fs_err::read(&file).unwrap();
    let at = "file=documents/Gorsehollow Riders/options.ini";
    let apply = |values: &str, form: &str| {
        let (values, form) = (format!("values={values}"), format!("form={form}"));
        let set = ["--set", at, "--set", &form, "--set", &values];
        place.run(&[&["apply", "--tweak", "games/file-values", "--yes"], &set[..]].concat())
    };
    apply("[Video]VSync=0, [Video]MaxFps={rate}, [Fresh]a=b=c, [Video]Workers={cores}", "ini").ok();
    let now = fs_err::read_to_string(&file).unwrap();
    for line in ["VSync=0          ; 0 off, 1 on", "MaxFps=60", "a=b=c", "Workers=6", "Shadows=3"] {
        assert!(now.contains(line), "{line}: {now}");
    }
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(fs_err::read(&file).unwrap(), before);
    let said = apply("VSync", "ini").ok().out;
    assert!(said.contains("needs a name, an equals sign"), "{said}");

    let json = ["--tweak", "games/json-values", "--yes", "--set"];
    let at = "file=local-app-data/Gorsehollow Riders/engine.json";
    let values = r#"values=/graphics/upscaling=true, /graphics/mode="a=b", /graphics/rate={rate}, /graphics/renderScale=0.5"#;
    place.run(&[&["apply"], &json[..], &[at, "--set", values]].concat()).ok();
    let file = place.pc().join("files/local-app-data/Gorsehollow Riders/engine.json");
    let now = fs_err::read_to_string(&file).unwrap();
    for member in
        [r#""upscaling": true"#, r#""mode": "a=b""#, r#""rate": 60"#, r#""renderScale": 0.5"#]
    {
        assert!(now.contains(member), "{member}: {now}");
    }
    place.run(&["rollback", "--all", "--yes"]).ok();
}
