use jiff::civil::date;

use super::*;
use crate::facts::DriveKind;
use crate::setting::{RegistryData, Value as Held};
use crate::tweak::Catalogue;

fn found(facts: &Facts, held: &[(&str, Held)], waiting: usize) -> Vec<Finding> {
    let findings = all(facts, held, waiting);
    assert_eq!(findings.untold, []);
    findings.found
}

fn all(facts: &Facts, held: &[(&str, Held)], waiting: usize) -> Findings {
    let held: Vec<(Address, State)> = held
        .iter()
        .map(|(address, value)| (address.parse().unwrap(), value.clone().into()))
        .collect();
    let read = |address: &Address| {
        let known = held.iter().find(|(known, _)| known == address);
        known.map_or(State::Absent, |(_, state)| state.clone())
    };
    let values_of = |listed: &KeyPath| {
        let name = |(address, _): &(Address, State)| match address {
            Address::RegistryValue(key, name) if key == listed => Some(name.clone()),
            _ => None,
        };
        held.iter().filter_map(name).collect()
    };
    let seen = Seen {
        facts,
        read: &read,
        values_of: &values_of,
        waiting_for_restart: waiting,
        today: date(2026, 9, 2),
    };
    findings(&rules().unwrap(), &seen)
}

fn ids(findings: &[Finding]) -> Vec<&str> {
    findings.iter().map(|finding| finding.id.as_str()).collect()
}

fn sound() -> Facts {
    let mut facts = Facts::reference();
    facts.memory.actual_mt_s = facts.memory.rated_mt_s;
    facts
}

#[test]
fn a_pc_in_order_has_none() {
    assert_eq!(ids(&found(&sound(), &[], 0)), [""; 0]);
}

#[test]
fn every_rule_names_what_mends_it_and_there_is_such_a_tweak() {
    let catalogue = Catalogue::built_in().unwrap();
    let rules = rules().unwrap();
    assert!(rules.len() >= 12);
    for rule in rules {
        let known = rule.tweak.as_ref().is_none_or(|tweak| catalogue.get(tweak).is_some());
        assert!(known, "{}", rule.id);
    }
}

#[test]
fn what_facts_tell_is_found_the_most_worthwhile_first() {
    let mut facts = Facts::reference();
    facts.displays[0].refresh_hz = 60;
    facts.drives[0].free_gib = 10;
    facts.drives[0].kind = Some(DriveKind::Spinning);
    facts.graphics[0].driver_date = Some(date(2025, 9, 1));
    facts.memory.modules = Some(1);
    facts.adapters[0].link_mbit_s = Some(100);
    facts.processor.sustained_mhz = Some(2100);
    facts.load.starts_with_pc = Some(31);
    facts.firmware.large_graphics_window = Some(false);
    facts.power_source = crate::setting::PowerSource::Battery;
    let found = found(&facts, &[], 3);
    let expected = [
        "display-below-its-rate",
        "memory-below-its-speed",
        "restart-pending",
        "clock-sags",
        "one-memory-module",
        "drive-almost-full",
        "old-graphics-driver",
        "slow-cable",
        "much-starts-with-the-pc",
        "small-graphics-window",
        "on-battery",
    ];
    assert_eq!(ids(&found), expected);
    assert_eq!(found[0].evidence, "Sample display runs at 60 hertz; at 2560x1440 it offers 144.");
    assert_eq!(found[6].evidence, "The driver of Sample graphics is 366 days old.");
}

#[test]
fn what_settings_tell_is_found() {
    let number = |number| Held::Registry(RegistryData::dword(number));
    let program = r"registry:HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#C:\Games\a.exe";
    let held = [
        (
            r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#HistoricalCaptureEnabled",
            number(1),
        ),
        (program, Held::Registry(RegistryData::string("GpuPreference=1;"))),
        ("boot:current#element-numproc", Held::Text("4".into())),
        ("boot:current#element-useplatformclock", Held::Text("Yes".into())),
        ("driver:global#setting-frame-cap-fps", Held::Text("60".into())),
        ("pagefile:D:#size", Held::PageFile("none".parse().unwrap())),
        ("feature:SMB1Protocol#enabled", Held::Flag(true)),
        ("pagefile:C:#size", Held::PageFile("none".parse().unwrap())),
        (
            r"registry:HKLM\SYSTEM\CurrentControlSet\Control\FileSystem#DisableDeleteNotification",
            number(1),
        ),
        ("power:active-plan", Held::Plan("a1841308-3541-4fab-bc81-f71556f20b4a".parse().unwrap())),
    ];
    let mut facts = sound();
    facts.memory.size_mib = 8192;
    facts.games[0].program = r"c:\games\A.exe".into();
    facts.drives.push(crate::facts::Drive {
        letter: "D:".into(),
        is_system: false,
        ..facts.drives[0].clone()
    });
    facts.graphics.push(facts.graphics[0].clone());
    let found = found(&facts, &held, 0);
    let expected = [
        "few-processors",
        "game-on-frugal-graphics",
        "saving-plan-on-mains",
        "platform-clock",
        "no-page-file",
        "recording-behind-the-game",
        "trimming-off",
        "cap-below-the-display",
        "old-file-sharing",
    ];
    assert_eq!(ids(&found), expected);
    assert!(found[1].evidence.starts_with(r"C:\Games\a.exe is set"));
}

