//! The live PC, opened.

use std::cell::OnceCell;
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::Duration;

use frevin_core::facts::{Facts, Guard};
use frevin_core::ids::{BootId, PcId, StartId};
use frevin_core::playing::{MemoryState, TimerPeriod};
use frevin_core::setting::{
    Address, CleanPart, CleanPlace, Concern, Hive, KeyPath, ObjectPart, PowerSource, State,
    TakesEffect, Value, VisualParameter, WinName, belongs_to_user, concern, needs_administrator,
};
use frevin_core::waiting::Start;

use frevin_core::environment::{ClockReadings, Environment};

use super::apis::Apis;
use super::devices::Interrupt;
use super::os_error::OsError;
use super::{
    adapters, devices, facts, graphics_use, installed, power, registry, services, starts, startup,
    tasks, visual,
};
use crate::contract::{
    CleanContent, Holder, InstalledProgram, LockError, Pc, PcError, PcIdentity, PcKind, PcLock,
    RestorePoint, StartupCosts, StartupEntry, WriteError, Written, belongs_to,
};
use crate::durable::sync_file;
use crate::files::{self, FolderPath, Quarantine, TextFiles};
use crate::registry_parts::write_part;
use crate::restarts::{BroughtAbout, DeviceRestarted, Restarts};

const LOCK: &str = "live-pc.lock";
const HOLDER: &str = "live-pc.holder.json";

/// The PC that Frevin runs on.
///
/// Settings are read where they are, each time. What has no end is not among [`Pc::addresses`]: the
/// registry, settings files of games, and what lies in places that can be cleaned. They are read and
/// written like the others.
pub struct LivePc {
    pub(super) apis: Apis,
    identity: PcIdentity,
    /// How long a service may take to do what it was told.
    pub(super) patience: Duration,
    home: PathBuf,
    text_files: TextFiles,
    quarantine: Quarantine,
    /// What guards the PC, asked once.
    guards: OnceCell<Vec<Guard>>,
}

impl LivePc {
    /// A PC over what Windows offers. `home` is Frevin's own folder: the lock lies in it, and what is
    /// set aside.
    ///
    /// # Errors
    /// Where Windows cannot be asked which PC this is.
    pub fn over(apis: Apis, home: &Path) -> Result<Self, PcError> {
        // The identifier that Windows gives itself when it is set up.
        let key = parse_key(r"HKLM\SOFTWARE\Microsoft\Cryptography")?;
        let id = registry::text(&*apis.registry, &key, "MachineGuid").map_err(failed)?;
        let id = id.ok_or_else(|| failed(OsError::Said("Windows has no MachineGuid".into())))?;
        let name = apis.system.name();
        Ok(Self {
            identity: PcIdentity { id: PcId::new(format!("live-{id}")), name, kind: PcKind::Live },
            patience: Duration::from_secs(30),
            home: home.to_owned(),
            text_files: TextFiles::new(
                trusted(&apis.places),
                home.to_owned(),
                Some(apis.replace_file),
            ),
            quarantine: Quarantine::new(
                trusted(&apis.clean_places),
                FolderPath::trusted(home).join("quarantine"),
                apis.move_new,
            ),
            apis,
            guards: OnceCell::new(),
        })
    }

    /// Another patience with services and displays, for tests.
    #[cfg(test)]
    pub fn be_patient_for(&mut self, patience: Duration) {
        self.patience = patience;
    }

    /// What guards this PC beside Windows' own programs. It is not known where Windows does not tell, and then what
    /// is protected by name is all.
    fn guards(&self) -> Result<&[Guard], PcError> {
        if self.guards.get().is_none() {
            let _ = self.guards.set(self.facts()?.guards);
        }
        Ok(self.guards.get().map_or(&[], Vec::as_slice))
    }

    pub(super) fn registry(&self) -> &dyn registry::RegistryApi {
        &*self.apis.registry
    }

    fn listed_power(&self) -> Result<Vec<Address>, OsError> {
        let power = &*self.apis.power;
        let mut addresses = vec![Address::ActivePlan];
        for plan in power.plans()? {
            addresses.push(Address::PowerPlan(plan));
            for (subgroup, setting) in power.settings(plan)? {
                addresses.push(Address::PowerHidden { subgroup, setting });
                for source in [PowerSource::Mains, PowerSource::Battery] {
                    addresses.push(Address::PowerValue { plan, subgroup, setting, source });
                }
            }
        }
        Ok(addresses)
    }
}

