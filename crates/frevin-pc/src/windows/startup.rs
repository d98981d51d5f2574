//! What starts when somebody signs in.
//!
//! Windows keeps the entries where programs put them, and in another key whether the owner has
//! switched one off ("StartupApproved"): the entry itself is never touched.

use frevin_core::setting::{KeyPath, RegistryData, State, Value};

use super::os_error::{OsError, state_of};
use super::registry::RegistryApi;
use crate::contract::{WriteError, Written};

const RUN: &str = r"Microsoft\Windows\CurrentVersion\Run";
const APPROVED: &str = r"SOFTWARE\Microsoft\Windows\CurrentVersion\Explorer\StartupApproved";

/// Where entries are, by the name that addresses begin with: the hive, the key of the entries (none
/// where they are files of a folder) and the key of the switches.
const SOURCES: [(&str, &str, Option<&str>, &str); 5] = [
    ("user-registry", "HKCU", Some(r"SOFTWARE"), "Run"),
    ("machine-registry", "HKLM", Some(r"SOFTWARE"), "Run"),
    ("machine-registry-32", "HKLM", Some(r"SOFTWARE\WOW6432Node"), "Run32"),
    ("user-folder", "HKCU", None, "StartupFolder"),
    ("machine-folder", "HKLM", None, "StartupFolder"),
];

/// The folders whose files start when somebody signs in.
pub trait StartupFolders {
    /// The names of the files in the user's own folder, or in everybody's.
    fn files(&self, of_everybody: bool) -> Result<Vec<String>, OsError>;
}

struct Source {
    entries: Option<KeyPath>,
    of_everybody: bool,
    switches: KeyPath,
}

fn source(name: &str) -> Option<Source> {
    let (_, hive, software, switches) = SOURCES.into_iter().find(|source| source.0 == name)?;
    Some(Source {
        entries: match software {
            Some(software) => Some(format!(r"{hive}\{software}\{RUN}").parse().ok()?),
            None => None,
        },
        of_everybody: hive == "HKLM",
        switches: format!(r"{hive}\{APPROVED}\{switches}").parse().ok()?,
    })
}

impl Source {
    fn names(
        &self,
        registry: &dyn RegistryApi,
        folders: &dyn StartupFolders,
    ) -> Result<Vec<String>, OsError> {
        match &self.entries {
            Some(key) if registry.has_key(key)? => registry.value_names(key),
            Some(_) => Ok(Vec::new()),
            None => folders.files(self.of_everybody),
        }
    }
}

/// Every entry, as addresses name it.
pub(super) fn entries(
    registry: &dyn RegistryApi,
    folders: &dyn StartupFolders,
) -> Result<Vec<String>, OsError> {
    let mut entries = Vec::new();
    for (place, ..) in SOURCES {
        let Some(source) = source(place) else { continue };
        for name in source.names(registry, folders)? {
            // The first is the key's default value, the second describes a folder.
            if !name.is_empty() && !name.eq_ignore_ascii_case("desktop.ini") {
                entries.push(format!("{place}/{name}"));
            }
        }
    }
    Ok(entries)
}

/// What an entry of the registry runs; nothing of a file in a folder.
pub(super) fn command(registry: &dyn RegistryApi, entry: &str) -> Option<String> {
    let (place, name) = entry.split_once('/')?;
    super::registry::text(registry, &source(place)?.entries?, name).ok()?
}

/// The name of the file that a command line starts: of what is quoted, or else up to its `.exe`.
pub(super) fn program_of(command: &str) -> Option<String> {
    let command = command.trim();
    let path = match command.strip_prefix('"') {
        Some(quoted) => quoted.split('"').next()?,
        None => {
            let end = command.to_ascii_lowercase().find(".exe").map_or(command.len(), |at| at + 4);
            &command[..end]
        }
    };
    let file = path.rsplit(['\\', '/']).next()?;
    (!file.is_empty()).then(|| file.to_owned())
}

fn find(
    registry: &dyn RegistryApi,
    folders: &dyn StartupFolders,
    entry: &str,
) -> Result<Option<(KeyPath, String)>, OsError> {
    let Some((source, name)) = entry.split_once('/').and_then(|(a, b)| Some((source(a)?, b)))
    else {
        return Ok(None);
    };
    let is_there = source.names(registry, folders)?.iter().any(|n| n.eq_ignore_ascii_case(name));
    Ok(is_there.then(|| (source.switches, name.to_owned())))
}

pub(super) fn read(registry: &dyn RegistryApi, folders: &dyn StartupFolders, entry: &str) -> State {
    let read = || {
        let Some((key, name)) = find(registry, folders, entry)? else { return Ok(None) };
        let switch = registry.value(&key, &name)?;
        let unusual = || State::Unreadable("Windows' switch for it is unusual".to_owned());
        Ok(Some(is_on(switch.as_ref()).map_or_else(unusual, |on| Value::Flag(on).into())))
    };
    state_of(read())
}

