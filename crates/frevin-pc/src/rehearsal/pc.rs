//! A rehearsal PC, opened.

use std::path::Path;

use frevin_core::environment::Environment;
use frevin_core::facts::Facts;
use frevin_core::ids::{BootId, PcId};
use frevin_core::playing::{MemoryState, TimerPeriod};
use frevin_core::setting::{
    Address, CleanPlace, KeyPath, State, TakesEffect, WinName, needs_administrator,
};
use frevin_core::waiting::Start;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use super::behaviour::Behaviour;
use super::by_hand::{self, Mend};
use super::clock::Clock;
use super::events::{self, Event};
use super::facts::{SimulatedLoad, follow_settings};
use super::faults::Faults;
use super::folder::Folder;
use super::frames::{self, FrameMaker, Life, RecordedRun};
use super::memory::SimulatedMemory;
use super::model::Model;
use super::play::Play;
use super::programs;
use super::restore_points::{self, RESTORE_POINTS};
use super::settings::Settings;
use super::startup;
use crate::contract::{
    CleanContent, Holder, InstalledProgram, LockError, Pc, PcError, PcIdentity, PcKind, PcLock,
    RestorePoint, StartupCosts, WriteError, Written, belongs_to,
};
use crate::restarts::{BroughtAbout, DeviceRestarted, Restarts};

pub(super) const PC: &str = "pc.toml";
const BEHAVIOUR: &str = "behaviour.toml";
const MODEL: &str = "model.toml";
pub(super) const CLOCK: &str = "clock.json";
const FAULTS: &str = "faults.json";
pub(super) const LOCK: &str = "frevin.lock";
const HOLDER: &str = "holder.json";

/// What `pc.toml` holds.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct PcFile {
    pub(super) format: u32,
    pub(super) id: String,
    pub(super) name: String,
    pub(super) seed: u64,
    /// What the load among the facts was counted with; PCs made by earlier versions do not say.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub(super) at_first: Option<SimulatedLoad>,
}

pub(super) const FORMAT: u32 = 1;

/// Something less than the PC that starts anew.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StartedAnew {
    /// The owner signed out and in, which ends the owner's programs too.
    SignIn,
    /// Programs were started again.
    Programs,
    /// Services were started again.
    Services,
    /// Devices were switched off and on.
    Devices,
}

impl StartedAnew {
    /// Whether it is what writes wait for that act after `moment`.
    pub fn satisfies(self, moment: TakesEffect) -> bool {
        match self {
            Self::SignIn => {
                matches!(moment, TakesEffect::SignOut | TakesEffect::ProgramRestart)
            }
            Self::Programs => moment == TakesEffect::ProgramRestart,
            Self::Services => moment == TakesEffect::ServiceRestart,
            Self::Devices => moment == TakesEffect::DeviceRestart,
        }
    }
}

/// A PC simulated in a folder.
#[derive(Debug)]
pub struct RehearsalPc {
    folder: Folder,
    identity: PcIdentity,
    seed: u64,
    facts: Facts,
    at_first: Option<SimulatedLoad>,
    behaviour: Behaviour,
    model: Model,
    settings: Settings,
    /// Whether a write failed half-way, so that the files may hold something else than `settings`.
    is_stale: bool,
    memory: SimulatedMemory,
}

