//! The simulated tasks, displays, adapters, devices and other named things.

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::setting::{Address, ObjectKind, ObjectSetting, State, Value, WinName};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::folder::Folder;
use crate::contract::{OWN_TASK, PcError, WriteError, Written};

/// One thing: what its parts hold, and what they may hold where not everything will do.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Object {
    values: BTreeMap<WinName, Value>,
    /// By part: the only values that it takes.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    offers: BTreeMap<WinName, Vec<Value>>,
}

/// The things of one kind, by name.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
struct ThingsOfKind {
    things: BTreeMap<WinName, Object>,
}

/// Every thing of the PC.
#[derive(Debug, Clone, Default, PartialEq)]
pub(super) struct Objects {
    kinds: BTreeMap<ObjectKind, ThingsOfKind>,
}

fn file(kind: ObjectKind) -> String {
    format!("settings/{}.json", kind.name())
}

impl Objects {
    pub(super) fn load(folder: &Folder) -> Result<Self, PcError> {
        let mut kinds = BTreeMap::new();
        for kind in ObjectKind::ALL {
            let name = file(kind);
            let of_kind: ThingsOfKind = folder.read_json_or_default(&name)?;
            for (thing, content) in &of_kind.things {
                check(kind, thing, content).map_err(|reason| folder.broken(&name, reason))?;
            }
            kinds.insert(kind, of_kind);
        }
        Ok(Self { kinds })
    }

    pub(super) fn save(&self, folder: &Folder, kind: ObjectKind) -> Result<(), PcError> {
        match self.kinds.get(&kind) {
            Some(of_kind) if !of_kind.things.is_empty() => folder.write_json(&file(kind), of_kind),
            _ => Ok(()),
        }
    }

    /// Makes the task that Frevin has for its own, or takes it away, on disk too.
    pub(super) fn own_task(&mut self, folder: &Folder, is_there: bool) -> Result<(), PcError> {
        let name = WinName::from(OWN_TASK);
        let tasks = self.kinds.entry(ObjectKind::Task).or_default();
        match is_there {
            true => {
                let values = [(WinName::from("enabled"), Value::Flag(false))].into();
                tasks.things.insert(name, Object { values, ..Object::default() });
            }
            false => {
                tasks.things.remove(&name);
            }
        }
        match tasks.things.is_empty() {
            true => folder.remove(&file(ObjectKind::Task)),
            false => self.save(folder, ObjectKind::Task),
        }
    }

    /// The names of the files that there are things in.
    pub(super) fn files(&self) -> impl Iterator<Item = String> {
        let filled = self.kinds.iter().filter(|(_, of_kind)| !of_kind.things.is_empty());
        filled.map(|(kind, _)| file(*kind))
    }

    fn thing(&self, setting: &ObjectSetting) -> Option<&Object> {
        self.kinds.get(&setting.kind())?.things.get(setting.object())
    }

    pub(super) fn read(&self, setting: &ObjectSetting) -> State {
        let value = self.thing(setting).and_then(|thing| thing.values.get(setting.part_name()));
        value.map_or(State::Absent, |value| value.clone().into())
    }

    pub(super) fn write(
        &mut self,
        setting: &ObjectSetting,
        state: &State,
    ) -> Result<Written, WriteError> {
        let thing = self
            .kinds
            .get_mut(&setting.kind())
            .and_then(|of_kind| of_kind.things.get_mut(setting.object()))
            .ok_or_else(|| WriteError::Refused(format!("there is no {setting}")))?;
        let part = setting.part_name();
        let is_there = thing.values.contains_key(part);
        match state {
            State::Absent if setting.part().may_be_absent() => {
                thing.values.remove(part);
            }
            State::Value(value) if setting.can_hold(value) => {
                if !is_there && !setting.part().may_be_absent() {
                    return Err(WriteError::Refused(format!("there is no {setting}")));
                }
                if let Some(offers) = thing.offers.get(part)
                    && !offers.contains(value)
                {
                    return Err(WriteError::Refused(format!("{setting} does not offer {value}")));
                }
                thing.values.insert(part.clone(), value.clone());
            }
            other => return Err(WriteError::Refused(format!("{setting} cannot hold {other}"))),
        }
        Ok(Written::Done)
    }

    pub(super) fn addresses(&self) -> Vec<Address> {
        let mut addresses = BTreeSet::new();
        for (kind, of_kind) in &self.kinds {
            for (name, thing) in &of_kind.things {
                for part in thing.values.keys() {
                    addresses.extend(address(*kind, name, part));
                }
            }
        }
        addresses.into_iter().collect()
    }
}

fn address(kind: ObjectKind, name: &WinName, part: &WinName) -> Option<Address> {
    format!("{}:{name}#{part}", kind.name()).parse().ok()
}

/// Whether a thing of the file is one: every part known, and holding what it can.
fn check(kind: ObjectKind, name: &WinName, thing: &Object) -> Result<(), String> {
    for (part, value) in &thing.values {
        match address(kind, name, part) {
            Some(Address::Object(setting)) if setting.can_hold(value) => {}
            Some(_) => return Err(format!("`{name}`: `{part}` cannot hold {value}")),
            None => return Err(format!("`{name}` has no part `{part}`")),
        }
    }
    Ok(())
}
