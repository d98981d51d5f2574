//! The way back without Frevin: a registry text file and a readable sheet.
//!
//! The first is in Windows' own registry text format, so that a double click, or `reg import` at
//! a recovery console, puts back every registry setting. The second lists what is not in the
//! registry, with the command of Windows' own that puts it back.

use std::fmt::Write as _;

use super::{Address, RegistryData, ServiceStart, StartType, State, Value, WinName};
use super::{KeyPath, PowerSource, RegistryType, RunState, ThingKind, ThingSetting};

/// The registry text that puts back `states`, in the order given.
///
/// Keys that were absent are deleted with all that has come to lie in them since: the format
/// knows no other way, and the file says so. Values come before keys are deleted. Settings of
/// other kinds are left out; they are in [`sheet`].
pub fn registry_text<'a>(states: impl IntoIterator<Item = (&'a Address, &'a State)>) -> String {
    let mut text = String::from("Windows Registry Editor Version 5.00\r\n");
    let mut absent_keys: Vec<&KeyPath> = Vec::new();
    let mut current_key: Option<&KeyPath> = None;
    for (address, state) in states {
        match address {
            Address::RegistryKey(key) if *state == State::Absent => absent_keys.push(key),
            Address::RegistryKey(key) if state.is_readable() => {
                open_key(&mut text, key);
                current_key = Some(key);
            }
            Address::RegistryValue(key, name) => {
                let Some(line) = value_line(name, state) else { continue };
                if current_key != Some(key) {
                    open_key(&mut text, key);
                    current_key = Some(key);
                }
                text.push_str(&line);
            }
            _ => {}
        }
    }
    let outermost: Vec<_> = absent_keys
        .iter()
        .filter(|key| !absent_keys.iter().any(|other| other != *key && other.contains(key)))
        .collect();
    if !outermost.is_empty() {
        text.push_str("\r\n; These keys did not exist. Importing this file deletes them with all");
        text.push_str("\r\n; that other programs may have put into them since.\r\n");
    }
    for key in outermost {
        let _ = write!(text, "\r\n[-{}]\r\n", full_path(key));
    }
    text
}

/// The bytes of a registry text file: UTF-16, little end first, with its mark.
pub fn encode_registry_text(text: &str) -> Vec<u8> {
    std::iter::once(0xFEFF).chain(text.encode_utf16()).flat_map(u16::to_le_bytes).collect()
}

fn open_key(text: &mut String, key: &KeyPath) {
    let _ = write!(text, "\r\n[{}]\r\n", full_path(key));
}

