//! What Frevin needs of a PC.

use std::fmt;
use std::path::{Path, PathBuf};

use frevin_core::environment::Environment;
use frevin_core::facts::{Facts, Guard};
use frevin_core::ids::{BootId, PcId};
use frevin_core::playing::{MemoryState, TimerPeriod};
use frevin_core::setting::{Address, CleanPlace, KeyPath, State, TakesEffect, WinName};
use frevin_core::waiting::Start;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

/// The scheduled task that Frevin has for its own.
pub const OWN_TASK: &str = r"\Frevin self-test";

/// A PC: the live one, or one that is simulated.
///
/// # Contract
///
/// Who calls: one thread of one process at a time. Reading needs no lock. Every call of
/// [`write`](Pc::write) and [`flush`](Pc::flush) is made while the caller holds what
/// [`lock`](Pc::lock) gave.
///
/// 1. **Reading changes nothing** and two reads without a write in between agree, unless
///    somebody else changed the PC. It is called often: several times for each setting.
/// 2. **Reading is lossless.** What cannot be read is [`State::Unreadable`], never absent.
/// 3. **Writes are absolute.** Writing a state that is held already succeeds and changes nothing,
///    so a write may be repeated after a crash.
/// 4. **A write moves its setting and nothing else**, except for what
///    [`dependents`](Pc::dependents) and [`dependencies`](Pc::dependencies) announce. In
///    particular, writing a registry value never creates its key: it is refused while the key is
///    absent.
/// 5. **A refused write changes nothing.**
/// 6. **A write that succeeded may still not have happened.** Callers read back.
/// 7. **A write survives the end of the process** at once, and a power cut after
///    [`flush`](Pc::flush).
/// 8. **A key that is not empty is not removed**: writing [`State::Absent`] to it answers
///    [`Written::LeftInPlace`]. So does a section of a settings file that holds something, a registry
///    value of pairs or words that still lists one, and a quarantine of which a file cannot go back because another has taken its place.
/// 9. **What has not started anew has started when it had**: [`boot`](Pc::boot) and
///    [`start_of`](Pc::start_of) give the same for as long as what they tell of goes on, whatever is
///    written and whatever the clocks say.
///
/// A reading of a whole moves with the settings that are parts of it. A settings file and the files of a
/// place (`text:FILE`, `clean:PLACE#files`) are never written as a whole; of a registry value, the whole
/// and its parts are not both held (see [`frevin_core::preview::plan`]).
pub trait Pc {
    /// Which PC this is.
    fn identity(&self) -> &PcIdentity;

    /// What is known of it.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn facts(&self) -> Result<Facts, PcError>;

    /// Which start of the PC this is: another value after every restart.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn boot(&self) -> Result<BootId, PcError>;

    /// The present start of what a setting waits for where its write acts after `moment`: of the
    /// sign-in, or of the program, service or device that the setting belongs to.
    ///
    /// Two answers are equal as long as that has not started anew, whatever the clocks say; a restart of
    /// the PC starts everything anew. [`Start::Unknown`] where the PC cannot tell, or cannot tell which
    /// program, service or device it is.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn start_of(&self, moment: TakesEffect, address: &Address) -> Result<Start, PcError>;

    /// Takes the right to change the PC. It ends with the value, or with the process. What is
    /// read after it is what whoever had the right before has left.
    ///
    /// # Errors
    /// [`LockError::Held`] where another process has it.
    fn lock(&mut self) -> Result<PcLock, LockError>;

    /// What a setting holds.
    ///
    /// # Errors
    /// Where the PC cannot be asked at all.
    fn read(&self, address: &Address) -> Result<State, PcError>;

    /// Makes a setting hold a state.
    ///
    /// # Errors
    /// [`WriteError::Refused`] where the PC does not allow it; nothing has changed then.
    fn write(&mut self, address: &Address, state: &State) -> Result<Written, WriteError>;

    /// Makes everything written so far survive a power cut.
    ///
    /// # Errors
    /// Where that cannot be had.
    fn flush(&mut self) -> Result<(), PcError>;

    /// Makes a restore point, where the PC can have one. It is called before the first change of
    /// a PC, while the caller holds its lock; whatever the answer, the change goes on.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn restore_point(&mut self, description: &str) -> Result<RestorePoint, PcError>;

    /// The services that stop when `service` stops, each after those that depend on it.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, PcError>;

    /// The services that start before `service` starts, each after those it depends on.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, PcError>;

    /// The settings that must be present before one can hold a value, outermost first: see
    /// [`Address::supports`]. A PC may know of more.
    fn supports(&self, address: &Address) -> Vec<Address> {
        address.supports()
    }

