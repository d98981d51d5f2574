//! The simulated registry: keys in a tree, values with raw types and exact bytes.

use std::collections::BTreeMap;

use frevin_core::setting::{Address, KeyPath, RegistryData, State, Value, WinName};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::contract::{WriteError, Written};

/// The deepest key that a rehearsal PC holds: what is read back of its file is nested twice as deep,
/// and the reader of JSON goes no deeper than 128. Windows' own limit is 512.
const DEEPEST: usize = 60;

/// One key.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Key {
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    values: BTreeMap<WinName, RegistryData>,
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    keys: BTreeMap<WinName, Key>,
}

impl Key {
    fn is_empty(&self) -> bool {
        self.values.is_empty() && self.keys.is_empty()
    }
}

/// The hives by their short names.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub(crate) struct Registry {
    hives: BTreeMap<String, Key>,
}

impl Registry {
    fn key(&self, path: &KeyPath) -> Option<&Key> {
        let hive = self.hives.get(path.hive().short_name())?;
        path.names().iter().try_fold(hive, |key, name| key.keys.get(name))
    }

    fn key_mut(&mut self, path: &KeyPath) -> Option<&mut Key> {
        let hive = self.hives.get_mut(path.hive().short_name())?;
        path.names().iter().try_fold(hive, |key, name| key.keys.get_mut(name))
    }

    pub(crate) fn read_key(&self, path: &KeyPath) -> State {
        self.key(path).map_or(State::Absent, |_| Value::Key.into())
    }

    pub(crate) fn read_value(&self, path: &KeyPath, name: &WinName) -> State {
        let data = self.key(path).and_then(|key| key.values.get(name));
        data.map_or(State::Absent, |data| Value::Registry(data.clone()).into())
    }

    pub(crate) fn write_key(
        &mut self,
        path: &KeyPath,
        state: &State,
    ) -> Result<Written, WriteError> {
        let Some(name) = path.names().last() else {
            return Err(WriteError::Refused("the root of a hive".to_owned()));
        };
        let parent = match path.parent() {
            Some(parent) => self.key_mut(&parent),
            None => self.hives.get_mut(path.hive().short_name()),
        };
        let no_parent = || WriteError::Refused(format!("the key above {path} does not exist"));
        match state {
            State::Value(Value::Key) => {
                if path.names().len() > DEEPEST {
                    let reason = format!("a rehearsal PC holds keys at most {DEEPEST} deep");
                    return Err(WriteError::Refused(reason));
                }
                parent.ok_or_else(no_parent)?.keys.entry(name.clone()).or_default();
                Ok(Written::Done)
            }
            State::Absent => {
                let Some(parent) = parent else { return Ok(Written::Done) };
                match parent.keys.get(name) {
                    Some(key) if !key.is_empty() => return Ok(Written::LeftInPlace),
                    _ => parent.keys.remove(name),
                };
                Ok(Written::Done)
            }
            other => Err(WriteError::Refused(format!("a key cannot hold {other}"))),
        }
    }

    pub(crate) fn write_value(
        &mut self,
        path: &KeyPath,
        name: &WinName,
        state: &State,
    ) -> Result<Written, WriteError> {
        let key = self.key_mut(path);
        match (state, key) {
            (State::Absent, None) => {}
            (State::Absent, Some(key)) => {
                key.values.remove(name);
            }
            (State::Value(Value::Registry(data)), Some(key)) => {
                // A value that exists keeps the spelling of its name, as in Windows.
                match key.values.get_mut(name) {
                    Some(held) => *held = data.clone(),
                    None => {
                        key.values.insert(name.clone(), data.clone());
                    }
                }
            }
            (State::Value(Value::Registry(_)), None) => {
                return Err(WriteError::Refused(format!("the key {path} does not exist")));
            }
            (other, _) => {
                return Err(WriteError::Refused(format!("a registry value cannot hold {other}")));
            }
        }
        Ok(Written::Done)
    }

    pub(crate) fn value_names(&self, path: &KeyPath) -> Vec<WinName> {
        self.key(path).into_iter().flat_map(|key| key.values.keys().cloned()).collect()
    }

    /// The names of the keys directly in a key.
    #[cfg(test)]
    pub(crate) fn key_names(&self, path: &KeyPath) -> Vec<WinName> {
        self.key(path).into_iter().flat_map(|key| key.keys.keys().cloned()).collect()
    }

    /// The hives as Windows has them, with nothing in them.
    #[cfg(test)]
    pub(crate) fn bare() -> Self {
        let hive = |name: &str| (name.to_owned(), Key::default());
        Self { hives: ["HKLM", "HKCU", "HKU"].into_iter().map(hive).collect() }
    }

    /// Every key and value.
    pub(super) fn addresses(&self) -> Vec<Address> {
        let mut addresses = Vec::new();
        for (hive, root) in &self.hives {
            for (name, key) in &root.keys {
                collect(&format!(r"{hive}\{name}"), key, &mut addresses);
            }
        }
        addresses
    }
}

fn collect(path: &str, key: &Key, addresses: &mut Vec<Address>) {
    let Ok(key_path) = path.parse::<KeyPath>() else { return };
    addresses.push(Address::RegistryKey(key_path.clone()));
    for name in key.values.keys() {
        addresses.push(Address::RegistryValue(key_path.clone(), name.clone()));
    }
    for (name, inner) in &key.keys {
        collect(&format!(r"{path}\{name}"), inner, addresses);
    }
}