impl RehearsalPc {
    /// Opens the PC in `folder`.
    ///
    /// # Errors
    /// [`PcError::NotAPc`] where there is none, [`PcError::Broken`] where a file of it is broken.
    pub fn open(folder: &Path) -> Result<Self, PcError> {
        let folder = Folder::new(folder);
        folder.refuse_links()?;
        let file: PcFile = folder.read_toml(PC)?;
        if file.format != FORMAT {
            let reason = format!("this Frevin reads format {FORMAT}, not {}", file.format);
            return Err(folder.broken(PC, reason));
        }
        let behaviour: Behaviour = folder.read_toml(BEHAVIOUR)?;
        if let Some(fault) = behaviour.fault() {
            return Err(folder.broken(BEHAVIOUR, fault));
        }
        let model: Model = folder.read_toml(MODEL)?;
        model.check().map_err(|reason| folder.broken(MODEL, reason))?;
        Ok(Self {
            identity: PcIdentity {
                id: PcId::new(file.id),
                name: file.name,
                kind: PcKind::Rehearsal,
            },
            seed: file.seed,
            at_first: file.at_first,
            facts: by_hand::read_facts(&folder)?,
            behaviour,
            model,
            settings: Settings::load(&folder)?,
            is_stale: false,
            memory: SimulatedMemory::new(),
            folder,
        })
    }

    /// The folder that the PC is in.
    pub fn folder(&self) -> &Path {
        self.folder.root()
    }

    /// Its performance model.
    pub fn model(&self) -> &Model {
        &self.model
    }

