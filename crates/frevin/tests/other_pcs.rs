//! The same commands on PCs with other facts and other lives: what fits differs, what is promised
//! does not.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

/// A PC whose facts are changed: each a text and what stands in its place.
fn place_with(facts: &[(&str, &str)]) -> Place {
    let place = Place::with_evening();
    let path = place.pc().join("facts.toml");
    let mut text = fs_err::read_to_string(&path).unwrap();
    for (from, to) in facts {
        assert!(text.contains(from), "{from}");
        text = text.replacen(from, to, 1);
    }
    fs_err::write(&path, text).unwrap();
    place
}

fn misfits(place: &Place) -> String {
    let list = place.json(&["tweak", "list"]);
    let mut lines = Vec::new();
    for tweak in list["tweaks"].as_array().unwrap() {
        for misfit in tweak["misfits"].as_array().unwrap() {
            lines.push(format!("{}: {}", tweak["id"].as_str().unwrap(), misfit.as_str().unwrap()));
        }
    }
    lines.join("\n")
}

#[test]
fn a_laptop_on_battery() {
    let place = place_with(&[
        ("form = \"desktop\"", "form = \"laptop\""),
        ("power_source = \"mains\"", "power_source = \"battery\""),
    ]);
    assert_snapshot!(misfits(&place), @"
    background/apps-of-windows-10: Windows after build 19045 no longer has it; this is build 26100
    boot/dynamic-tick: A timer that never stops would empty the battery of a laptop or handheld.
    firmware/graphics-carve-out: There are no graphics in the processor.
    graphics/games-gpu: This PC has one graphics processor: there is nothing to choose.
    graphics/program-gpu: This PC has one graphics processor: there is nothing to choose.
    looks/chat-button: Windows after build 22631 no longer has it; this is build 26100
    network/wireless-band: There is no wireless adapter in this PC.
    network/wireless-roaming: There is no wireless adapter in this PC.
    power/mixed-core-policy: All cores of this processor are of one kind.
    power/throttling: On battery, throttling background work is what keeps a laptop or handheld going.
    power/vendor-mode: This PC's maker has no power modes of its own, as far as is known.
    power/wireless-saving: There is no wireless adapter in this PC.
    privacy/consumer-features: Home and Pro editions ignore this policy; privacy/suggested-content does it there.
    services/bluetooth: The owner uses devices by Bluetooth.
    services/file-search: The owner searches files from the task bar, which this would break.
    services/maps: Windows after build 22631 no longer has it; this is build 26100
    services/printing: The owner prints, which this would break.
    services/sensors: A laptop or handheld uses its sensors.
    services/touch-keyboard: Windows after build 19045 no longer has it; this is build 26100
    tasks/maps: Windows after build 22631 no longer has it; this is build 26100
    ");
    let inspected = place.run(&["inspect"]).ok().out;
    assert!(inspected.contains("laptop, on battery"), "{inspected}");
    let applied = place.json(&["apply", "evening", "--yes"]);
    assert_eq!(applied["written"], common::EVENING_WRITES, "a moment on battery bars nothing");
}

#[test]
fn an_old_pc_with_a_spinning_disk_little_memory_and_an_older_windows() {
    let place = place_with(&[
        ("kind = \"solid-state\"", "kind = \"spinning\""),
        ("size_mib = 16384", "size_mib = 4096"),
        ("build = 26100", "build = 15063"),
        ("release = 11", "release = 10"),
        ("can_schedule_itself = true", "can_schedule_itself = false"),
    ]);
    assert_snapshot!(misfits(&place), @"
    background/startup-delay: Windows is on a spinning disk, which the pause is made for.
    cpu/timer-requests: it needs Windows build 22000 or later; this is build 15063
    firmware/graphics-carve-out: There are no graphics in the processor.
    firmware/graphics-switch: Only laptops have such a switch.
    graphics/auto-hdr: it needs Windows build 22000 or later; this is build 15063
    graphics/dynamic-refresh: it needs Windows build 22000 or later; this is build 15063
    graphics/games-gpu: it needs Windows build 17093 or later; this is build 15063
    graphics/games-gpu: This PC has one graphics processor: there is nothing to choose.
    graphics/program-gpu: it needs Windows build 17093 or later; this is build 15063
    graphics/program-gpu: This PC has one graphics processor: there is nothing to choose.
    graphics/program-windowed: it needs Windows build 22621 or later; this is build 15063
    graphics/self-scheduling: it needs Windows build 19041 or later; this is build 15063
    graphics/self-scheduling: No graphics card and driver of this PC can schedule their own work.
    graphics/variable-refresh: it needs Windows build 18362 or later; this is build 15063
    graphics/windowed-games: it needs Windows build 22621 or later; this is build 15063
    looks/account-notices: it needs Windows build 22621 or later; this is build 15063
    looks/assistant: it needs Windows build 22621 or later; this is build 15063
    looks/chat-button: it needs Windows build 22000 or later; this is build 15063
    looks/end-task: it needs Windows build 22631 or later; this is build 15063
    looks/full-context-menu: it needs Windows build 22000 or later; this is build 15063
    looks/snap-button: it needs Windows build 22000 or later; this is build 15063
    looks/snap-hints: it needs Windows build 22621 or later; this is build 15063
    looks/start-recommendations: it needs Windows build 22621 or later; this is build 15063
    looks/widgets: it needs Windows build 22000 or later; this is build 15063
    memory/large-file-cache: Less than 8 GiB of memory: programs would be pushed out at once.
    network/background-downloads: it needs Windows build 17134 or later; this is build 15063
    network/encrypted-names: it needs Windows build 22000 or later; this is build 15063
    network/foreground-downloads: it needs Windows build 17134 or later; this is build 15063
    network/name-servers: it needs Windows build 19041 or later; this is build 15063
    network/wireless-band: There is no wireless adapter in this PC.
    network/wireless-roaming: There is no wireless adapter in this PC.
    power/energy-saver: There is no battery in this PC.
    power/frequency-cap: it needs Windows build 16299 or later; this is build 15063
    power/lid: There is no lid on this PC.
    power/mixed-core-policy: it needs Windows build 16299 or later; this is build 15063
    power/mixed-core-policy: All cores of this processor are of one kind.
    power/nvme-idle: There is no solid-state drive in this PC.
    power/performance-slider: it needs Windows build 16299 or later; this is build 15063
    power/program-throttling: it needs Windows build 16299 or later; this is build 15063
    power/throttling: it needs Windows build 16299 or later; this is build 15063
    power/vendor-mode: This PC's maker has no power modes of its own, as far as is known.
    power/wireless-saving: There is no wireless adapter in this PC.
    privacy/consumer-features: Home and Pro editions ignore this policy; privacy/suggested-content does it there.
    privacy/recall: it needs Windows build 26100 or later; this is build 15063
    security/memory-integrity: it needs Windows build 17134 or later; this is build 15063
    services/bluetooth: The owner uses devices by Bluetooth.
    services/file-search: The owner searches files from the task bar, which this would break.
    services/prefetch: Windows is on a spinning disk: prefetching is what makes loading bearable there.
    services/prefetch: With less than 16 GiB the memory compression that this service does is worth more than what it costs.
    services/printing: The owner prints, which this would break.
    storage/last-access: it needs Windows build 17134 or later; this is build 15063
    storage/reserved-space: it needs Windows build 19041 or later; this is build 15063
    storage/trimming: There is no solid-state drive in this PC.
    updates/latest-at-once: it needs Windows build 22621 or later; this is build 15063
    ");
    let at_first = place.pc_files();
    place.run(&["apply", "evening", "--yes"]).ok();
    place.run(&["rollback", "--all", "--yes"]).ok();
    assert_eq!(place.pc_files(), at_first);
}

#[test]
fn policies_are_judged_one_by_one_and_not_by_the_edition_alone() {
    let place = place_with(&[("edition = \"Pro\"", "edition = \"Home\"")]);
    let told = misfits(&place);
    for (tweak, fits) in [
        ("updates/driver-updates", false),
        ("updates/deferral", false),
        ("privacy/consumer-features", false),
        ("looks/widgets", true),
        ("programs/browser-background", true),
        ("privacy/search-suggestions", true),
    ] {
        assert_eq!(!told.contains(tweak), fits, "{tweak}: {told}");
    }
    let plan = place.json(&["preview", "--tweak", "recording/background"]);
    assert!(plan["steps"].to_string().contains("AllowGameDVR"));
}

/// A rehearsal PC that an earlier version made says of policies what is no fact any more.
#[test]
fn a_pc_of_an_earlier_version_is_read() {
    let place = place_with(&[("is_64_bit = true", "is_64_bit = true\nobeys_policies = false")]);
    fs_err::remove_file(place.pc().join("by-hand.toml")).unwrap();
    place.run(&["inspect"]).ok();
    assert!(place.json(&["rehearsal", "mend"])["by_hand"].as_array().unwrap().is_empty());
    place.run(&["rehearsal", "mend", "on-battery"]).fails(3);
}

#[test]
fn a_pc_without_the_service_leaves_the_tweak_out_whole() {
    let place = Place::with_evening();
    let path = place.pc().join("settings/services.json");
    let mut services: serde_json::Value =
        serde_json::from_slice(&fs_err::read(&path).unwrap()).unwrap();
    services.as_object_mut().unwrap().remove("SysMain");
    fs_err::write(&path, services.to_string()).unwrap();
    let applied = place.json(&["apply", "evening", "--yes"]);
    assert_eq!(applied["left_out"][0]["tweak"], "services/prefetch");
    assert_eq!(applied["left_out"][0]["reasons"][0], "this PC has no service SysMain");
    assert_eq!(applied["written"], common::EVENING_WRITES - 2);
}

#[test]
fn facts_that_are_none_are_placed() {
    let place = place_with(&[("cores = 6", "coers = 6")]);
    let said = place.run(&["inspect"]).fails(4);
    assert!(said.err.contains("facts.toml is broken"), "{}", said.err);
    assert!(said.err.contains("unknown field `coers`"), "{}", said.err);
}

#[test]
fn a_model_that_is_none_is_told() {
    for (from, to, why) in [
        ("cache == 1", "cash == 1", "`cash`, which does not exist"),
        ("frame_ms = 11.6", "frame_ms = 0.0", "no frame time above zero"),
        ("cache == 1", "cache ==", "is not a CEL expression"),
    ] {
        let place = Place::new();
        let path = place.pc().join("model.toml");
        let text = fs_err::read_to_string(&path).unwrap();
        assert!(text.contains(from));
        fs_err::write(&path, text.replacen(from, to, 1)).unwrap();
        let said = place.run(&["inspect"]).fails(4);
        assert!(said.err.contains(why), "{}", said.err);
    }
}

/// The verdict is about the PC, not about one seed: whatever chance says, what helps is never
/// called worse and what hurts never better, and everything goes back.
#[test]
fn the_demo_holds_for_other_lives_of_the_pc() {
    let place = Place::empty();
    for seed in ["2", "3", "4", "5"] {
        let report = place.json(&["demo", "--seed", seed]);
        assert_eq!(report["is_as_at_first"], true, "seed {seed}");
        assert_ne!(report["with_everything"]["verdict"], "better", "seed {seed}");
        assert_eq!(report["sift"]["verdict"], "better", "seed {seed}");
    }
}
