//! PowerShell's own commands.

use super::registry::{deletes, key, registry_data, value};
use super::{Meaning, NOT_UNDERSTOOD, Switches, Understood, decimal, one, start_word};
use crate::setting::{State, Value, WinName};

/// The commands of PowerShell.
pub(super) fn cmdlet(program: &str, words: &[&str]) -> Understood {
    let alone = ["force", "online", "norestart", "passthru", "confirm", "whatif", "nowait"];
    let switches = Switches::of(words, '-', &alone);
    if switches.get(&["whatif"]).is_some() {
        return Ok(Meaning::Nothing);
    }
    let mut plain = switches.plain.iter().copied();
    let mut given = |names: &[&str]| switches.get(names).or_else(|| plain.next());
    let missing = || NOT_UNDERSTOOD.to_owned();
    match program {
        "set-itemproperty" | "sp" | "new-itemproperty" => {
            let key = key(given(&["path", "literalpath"]).ok_or_else(missing)?)?;
            let name = WinName::new(given(&["name"]).ok_or_else(missing)?);
            let data = given(&["value"]).ok_or_else(missing)?;
            // Without a type, PowerShell makes a number a REG_DWORD and a text a REG_SZ.
            let usual = if decimal(data).is_ok() { "DWORD" } else { "STRING" };
            let type_name = switches.get(&["type", "propertytype"]).unwrap_or(usual);
            value(key, name, Value::Registry(registry_data(type_name, data, ",")?).into())
        }
        "remove-itemproperty" | "rp" => {
            let key = key(given(&["path", "literalpath"]).ok_or_else(missing)?)?;
            let name = WinName::new(given(&["name"]).ok_or_else(missing)?);
            value(key, name, State::Absent)
        }
        "new-item" => Ok(Meaning::Key(key(given(&["path"]).ok_or_else(missing)?)?)),
        "remove-item" | "rm" => match key(given(&["path", "literalpath"]).ok_or_else(missing)?) {
            Ok(key) => Err(deletes(&key)),
            Err(_) => Err(missing()),
        },
        "set-service" => {
            let name = given(&["name"]).ok_or_else(missing)?;
            let mut settings = Vec::new();
            if let Some(start) = switches.get(&["startuptype"]) {
                settings.push((format!("service:{name}#start"), start_word(start)?.to_owned()));
            }
            if let Some(status) = switches.get(&["status"]) {
                settings.push((format!("service:{name}#running"), status.to_lowercase()));
            }
            several(&settings)
        }
        "stop-service" => {
            one(&format!("service:{}#running", given(&["name"]).ok_or_else(missing)?), "stopped")
        }
        "start-service" => {
            one(&format!("service:{}#running", given(&["name"]).ok_or_else(missing)?), "running")
        }
        "disable-scheduledtask" | "enable-scheduledtask" => {
            let name = given(&["taskname"]).ok_or_else(missing)?;
            let path = switches.get(&["taskpath"]).unwrap_or_default();
            let whole = format!("{}\\{name}", path.trim_end_matches('\\'));
            if path.is_empty() && !name.starts_with('\\') {
                return Err("it names a task without its folder".to_owned());
            }
            let whole = whole.trim_start_matches('\\');
            let is_enabled = if program.starts_with("enable") { "true" } else { "false" };
            one(&format!("task:\\{whole}#enabled"), is_enabled)
        }
        "disable-windowsoptionalfeature" | "enable-windowsoptionalfeature" => {
            let name = given(&["featurename"]).ok_or_else(missing)?;
            let is_enabled = if program.starts_with("enable") { "true" } else { "false" };
            one(&format!("feature:{name}#enabled"), is_enabled)
        }
        _ => Err(missing()),
    }
}

fn several(settings: &[(String, String)]) -> Understood {
    let mut all = Vec::new();
    for (address, words) in settings {
        match one(address, words)? {
            Meaning::Settings(more) => all.extend(more),
            Meaning::Nothing | Meaning::Key(_) => {}
        }
    }
    if all.is_empty() { Err(NOT_UNDERSTOOD.to_owned()) } else { Ok(Meaning::Settings(all)) }
}
