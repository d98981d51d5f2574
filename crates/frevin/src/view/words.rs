//! Numbers, settings and states in words.

use std::cmp::Reverse;
use std::collections::BTreeMap;

use frevin_core::setting::{
    Address, CleanPart, FilePart, RegistryPart, State, TakesEffect, plan_in_words,
};
use frevin_core::tweak::TweakUse;
use frevin_core::waiting::Waiting;
use jiff::Timestamp;
use jiff::tz::TimeZone;
use uuid::Uuid;

use super::page::{Page, dim, warn};

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

/// A length of time, to the minute: `12 min`, `3 h 20 min`; never less than a minute.
pub(crate) fn duration(length: std::time::Duration) -> String {
    let minutes = length.as_secs().div_ceil(60).max(1);
    match (minutes / 60, minutes % 60) {
        (0, minutes) => format!("{minutes} min"),
        (hours, 0) => format!("{hours} h"),
        (hours, minutes) => format!("{hours} h {minutes} min"),
    }
}

/// A number of things: `1 change`, `3 changes`.
pub(crate) fn count(number: usize, thing: &str) -> String {
    if number == 1 { format!("1 {thing}") } else { format!("{number} {thing}s") }
}

/// A state in words.
pub(crate) fn shown(state: &State) -> String {
    state.to_string()
}

/// What a setting holds, in words of its own where absence means something there.
pub(crate) fn shown_at(address: &Address, state: &State) -> String {
    match (address, state) {
        (Address::Clean(_), State::Absent) => "all in their place".to_owned(),
        (Address::Text(_), State::Absent) => "not in the file".to_owned(),
        _ => shown(state),
    }
}

/// How many settings wait for what: `2 settings wait for a restart, 1 for a sign-out`.
pub(crate) fn moments_awaited(waiting: &[Waiting]) -> String {
    let mut moments: BTreeMap<Reverse<TakesEffect>, usize> = BTreeMap::new();
    for one in waiting {
        *moments.entry(Reverse(one.waits_for)).or_default() += 1;
    }
    let parts = moments.into_iter().enumerate().map(|(index, (Reverse(moment), number))| {
        let verb = if number == 1 { "waits" } else { "wait" };
        match index {
            0 => format!("{} {verb} for a {moment}", count(number, "setting")),
            _ => format!("{number} for a {moment}"),
        }
    });
    parts.collect::<Vec<_>>().join(", ")
}

/// What waits, with each setting where they are few.
pub(crate) fn show_waiting(waiting: &[Waiting], page: &mut Page) {
    const LISTED: usize = 12;
    if waiting.is_empty() {
        return;
    }
    page.line(warn(format_args!("{}.", moments_awaited(waiting))));
    for one in waiting.iter().take(LISTED) {
        let (setting, moment) = (short(&one.address), one.waits_for);
        page.line(format_args!("  {setting} {}", dim(format_args!("waits for a {moment}"))));
    }
    if waiting.len() > LISTED {
        page.line(dim(format_args!("  and {} more", waiting.len() - LISTED)));
    }
}

