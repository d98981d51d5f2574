//! Devices: switched on or off, and how they interrupt.

use frevin_core::setting::{KeyPath, RegistryData, State, Value};

use super::os_error::{OsError, state_of};
use super::registry::{self, RegistryApi};
use crate::contract::{WriteError, Written};

/// The devices as Windows offers them.
pub trait DevicesApi {
    /// Whether a device is switched on; nothing where it is not connected.
    fn is_enabled(&self, id: &str) -> Result<Option<bool>, OsError>;
    /// Switches a device on or off, for good.
    fn set_enabled(&self, id: &str, enabled: bool) -> Result<(), OsError>;
    /// Switches a device off until the next start of the PC, and on again.
    fn restart(&self, id: &str) -> Result<(), OsError>;
}

/// Classes of devices that can be spared for some seconds: network adapters, and sound ("System-Defined
/// Device Setup Classes").
const SPARED: [&str; 2] =
    ["{4d36e972-e325-11ce-bfc1-08002be10318}", "{4d36e96c-e325-11ce-bfc1-08002be10318}"];

/// Whether a device is of a class that can be spared; nothing where there is no such device.
pub(super) fn can_be_spared(
    registry: &dyn RegistryApi,
    devices: &dyn DevicesApi,
    id: &str,
) -> Result<Option<bool>, OsError> {
    let key: Option<KeyPath> = format!(r"HKLM\SYSTEM\CurrentControlSet\Enum\{id}").parse().ok();
    let Some(key) = key.filter(|_| !matches!(devices.is_enabled(id), Ok(None))) else {
        return Ok(None);
    };
    let class = registry::text(registry, &key, "ClassGUID")?;
    Ok(Some(
        class.is_some_and(|class| SPARED.iter().any(|known| class.eq_ignore_ascii_case(known))),
    ))
}

pub(super) fn read_enabled(devices: &dyn DevicesApi, id: &str) -> State {
    state_of(devices.is_enabled(id).map(|enabled| enabled.map(|on| Value::Flag(on).into())))
}

pub(super) fn write_enabled(
    devices: &dyn DevicesApi,
    id: &str,
    enabled: bool,
) -> Result<Written, WriteError> {
    match devices.is_enabled(id).map_err(OsError::before_write)? {
        None => Err(WriteError::Refused(format!("there is no device {id}"))),
        Some(held) if held == enabled => Ok(Written::Done),
        Some(_) => {
            devices.set_enabled(id, enabled)?;
            Ok(Written::Done)
        }
    }
}

/// A number that a driver reads from its device's key.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Interrupt {
    /// Whether interrupts come as messages.
    MessageSignalled,
    /// How they rank among others.
    Priority,
}

impl Interrupt {
    /// Where it is kept, below the device's key ("Enabling Message-Signaled Interrupts in the
    /// Registry" and "Interrupt Affinity" in the Windows driver documentation).
    fn place(self) -> (&'static str, &'static str) {
        match self {
            Self::MessageSignalled => ("MessageSignaledInterruptProperties", "MSISupported"),
            Self::Priority => ("Affinity Policy", "DevicePriority"),
        }
    }

    /// The device's own key, and the value in the key that is to be below it.
    fn value(self, id: &str) -> Option<(KeyPath, KeyPath, &'static str)> {
        let (key, value) = self.place();
        let device: KeyPath =
            format!(r"HKLM\SYSTEM\CurrentControlSet\Enum\{id}\Device Parameters").parse().ok()?;
        let key = format!(r"{device}\Interrupt Management\{key}").parse().ok()?;
        Some((device, key, value))
    }

    /// The keys that have to be there before it can be written, outermost first.
    pub(super) fn supports(self, id: &str) -> Vec<KeyPath> {
        let Some((_, key, _)) = self.value(id) else { return Vec::new() };
        key.parent().into_iter().chain([key]).collect()
    }
}

pub(super) fn read_interrupt(registry: &dyn RegistryApi, id: &str, what: Interrupt) -> State {
    let Some((_, key, value)) = what.value(id) else { return State::Absent };
    state_of(registry.value(&key, value).map(|data| {
        let data = data?;
        let number = data.as_number().and_then(|number| u32::try_from(number).ok());
        Some(match (what, number) {
            (Interrupt::MessageSignalled, Some(number @ (0 | 1))) => {
                Value::Flag(number == 1).into()
            }
            (Interrupt::Priority, Some(number)) => Value::Number(number).into(),
            _ => State::Unreadable(format!("its driver was told something unusual: {data}")),
        })
    }))
}

pub(super) fn write_interrupt(
    registry: &dyn RegistryApi,
    id: &str,
    what: Interrupt,
    state: &State,
) -> Result<Written, WriteError> {
    let no_such = || WriteError::Refused(format!("there is no device {id}"));
    let (device, key, value) = what.value(id).ok_or_else(no_such)?;
    let state = match (what, state) {
        (_, State::Absent) => State::Absent,
        (Interrupt::MessageSignalled, State::Value(Value::Flag(flag))) => {
            Value::Registry(RegistryData::dword(u32::from(*flag))).into()
        }
        (Interrupt::Priority, State::Value(Value::Number(number))) => {
            Value::Registry(RegistryData::dword(*number)).into()
        }
        (_, other) => return Err(WriteError::Refused(format!("it cannot hold {other}"))),
    };
    if !registry.has_key(&device)? {
        return Err(no_such());
    }
    registry::write_value(registry, &key, &value.into(), &state)
}
