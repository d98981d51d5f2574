//! Numbers, settings and states in words.

use frevin_core::setting::{Address, CleanPart, FilePart, State, Value};
use jiff::Timestamp;
use jiff::tz::TimeZone;
use uuid::Uuid;

/// A share as a percentage with its sign: 0.0512 is `+5.1 %`.
pub(crate) fn percent(share: f64) -> String {
    let rounded = (share * 1000.0).round() / 10.0;
    // The minus of a rounded-away loss would say something that the digits do not.
    let shown = if rounded == 0.0 { 0.0 } else { rounded };
    format!("{shown:+.1} %")
}

/// A rate of frames.
pub(crate) fn fps(fps: f64) -> String {
    format!("{fps:.1}")
}

/// A time of day where the owner is.
pub(crate) fn when(at: Timestamp) -> String {
    at.to_zoned(TimeZone::system()).strftime("%Y-%m-%d %H:%M").to_string()
}

/// A size on a disk: `840 bytes`, `12.4 KiB`.
pub(crate) fn bytes(bytes: u64) -> String {
    const UNITS: [&str; 4] = ["KiB", "MiB", "GiB", "TiB"];
    if bytes < 1024 {
        return format!("{bytes} bytes");
    }
    // Sizes are shown to three digits: what is lost on the way to a float is not seen.
    #[allow(clippy::cast_precision_loss)]
    let mut size = bytes as f64 / 1024.0;
    let mut unit = 0;
    while size >= 1024.0 && unit + 1 < UNITS.len() {
        size /= 1024.0;
        unit += 1;
    }
    format!("{size:.1} {}", UNITS[unit])
}

/// A number of things: `1 change`, `3 changes`.
pub(crate) fn count(number: usize, thing: &str) -> String {
    if number == 1 { format!("1 {thing}") } else { format!("{number} {thing}s") }
}

/// The name of a power plan that comes with Windows.
fn plan_name(plan: Uuid) -> Option<&'static str> {
    // GUID_MAX_POWER_SAVINGS, GUID_TYPICAL_POWER_SAVINGS, GUID_MIN_POWER_SAVINGS.
    const PLANS: [(Uuid, &str); 3] = [
        (Uuid::from_u128(0xa1841308_3541_4fab_bc81_f71556f20b4a), "power saver"),
        (Uuid::from_u128(0x381b4222_f694_41f0_9685_ff5bb260df2e), "balanced"),
        (Uuid::from_u128(0x8c5e7fda_e8bf_4a96_9a85_a6e23a8c635c), "high performance"),
    ];
    PLANS.iter().find(|(known, _)| *known == plan).map(|(_, name)| *name)
}

/// A state in words.
pub(crate) fn shown(state: &State) -> String {
    match state {
        State::Value(Value::Plan(plan)) => {
            plan_name(*plan).map_or_else(|| plan.to_string(), str::to_owned)
        }
        State::Value(Value::PlanExists { copy_of: Some(plan), name }) => {
            let plan = plan_name(*plan).map_or_else(|| plan.to_string(), str::to_owned);
            format!("\"{name}\", a copy of {plan}")
        }
        other => other.to_string(),
    }
}

/// What so many settings do: `1 setting waits`, `3 settings wait`.
pub(crate) fn settings_wait(number: usize) -> String {
    let verb = if number == 1 { "waits" } else { "wait" };
    format!("{} {verb} for a restart.", count(number, "setting"))
}