fn full_path(key: &KeyPath) -> String {
    let names: Vec<_> = key.names().iter().map(WinName::as_str).collect();
    format!(r"{}\{}", key.hive().full_name(), names.join(r"\"))
}

/// The line for one value, or nothing where the value was not readable or is not a registry value.
///
/// A value that is absent together with its key would re-create the key on import, so it is
/// left to the key's deletion; the caller passes the key as well.
fn value_line(name: &WinName, state: &State) -> Option<String> {
    let left = match name.as_str() {
        "" => "@".to_owned(),
        name => quoted(name),
    };
    match state {
        State::Absent => Some(format!("{left}=-\r\n")),
        State::Value(Value::Registry(data)) => Some(format!("{left}={}\r\n", data_text(data))),
        _ => None,
    }
}

fn quoted(text: &str) -> String {
    format!("\"{}\"", text.replace('\\', r"\\").replace('"', "\\\""))
}

fn data_text(data: &RegistryData) -> String {
    let is_dword = data.type_number == RegistryType::Dword.number();
    if let (true, Some(number)) = (is_dword, data.as_number()) {
        return format!("dword:{number:08x}");
    }
    let is_string = data.type_number == RegistryType::String.number();
    // A line break inside quotes would end the line; the bytes say the same safely.
    if let (true, Some(text)) = (is_string, data.as_text())
        && !text.contains(['\r', '\n'])
    {
        return quoted(&text);
    }
    let bytes: Vec<_> = data.bytes.iter().map(|byte| format!("{byte:02x}")).collect();
    match data.type_number {
        3 => format!("hex:{}", bytes.join(",")),
        other => format!("hex({other:x}):{}", bytes.join(",")),
    }
}

/// The readable sheet of what is not in the registry: one line a setting, with the command of
/// Windows' own that puts it back where there is one.
pub fn sheet<'a>(
    heading: &str,
    states: impl IntoIterator<Item = (&'a Address, &'a State)>,
) -> String {
    let mut text = format!(
        "{heading}\r\n\r\nWhat the settings outside the registry were before. The commands are \
         Windows' own;\r\nrun them in a terminal opened as administrator, in this order.\r\n"
    );
    let mut listed = 0;
    for (address, state) in states {
        if address.kind() == "registry" {
            continue;
        }
        listed += 1;
        let _ = write!(text, "\r\n{address}\r\n    was: {state}\r\n");
        if let Some(hint) = by_hand(address, state) {
            let _ = write!(text, "    by hand: {hint}\r\n");
        }
        if let Some(command) = command_for(address, state) {
            let _ = write!(text, "    run: {command}\r\n");
        }
    }
    if listed == 0 {
        text.push_str("\r\nNothing: this change touched the registry only.\r\n");
    }
    text
}

/// What a person does where Windows has no command for it.
fn by_hand(address: &Address, state: &State) -> Option<String> {
    Some(match (address, state) {
        (Address::Text(setting), State::Absent) => {
            format!("take {} out of {} again", setting.part(), setting.file())
        }
        (Address::Text(setting), State::Value(_)) => {
            format!("set {} in {} to exactly that", setting.part(), setting.file())
        }
        (Address::Clean(setting), State::Absent) => format!(
            "move the files under quarantine/{place}/files back to where they were; \
             quarantine/{place}/manifest.json lists them",
            place = setting.place
        ),
        _ => return None,
    })
}

fn command_for(address: &Address, state: &State) -> Option<String> {
    if let (Address::Thing(setting), State::Absent) = (address, state)
        && let (ThingKind::Boot, Some(element)) =
            (setting.kind(), setting.part_name().as_str().strip_prefix("element-"))
    {
        return Some(format!("bcdedit /deletevalue {{{}}} {element}", setting.thing()));
    }
    if let (Address::PowerPlan(plan), State::Absent) = (address, state) {
        return Some(format!("powercfg /delete {plan}"));
    }
    let State::Value(value) = state else { return None };
    Some(match (address, value) {
        (Address::ServiceStart(name), Value::Start(start)) => {
            format!("sc.exe config \"{name}\" start= {}", sc_word(*start)?)
        }
        (Address::ServiceRunning(name), Value::Run(RunState::Running)) => {
            format!("sc.exe start \"{name}\"")
        }
        (Address::ServiceRunning(name), Value::Run(RunState::Stopped)) => {
            format!("sc.exe stop \"{name}\"")
        }
        (Address::PowerHidden { subgroup, setting }, Value::Flag(is_hidden)) => {
            let sign = if *is_hidden { "+" } else { "-" };
            format!("powercfg /attributes {subgroup} {setting} {sign}ATTRIB_HIDE")
        }
        (Address::ActivePlan, Value::Plan(plan)) => format!("powercfg /setactive {plan}"),
        (Address::PowerValue { plan, subgroup, setting, source }, Value::PowerIndex(index)) => {
            let verb = match source {
                PowerSource::Mains => "/setacvalueindex",
                PowerSource::Battery => "/setdcvalueindex",
            };
            format!("powercfg {verb} {plan} {subgroup} {setting} {index}")
        }
        (Address::Thing(setting), value) => return thing_command(setting, value),
        _ => return None,
    })
}

/// Only for those that Windows has a command of its own for, which works without Frevin.
fn thing_command(setting: &ThingSetting, value: &Value) -> Option<String> {
    let name = setting.thing();
    let part = setting.part_name().as_str();
    Some(match (setting.kind(), value) {
        (ThingKind::Task, Value::Flag(on)) => {
            let verb = if *on { "/ENABLE" } else { "/DISABLE" };
            format!("schtasks /Change /TN \"{name}\" {verb}")
        }
        (ThingKind::Feature, Value::Flag(on)) => {
            let verb = if *on { "/Enable-Feature" } else { "/Disable-Feature" };
            format!("dism /Online {verb} /FeatureName:{name} /NoRestart")
        }
        (ThingKind::Device, Value::Flag(on)) if part == "enabled" => {
            let verb = if *on { "/enable-device" } else { "/disable-device" };
            format!("pnputil {verb} \"{name}\"")
        }
        (ThingKind::Boot, Value::Text(text)) => {
            format!("bcdedit /set {{{name}}} {} {text}", part.strip_prefix("element-")?)
        }
        _ => return None,
    })
}

fn sc_word(start: ServiceStart) -> Option<&'static str> {
    Some(match (start.start_type, start.delayed) {
        (StartType::Boot, _) => "boot",
        (StartType::System, _) => "system",
        (StartType::Automatic, false) => "auto",
        (StartType::Automatic, true) => "delayed-auto",
        (StartType::Manual, _) => "demand",
        (StartType::Disabled, _) => "disabled",
        (StartType::Unknown(_), _) => return None,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn address(text: &str) -> Address {
        text.parse().unwrap()
    }

    #[test]
    fn registry_text_puts_back_values_of_every_shape() {
        let states: Vec<(Address, State)> = [
            (r"registry:HKLM\SYSTEM\A#Number", RegistryData::dword(0x26)),
            (r"registry:HKLM\SYSTEM\A#A \ and a quote", RegistryData::string(r#"say "C:\""#)),
            (r"registry:HKLM\SYSTEM\A#", RegistryData::binary([1, 255])),
            (r"registry:HKCU\B#Odd", RegistryData { type_number: 0x1_0000, bytes: vec![7] }),
            (r"registry:HKCU\B#Broken line", RegistryData::string("a\r\nb")),
            (r"registry:HKCU\B#Short", RegistryData { type_number: 4, bytes: vec![] }),
        ]
        .map(|(at, data)| (address(at), Value::Registry(data).into()))
        .into();
        let text = registry_text(states.iter().map(|(a, s)| (a, s)));
        insta::assert_snapshot!(text.replace("\r\n", "\n"), @r#"
        Windows Registry Editor Version 5.00

        [HKEY_LOCAL_MACHINE\SYSTEM\A]
        "Number"=dword:00000026
        "A \\ and a quote"="say \"C:\\\""
        @=hex:01,ff

        [HKEY_CURRENT_USER\B]
        "Odd"=hex(10000):07
        "Broken line"=hex(1):61,00,0d,00,0a,00,62,00,00,00
        "Short"=hex(4):
        "#);
    }

    #[test]
    fn created_keys_are_deleted_from_the_outermost_and_last() {
        let states = [
            (address(r"registry:HKCU\New\Deep"), State::Absent),
            (address(r"registry:HKCU\New"), State::Absent),
            (address(r"registry:HKCU\New\Deep#v"), State::Absent),
            (address(r"registry:HKCU\Old#w"), State::Absent),
        ];
        let text = registry_text(states.iter().map(|(a, s)| (a, s)));
        let old = text.find("\"w\"=-").unwrap();
        let deletion = text.find(r"[-HKEY_CURRENT_USER\New]").unwrap();
        assert!(old < deletion);
        assert!(!text.contains(r"[-HKEY_CURRENT_USER\New\Deep]"));
        assert_eq!(&encode_registry_text(&text)[..4], [0xFF, 0xFE, b'W', 0]);
    }

    #[test]
    fn the_sheet_gives_the_commands_of_windows() {
        let plan = "381b4222-f694-41f0-9685-ff5bb260df2e";
        let start = ServiceStart { start_type: StartType::Automatic, delayed: true };
        let states: [(Address, State); 4] = [
            (address("service:Search#start"), Value::Start(start).into()),
            (address("service:Search#running"), Value::Run(RunState::Running).into()),
            (address("power:active-plan"), Value::Plan(plan.parse().unwrap()).into()),
            (address(r"registry:HKLM\A#b"), State::Absent),
        ];
        let text = sheet("Change 1", states.iter().map(|(a, s)| (a, s)));
        assert!(text.contains("sc.exe config \"Search\" start= delayed-auto"));
        assert!(text.contains("sc.exe start \"Search\""));
        assert!(text.contains(&format!("powercfg /setactive {plan}")));
        assert!(!text.contains("HKLM"));
    }
}
