//! What is installed on a rehearsal PC.

use frevin_core::setting::{Address, ObjectPart, ObjectSetting, State, Value, WinName};
use serde::Deserialize;

use super::folder::Folder;
use crate::contract::{InstalledProgram, PcError};

const PROGRAMS: &str = "programs.toml";

/// What `programs.toml` holds. A PC of an earlier version has none.
#[derive(Debug, Default, Deserialize)]
#[serde(deny_unknown_fields)]
struct Programs {
    #[serde(default)]
    programs: Vec<InstalledProgram>,
}

/// The programs of the list, and the apps that the PC has beside them; of each app only where it is installed.
pub(super) fn programs(
    folder: &Folder,
    apps: &[Address],
    read: impl Fn(&Address) -> State,
) -> Result<Vec<InstalledProgram>, PcError> {
    let listed: Programs = match folder.path(PROGRAMS).exists() {
        true => folder.read_toml(PROGRAMS)?,
        false => Programs::default(),
    };
    let mut found = Vec::new();
    for address in apps {
        let Some(family) = family(address) else { continue };
        if read(address) != State::Value(Value::Flag(true)) {
            continue;
        }
        let known = listed.programs.iter().find(|one| one.family.as_ref() == Some(family));
        found.push(known.cloned().unwrap_or_else(|| InstalledProgram {
            name: family.to_string(),
            family: Some(family.clone()),
            size_mib: None,
        }));
    }
    found.extend(listed.programs.into_iter().filter(|one| one.family.is_none()));
    Ok(found)
}

fn family(address: &Address) -> Option<&WinName> {
    let Address::Object(setting) = address else { return None };
    let is_app = |setting: &ObjectSetting| setting.part() == ObjectPart::AppInstalled;
    is_app(setting).then(|| setting.object())
}
