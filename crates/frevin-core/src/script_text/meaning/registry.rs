//! `reg`, and the values that PowerShell writes too.

use super::{Meaning, NOT_UNDERSTOOD, Switches, Understood};
use crate::setting::{Address, KeyPath, RegistryData, RegistryType, State, Value, WinName};
use crate::tweak::bytes_of;

pub(super) fn key(written: &str) -> Result<KeyPath, String> {
    let path = written.strip_prefix("Registry::").or_else(|| written.strip_prefix("registry::"));
    let path = path.unwrap_or(written).replacen(":\\", "\\", 1).replace('/', "\\");
    path.trim_end_matches('\\').parse().map_err(|error| format!("{error}"))
}

pub(super) fn registry(words: &[&str]) -> Understood {
    let Some((verb, rest)) = words.split_first() else { return Ok(Meaning::Nothing) };
    let switches = Switches::of(rest, '/', &["f", "ve", "va", "reg:32", "reg:64"]);
    let verb = verb.to_lowercase();
    if verb == "query" {
        return Ok(Meaning::Nothing);
    }
    if switches.get(&["reg"]) == Some("32") {
        return Err("it means the part of the registry for 32-bit programs".to_owned());
    }
    let [path] = switches.plain[..] else { return Err(NOT_UNDERSTOOD.to_owned()) };
    let key = key(path)?;
    let name = match (switches.get(&["v"]), switches.get(&["ve"])) {
        (Some(name), _) => Some(WinName::new(name)),
        (None, Some(_)) => Some(WinName::new("")),
        (None, None) => None,
    };
    match (verb.as_str(), name) {
        ("add", None) => Ok(Meaning::Key(key)),
        ("add", Some(name)) => {
            let data = switches.get(&["d"]).unwrap_or_default();
            let type_name = switches.get(&["t"]).unwrap_or("REG_SZ");
            let data = registry_data(type_name, data, switches.get(&["s"]).unwrap_or("\\0"))?;
            value(key, name, Value::Registry(data).into())
        }
        ("delete", Some(name)) => value(key, name, State::Absent),
        ("delete", None) => Err(deletes(&key)),
        _ => Err(NOT_UNDERSTOOD.to_owned()),
    }
}

pub(super) fn deletes(key: &KeyPath) -> String {
    format!(
        "it deletes {key} with all that is in it; Frevin takes away values one by one, so that each comes back"
    )
}

pub(super) fn value(key: KeyPath, name: WinName, state: State) -> Understood {
    let address = Address::RegistryValue(key, name);
    // Only what can be addressed again is a setting.
    address.to_string().parse::<Address>().map_err(|error| format!("{error}"))?;
    Ok(Meaning::Settings(vec![(address, state)]))
}

pub(super) fn registry_data(
    type_name: &str,
    data: &str,
    separator: &str,
) -> Result<RegistryData, String> {
    let no_number = || format!("{data} is no number that fits");
    let number = |data: &str| match data.to_lowercase().strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        // -1 is all bits.
        None => {
            data.parse().ok().or_else(|| Some(i64::from(data.parse::<i32>().ok()?).cast_unsigned()))
        }
    };
    let data_or_zero = if data.is_empty() { "0" } else { data };
    Ok(match type_name.to_uppercase().as_str() {
        "REG_SZ" | "STRING" => RegistryData::string(data),
        "REG_EXPAND_SZ" | "EXPANDSTRING" => RegistryData::expand_string(data),
        "REG_DWORD" | "DWORD" => {
            let number = number(data_or_zero).ok_or_else(no_number)?;
            let low = u32::try_from(number & u64::from(u32::MAX)).map_err(|_| no_number())?;
            if number > u64::from(u32::MAX) && number >> 32 != u64::from(u32::MAX) {
                return Err(no_number());
            }
            RegistryData::dword(low)
        }
        "REG_QWORD" | "QWORD" => RegistryData::qword(number(data_or_zero).ok_or_else(no_number)?),
        "REG_BINARY" | "BINARY" => {
            let bytes = bytes_of(data).ok_or_else(|| format!("{data} are no bytes"))?;
            RegistryData { type_number: RegistryType::Binary.number(), bytes }
        }
        "REG_MULTI_SZ" | "MULTISTRING" => {
            RegistryData::multi_string(data.split(separator).filter(|text| !text.is_empty()))
        }
        other => return Err(format!("{other} is no type of a registry value that is known")),
    })
}
