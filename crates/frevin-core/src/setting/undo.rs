//! The way back without Frevin: a registry text file and a readable sheet.
//!
//! The first is made by [`crate::registry_text`]: in Windows' own format, so that a double click,
//! or `reg import` at a recovery console, puts back every registry setting. The second, made here,
//! lists what is not in the registry, with the command of Windows' own that puts it back.

use std::fmt::Write as _;

use crate::plain_text::in_one_line;

use super::{Address, ObjectPart, PowerSource, RunState, ServiceStart, StartType, State};
use super::{ObjectSetting, Value, VisualParameter};

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
        if matches!(address.kind(), "registry" | "registry-part") {
            continue;
        }
        listed += 1;
        let address_shown = address.to_string();
        let _ = write!(
            text,
            "\r\n{}\r\n    was: {}\r\n",
            in_one_line(&address_shown),
            in_one_line(&state.to_string())
        );
        if let Some(hint) = by_hand(address, state) {
            let _ = write!(text, "    by hand: {}\r\n", in_one_line(&hint));
        }
        if let Some(command) = command_for(address, state) {
            let _ = write!(text, "    run: {}\r\n", in_one_line(&command));
        }
    }
    if listed == 0 {
        text.push_str("\r\nNothing: this change touched the registry only.\r\n");
    }
    text
}

/// What a person does where Windows has no command for it.
fn by_hand(address: &Address, state: &State) -> Option<String> {
    match address {
        Address::Text(setting) => match state {
            State::Absent => {
                Some(format!("take {} out of {} again", setting.part(), setting.file()))
            }
            State::Value(_) => {
                Some(format!("set {} in {} to exactly that", setting.part(), setting.file()))
            }
            State::Unreadable(_) => None,
        },
        Address::Clean(setting) => match state {
            State::Absent => Some(format!(
                "move the files under quarantine/{place}/files back to where they were; \
                 quarantine/{place}/manifest.json lists them",
                place = setting.place
            )),
            State::Value(_) | State::Unreadable(_) => None,
        },
        Address::Visual(VisualParameter::PointerAcceleration) => Some(
            r"the numbers are MouseThreshold1, MouseThreshold2 and MouseSpeed in HKCU\Control Panel\Mouse; set them, sign out and in again"
                .to_owned(),
        ),
        Address::Visual(VisualParameter::PointerSpeed) => Some(
            r"the number is MouseSensitivity in HKCU\Control Panel\Mouse; set it, sign out and in again"
                .to_owned(),
        ),
        // Windows has a file or a command for these, or nothing that a person could do.
        Address::RegistryKey(_)
        | Address::RegistryValue(..)
        | Address::RegistryPart(..)
        | Address::ServiceStart(_)
        | Address::ServiceRunning(_)
        | Address::ActivePlan
        | Address::PowerPlan(_)
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. }
        | Address::Visual(_)
        | Address::Object(_) => None,
    }
}

fn command_for(address: &Address, state: &State) -> Option<String> {
    if let (Address::Object(setting), State::Absent) = (address, state)
        && setting.part() == ObjectPart::BootElement
    {
        let (entry, element) = (setting.object(), setting.own_name());
        return Some(format!("bcdedit /deletevalue {{{entry}}} {element}"));
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
        (Address::Object(setting), value) => return object_command(setting, value),
        (
            Address::ServiceStart(_)
            | Address::ServiceRunning(_)
            | Address::PowerHidden { .. }
            | Address::ActivePlan
            | Address::PowerValue { .. }
            // Those of the registry are in the registry text file; of the others, Windows has no command.
            | Address::RegistryKey(_)
            | Address::RegistryValue(..)
            | Address::RegistryPart(..)
            | Address::PowerPlan(_)
            | Address::Visual(_)
            | Address::Text(_)
            | Address::Clean(_),
            _,
        ) => return None,
    })
}

/// Only for those that Windows has a command of its own for, which works without Frevin.
fn object_command(setting: &ObjectSetting, value: &Value) -> Option<String> {
    let name = setting.object();
    let verb = |on: &'static str, off: &'static str| match value {
        Value::Flag(true) => Some(on),
        Value::Flag(false) => Some(off),
        _ => None,
    };
    match setting.part() {
        ObjectPart::TaskEnabled => {
            let verb = verb("/ENABLE", "/DISABLE")?;
            Some(format!("schtasks /Change /TN \"{name}\" {verb}"))
        }
        ObjectPart::FeatureEnabled => {
            let verb = verb("/Enable-Feature", "/Disable-Feature")?;
            Some(format!("dism /Online {verb} /FeatureName:{name} /NoRestart"))
        }
        ObjectPart::DeviceEnabled => {
            let verb = verb("/enable-device", "/disable-device")?;
            Some(format!("pnputil {verb} \"{name}\""))
        }
        ObjectPart::BootElement => {
            let Value::Text(text) = value else { return None };
            Some(format!("bcdedit /set {{{name}}} {} {text}", setting.own_name()))
        }
        ObjectPart::DisplayMode
        | ObjectPart::DisplayScaling
        | ObjectPart::DisplayColours
        | ObjectPart::AdapterNameServers
        | ObjectPart::AdapterPowerSaving
        | ObjectPart::AdapterOption
        | ObjectPart::DeviceMessageSignalledInterrupts
        | ObjectPart::DeviceInterruptPriority
        | ObjectPart::StartupEnabled
        | ObjectPart::AppInstalled
        | ObjectPart::PageFileSize
        | ObjectPart::DriverSetting
        | ObjectPart::ProtectionEnabled
        | ObjectPart::ProtectionExclusions => None,
    }
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