    /// Its clock.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn clock(&self) -> Result<Clock, PcError> {
        self.folder.read_json(CLOCK)
    }

    /// What has happened to it, from the first event on.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn events(&self) -> Result<Vec<Event>, PcError> {
        events::read(&self.folder)
    }

    /// Settings whose latest write is not in effect, with what each waits for.
    pub fn waiting(&self) -> Vec<(Address, TakesEffect)> {
        let moment = |address: &Address| (address.clone(), self.takes_effect(address));
        self.settings.waiting().map(moment).collect()
    }

    /// When a write to a setting is felt.
    pub fn takes_effect(&self, address: &Address) -> TakesEffect {
        self.behaviour.takes_effect(address)
    }

    /// The name of a power plan.
    pub fn plan_name(&self, plan: Uuid) -> Option<&str> {
        self.settings.power().plan_name(plan)
    }

    /// Restarts the PC: what waits takes effect, services start by their start types.
    ///
    /// # Errors
    /// Where its files cannot be written.
    pub fn restart(&mut self, _lock: &PcLock) -> Result<Clock, PcError> {
        self.settings.restart();
        self.settings.save_all(&self.folder)?;
        let mut clock = self.clock()?;
        clock.boots += 1;
        clock.runs_since_boot = 0;
        self.folder.write_json(CLOCK, &clock)?;
        events::append(&self.folder, &Event::Started { boot: clock.boots })?;
        Ok(clock)
    }

    /// Lets something less than a restart of the PC happen, for which writes wait: the owner signs out
    /// and in, programs or services are started anew, devices are switched off and on. A restart of
    /// the PC is [`Self::restart`].
    ///
    /// # Errors
    /// Where its files cannot be written.
    pub fn start_anew(&mut self, _lock: &PcLock, what: StartedAnew) -> Result<Clock, PcError> {
        let clock = self.put_into_effect(what)?;
        let event = Event::StartedAnew { boot: clock.boots, what };
        events::append(&self.folder, &event)?;
        Ok(clock)
    }

    fn put_into_effect(&mut self, what: StartedAnew) -> Result<Clock, PcError> {
        let mut clock = self.clock()?;
        let count = match what {
            StartedAnew::SignIn => &mut clock.sign_ins,
            StartedAnew::Programs => &mut clock.program_starts,
            StartedAnew::Services => &mut clock.service_starts,
            StartedAnew::Devices => &mut clock.device_starts,
        };
        *count += 1;
        let behaviour = &self.behaviour;
        self.settings.put_into_effect(|address| what.satisfies(behaviour.takes_effect(address)));
        self.settings.save_in_effect(&self.folder)?;
        self.folder.write_json(CLOCK, &clock)?;
        Ok(clock)
    }

    /// Updates the operating system: it sets some settings anew, and restarts the PC. Gives those
    /// that it changed.
    ///
    /// # Errors
    /// Where its files cannot be written.
    pub fn update(&mut self, lock: &PcLock) -> Result<Vec<Address>, PcError> {
        let mut changed = Vec::new();
        for rule in self.behaviour.update_sets.clone() {
            if self.settings.read(&rule.address) == rule.state {
                continue;
            }
            match self.write_as_is(&rule.address, &rule.state) {
                Ok(_) => changed.push(rule.address),
                // An update goes on where one thing cannot be done, as real ones do.
                Err(WriteError::Refused(_)) => {}
                Err(WriteError::Failed(error)) => return Err(error),
            }
        }
        self.restart(lock)?;
        Ok(changed)
    }

    /// Installs another version of the graphics driver: what was measured with the one before has aged.
    ///
    /// # Errors
    /// Where the PC's files cannot be written.
    pub fn install_graphics_driver(
        &mut self,
        _lock: &PcLock,
        version: &str,
    ) -> Result<(), PcError> {
        let mut facts = self.facts.clone();
        for graphics in &mut facts.graphics {
            graphics.driver_version = Some(version.to_owned());
        }
        by_hand::write_facts(&self.folder, &facts)?;
        self.facts = facts;
        Ok(())
    }

    /// Writes a setting as somebody else would: no fault of Frevin's writes happens to it.
    ///
    /// # Errors
    /// Where the setting cannot hold the state, or the PC's files cannot be written.
    pub fn write_as_somebody_else(
        &mut self,
        _lock: &PcLock,
        address: &Address,
        state: &State,
    ) -> Result<Written, WriteError> {
        self.write_as_is(address, state)
    }

    /// What a person can mend by hand on this PC, by the finding that it is against.
    ///
    /// # Errors
    /// Where the PC's files cannot be read.
    pub fn mends(&self) -> Result<std::collections::BTreeMap<String, Mend>, PcError> {
        by_hand::mends(&self.folder)
    }

    /// Does what a person does by hand, but for the settings: those are written as somebody else would.
    ///
    /// # Errors
    /// Where the PC's files cannot be written, or speak of facts that it does not have.
    pub fn mend_by_hand(&mut self, _lock: &PcLock, mend: &Mend) -> Result<(), PcError> {
        let told = mend.told(&self.facts);
        let facts = told.map_err(|reason| self.folder.broken(by_hand::BY_HAND, reason))?;
        by_hand::write_facts(&self.folder, &facts)?;
        self.facts = facts;
        Ok(())
    }

    /// Starts the game anew, plays a scene for so many seconds, and records it.
    ///
    /// # Errors
    /// Where there is no such scene, or the PC's files cannot be read or written.
    pub fn record(
        &mut self,
        _lock: &PcLock,
        scene: &str,
        seconds: f64,
    ) -> Result<RecordedRun, PcError> {
        let mut clock = self.put_into_effect(StartedAnew::Programs)?;
        let in_effect = |address: &Address| self.settings.in_effect(address);
        let run = frames::record(&self.model, scene, seconds, self.seed, &clock, in_effect)
            .map_err(|reason| self.folder.broken(MODEL, reason))?;
        clock.runs += 1;
        clock.runs_since_boot += 1;
        clock.played_seconds += run.series.total_ms() / 1000.0;
        self.folder.write_json(CLOCK, &clock)?;
        let event = Event::Played { boot: clock.boots, scene: scene.to_owned() };
        events::append(&self.folder, &event)?;
        Ok(run)
    }

    /// Begins to play a scene on and on, while settings may be switched.
    ///
    /// # Errors
    /// Where there is no such scene, or the PC's files cannot be read or written.
    pub fn begin_play(&mut self, _lock: &PcLock, scene: &str) -> Result<Play, PcError> {
        let mut clock = self.put_into_effect(StartedAnew::Programs)?;
        let found = frames::scene_of(&self.model, scene)
            .map_err(|reason| self.folder.broken(MODEL, reason))?;
        let life = Life::of(&self.model, self.seed, &clock);
        let chance = |purpose| frames::chance(self.seed, purpose, clock.runs);
        let play = Play::begin(found, life, chance("content"), FrameMaker::new(chance("play")));
        clock.runs += 1;
        clock.runs_since_boot += 1;
        self.folder.write_json(CLOCK, &clock)?;
        let event = Event::Played { boot: clock.boots, scene: scene.to_owned() };
        events::append(&self.folder, &event)?;
        Ok(play)
    }

    /// Plays on up to a moment, in milliseconds from the beginning, with what is in effect now: when each frame began and
    /// how long it took, in milliseconds.
    ///
    /// # Errors
    /// Where the model is broken.
    pub fn play_on(&self, play: &mut Play, until_ms: f64) -> Result<Vec<(f64, f64)>, PcError> {
        let in_effect = |address: &Address| self.settings.in_effect(address);
        let at_work = self.model.at_work(&in_effect);
        let at_work = at_work.map_err(|reason| self.folder.broken(MODEL, reason))?;
        Ok(play.play_on(&self.model, &at_work, until_ms))
    }

    /// Ends a game: the time that it took has passed.
    ///
    /// # Errors
    /// Where the PC's files cannot be read or written.
    pub fn end_play(&mut self, _lock: &PcLock, play: &Play) -> Result<(), PcError> {
        let mut clock = self.clock()?;
        clock.played_seconds += play.played_s();
        self.folder.write_json(CLOCK, &clock)
    }

    /// The faults to come.
    ///
    /// # Errors
    /// Where the file cannot be read.
    pub fn faults(&self) -> Result<Faults, PcError> {
        self.folder.read_json_or_default(FAULTS)
    }

    /// Sets the faults to come.
    ///
    /// # Errors
    /// Where the file cannot be written.
    pub fn set_faults(&mut self, faults: &Faults) -> Result<(), PcError> {
        if *faults == Faults::default() {
            return self.folder.remove(FAULTS);
        }
        self.folder.write_json(FAULTS, faults)
    }

    fn write_as_is(&mut self, address: &Address, state: &State) -> Result<Written, WriteError> {
        if self.is_stale {
            self.settings = Settings::load(&self.folder)?;
        }
        let before = self.settings.read(address);
        let waits = self.behaviour.takes_effect(address) != TakesEffect::Now;
        let mut settings = self.settings.clone();
        // A write that fails half-way can have written: what is on disk tells.
        self.is_stale = true;
        if waits {
            settings.announce_write(&self.folder, address)?;
        }
        let written = settings.write(address, state, waits)?;
        settings.save(&self.folder, address)?;
        self.settings = settings;
        self.is_stale = false;
        let after = self.settings.read(address);
        if before != after {
            let boot = self.clock()?.boots;
            let address = Box::new(address.clone());
            events::append(&self.folder, &Event::Written { boot, address, before, after })?;
        }
        Ok(written)
    }

    /// Lets a fault happen to a write, if one is due. `Ok(true)` means that the write is to be
    /// accepted without doing anything.
    fn suffer_faults(&mut self, address: &Address) -> Result<bool, WriteError> {
        let mut faults = self.faults()?;
        if let Some(left) = faults.power_cut_after_writes {
            faults.power_cut_after_writes = left.checked_sub(1);
            self.set_faults(&faults)?;
            if left == 0 {
                // Nothing else of this process can tell it: it ends here, as in a power cut.
                let told = "the power failed, as rehearsed: `frevin recover` brings the PC back\n";
                let _ = std::io::Write::write_all(&mut std::io::stderr(), told.as_bytes());
                std::process::abort();
            }
        }
        if faults.refuse.contains(address) {
            return Err(WriteError::Refused("access denied (a provoked fault)".to_owned()));
        }
        Ok(faults.ignore.contains(address))
    }
}

