//! Page files, from the list that Windows reads when it starts.

use frevin_core::setting::{KeyPath, PageFileSize, RegistryData, State, Value};

use super::os_error::{OsError, state_of};
use super::registry::RegistryApi;
use crate::contract::{WriteError, Written};

const KEY: &str = r"HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management";
const VALUE: &str = "PagingFiles";
/// The one entry where Windows chooses drives and sizes by itself.
const AUTOMATIC: &str = r"?:\pagefile.sys";

fn key() -> Option<KeyPath> {
    KEY.parse().ok()
}

/// The entries, each `drive:\pagefile.sys initial maximum`, in order.
fn entries(registry: &dyn RegistryApi) -> Result<Option<Vec<String>>, OsError> {
    let data = match key() {
        Some(key) => registry.value(&key, VALUE)?,
        None => None,
    };
    let unusual = || OsError::Said("the list of page files is unusual".to_owned());
    data.map(|data| data.as_texts().ok_or_else(unusual)).transpose()
}

fn is_on(entry: &str, drive: &str) -> bool {
    let path = entry.split(' ').next().unwrap_or_default();
    path.len() >= drive.len()
        && path.is_char_boundary(drive.len())
        && path[..drive.len()].eq_ignore_ascii_case(drive)
}

fn size_in(entry: &str) -> Option<PageFileSize> {
    let (path, sizes) = entry.split_once(' ').unwrap_or((entry, "0 0"));
    if !path.get(2..)?.eq_ignore_ascii_case(r"\pagefile.sys") {
        return None;
    }
    let (initial, maximum) = sizes.split_once(' ')?;
    Some(match (initial.parse().ok()?, maximum.parse().ok()?) {
        (0, 0) => PageFileSize::SystemManaged,
        (initial_mib, maximum_mib) => PageFileSize::Fixed { initial_mib, maximum_mib },
    })
}

/// The size of a drive's page file. While Windows chooses by itself, that is said of the drive that
/// it is installed on, and the others have none.
pub(super) fn read(registry: &dyn RegistryApi, system_drive: &str, drive: &str) -> State {
    let read = || {
        let Some(entries) = entries(registry)? else { return Ok(None) };
        let is_system = drive.eq_ignore_ascii_case(system_drive);
        let size = if entries.iter().any(|entry| is_on(entry, "?:")) {
            Some(if is_system { PageFileSize::Automatic } else { PageFileSize::None })
        } else {
            match entries.iter().find(|entry| is_on(entry, drive)) {
                Some(entry) => size_in(entry),
                None => Some(PageFileSize::None),
            }
        };
        let unusual = || State::Unreadable("the entry of the drive is unusual".to_owned());
        Ok(Some(size.map_or_else(unusual, |size| Value::PageFile(size).into())))
    };
    state_of(read())
}

pub(super) fn write(
    registry: &dyn RegistryApi,
    system_drive: &str,
    drive: &str,
    size: PageFileSize,
) -> Result<Written, WriteError> {
    let refused = |reason: &str| Err(WriteError::Refused(reason.to_owned()));
    let (Some(key), Some(entries)) = (key(), entries(registry)?) else {
        return refused("this PC has no list of page files");
    };
    let is_system = drive.eq_ignore_ascii_case(system_drive);
    match read(registry, system_drive, drive) {
        State::Value(Value::PageFile(held)) if held == size => return Ok(Written::Done),
        State::Value(_) => {}
        _ => return refused("the list of page files is unusual"),
    }
    let is_automatic = entries.iter().any(|entry| is_on(entry, "?:"));
    if is_automatic && !is_system {
        return refused("Windows chooses page files by itself; set the system's drive first");
    }
    let entry = match size {
        PageFileSize::Automatic if !is_system => {
            return refused("Windows choosing by itself is said of the system's drive");
        }
        PageFileSize::Automatic if entries.iter().any(|entry| !is_on(entry, drive)) => {
            return refused("other drives have page files of their own");
        }
        PageFileSize::Automatic => Some(AUTOMATIC.to_owned()),
        PageFileSize::SystemManaged => Some(format!(r"{drive}\pagefile.sys 0 0")),
        PageFileSize::None => None,
        PageFileSize::Fixed { initial_mib, maximum_mib } => {
            Some(format!(r"{drive}\pagefile.sys {initial_mib} {maximum_mib}"))
        }
    };
    let replaced = |entry: &&String| is_on(entry, drive) || is_on(entry, "?:");
    let at = entries.iter().position(|entry| replaced(&entry)).unwrap_or(entries.len());
    let mut written: Vec<String> =
        entries.iter().filter(|entry| !replaced(entry)).cloned().collect();
    if let Some(entry) = entry {
        written.insert(at.min(written.len()), entry);
    }
    let data = RegistryData::multi_string(written.iter().map(String::as_str));
    registry.set_value(&key, VALUE, &data)?;
    Ok(Written::Done)
}