    /// Why this process may not write a setting, where that is known before it is tried, in words
    /// that complete "it cannot be written: …".
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn obstacle(&self, address: &Address) -> Result<Option<String>, PcError> {
        let _ = address;
        Ok(None)
    }

    /// Programs that are installed: apps, and those that bring an uninstaller of their own.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn programs(&self) -> Result<Vec<InstalledProgram>, PcError>;

    /// What starts with the PC, and what each of it takes.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn startup(&self) -> Result<StartupCosts, PcError>;

    /// What the processor's clock is now, in MHz, that of the fastest core; nothing where the PC does not tell.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn processor_mhz(&self) -> Result<Option<f64>, PcError>;

    /// How memory is used; nothing where the PC does not tell, or not this process.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn memory(&self) -> Result<Option<MemoryState>, PcError>;

    /// Gives back what is kept in memory of files that were read before. No setting moves, and no lock is needed.
    ///
    /// # Errors
    /// Where the PC does not allow it.
    fn purge_standby(&mut self) -> Result<(), PcError>;

    /// Asks for a period of the system's timer, which ends with this process, and gives what was granted.
    ///
    /// # Errors
    /// Where the PC does not allow it.
    fn ask_for_timer(&mut self, period: TimerPeriod) -> Result<TimerPeriod, PcError>;

    /// The names of a registry key's values; none where there is no such key.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn values_of(&self, key: &KeyPath) -> Result<Vec<WinName>, PcError>;

    /// Sets files in a scratch folder aside and brings them back, and changes a settings file there and puts it back, by
    /// the ways that this PC has for that: nothing of the owner's is touched. The folder is empty before.
    ///
    /// # Errors
    /// What was seen that is not as promised.
    fn try_files(&self, scratch: &Path) -> Result<(), String>;

    /// Makes [`OWN_TASK`], a scheduled task that does nothing and that nothing starts, or takes it away: to try out how tasks
    /// are switched, before one of the owner's is.
    ///
    /// # Errors
    /// Where the PC does not let this process make it.
    fn own_task(&mut self, is_there: bool) -> Result<(), PcError>;

    /// How much each place that can be cleaned holds, and how much of it is set aside.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn clean_content(&self) -> Result<Vec<CleanContent>, PcError>;

    /// Deletes for good what is set aside of a place: there is no way back from it. Says what it
    /// held. Called while the caller holds the PC's lock.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn empty_quarantine(&mut self, place: CleanPlace) -> Result<CleanContent, PcError>;

    /// What the PC is like now, beside its settings: what runs, and what is free.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn environment(&self) -> Result<Environment, PcError> {
        Ok(Environment::of(&self.facts()?))
    }

    /// Every setting of the PC that can be listed, in order of address, each once.
    ///
    /// # Errors
    /// Where the PC cannot be asked.
    fn addresses(&self) -> Result<Vec<Address>, PcError>;
}

/// Why nothing of a guard's is written, in words that complete "it cannot be written: …". Not even its owner's word
/// for one tweak is enough: what guards a PC is switched off in its own window.
pub(crate) fn belongs_to(guard: &Guard) -> String {
    format!("it belongs to {}, which guards this PC", guard.name)
}

/// Which PC is meant.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct PcIdentity {
    /// An identifier that no other PC has.
    pub id: PcId,
    /// Its name, for people.
    pub name: String,
    /// What kind of PC it is.
    pub kind: PcKind,
}

/// Kinds of PC.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PcKind {
    /// The PC that Frevin runs on.
    Live,
    /// A simulated one.
    Rehearsal,
}

impl fmt::Display for PcKind {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Live => "live",
            Self::Rehearsal => "rehearsal",
        })
    }
}

/// The right to change a PC.
#[must_use = "the right ends when this value is dropped"]
pub struct PcLock {
    _file: std::fs::File,
    holder: PathBuf,
    _turn: Option<Box<dyn Send>>,
}

impl fmt::Debug for PcLock {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.debug_struct("PcLock").field("holder", &self.holder).finish_non_exhaustive()
    }
}

impl PcLock {
    /// The right that is held for as long as `file` stays locked; `holder` is a file that says who
    /// has it, and goes with it.
    pub(crate) fn of(file: std::fs::File, holder: PathBuf) -> Self {
        Self { _file: file, holder, _turn: None }
    }

    /// The same right, held by `turn` as well.
    #[cfg(any(windows, test))]
    pub(crate) fn together_with(mut self, turn: Box<dyn Send>) -> Self {
        self._turn = Some(turn);
        self
    }
}

impl Drop for PcLock {
    fn drop(&mut self) {
        // Whoever finds the file without the lock being held knows that it is of the past.
        let _ = std::fs::remove_file(&self.holder);
    }
}