impl Restarts for RehearsalPc {
    fn bring_about(&mut self, lock: &PcLock, moment: TakesEffect) -> Result<BroughtAbout, PcError> {
        let mut took_effect = self.waiting();
        let less = match moment {
            TakesEffect::Now => None,
            TakesEffect::ProgramRestart => Some(StartedAnew::Programs),
            TakesEffect::ServiceRestart => Some(StartedAnew::Services),
            TakesEffect::DeviceRestart => Some(StartedAnew::Devices),
            TakesEffect::SignOut => Some(StartedAnew::SignIn),
            TakesEffect::Restart => {
                self.restart(lock)?;
                None
            }
        };
        if let Some(what) = less {
            self.start_anew(lock, what)?;
        }
        let waits_still = self.waiting();
        took_effect.retain(|setting| !waits_still.contains(setting));
        let took_effect = took_effect.into_iter().map(|(address, _)| address).collect();
        Ok(BroughtAbout::Done { took_effect })
    }

    /// The simulated devices share one start: restarting one restarts all.
    fn restart_device(
        &mut self,
        lock: &PcLock,
        device: &WinName,
    ) -> Result<DeviceRestarted, PcError> {
        let is_named = |name: &str, id: Option<&String>| {
            *device == WinName::from(name) || id.is_some_and(|id| *device == WinName::from(&**id))
        };
        let facts = &self.facts;
        let is_adapter = facts.adapters.iter().any(|a| is_named(&a.name, a.device_id.as_ref()));
        let is_known = is_adapter
            || facts.graphics.iter().any(|card| is_named(&card.name, card.device_id.as_ref()))
            || self.settings.has_device(device);
        if !is_adapter {
            return Ok(match is_known {
                true => DeviceRestarted::NotSafe,
                false => DeviceRestarted::NotThere,
            });
        }
        if self.faults()?.no_administrator {
            let reason = "it needs an administrator".to_owned();
            return Ok(DeviceRestarted::Denied { reason });
        }
        match self.bring_about(lock, TakesEffect::DeviceRestart)? {
            BroughtAbout::Done { took_effect } => Ok(DeviceRestarted::Done { took_effect }),
            BroughtAbout::Begun | BroughtAbout::LeftToOwner => Ok(DeviceRestarted::NotSafe),
        }
    }