/// A use of a tweak by name, with what was chosen where others of the same tweak are beside it.
pub(crate) fn named_among<'a>(
    used: &TweakUse,
    others: impl IntoIterator<Item = &'a TweakUse>,
) -> String {
    let differing = used.differing(others);
    if differing.is_empty() {
        return used.to_string();
    }
    let chosen: Vec<String> =
        differing.iter().map(|(name, argument)| format!("{name} = {argument}")).collect();
    format!("{used} ({})", chosen.join(", "))
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
        Address::RegistryPart(key, name, part) => {
            let last = key.names().last().map(ToString::to_string).unwrap_or_default();
            // A program's path is told by its last name.
            let name = name.as_str().rsplit('\\').next().unwrap_or_default();
            match part {
                RegistryPart::Text => format!(r"{last} › {name}"),
                RegistryPart::Pair(pair) => format!(r"{last} › {name} › {pair}"),
                RegistryPart::Word(word) => format!(r"{last} › {name} › word {word}"),
                RegistryPart::Bits(_) => {
                    format!(r"{last} › {name}, {}", part.to_string().replace(':', " "))
                }
            }
        }
        Address::ServiceStart(name) => format!("service {name}, start"),
        Address::ServiceRunning(name) => format!("service {name}"),
        Address::ActivePlan => "power plan in force".to_owned(),
        Address::PowerPlan(plan) => {
            let plan = plan_in_words(*plan);
            format!("power plan {plan}")
        }
        Address::PowerHidden { setting, .. } => {
            format!("power setting {}, hidden", power_setting(*setting))
        }
        Address::PowerValue { plan, setting, source, .. } => {
            let plan = plan_in_words(*plan);
            format!("plan {plan}, {} on {source}", power_setting(*setting))
        }
        Address::Visual(parameter) => parameter.to_string().replace('-', " "),
        Address::Object(setting) => {
            let thing = setting.object().as_str();
            // Of a path, the last name; of a long identifier, its end.
            let name = thing.rsplit(['\\', '/']).next().unwrap_or(thing);
            let part = setting.own_name().replace('-', " ");
            format!("{} {name}, {part}", setting.kind().name())
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
    // The GUID_* constants of Windows' makers and the documentation of powercfg. "Fast cores" are those of
    // the second efficiency class, where a processor has two.
    const NAMES: [(u128, &str); 36] = [
        (0x893dee8e_2bef_41e0_89c6_b55d0929964c, "lowest processor state"),
        (0xbc5038f7_23e0_4960_96da_33abaf5935ec, "highest processor state"),
        (0xbe337238_0d82_4146_a960_4f3749d470c7, "boost mode"),
        (0x0cc5b647_c1df_4637_891a_dec35c318583, "cores kept awake"),
        (0x36687f9e_e3a5_4dbf_b1dc_15eb381c6863, "thrift before speed"),
        (0x75b0ae3f_bce0_45a7_8c89_c9611c25e100, "clock cap in MHz"),
        (0x5d76a2ca_e8c0_402f_a133_2158492d58ad, "no idle states"),
        (0x93b8b6dc_0698_4d1c_9ee4_0644e900c85d, "cores for programs"),
        (0x94d3a615_a899_4ac5_ae2b_e4d8f634367f, "cooling"),
        (0xee12f906_d277_404b_b6da_e5fa1a576df5, "link saving"),
        (0x3c0bc021_c8a8_4e07_a973_6b14cbcb2b7e, "display off after seconds"),
        (0x29f6c1db_86da_48c5_9fdb_f2b67b1f44da, "sleep after seconds"),
        (0x9d7815a6_7ee4_497e_8888_515a05f02364, "hibernate after seconds"),
        (0x6738e2c4_e8a5_4a42_b16a_e040e769756e, "disk off after seconds"),
        (0x48e6b7a6_50f5_4782_a5d4_53bb8f07e226, "USB suspend"),
        (0x12bbebe6_58d6_4636_95bb_3217ef867c1a, "wireless saving"),
        (0x893dee8e_2bef_41e0_89c6_b55d0929964d, "lowest processor state, fast cores"),
        (0xbc5038f7_23e0_4960_96da_33abaf5935ed, "highest processor state, fast cores"),
        (0x0cc5b647_c1df_4637_891a_dec35c318584, "fast cores kept awake"),
        (0x36687f9e_e3a5_4dbf_b1dc_15eb381c6864, "thrift before speed, fast cores"),
        (0x75b0ae3f_bce0_45a7_8c89_c9611c25e101, "clock cap in MHz, fast cores"),
        (0xbae08b81_2d5e_4688_ad6a_13243356654b, "cores for short work"),
        (0xd4e98f31_5ffe_4ce1_be31_1b38b384c009, "USB 3 link saving"),
        (0x0b2d69d7_a2a1_449c_9680_f91c70521c60, "AHCI link saving"),
        (0xd639518a_e56d_4345_8af2_b9f32fb26109, "NVMe first idle milliseconds"),
        (0xfc95af4d_40e7_4b6d_835a_56d131dbc80e, "NVMe second idle milliseconds"),
        (0xe69653ca_cf7f_4f05_aa73_cb833fa90ad4, "energy saver below percent"),
        (0x5ca83367_6e45_459f_a27b_476b1d01c936, "lid"),
        (0x7648efa3_dd9c_4e3e_b566_50f929386280, "power button"),
        (0xbd3b718a_0680_4d9d_8ab2_e1d2b4ac806d, "wake timers"),
        (0x94ac6d29_73ce_41a6_809f_6363ba21b47e, "hybrid sleep"),
        (0x96996bc0_ad50_47ec_923b_6f41874dd9eb, "sleep button"),
        (0x17aaa29b_8b43_4b94_aafe_35f64daaf1ee, "display dimmed after seconds"),
        (0xaded5e82_b909_4619_9949_f5d71dac0bcb, "brightness"),
        (0xf1fbfde2_a960_4165_9f88_50667911ce96, "brightness dimmed"),
        (0xfbd9aa66_9553_4097_ba44_ed6e9d65eab8, "brightness by light"),
    ];
    let known = NAMES.iter().find(|(known, _)| Uuid::from_u128(*known) == setting);
    known.map_or_else(|| setting.to_string(), |(_, name)| (*name).to_owned())
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
        let state = State::Value(frevin_core::setting::Value::Plan(plan.parse().unwrap()));
        assert_eq!(shown(&state), "balanced");
    }
}
