//! Facts about Windows in the catalogue, held against constants that Windows' makers publish.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::facts::Facts;
use frevin_core::setting::{Address, State, Value};
use frevin_core::tweak::{Argument, Arguments, Catalogue, Standing, Tweak};
use uuid::Uuid;
use windows_sys::Win32::System::SystemServices as constants;
use windows_sys::core::GUID;

fn uuid(guid: GUID) -> Uuid {
    Uuid::from_fields(guid.data1, guid.data2, guid.data3, &guid.data4)
}

/// Each power setting that the catalogue knows: its group, and its name.
fn power_settings() -> BTreeMap<(Uuid, Uuid), &'static str> {
    let processor = constants::GUID_PROCESSOR_SETTINGS_SUBGROUP;
    let sleep = constants::GUID_SLEEP_SUBGROUP;
    let published = [
        (processor, constants::GUID_PROCESSOR_THROTTLE_MINIMUM, "processor-floor"),
        (processor, constants::GUID_PROCESSOR_THROTTLE_MAXIMUM, "processor-ceiling"),
        (processor, constants::GUID_PROCESSOR_PERF_BOOST_MODE, "boost-mode"),
        (processor, constants::GUID_PROCESSOR_CORE_PARKING_MIN_CORES, "core-parking"),
        (
            processor,
            constants::GUID_PROCESSOR_PERF_ENERGY_PERFORMANCE_PREFERENCE,
            "energy-preference",
        ),
        (processor, constants::GUID_PROCESSOR_FREQUENCY_LIMIT, "frequency-cap"),
        (processor, constants::GUID_PROCESSOR_IDLE_DISABLE, "no-idle-states"),
        (processor, constants::GUID_PROCESSOR_THREAD_SCHEDULING_POLICY, "mixed-core-policy"),
        (processor, constants::GUID_SYSTEM_COOLING_POLICY, "cooling-policy"),
        (
            constants::GUID_PCIEXPRESS_SETTINGS_SUBGROUP,
            constants::GUID_PCIEXPRESS_ASPM_POLICY,
            "link-power",
        ),
        (
            constants::GUID_VIDEO_SUBGROUP,
            constants::GUID_VIDEO_POWERDOWN_TIMEOUT,
            "display-timeout",
        ),
        (sleep, constants::GUID_STANDBY_TIMEOUT, "sleep-timeout"),
        (sleep, constants::GUID_HIBERNATE_TIMEOUT, "hibernate-timeout"),
        (constants::GUID_DISK_SUBGROUP, constants::GUID_DISK_POWERDOWN_TIMEOUT, "disk-timeout"),
        (processor, constants::GUID_PROCESSOR_THROTTLE_MINIMUM_1, "processor-floor"),
        (processor, constants::GUID_PROCESSOR_THROTTLE_MAXIMUM_1, "processor-ceiling"),
        (processor, constants::GUID_PROCESSOR_CORE_PARKING_MIN_CORES_1, "core-parking"),
        (
            processor,
            constants::GUID_PROCESSOR_PERF_ENERGY_PERFORMANCE_PREFERENCE_1,
            "energy-preference",
        ),
        (processor, constants::GUID_PROCESSOR_FREQUENCY_LIMIT_1, "frequency-cap"),
        (processor, constants::GUID_PROCESSOR_SHORT_THREAD_SCHEDULING_POLICY, "mixed-core-policy"),
        (constants::GUID_SYSTEM_BUTTON_SUBGROUP, constants::GUID_LIDCLOSE_ACTION, "lid"),
        (
            constants::GUID_SYSTEM_BUTTON_SUBGROUP,
            constants::GUID_POWERBUTTON_ACTION,
            "power-button",
        ),
        (sleep, constants::GUID_ALLOW_RTC_WAKE, "wake-timers"),
        (sleep, constants::GUID_HIBERNATE_FASTS4_POLICY, "hybrid-sleep"),
        (
            constants::GUID_ENERGY_SAVER_SUBGROUP,
            constants::GUID_ENERGY_SAVER_BATTERY_THRESHOLD,
            "energy-saver",
        ),
    ];
    // Windows' makers publish these in the documentation of powercfg, and not in a header.
    let disk = "0012ee47-9041-4b5d-9b77-535fba8b1442";
    let documented = [
        (disk, "0b2d69d7-a2a1-449c-9680-f91c70521c60", "drive-link"),
        (disk, "d639518a-e56d-4345-8af2-b9f32fb26109", "nvme-idle"),
        (disk, "fc95af4d-40e7-4b6d-835a-56d131dbc80e", "nvme-idle"),
        (
            "2a737441-1930-4402-8d77-b2bebba308a3",
            "d4e98f31-5ffe-4ce1-be31-1b38b384c009",
            "usb3-link",
        ),
        (
            "2a737441-1930-4402-8d77-b2bebba308a3",
            "48e6b7a6-50f5-4782-a5d4-53bb8f07e226",
            "usb-suspend",
        ),
        (
            "19cbb8fa-5279-450e-9fac-8a3d5fedd0c1",
            "12bbebe6-58d6-4636-95bb-3217ef867c1a",
            "wireless-saving",
        ),
    ];
    let documented =
        documented.map(|(group, of, name)| ((group.parse().unwrap(), of.parse().unwrap()), name));
    let published = published.map(|(group, of, name)| ((uuid(group), uuid(of)), name));
    published.into_iter().chain(documented).collect()
}