/// Who has the right to change a PC.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Holder {
    /// The number of its process.
    pub process_id: u32,
    /// What it was told to do, without what was told about it.
    pub command: String,
}

impl Holder {
    /// This process. Of what it was told, the first words: no paths, and nothing private.
    pub fn this_process() -> Self {
        let words = std::env::args().skip(1).take_while(|word| !word.starts_with('-')).take(2);
        Self { process_id: std::process::id(), command: words.collect::<Vec<_>>().join(" ") }
    }
}

impl fmt::Display for Holder {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "process {} (`frevin {}`)", self.process_id, self.command)
    }
}

/// What came of a write that was not refused.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Written {
    /// The setting should hold the state now.
    Done,
    /// A key that should have gone holds something that others put into it, and stays.
    LeftInPlace,
}

/// How much a place that can be cleaned holds.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct CleanContent {
    /// The place.
    pub place: CleanPlace,
    /// Files in it.
    pub files: u64,
    /// Their lengths together, in bytes.
    pub bytes: u64,
    /// Files of it that are set aside.
    pub files_set_aside: u64,
    /// Their lengths together, in bytes.
    pub bytes_set_aside: u64,
}

/// What starts with a PC, and what it costs.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize)]
pub struct StartupCosts {
    /// Every entry.
    pub entries: Vec<StartupEntry>,
    /// How long the latest start took; nothing where the PC does not tell.
    pub latest_start: Option<StartLength>,
}

/// An entry that starts a program when somebody signs in.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct StartupEntry {
    /// Where it is and what it is called, as `startup/entries` takes it: `user-registry/Some Launcher`.
    pub entry: String,
    /// Whether it starts its program; nothing where that cannot be read.
    pub is_on: Option<bool>,
    /// The file that it starts, where the PC tells.
    pub program: Option<String>,
    /// What that program takes; nothing where it does not run, or the PC does not tell.
    pub running: Option<ProgramUse>,
}

/// What the processes of a program take together.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ProgramUse {
    /// How many there are.
    pub processes: u32,
    /// Memory that they hold of their own, in MiB.
    pub memory_mib: u64,
    /// Processor time that they have had since they were started, in seconds.
    pub processor_s: f64,
}

/// How long a start of the PC took.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct StartLength {
    /// Until the desktop was there, in seconds.
    pub to_desktop_s: f64,
    /// Until nothing of the start was left to do, in seconds.
    pub whole_s: f64,
}

/// A program that is installed.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct InstalledProgram {
    /// What it is called.
    pub name: String,
    /// The package family of an app, which `apps/any-app` takes; nothing of a program that only its own uninstaller
    /// takes away.
    #[serde(default)]
    pub family: Option<WinName>,
    /// What it takes on the disk, in mebibytes; nothing where neither it nor Windows tells.
    #[serde(default)]
    pub size_mib: Option<u64>,
}

/// What came of asking for a restore point.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RestorePoint {
    /// It was made.
    Made {
        /// The number that the PC gave it.
        number: u32,
    },
    /// The PC has them switched off.
    SwitchedOff,
    /// The PC would not make one.
    Refused {
        /// Why.
        reason: String,
    },
    /// The PC does not offer them.
    NotOffered,
}

/// Why a setting was not written.
#[derive(Debug, Error)]
pub enum WriteError {
    /// The PC does not allow it; nothing has changed.
    #[error("refused: {0}")]
    Refused(String),
    /// The PC could not be asked; what has changed is not known.
    #[error(transparent)]
    Failed(#[from] PcError),
}

/// Why a PC could not be asked.
#[derive(Debug, Error)]
pub enum PcError {
    /// There is no such PC.
    #[error("{} is not a rehearsal PC: it has no {missing}", .folder.display())]
    NotAPc {
        /// What was taken for a PC.
        folder: PathBuf,
        /// What it lacks.
        missing: &'static str,
    },
    /// A file of the PC is broken.
    #[error("{} is broken: {reason}", .file.display())]
    Broken {
        /// The file.
        file: PathBuf,
        /// What is wrong with it.
        reason: String,
    },
    /// The operating system answered with an error.
    #[error("Windows: {0}")]
    System(String),
    /// A file of the PC could not be read or written.
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

/// Why the right to change a PC was not had.
#[derive(Debug, Error)]
pub enum LockError {
    /// Another process has it.
    #[error("another Frevin is changing this PC{}", .0.as_ref().map(|holder| format!(": {holder}")).unwrap_or_default())]
    Held(Option<Holder>),
    /// The lock could not be tried.
    #[error(transparent)]
    Io(#[from] std::io::Error),
    /// The PC could not be read again once it was had.
    #[error(transparent)]
    Pc(#[from] PcError),
}
