//! The registry.

use frevin_core::setting::{KeyPath, RegistryData, State, Value, WinName};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// The registry as Windows offers it: the 64-bit view, in which 32-bit programs' part has paths of
/// its own.
pub trait RegistryApi {
    /// Whether a key exists.
    fn has_key(&self, key: &KeyPath) -> Result<bool, OsError>;
    /// What a value holds; nothing where it or its key does not exist.
    fn value(&self, key: &KeyPath, name: &str) -> Result<Option<RegistryData>, OsError>;
    /// Makes a key whose parent exists.
    fn create_key(&self, key: &KeyPath) -> Result<(), OsError>;
    /// Removes a key that holds nothing; says whether it did.
    fn remove_empty_key(&self, key: &KeyPath) -> Result<bool, OsError>;
    /// Writes a value of a key that exists.
    fn set_value(&self, key: &KeyPath, name: &str, data: &RegistryData) -> Result<(), OsError>;
    /// Removes a value that exists.
    fn remove_value(&self, key: &KeyPath, name: &str) -> Result<(), OsError>;
    /// The names of a key's values.
    fn value_names(&self, key: &KeyPath) -> Result<Vec<String>, OsError>;
    /// The names of a key's keys.
    fn key_names(&self, key: &KeyPath) -> Result<Vec<String>, OsError>;
    /// Whether this process may change what is directly in a key that exists.
    fn may_write(&self, key: &KeyPath) -> Result<bool, OsError>;
    /// When a key was last changed, in units of 100 ns since 1601; nothing where it does not exist.
    fn changed_at(&self, key: &KeyPath) -> Result<Option<u64>, OsError>;
    /// Writes a key's hive to disk.
    fn flush(&self, key: &KeyPath) -> Result<(), OsError>;
}

pub(super) fn read_key(registry: &dyn RegistryApi, key: &KeyPath) -> State {
    state_of(registry.has_key(key).map(|is_there| is_there.then(|| Value::Key.into())))
}

pub(super) fn read_value(registry: &dyn RegistryApi, key: &KeyPath, name: &WinName) -> State {
    let value = registry.value(key, name.as_str());
    state_of(value.map(|data| data.map(|data| Value::Registry(data).into())))
}

pub(super) fn write_key(
    registry: &dyn RegistryApi,
    key: &KeyPath,
    state: &State,
) -> Result<Written, WriteError> {
    match state {
        State::Value(Value::Key) => {
            if let Some(parent) = key.parent()
                && !registry.has_key(&parent)?
            {
                return Err(refused(format!("the key above {key} does not exist")));
            }
            registry.create_key(key)?;
            Ok(Written::Done)
        }
        State::Absent if !registry.has_key(key)? => Ok(Written::Done),
        State::Absent => Ok(match registry.remove_empty_key(key)? {
            true => Written::Done,
            false => Written::LeftInPlace,
        }),
        other => Err(refused(format!("a key cannot hold {other}"))),
    }
}

pub(super) fn write_value(
    registry: &dyn RegistryApi,
    key: &KeyPath,
    name: &WinName,
    state: &State,
) -> Result<Written, WriteError> {
    match state {
        State::Absent => {
            if registry.value(key, name.as_str())?.is_some() {
                registry.remove_value(key, name.as_str())?;
            }
        }
        State::Value(Value::Registry(data)) => {
            if !registry.has_key(key)? {
                return Err(refused(format!("the key {key} does not exist")));
            }
            registry.set_value(key, name.as_str(), data)?;
        }
        other => return Err(refused(format!("a registry value cannot hold {other}"))),
    }
    Ok(Written::Done)
}

fn refused(reason: String) -> WriteError {
    WriteError::Refused(reason)
}

/// The number that a value holds, where it holds one.
pub(super) fn number(
    registry: &dyn RegistryApi,
    key: &KeyPath,
    name: &str,
) -> Result<Option<u64>, OsError> {
    Ok(registry.value(key, name)?.and_then(|data| data.as_number()))
}

/// The text that a value holds, where it holds one.
pub(super) fn text(
    registry: &dyn RegistryApi,
    key: &KeyPath,
    name: &str,
) -> Result<Option<String>, OsError> {
    Ok(registry.value(key, name)?.and_then(|data| data.as_text()))
}