/// Where Windows says that places are: its word is believed, also where the owner has moved one.
fn trusted<P: Ord + Copy>(places: &BTreeMap<P, PathBuf>) -> BTreeMap<P, FolderPath> {
    places.iter().map(|(place, path)| (*place, FolderPath::trusted(path))).collect()
}

/// The clock of the fastest core.
fn fastest(mhz: Vec<u32>) -> Option<f64> {
    mhz.into_iter().map(f64::from).reduce(f64::max)
}

fn parse_key(text: &str) -> Result<KeyPath, PcError> {
    text.parse().map_err(|error| PcError::Io(std::io::Error::other(format!("{error}"))))
}

fn failed(error: OsError) -> PcError {
    PcError::System(error.to_string())
}

impl LivePc {
    /// The programs that encode video; nothing where Windows does not tell.
    fn encoders(&self) -> Option<Vec<String>> {
        let uses = graphics_use::uses(&*self.apis.graphics_use).ok()?;
        Some(graphics_use::encoders(&uses, &self.apis.starts.processes().ok()?))
    }
}

impl Restarts for LivePc {
    /// Left to the owner, but for nothing: this process would end with a restart or a sign-out, and
    /// which program is meant, or whether a service or device is in use, only the owner knows.
    fn bring_about(
        &mut self,
        _lock: &PcLock,
        moment: TakesEffect,
    ) -> Result<BroughtAbout, PcError> {
        Ok(match moment {
            TakesEffect::Now => BroughtAbout::Done { took_effect: Vec::new() },
            TakesEffect::ProgramRestart
            | TakesEffect::ServiceRestart
            | TakesEffect::DeviceRestart
            | TakesEffect::SignOut
            | TakesEffect::Restart => BroughtAbout::LeftToOwner,
        })
    }

    fn restart_by_itself(&mut self, _lock: &PcLock) -> Result<BroughtAbout, PcError> {
        self.apis.system.restart().map_err(failed)?;
        Ok(BroughtAbout::Begun)
    }

    fn restart_device(
        &mut self,
        _lock: &PcLock,
        device: &WinName,
    ) -> Result<DeviceRestarted, PcError> {
        let apis = &self.apis;
        let id = adapters::device_id(self.registry(), device.as_str())
            .unwrap_or_else(|| device.as_str().to_owned());
        match devices::can_be_spared(self.registry(), &*apis.devices, &id).map_err(failed)? {
            None => return Ok(DeviceRestarted::NotThere),
            Some(false) => return Ok(DeviceRestarted::NotSafe),
            Some(true) if !apis.system.is_administrator() => {
                let reason = "it needs an administrator".to_owned();
                return Ok(DeviceRestarted::Denied { reason });
            }
            Some(true) => {}
        }
        Ok(match apis.devices.restart(&id) {
            // What took effect is told by the device's new start: see `start_of`.
            Ok(()) => DeviceRestarted::Done { took_effect: Vec::new() },
            Err(error) => DeviceRestarted::Denied { reason: error.to_string() },
        })
    }

    fn has_administrator_rights(&self) -> Result<bool, PcError> {
        Ok(self.apis.system.is_administrator())
    }
}

impl Pc for LivePc {
    fn identity(&self) -> &PcIdentity {
        &self.identity
    }

    fn environment(&self) -> Result<Environment, PcError> {
        const LOOKS: usize = 10;
        const LOOK_EVERY: Duration = Duration::from_millis(50);
        let mut mhz = Vec::new();
        for look in 0..LOOKS {
            if look > 0 {
                std::thread::sleep(LOOK_EVERY);
            }
            // A processor that does not tell its clock is no reason to tell nothing.
            let Ok(now) = self.apis.facts.processor_mhz() else { break };
            mhz.extend(fastest(now));
        }
        Ok(Environment {
            available_memory_mib: self.apis.facts.available_memory_mib().ok(),
            processor_mhz: ClockReadings::of(&mhz),
            parked_threads: self.apis.facts.parked_threads().ok(),
            encoders: self.encoders(),
            ..Environment::of(&self.facts()?)
        })
    }

    fn programs(&self) -> Result<Vec<InstalledProgram>, PcError> {
        installed::programs(&*self.apis.apps, self.registry()).map_err(failed)
    }

