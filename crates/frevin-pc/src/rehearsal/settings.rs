//! Every setting of a rehearsal PC, a file for each kind.

use std::collections::BTreeMap;

use frevin_core::setting::{
    Address, CleanPlace, KeyPath, ObjectKind, Place, RunState, State, Value, WinName,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::facts::SimulatedLoad;
use super::folder::Folder;
use super::objects::Objects;
use super::power::Power;
use super::registry::Registry;
use super::services::Services;
use super::visual::Visual;
use crate::contract::{PcError, WriteError, Written};
use crate::files::{FolderPath, Quarantine, TextFiles, link_and_remove};
use crate::registry_parts::write_part;

const REGISTRY: &str = "settings/registry.json";
const SERVICES: &str = "settings/services.json";
const POWER: &str = "settings/power.json";
const VISUAL: &str = "settings/visual.json";
const IN_EFFECT: &str = "in-effect.json";

/// What the PC still goes by where a write waits for a restart: by address, the state in effect.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
struct InEffect {
    states: BTreeMap<Address, State>,
}

impl InEffect {
    /// Where nothing waits there is no file.
    fn save(&self, folder: &Folder) -> Result<(), PcError> {
        if self.states.is_empty() {
            folder.remove(IN_EFFECT)
        } else {
            folder.write_json(IN_EFFECT, self)
        }
    }
}

/// The folder of a rehearsal PC's own files; below it, one for each place.
pub(super) const FILES: &str = "files";

fn text_files(folder: &Folder) -> TextFiles {
    let files = FolderPath::trusted(folder.root()).join(FILES);
    let at = |place: Place| (place, files.join(place.name()));
    TextFiles::new(Place::ALL.map(at).into(), folder.root().to_owned(), None)
}

fn quarantine(folder: &Folder) -> Quarantine {
    let root = FolderPath::trusted(folder.root());
    let files = root.join(FILES);
    let at = |place: CleanPlace| (place, files.join(place.name()));
    Quarantine::new(CleanPlace::ALL.map(at).into(), root.join("quarantine"), link_and_remove)
}

#[derive(Debug, Clone)]
pub(super) struct Settings {
    registry: Registry,
    services: Services,
    power: Power,
    visual: Visual,
    things: Objects,
    /// These two are the files themselves: they are read and written where they lie.
    text_files: TextFiles,
    quarantine: Quarantine,
    in_effect: InEffect,
}

impl Settings {
    pub(super) fn load(folder: &Folder) -> Result<Self, PcError> {
        let mut settings = Self {
            registry: folder.read_json(REGISTRY)?,
            services: folder.read_json(SERVICES)?,
            power: folder.read_json(POWER)?,
            visual: folder.read_json(VISUAL)?,
            things: Objects::load(folder)?,
            text_files: text_files(folder),
            quarantine: quarantine(folder),
            in_effect: InEffect::default(),
        };
        settings.in_effect = folder.read_json_or_default(IN_EFFECT)?;
        settings.forget_what_is_held();
        Ok(settings)
    }

    /// A crash between the two files of a write leaves a setting that waits for what it holds.
    fn forget_what_is_held(&mut self) {
        let waiting = std::mem::take(&mut self.in_effect.states).into_iter();
        self.in_effect.states =
            waiting.filter(|(address, state)| self.read(address) != *state).collect();
    }

    pub(super) fn read(&self, address: &Address) -> State {
        match address {
            Address::RegistryKey(key) => self.registry.read_key(key),
            Address::RegistryValue(key, name) => self.registry.read_value(key, name),
            Address::RegistryPart(key, name, part) => {
                part.read(&self.registry.read_value(key, name))
            }
            Address::ServiceStart(name) => self.services.read_start(name),
            Address::ServiceRunning(name) => self.services.read_run(name),
            Address::ActivePlan => self.power.read_active(),
            Address::PowerPlan(plan) => self.power.read_plan(*plan),
            Address::PowerHidden { subgroup, setting } => {
                self.power.read_hidden(*subgroup, *setting)
            }
            Address::PowerValue { plan, subgroup, setting, source } => {
                self.power.read_value([*plan, *subgroup, *setting], *source)
            }
            Address::Visual(parameter) => self.visual.read(*parameter),
            Address::Object(setting) => self.things.read(setting),
            Address::Text(setting) => self.text_files.read(setting),
            Address::Clean(setting) => self.quarantine.read(*setting),
        }
    }

    /// Makes it last that a write to `address` will wait, for those that [`Self::write`] itself makes last.
    pub(super) fn announce_write(&self, folder: &Folder, address: &Address) -> Result<(), PcError> {
        if !matches!(address, Address::Text(_) | Address::Clean(_)) {
            return Ok(());
        }
        let held = self.read(address);
        if !held.is_readable() {
            // What cannot be read cannot be kept as what is in effect; the write tells why.
            return Ok(());
        }
        let mut announced = self.in_effect.clone();
        announced.states.entry(address.clone()).or_insert(held);
        announced.save(folder)
    }

    /// Writes to memory, except for files; [`Self::save`] makes it last.
    pub(super) fn write(
        &mut self,
        address: &Address,
        state: &State,
        waits: bool,
    ) -> Result<Written, WriteError> {
        let before = self.read(address);
        let written = match address {
            Address::RegistryKey(key) => self.registry.write_key(key, state),
            Address::RegistryValue(key, name) => self.registry.write_value(key, name, state),
            Address::RegistryPart(key, name, part) => {
                write_part(part, &self.registry.read_value(key, name), state, |whole| {
                    self.registry.write_value(key, name, whole)
                })
            }
            Address::ServiceStart(name) => self.services.write_start(name, state),
            Address::ServiceRunning(name) => self.services.write_run(name, state),
            Address::ActivePlan => self.power.write_active(state),
            Address::PowerPlan(plan) => self.power.write_plan(*plan, state),
            Address::PowerHidden { subgroup, setting } => {
                self.power.write_hidden(*subgroup, *setting, state)
            }
            Address::PowerValue { plan, subgroup, setting, source } => {
                self.power.write_value([*plan, *subgroup, *setting], *source, state)
            }
            Address::Visual(parameter) => self.visual.write(*parameter, state),
            Address::Object(setting) => self.things.write(setting, state),
            Address::Text(setting) => self.text_files.write(setting, state),
            Address::Clean(setting) => self.quarantine.write(*setting, state),
        }?;
        if waits {
            let after = self.read(address);
            let in_effect = self.in_effect.states.remove(address).unwrap_or(before);
            if in_effect != after && in_effect.is_readable() {
                self.in_effect.states.insert(address.clone(), in_effect);
            }
        }
        Ok(written)
    }

    /// What the PC goes by now.
    pub(super) fn in_effect(&self, address: &Address) -> State {
        let held_back = self.in_effect.states.get(address);
        held_back.cloned().unwrap_or_else(|| self.read(address))
    }

    /// Settings whose latest write is not in effect.
    pub(super) fn waiting(&self) -> impl Iterator<Item = &Address> {
        self.in_effect.states.keys()
    }

    /// Puts into effect what was written to the settings that `has_come` says it of.
    pub(super) fn put_into_effect(&mut self, has_come: impl Fn(&Address) -> bool) {
        self.in_effect.states.retain(|address, _| !has_come(address));
    }

    pub(super) fn restart(&mut self) {
        self.in_effect.states.clear();
        self.services.restart();
    }

    pub(super) fn save_in_effect(&self, folder: &Folder) -> Result<(), PcError> {
        self.in_effect.save(folder)
    }

    /// Makes the task that Frevin has for its own, or takes it away, on disk too.
    pub(super) fn own_task(&mut self, folder: &Folder, is_there: bool) -> Result<(), PcError> {
        self.things.own_task(folder, is_there)
    }

    /// Saves what a write to `address` can have changed.
    ///
    /// What is in effect is in a file of its own. An entry is there before its setting is written
    /// and goes after it, so that a process that ends in between leaves a PC that goes by the same
    /// state as before; an entry too many is told by its setting holding the very state.
    pub(super) fn save(&self, folder: &Folder, address: &Address) -> Result<(), PcError> {
        let saved: InEffect = folder.read_json_or_default(IN_EFFECT)?;
        let mut both = saved.clone();
        both.states.extend(self.in_effect.states.clone());
        if both != saved {
            both.save(folder)?;
        }
        match address {
            Address::RegistryKey(_) | Address::RegistryValue(..) | Address::RegistryPart(..) => {
                folder.write_json(REGISTRY, &self.registry)?;
            }
            Address::ServiceStart(_) | Address::ServiceRunning(_) => {
                folder.write_json(SERVICES, &self.services)?;
            }
            Address::ActivePlan
            | Address::PowerPlan(_)
            | Address::PowerHidden { .. }
            | Address::PowerValue { .. } => {
                folder.write_json(POWER, &self.power)?;
            }
            Address::Visual(_) => folder.write_json(VISUAL, &self.visual)?,
            Address::Object(setting) => self.things.save(folder, setting.kind())?,
            Address::Text(_) | Address::Clean(_) => {}
        }
        if both != self.in_effect {
            self.in_effect.save(folder)?;
        }
        Ok(())
    }

    /// Clears away what a process left that ended while it saved.
    pub(super) fn tidy(&mut self, folder: &Folder) -> Result<(), PcError> {
        let names = [REGISTRY, SERVICES, POWER, VISUAL, IN_EFFECT];
        names.iter().try_for_each(|name| folder.remove_draft(name))?;
        self.things.files().try_for_each(|name| folder.remove_draft(&name))?;
        self.text_files.tidy()?;
        self.quarantine.tidy()?;
        // A half-written file is the old one again now.
        self.forget_what_is_held();
        if folder.read_json_or_default::<InEffect>(IN_EFFECT)? != self.in_effect {
            self.in_effect.save(folder)?;
        }
        Ok(())
    }

    pub(super) fn save_all(&self, folder: &Folder) -> Result<(), PcError> {
        folder.write_json(REGISTRY, &self.registry)?;
        folder.write_json(SERVICES, &self.services)?;
        folder.write_json(POWER, &self.power)?;
        folder.write_json(VISUAL, &self.visual)?;
        for kind in ObjectKind::ALL {
            self.things.save(folder, kind)?;
        }
        self.in_effect.save(folder)
    }

    pub(super) fn sync(&self, folder: &Folder) -> Result<(), PcError> {
        for name in [REGISTRY, SERVICES, POWER, VISUAL] {
            folder.sync(name)?;
        }
        self.things.files().try_for_each(|name| folder.sync(&name))?;
        if folder.path(IN_EFFECT).exists() {
            folder.sync(IN_EFFECT)?;
        }
        self.text_files.sync()?;
        self.quarantine.sync()?;
        folder.sync_folder("settings")?;
        folder.sync_folder("")?;
        folder.is_synced();
        Ok(())
    }

    /// What of the PC's load is simulated.
    pub(super) fn simulated_load(&self) -> SimulatedLoad {
        let holds = |address: &Address, value: Value| self.read(address) == value.into();
        let count = |addresses: Vec<Address>, value: Value| {
            let held = addresses.iter().filter(|address| holds(address, value.clone()));
            u32::try_from(held.count()).unwrap_or(u32::MAX)
        };
        let mut services = self.services.addresses();
        services.retain(|address| matches!(address, Address::ServiceRunning(_)));
        let mut entries = self.things.addresses();
        entries.retain(|address| {
            matches!(address, Address::Object(setting) if setting.kind() == ObjectKind::Startup)
        });
        SimulatedLoad {
            services_running: count(services, Value::Run(RunState::Running)),
            starts_with_pc: count(entries, Value::Flag(true)),
        }
    }

    /// Whether there is a device of that identifier.
    pub(super) fn has_device(&self, device: &WinName) -> bool {
        self.things.addresses().iter().any(|address| {
            matches!(address, Address::Object(setting)
                if setting.kind() == ObjectKind::Device && setting.object() == device)
        })
    }

    pub(super) fn services(&self) -> &Services {
        &self.services
    }

    pub(super) fn values_of(&self, key: &KeyPath) -> Vec<WinName> {
        self.registry.value_names(key)
    }

    pub(super) fn power(&self) -> &Power {
        &self.power
    }

    pub(super) fn quarantine(&self) -> &Quarantine {
        &self.quarantine
    }

    pub(super) fn addresses(&self) -> Result<Vec<Address>, PcError> {
        let mut addresses = self.registry.addresses();
        addresses.extend(self.services.addresses());
        addresses.extend(self.power.addresses());
        addresses.extend(self.visual.addresses());
        addresses.extend(self.things.addresses());
        addresses.extend(self.text_files.addresses()?);
        addresses.extend(self.quarantine.addresses());
        addresses.sort();
        addresses.dedup();
        Ok(addresses)
    }
}