#[test]
fn power_settings_are_in_the_group_that_windows_has_them_in() {
    let known = power_settings();
    let mut met = BTreeSet::new();
    for tweak in Catalogue::built_in().unwrap().iter() {
        for wanted in tweak.sample_settings().unwrap() {
            let (group, setting) = match wanted.address {
                Address::PowerValue { subgroup, setting, .. }
                | Address::PowerHidden { subgroup, setting } => (subgroup, setting),
                _ => continue,
            };
            let name = known.get(&(group, setting));
            let name = name.unwrap_or_else(|| panic!("{}: {group}/{setting}", tweak.id));
            met.insert((group, setting));
            let own = tweak.id.as_str().strip_prefix("power/").unwrap();
            let is_named_so = own == *name || ["own-plan", "show-hidden-settings"].contains(&own);
            assert!(is_named_so, "{} writes {name}", tweak.id);
        }
    }
    let unmet: Vec<_> = known.keys().filter(|setting| !met.contains(*setting)).collect();
    assert!(unmet.is_empty(), "every known setting has its tweak: {unmet:?}");
}

#[test]
fn power_plans_are_those_that_come_with_windows() {
    let plans = [
        constants::GUID_MAX_POWER_SAVINGS,
        constants::GUID_TYPICAL_POWER_SAVINGS,
        constants::GUID_MIN_POWER_SAVINGS,
    ];
    // The one for workstations is in the documentation of powercfg, and not in a header.
    let hidden = frevin_core::setting::HIDDEN_PERFORMANCE;
    let plans: Vec<Uuid> = plans.into_iter().map(uuid).chain([hidden]).collect();
    for tweak in Catalogue::built_in().unwrap().iter() {
        for wanted in tweak.sample_settings().unwrap() {
            let State::Value(value) = wanted.state else { continue };
            let of = match (wanted.address, value) {
                (Address::ActivePlan, Value::Plan(plan))
                    if tweak.id.as_str() != "power/own-plan" =>
                {
                    plan
                }
                (_, Value::PlanExists { copy_of: Some(plan), .. }) => plan,
                _ => continue,
            };
            assert!(plans.contains(&of), "{}: {of}", tweak.id);
        }
    }
}

fn tweak<'a>(catalogue: &'a Catalogue, id: &str) -> &'a Tweak {
    catalogue.get(&id.parse().unwrap()).unwrap()
}