    fn startup(&self) -> Result<StartupCosts, PcError> {
        let (registry, folders) = (self.registry(), &*self.apis.startup_folders);
        let processes = self.apis.starts.processes().unwrap_or_default();
        let starts = &*self.apis.starts;
        let entry = |entry: String| {
            let program = startup::command(registry, &entry)
                .and_then(|command| startup::program_of(&command));
            let running = program
                .as_deref()
                .and_then(|file| starts::use_of_program(starts, &processes, file));
            let is_on = match startup::read(registry, folders, &entry) {
                State::Value(Value::Flag(is_on)) => Some(is_on),
                _ => None,
            };
            StartupEntry { entry, is_on, program, running }
        };
        let entries = startup::entries(registry, folders).map_err(failed)?;
        Ok(StartupCosts {
            entries: entries.into_iter().map(entry).collect(),
            latest_start: starts.latest_start_event().as_deref().and_then(starts::start_length),
        })
    }

    fn processor_mhz(&self) -> Result<Option<f64>, PcError> {
        Ok(self.apis.facts.processor_mhz().ok().and_then(fastest))
    }

    fn memory(&self) -> Result<Option<MemoryState>, PcError> {
        Ok(self.apis.for_games.memory().ok())
    }

    fn purge_standby(&mut self) -> Result<(), PcError> {
        self.apis.for_games.purge_standby().map_err(failed)
    }

    fn ask_for_timer(&mut self, period: TimerPeriod) -> Result<TimerPeriod, PcError> {
        self.apis.for_games.ask_for_timer(period).map_err(failed)
    }

    fn facts(&self) -> Result<Facts, PcError> {
        facts::collect(&self.apis).map_err(failed)
    }

    /// The moment at which Windows made the part of the registry that it makes anew at every start.
    /// It does not move when a PC with fast startup is only switched off and on, which is no restart:
    /// what waits for one goes on waiting.
    fn boot(&self) -> Result<BootId, PcError> {
        let hardware = parse_key(r"HKLM\HARDWARE\DESCRIPTION")?;
        let made = self.registry().changed_at(&hardware).map_err(failed)?;
        let made = made.ok_or_else(|| failed(OsError::Said("no start is known".into())))?;
        Ok(BootId::new(format!("since-{made}")))
    }

    fn start_of(&self, moment: TakesEffect, address: &Address) -> Result<Start, PcError> {
        let windows = &*self.apis.starts;
        Ok(match (moment, concern(address)) {
            (TakesEffect::Now | TakesEffect::Restart, _) => {
                Start::Since(StartId::new(self.boot()?.as_str()))
            }
            // Signing out ends the owner's programs, whichever of them it is.
            (TakesEffect::SignOut, _) => starts::of_sign_in(windows),
            (TakesEffect::ProgramRestart, Some(Concern::Program(file))) => {
                starts::of_program(windows, &file)
            }
            (TakesEffect::ProgramRestart, _) => starts::of_sign_in(windows),
            (TakesEffect::ServiceRestart, Some(Concern::Service(name))) => {
                starts::of_service(windows, name.as_str())
            }
            (TakesEffect::DeviceRestart, Some(Concern::Device(name))) => {
                // An adapter goes by its own name, and starts as its device does.
                let id = adapters::device_id(self.registry(), name.as_str());
                starts::of_device(windows, id.as_deref().unwrap_or(name.as_str()))
            }
            (TakesEffect::ServiceRestart | TakesEffect::DeviceRestart, _) => Start::Unknown,
        })
    }

    fn lock(&mut self) -> Result<PcLock, LockError> {
        let holder = self.home.join(HOLDER);
        let told = |holder: &Path| -> Option<Holder> {
            serde_json::from_slice(&fs_err::read(holder).ok()?).ok()
        };
        fs_err::create_dir_all(&self.home)?;
        let file = fs_err::OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(self.home.join(LOCK))?
            .into_file();
        match file.try_lock() {
            Ok(()) => {}
            Err(std::fs::TryLockError::WouldBlock) => return Err(LockError::Held(told(&holder))),
            Err(std::fs::TryLockError::Error(error)) => return Err(error.into()),
        }
        // Another Frevin with another home changes the same PC.
        let Some(turn) = self.apis.system.take_turn()? else { return Err(LockError::Held(None)) };
        self.text_files.tidy().map_err(PcError::from)?;
        self.quarantine.tidy()?;
        let this = serde_json::to_vec(&Holder::this_process()).map_err(std::io::Error::other)?;
        fs_err::write(&holder, this)?;
        Ok(PcLock::of(file, holder).together_with(turn))
    }