/// A setting in few words: enough to recognise it, not to find it.
pub(crate) fn short(address: &Address) -> String {
    match address {
        Address::RegistryKey(key) => {
            let last = key.names().last().map(ToString::to_string).unwrap_or_default();
            format!(r"key {}\…\{last}", key.hive().short_name())
        }
        Address::RegistryValue(_, name) if name.as_str().is_empty() => "(default value)".to_owned(),
        Address::RegistryValue(key, name) => {
            let last = key.names().last().map(ToString::to_string).unwrap_or_default();
            format!(r"{last} › {name}")
        }
        Address::ServiceStart(name) => format!("service {name}, start"),
        Address::ServiceRunning(name) => format!("service {name}"),
        Address::ActivePlan => "power plan in force".to_owned(),
        Address::PowerPlan(plan) => {
            let plan = plan_name(*plan).map_or_else(|| plan.to_string(), str::to_owned);
            format!("power plan {plan}")
        }
        Address::PowerHidden { setting, .. } => {
            format!("power setting {}, hidden", power_setting(*setting))
        }
        Address::PowerValue { plan, setting, source, .. } => {
            let plan = plan_name(*plan).map_or_else(|| plan.to_string(), str::to_owned);
            format!("plan {plan}, {} on {source}", power_setting(*setting))
        }
        Address::Visual(parameter) => parameter.to_string().replace('-', " "),
        Address::Thing(setting) => {
            let thing = setting.thing().as_str();
            // Of a path, the last name; of a long identifier, its end.
            let name = thing.rsplit(['\\', '/']).next().unwrap_or(thing);
            let part = setting.part_name().as_str();
            let part = part
                .strip_prefix("element-")
                .or(part.strip_prefix("setting-"))
                .or(part.strip_prefix("option-"))
                .unwrap_or(part);
            format!("{} {name}, {}", setting.kind().name(), part.replace('-', " "))
        }
        Address::Text(setting) => {
            let file = setting.file().file_name();
            match setting.part() {
                FilePart::Whole => format!("file {file}"),
                FilePart::Section(section) => format!("{file} › section {section}"),
                FilePart::IniKey { key, .. } | FilePart::Key(key) => format!("{file} › {key}"),
                FilePart::Member(names) => format!("{file} › {}", names.join(" › ")),
            }
        }
        Address::Clean(setting) => {
            let place = setting.place.name().replace('-', " ");
            match setting.part {
                CleanPart::Quarantine => format!("files of {place}"),
                CleanPart::Files => format!("what lies in {place}"),
            }
        }
    }
}

fn power_setting(setting: Uuid) -> String {
    // GUID_PROCESSOR_THROTTLE_MINIMUM and _MAXIMUM.
    const MINIMUM: Uuid = Uuid::from_u128(0x893dee8e_2bef_41e0_89c6_b55d0929964c);
    const MAXIMUM: Uuid = Uuid::from_u128(0xbc5038f7_23e0_4960_96da_33abaf5935ec);
    match setting {
        MINIMUM => "lowest processor state".to_owned(),
        MAXIMUM => "highest processor state".to_owned(),
        other => other.to_string(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn percentages_carry_their_sign_and_no_empty_minus() {
        assert_eq!(percent(0.0512), "+5.1 %");
        assert_eq!(percent(-0.2), "-20.0 %");
        assert_eq!(percent(-0.0001), "+0.0 %");
    }

    #[test]
    fn sizes_are_read_at_a_glance() {
        assert_eq!(bytes(840), "840 bytes");
        assert_eq!(bytes(12_700), "12.4 KiB");
        assert_eq!(bytes(5 << 40), "5.0 TiB");
    }

    #[test]
    fn settings_read_like_what_they_are() {
        let words = |text: &str| short(&text.parse().unwrap());
        assert_eq!(words(r"registry:HKLM\SYSTEM\A\B#Value"), "B › Value");
        assert_eq!(words("visual:menu-delay"), "menu delay");
        assert_eq!(words(r"task:\Microsoft\Windows\A\Collect#enabled"), "task Collect, enabled");
        let video = "text:documents/Riders/options.ini#ini:[Video]VSync";
        assert_eq!(words(video), "options.ini › VSync");
        assert_eq!(words("text:documents/a.json#json:/b/c"), "a.json › b › c");
        assert_eq!(words("clean:user-temp#quarantine"), "files of user temp");
        assert_eq!(words("driver:global#setting-low-latency"), "driver global, low latency");
        let plan = "381b4222-f694-41f0-9685-ff5bb260df2e";
        let minimum = "54533251-82be-4824-96c1-47b60b740d00/893dee8e-2bef-41e0-89c6-b55d0929964c";
        assert_eq!(
            words(&format!("power:{plan}/{minimum}#mains")),
            "plan balanced, lowest processor state on mains"
        );
        let state = State::Value(Value::Plan(plan.parse().unwrap()));
        assert_eq!(shown(&state), "balanced");
    }
}