#[test]
fn what_is_as_recommended_or_chosen_is_not_called_wrong() {
    let mut facts = sound();
    // 59.94 hertz, which Windows tells as 59 and lists as 60 too.
    (facts.displays[0].refresh_hz, facts.displays[0].highest_refresh_hz) = (59, 60);
    // The cap that is advised, a display that is scaled, a large drive with a tenth left.
    facts.displays[0].scaling_percent = Some(150);
    (facts.drives[0].size_gib, facts.drives[0].free_gib) = (3726, 360);
    // A driver that comes with Windows.
    facts.graphics[0].driver_date = Some(date(2006, 6, 21));
    facts.graphics.push(facts.graphics[0].clone());
    let chat = r"registry:HKCU\SOFTWARE\Microsoft\DirectX\UserGpuPreferences#C:\Chat\chat.exe";
    let number = |number| Held::Registry(RegistryData::dword(number));
    let recording = r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#";
    let held = [
        ("driver:global#setting-frame-cap-fps", Held::Text("57".into())),
        (chat, Held::Registry(RegistryData::string("GpuPreference=1;"))),
        (&format!("{recording}HistoricalCaptureEnabled"), number(1)),
        (&format!("{recording}AppCaptureEnabled"), number(0)),
        ("pagefile:C:#size", Held::PageFile("system-managed".parse().unwrap())),
    ];
    assert_eq!(ids(&found(&facts, &held, 0)), [""; 0]);
}

#[test]
fn what_may_be_wanted_so_is_told_apart_and_what_cannot_be_read_is_not_told() {
    let mut facts = sound();
    facts.memory.size_mib = 12_000;
    facts.displays[0].largest_width_px = Some(3840);
    let integrity = r"registry:HKLM\SYSTEM\CurrentControlSet\Control\DeviceGuard\Scenarios\HypervisorEnforcedCodeIntegrity#Enabled";
    let plan = facts.power.plan_in_force.unwrap();
    let ceiling = format!(
        "power:{plan}/54533251-82be-4824-96c1-47b60b740d00/bc5038f7-23e0-4960-96da-33abaf5935ec#mains"
    );
    let on = Held::Registry(RegistryData::dword(1));
    let told = all(&facts, &[(integrity, on), (&ceiling, Held::PowerIndex(99))], 0);
    assert_eq!(told.found, []);
    let expected =
        ["little-memory", "held-back-by-the-plan", "memory-integrity-on", "below-its-largest-size"];
    assert_eq!(ids(&told.worth_knowing), expected);
    let seen = Seen {
        facts: &facts,
        read: &|_| State::Unreadable("no rights".into()),
        values_of: &|_| Vec::new(),
        waiting_for_restart: 0,
        today: date(2026, 9, 2),
    };
    let told = findings(&rules().unwrap(), &seen);
    let sharing = told.untold.iter().find(|untold| untold.id == "old-file-sharing").unwrap();
    assert_eq!(sharing.reason, "feature:SMB1Protocol#enabled cannot be read: no rights");
}

const RULE: &str = r#"
id = "x"
title = "X"
worth = 5
why = "Because."
tweak = "graphics/display-mode"
set = { display = "${display.name}", mode = "1920x1080@${display.highest_refresh_hz}" }
for_each = "facts.displays"
as = "display"
when = "display.refresh_hz > 0"
evidence = "It is."
"#;

#[test]
fn what_is_to_be_chosen_of_the_tweak_is_told_for_each_thing() {
    let rule = FindingRule::parse("x.toml", RULE).unwrap();
    let mut facts = sound();
    let mut second = facts.displays[0].clone();
    second.name = "Second".to_owned();
    second.highest_refresh_hz = 75;
    facts.displays.push(second);
    let seen = Seen {
        facts: &facts,
        read: &|_| State::Absent,
        values_of: &|_| Vec::new(),
        waiting_for_restart: 0,
        today: date(2026, 9, 2),
    };
    let found = findings(std::slice::from_ref(&rule), &seen).found;
    assert_eq!(found.len(), 2);
    assert_eq!(found[1].set["display"], "Second");
    assert_eq!(found[1].set["mode"], "1920x1080@75");
    let without = RULE.replace("tweak = \"graphics/display-mode\"", "by_hand = \"Do it.\"");
    let error = FindingRule::parse("x.toml", &without).unwrap_err().to_string();
    assert!(error.contains("`set` chooses something of a `tweak`"), "{error}");
}

#[test]
fn what_every_rule_chooses_is_a_parameter_of_its_tweak() {
    let catalogue = Catalogue::built_in().unwrap();
    let mut chosen = 0;
    for rule in rules().unwrap() {
        let Some(tweak) = rule.tweak.as_ref().and_then(|id| catalogue.get(id)) else { continue };
        for name in rule.set.keys() {
            assert!(tweak.parameters.contains_key(name), "{} has no {name}", tweak.id);
            chosen += 1;
        }
    }
    assert!(chosen >= 3, "{chosen}");
}