    fn has_administrator_rights(&self) -> Result<bool, PcError> {
        Ok(!self.faults()?.no_administrator)
    }

    fn as_rehearsal(&mut self) -> Option<&mut RehearsalPc> {
        Some(self)
    }
}

impl Pc for RehearsalPc {
    fn identity(&self) -> &PcIdentity {
        &self.identity
    }

    /// What the PC was made with, as far as its settings have not changed it since.
    fn facts(&self) -> Result<Facts, PcError> {
        let mut facts = self.facts.clone();
        for display in &mut facts.displays {
            follow_settings(display, |address| self.settings.in_effect(address));
        }
        facts.power = self.settings.power().facts();
        if let Some(at_first) = self.at_first {
            at_first.bring_up_to_date(&mut facts.load, self.settings.simulated_load());
        }
        Ok(facts)
    }

    fn programs(&self) -> Result<Vec<InstalledProgram>, PcError> {
        programs::programs(&self.folder, &self.settings.addresses()?, |app| self.settings.read(app))
    }

    fn startup(&self) -> Result<StartupCosts, PcError> {
        startup::startup(&self.folder, &self.settings.addresses()?, |entry| {
            self.settings.read(entry)
        })
    }

    fn processor_mhz(&self) -> Result<Option<f64>, PcError> {
        Ok(self.facts.processor.sustained_mhz.map(f64::from))
    }

    fn memory(&self) -> Result<Option<MemoryState>, PcError> {
        Ok(Some(self.memory.now(&self.facts)))
    }

    fn purge_standby(&mut self) -> Result<(), PcError> {
        self.memory.purge();
        Ok(())
    }

