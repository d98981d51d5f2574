//! Registry settings in, registry text out.

use std::fmt::Write as _;

use crate::setting::{Address, KeyPath, RegistryData, RegistryType, State, Value, WinName};

/// The registry text that makes registry settings hold `states`, in the order given.
///
/// Keys that are to be absent are deleted with all that has come to lie in them since: the format
/// knows no other way, and the file says so. Values come before keys are deleted. Settings of
/// other kinds are left out.
pub fn write<'a>(states: impl IntoIterator<Item = (&'a Address, &'a State)>) -> String {
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
pub fn encode(text: &str) -> Vec<u8> {
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