pub(super) fn write(
    registry: &dyn RegistryApi,
    folders: &dyn StartupFolders,
    entry: &str,
    enabled: bool,
) -> Result<Written, WriteError> {
    let (key, name) = find(registry, folders, entry)?
        .ok_or_else(|| WriteError::Refused(format!("nothing called {entry} starts")))?;
    let switch = registry.value(&key, &name)?;
    match is_on(switch.as_ref()) {
        None => return Err(WriteError::Refused("Windows' switch for it is unusual".to_owned())),
        Some(held) if held == enabled => return Ok(Written::Done),
        Some(_) => {}
    }
    match turned(switch.as_ref()) {
        None => registry.remove_value(&key, &name)?,
        Some(switch) if registry.has_key(&key)? => registry.set_value(&key, &name, &switch)?,
        Some(_) => return Err(WriteError::Refused(format!("the key {key} does not exist"))),
    }
    Ok(Written::Done)
}

/// The key of an entry's switch: it has to be there before an entry can be switched off.
pub(super) fn supports(entry: &str) -> Vec<KeyPath> {
    let source = entry.split_once('/').and_then(|(place, _)| source(place));
    let key = source.map(|source| source.switches);
    key.into_iter().flat_map(|key| key.parent().into_iter().chain([key.clone()])).collect()
}

/// Whether a switch of twelve bytes is on: the first byte says it in its lowest bit, the last eight
/// hold when it was switched off. No switch is on.
fn is_on(switch: Option<&RegistryData>) -> Option<bool> {
    match switch {
        None => Some(true),
        Some(data) if data.type_number == 3 && data.bytes.len() == 12 => {
            (*data != marked_on()).then_some(data.bytes[0] & 1 == 0)
        }
        Some(_) => None,
    }
}

/// A moment that Windows never writes: it stands for "the switch was there, and on, without one".
const MARK: [u8; 8] = [1, 0, 0, 0, 0, 0, 0, 0];

fn marked_on() -> RegistryData {
    RegistryData::binary([&[2, 0, 0, 0], &MARK[..]].concat())
}

/// A switch turned over. Every switch has one counterpart and is the counterpart's, so that turning
/// it twice gives the very bytes, or the absence, there was.
fn turned(switch: Option<&RegistryData>) -> Option<RegistryData> {
    const NEVER: [u8; 8] = [0; 8];
    let Some(switch) = switch else {
        return Some(RegistryData::binary([&[3, 0, 0, 0], &NEVER[..]].concat()));
    };
    let (flags, moment) = switch.bytes.split_at(4);
    let moment = match (flags, moment) {
        ([3, 0, 0, 0], [0, 0, 0, 0, 0, 0, 0, 0]) => return None,
        ([3, 0, 0, 0], moment) if moment == MARK => &NEVER,
        ([2, 0, 0, 0], [0, 0, 0, 0, 0, 0, 0, 0]) => &MARK,
        (_, moment) => moment,
    };
    let mut bytes = [flags, moment].concat();
    bytes[0] ^= 1;
    Some(RegistryData::binary(bytes))
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_switch_that_was_not_there_goes_again() {
        let off = turned(None);
        assert_eq!(is_on(off.as_ref()), Some(false));
        assert_eq!(turned(off.as_ref()), None);
        let on = RegistryData::binary([2, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0, 0]);
        let off = turned(Some(&on));
        assert_ne!(off, turned(None), "an absent switch and one that is on are two things");
        assert_eq!(turned(off.as_ref()), Some(on));
        assert_eq!(is_on(Some(&RegistryData::dword(2))), None, "not a switch as Windows writes it");
    }

    proptest! {
        #[test]
        fn turning_twice_gives_the_very_bytes(
            first in 0u8..8, rest in prop_oneof![Just([0u8; 8]), any::<[u8; 8]>()],
        ) {
            let switch = RegistryData::binary([&[first, 0, 0, 0], &rest[..]].concat());
            prop_assume!(switch != marked_on());
            let other = turned(Some(&switch));
            prop_assert_eq!(is_on(other.as_ref()), is_on(Some(&switch)).map(|on| !on));
            prop_assert_eq!(turned(other.as_ref()), Some(switch));
        }
    }

    #[test]
    fn a_command_line_names_its_program() {
        for (command, file) in [
            (r#""C:\Program Files\Tessel\chat.exe" --tray"#, "chat.exe"),
            (r"C:\Program Files\Tessel\Chat.EXE -silent", "Chat.EXE"),
            ("helper.exe", "helper.exe"),
            (r"%windir%\system32\tray", "tray"),
        ] {
            assert_eq!(program_of(command).as_deref(), Some(file), "{command}");
        }
        assert_eq!(program_of(r#""" "#), None);
    }
}