    fn ask_for_timer(&mut self, period: TimerPeriod) -> Result<TimerPeriod, PcError> {
        Ok(period)
    }

    fn environment(&self) -> Result<Environment, PcError> {
        let encoders = self.faults()?.recorder.into_iter().collect();
        Ok(Environment { encoders: Some(encoders), ..Environment::of(&self.facts()?) })
    }

    fn boot(&self) -> Result<BootId, PcError> {
        Ok(BootId::new(self.clock()?.boots.to_string()))
    }

    fn start_of(&self, moment: TakesEffect, _address: &Address) -> Result<Start, PcError> {
        Ok(self.clock()?.start_of(moment))
    }

    fn lock(&mut self) -> Result<PcLock, LockError> {
        let file = fs_err::OpenOptions::new()
            .create(true)
            .truncate(false)
            .write(true)
            .open(self.folder.path(LOCK))?
            .into_file();
        match file.try_lock() {
            Ok(()) => {
                for name in [CLOCK, FAULTS, HOLDER, RESTORE_POINTS] {
                    self.folder.remove_draft(name)?;
                }
                self.settings = Settings::load(&self.folder)?;
                self.settings.tidy(&self.folder)?;
                self.folder.write_json(HOLDER, &Holder::this_process())?;
                Ok(PcLock::of(file, self.folder.path(HOLDER)))
            }
            Err(std::fs::TryLockError::WouldBlock) => {
                Err(LockError::Held(self.folder.read_json(HOLDER).ok()))
            }
            Err(std::fs::TryLockError::Error(error)) => Err(error.into()),
        }
    }

    fn read(&self, address: &Address) -> Result<State, PcError> {
        if self.is_stale {
            return Ok(Settings::load(&self.folder)?.read(address));
        }
        Ok(self.settings.read(address))
    }

    fn write(&mut self, address: &Address, state: &State) -> Result<Written, WriteError> {
        if self.behaviour.refuses(address) {
            return Err(WriteError::Refused("access denied".to_owned()));
        }
        if let Some(reason) = self.obstacle(address)? {
            return Err(WriteError::Refused(reason));
        }
        if self.suffer_faults(address)? {
            return Ok(Written::Done);
        }
        self.write_as_is(address, state)
    }

    fn try_files(&self, scratch: &Path) -> Result<(), String> {
        crate::files::try_out(scratch, crate::files::link_and_remove, None)
    }

    fn own_task(&mut self, is_there: bool) -> Result<(), PcError> {
        if self.is_stale {
            self.settings = Settings::load(&self.folder)?;
            self.is_stale = false;
        }
        self.settings.own_task(&self.folder, is_there)
    }

    fn flush(&mut self) -> Result<(), PcError> {
        self.settings.sync(&self.folder)
    }

    fn restore_point(&mut self, description: &str) -> Result<RestorePoint, PcError> {
        restore_points::make(&self.folder, description)
    }

    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        Ok(self.settings.services().dependents(service))
    }

    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        Ok(self.settings.services().dependencies(service))
    }

    fn obstacle(&self, address: &Address) -> Result<Option<String>, PcError> {
        let is_denied = self.faults()?.no_administrator && needs_administrator(address);
        if is_denied {
            return Ok(Some("it needs an administrator".to_owned()));
        }
        let guard = self.facts.guards.iter().find(|guard| guard.has(address));
        Ok(guard.map(belongs_to))
    }

    fn values_of(&self, key: &KeyPath) -> Result<Vec<WinName>, PcError> {
        Ok(self.settings.values_of(key))
    }

    fn clean_content(&self) -> Result<Vec<CleanContent>, PcError> {
        self.settings.quarantine().content()
    }

    fn empty_quarantine(&mut self, place: CleanPlace) -> Result<CleanContent, PcError> {
        self.settings.quarantine().empty(place)
    }

    fn addresses(&self) -> Result<Vec<Address>, PcError> {
        self.settings.addresses()
    }
}
