//! Windows' own anti-virus.

use frevin_core::setting::{State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// The preferences of Windows' anti-virus ("MSFT_MpPreference class" in the Windows documentation).
pub trait ProtectionsApi {
    /// A preference that is a number or a flag; nothing where this Windows has none of the name.
    fn number(&self, preference: &str) -> Result<Option<u32>, OsError>;
    /// Sets a preference that is a number or a flag.
    fn set_number(&self, preference: &str, number: u32) -> Result<(), OsError>;
    /// The folders that are passed over.
    fn exclusions(&self) -> Result<Option<Vec<String>>, OsError>;
    /// Adds folders to those that are passed over, and takes others away.
    fn change_exclusions(&self, add: &[String], remove: &[String]) -> Result<(), OsError>;
}

/// A protection by the name that addresses use: the preference, its value when on, when off.
const SWITCHES: [(&str, &str, u32, u32); 3] = [
    ("real-time", "DisableRealtimeMonitoring", 0, 1),
    // 2 is full membership of the cloud service, 0 none.
    ("cloud-delivered", "MAPSReporting", 2, 0),
    // 1 sends samples that hold nothing private by itself, 2 never sends any.
    ("sample-submission", "SubmitSamplesConsent", 1, 2),
];

fn switch(name: &str) -> Option<(&'static str, u32, u32)> {
    let found = SWITCHES.into_iter().find(|(known, ..)| known.eq_ignore_ascii_case(name));
    found.map(|(_, preference, on, off)| (preference, on, off))
}

pub(super) fn read_enabled(api: &dyn ProtectionsApi, name: &str) -> State {
    let Some((preference, on, off)) = switch(name) else { return State::Absent };
    state_of(api.number(preference).map(|number| {
        Some(match number? {
            number if number == on => Value::Flag(true).into(),
            number if number == off => Value::Flag(false).into(),
            // Writing on or off over it would lose it.
            other => State::Unreadable(format!("it is neither on nor off: {other}")),
        })
    }))
}

pub(super) fn write_enabled(
    api: &dyn ProtectionsApi,
    name: &str,
    enabled: bool,
) -> Result<Written, WriteError> {
    let no_such = || WriteError::Refused(format!("there is no protection {name}"));
    let (preference, on, off) = switch(name).ok_or_else(no_such)?;
    match read_enabled(api, name) {
        State::Value(Value::Flag(held)) if held == enabled => Ok(Written::Done),
        State::Value(_) => {
            api.set_number(preference, if enabled { on } else { off })?;
            Ok(Written::Done)
        }
        other => Err(WriteError::Refused(format!("{name} is {other}"))),
    }
}

pub(super) fn read_exclusions(api: &dyn ProtectionsApi, name: &str) -> State {
    if !name.eq_ignore_ascii_case("anti-virus") {
        return State::Absent;
    }
    state_of(api.exclusions().map(|folders| folders.map(|folders| Value::Texts(folders).into())))
}

pub(super) fn write_exclusions(
    api: &dyn ProtectionsApi,
    folders: &[String],
) -> Result<Written, WriteError> {
    let none = || WriteError::Refused("this PC has no such anti-virus".to_owned());
    let held = api.exclusions()?.ok_or_else(none)?;
    let without = |these: &[String], those: &[String]| -> Vec<String> {
        these.iter().filter(|folder| !those.contains(folder)).cloned().collect()
    };
    let (add, remove) = (without(folders, &held), without(&held, folders));
    if !add.is_empty() || !remove.is_empty() {
        api.change_exclusions(&add, &remove)?;
    }
    Ok(Written::Done)
}

/// The names of the switches.
pub(super) fn switches() -> impl Iterator<Item = &'static str> {
    SWITCHES.into_iter().map(|(name, ..)| name)
}