#[test]
fn formulas_come_to_what_their_texts_say() {
    let catalogue = Catalogue::built_in().unwrap();
    let [_, facts] = Facts::references();
    let shown = |id: &str, arguments: Arguments| -> Vec<String> {
        let wanted = tweak(&catalogue, id).resolve(&arguments, &facts).unwrap();
        wanted.iter().map(|wanted| wanted.state.to_string()).collect()
    };
    let none = Arguments::new;
    assert_eq!(shown("graphics/highest-refresh", none()), ["2560x1440@144"]);
    assert_eq!(shown("power/display-timeout", none()), ["900"], "minutes are seconds to Windows");
    let threads = |of: &[(&str, Argument)]| {
        let mut arguments = tweak(&catalogue, "games/worker-threads").sample_arguments();
        arguments.extend(of.iter().map(|(name, value)| ((*name).to_owned(), value.clone())));
        tweak(&catalogue, "games/worker-threads").resolve(&arguments, &facts)
    };
    assert_eq!(threads(&[]).unwrap()[0].state.to_string(), "7");
    let none_left = [("left_for_others", Argument::Whole(8))];
    assert!(threads(&none_left).unwrap_err().to_string().contains("Nothing would be left"));
    assert_eq!(shown("boot/all-processors", none()), ["absent"]);
    let steps = tweak(&catalogue, "driver/frame-cap").steps_by_hand(&none(), &facts).unwrap();
    assert!(steps[1].contains("cap to 57 frames a second"), "below the rate in use: {}", steps[1]);
    assert_eq!(shown("cpu/service-splitting", none()), ["33554432 (0x2000000)"], "32 GiB in KiB");
    let servers = ["192.0.2.1", "2001:db8::1"].map(str::to_owned);
    let chosen = Arguments::from([
        ("servers".into(), Argument::Names(servers.into())),
        ("adapter".into(), Argument::Text("Ethernet".into())),
    ]);
    assert_eq!(shown("network/name-servers", chosen), ["192.0.2.1, 2001:db8::1"]);
    let mut both = tweak(&catalogue, "graphics/program-compatibility").sample_arguments();
    both.insert("scaling".into(), Argument::Flag(false));
    let layers = shown("graphics/program-compatibility", both);
    assert_eq!(layers, ["~", "DISABLEDXMAXIMIZEDWINDOWEDMODE", "HIGHDPIAWARE"]);
    for written in ["0.75", "60", "-1"] {
        let mut number = tweak(&catalogue, "games/json-value").sample_arguments();
        number.insert("value".into(), Argument::Text(written.into()));
        assert_eq!(shown("games/json-value", number), [written], "as it was written");
    }
}

/// A value that two tweaks want under one name, but in different keys, is the commonest mistake of
/// catalogues like this. The names that Windows really has in several keys are listed.
#[test]
fn a_values_name_stands_in_one_key_only() {
    let several = [
        "",
        "Flags",
        "Enabled",
        "Value",
        "GameDVR_Enabled",
        "TcpAckFrequency",
        "Priority",
        "EnableActivityFeed",
        "Hidden",
        r"C:\Games\game.exe",
    ];
    let mut keys: BTreeMap<String, BTreeSet<String>> = BTreeMap::new();
    // A look-alike that does nothing is told as such: it has the name on purpose.
    let catalogue = Catalogue::built_in().unwrap();
    let meant = catalogue.iter().filter(|tweak| tweak.standing != Standing::NoEffect);
    for tweak in meant {
        for wanted in tweak.sample_settings().unwrap() {
            // What is kept for each program stands in a key of each.
            if let Address::RegistryValue(key, name) = wanted.address
                && !key.folded().contains(r"\IMAGE FILE EXECUTION OPTIONS\")
            {
                keys.entry(name.to_string()).or_default().insert(key.folded());
            }
        }
    }
    keys.retain(|name, keys| keys.len() > 1 && !several.contains(&name.as_str()));
    assert!(keys.is_empty(), "{keys:#?}");
}