    fn read(&self, address: &Address) -> Result<State, PcError> {
        let apis = &self.apis;
        Ok(match address {
            Address::RegistryKey(key) => registry::read_key(self.registry(), key),
            Address::RegistryValue(key, name) => registry::read_value(self.registry(), key, name),
            Address::RegistryPart(key, name, part) => {
                part.read(&registry::read_value(self.registry(), key, name))
            }
            Address::ServiceStart(name) => services::read_start(&*apis.services, name),
            Address::ServiceRunning(name) => services::read_run(&*apis.services, name),
            Address::ActivePlan => power::read_active(&*apis.power),
            Address::PowerPlan(plan) => power::read_plan(&*apis.power, *plan),
            Address::PowerHidden { subgroup, setting } => {
                power::read_hidden(&*apis.power, *subgroup, *setting)
            }
            Address::PowerValue { plan, subgroup, setting, source } => {
                power::read_value(&*apis.power, [*plan, *subgroup, *setting], *source)
            }
            Address::Visual(parameter) => visual::read(&*apis.visual, *parameter),
            Address::Object(setting) => self.read_object(setting),
            Address::Text(setting) => self.text_files.read(setting),
            Address::Clean(setting) => self.quarantine.read(*setting),
        })
    }

    fn write(&mut self, address: &Address, state: &State) -> Result<Written, WriteError> {
        let apis = &self.apis;
        match address {
            Address::RegistryKey(key) => registry::write_key(self.registry(), key, state),
            Address::RegistryValue(key, name) => {
                registry::write_value(self.registry(), key, name, state)
            }
            Address::RegistryPart(key, name, part) => {
                let whole = registry::read_value(self.registry(), key, name);
                write_part(part, &whole, state, |whole| {
                    registry::write_value(self.registry(), key, name, whole)
                })
            }
            Address::ServiceStart(name) => services::write_start(&*apis.services, name, state),
            Address::ServiceRunning(name) => {
                services::write_run(&*apis.services, name, state, self.patience)
            }
            Address::ActivePlan => power::write_active(&*apis.power, state),
            Address::PowerPlan(plan) => power::write_plan(&*apis.power, *plan, state),
            Address::PowerHidden { subgroup, setting } => {
                power::write_hidden(&*apis.power, *subgroup, *setting, state)
            }
            Address::PowerValue { plan, subgroup, setting, source } => {
                power::write_value(&*apis.power, [*plan, *subgroup, *setting], *source, state)
            }
            Address::Visual(parameter) => visual::write(&*apis.visual, *parameter, state),
            Address::Object(setting) => self.write_object(setting, state),
            Address::Text(setting) => self.text_files.write(setting, state),
            Address::Clean(setting) => self.quarantine.write(*setting, state),
        }
    }

    fn try_files(&self, scratch: &Path) -> Result<(), String> {
        files::try_out(scratch, self.apis.move_new, Some(self.apis.replace_file))
    }

    fn own_task(&mut self, is_there: bool) -> Result<(), PcError> {
        tasks::own_task(&*self.apis.tasks, is_there).map_err(failed)
    }

    fn flush(&mut self) -> Result<(), PcError> {
        for hive in [r"HKLM\SYSTEM", r"HKLM\SOFTWARE", r"HKCU\Software"] {
            match self.registry().flush(&parse_key(hive)?) {
                // Who may not flush a hive could not write to it either.
                Err(error) if error.is_denial() || error.is_absence() => {}
                flushed => flushed.map_err(failed)?,
            }
        }
        for lasting in [self.home.join(LOCK), self.home.join(HOLDER)] {
            if lasting.exists() {
                sync_file(&lasting)?;
            }
        }
        self.quarantine.sync()?;
        Ok(())
    }

    fn restore_point(&mut self, description: &str) -> Result<RestorePoint, PcError> {
        Ok(self.apis.system.restore_point(description))
    }

    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        match self.apis.services.dependents(service.as_str()) {
            Err(error) if error.is_absence() => Ok(Vec::new()),
            names => Ok(names.map_err(failed)?.into_iter().map(WinName::new).collect()),
        }
    }

    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        match services::dependencies(&*self.apis.services, service) {
            Err(error) if error.is_absence() => Ok(Vec::new()),
            names => names.map_err(failed),
        }
    }

    /// The keys in which a driver, or Windows' switch for what starts, looks for a value.
    fn supports(&self, address: &Address) -> Vec<Address> {
        let Address::Object(setting) = address else { return address.supports() };
        let thing = setting.object().as_str();
        let keys = match setting.part() {
            ObjectPart::DeviceMessageSignalledInterrupts => {
                Interrupt::MessageSignalled.supports(thing)
            }
            ObjectPart::DeviceInterruptPriority => Interrupt::Priority.supports(thing),
            ObjectPart::StartupEnabled => startup::supports(thing),
            ObjectPart::TaskEnabled
            | ObjectPart::DisplayMode
            | ObjectPart::DisplayScaling
            | ObjectPart::DisplayColours
            | ObjectPart::AdapterNameServers
            | ObjectPart::AdapterPowerSaving
            | ObjectPart::AdapterOption
            | ObjectPart::DeviceEnabled
            | ObjectPart::AppInstalled
            | ObjectPart::FeatureEnabled
            | ObjectPart::BootElement
            | ObjectPart::PageFileSize
            | ObjectPart::DriverSetting
            | ObjectPart::ProtectionEnabled
            | ObjectPart::ProtectionExclusions => Vec::new(),
        };
        keys.into_iter().map(Address::RegistryKey).collect()
    }

    fn obstacle(&self, address: &Address) -> Result<Option<String>, PcError> {
        // What is HKCU is under the user's identifier too: one setting would have two addresses.
        if let Address::RegistryKey(key)
        | Address::RegistryValue(key, _)
        | Address::RegistryPart(key, ..) = address
            && key.hive() == Hive::Users
            && self.apis.system.user_id().is_some_and(|id| key.names()[0] == WinName::new(id))
        {
            return Ok(Some("it is the signed-in user's: write it as HKCU".to_owned()));
        }
        if !self.apis.system.is_administrator() && needs_administrator(address) {
            return Ok(Some("it needs an administrator".to_owned()));
        }
        if self.apis.system.runs_as_another_user() && belongs_to_user(address) {
            let reason = "it would be written for another user than the one who is signed in: start \
                          Frevin as that one";
            return Ok(Some(reason.to_owned()));
        }
        if let Some(guard) = self.guards()?.iter().find(|guard| guard.has(address)) {
            return Ok(Some(belongs_to(guard)));
        }
        // Some keys are closed to administrators too: the nearest one that exists tells.
        let key = match address {
            Address::RegistryKey(key) => key.parent(),
            Address::RegistryValue(key, _) | Address::RegistryPart(key, ..) => Some(key.clone()),
            Address::ServiceStart(_)
            | Address::ServiceRunning(_)
            | Address::ActivePlan
            | Address::PowerPlan(_)
            | Address::PowerHidden { .. }
            | Address::PowerValue { .. }
            | Address::Visual(_)
            | Address::Object(_)
            | Address::Text(_)
            | Address::Clean(_) => None,
        };
        for key in std::iter::successors(key, KeyPath::parent) {
            match self.registry().may_write(&key) {
                Ok(true) => return Ok(None),
                Ok(false) => return Ok(Some(format!("{key} does not let this user write"))),
                Err(error) if error.is_absence() => {}
                Err(_) => return Ok(None),
            }
        }
        Ok(None)
    }

    fn values_of(&self, key: &KeyPath) -> Result<Vec<WinName>, PcError> {
        match self.registry().value_names(key) {
            Ok(names) => Ok(names.into_iter().map(WinName::new).collect()),
            Err(error) if error.is_absence() || error.is_denial() => Ok(Vec::new()),
            Err(error) => Err(failed(error)),
        }
    }

    fn clean_content(&self) -> Result<Vec<CleanContent>, PcError> {
        self.quarantine.content()
    }

    fn empty_quarantine(&mut self, place: CleanPlace) -> Result<CleanContent, PcError> {
        self.quarantine.empty(place)
    }

    fn addresses(&self) -> Result<Vec<Address>, PcError> {
        let mut addresses: Vec<Address> = VisualParameter::ALL
            .into_iter()
            .map(Address::Visual)
            .filter(|address| self.read(address).is_ok_and(|state| state.is_readable()))
            .collect();
        for name in self.apis.services.names().map_err(failed)? {
            let name = WinName::new(name);
            for address in [Address::ServiceStart(name.clone()), Address::ServiceRunning(name)] {
                // A name that no address can have is nobody's setting.
                addresses.extend(address.to_string().parse::<Address>());
            }
        }
        addresses.extend(self.listed_power().unwrap_or_default());
        addresses.extend(self.listed_objects());
        // What lies in places that can be cleaned is read where it is asked for: it is much.
        let is_aside = |address: &Address| matches!(address, Address::Clean(setting) if setting.part == CleanPart::Quarantine);
        addresses.extend(self.quarantine.addresses().into_iter().filter(is_aside));
        addresses.sort();
        addresses.dedup();
        Ok(addresses)
    }
}
