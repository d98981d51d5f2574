//! Play: what is held while a game runs, and put back afterwards, whatever happens.
//!
//! A watcher of its own process lays the change, follows the game, and rolls the change back when it has ended. Its lock
//! dies with it: where the ledger tells of a play without an end and nobody holds the lock, whoever comes next puts the
//! PC back ([`settle`]).

mod around;
mod game;
pub(crate) mod games;
mod process_switch;
mod processes;
mod recording;
mod watcher;

use std::fs::File;
use std::path::PathBuf;
use std::time::{Duration, Instant};

use frevin_core::layers::Selection;
use frevin_core::playing::{PlayEnding, PlayId};
use frevin_core::preview::OnOthers;
use frevin_ledger::{Ledger, PlayRecord};
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::recover;
use super::rollback::{make_way_back, roll_back};
use crate::context::Context;
use crate::failure::{Failure, Kind};

pub(crate) use process_switch::ProcessSwitch;
pub(crate) use watcher::{start_watcher, watch};

/// Held by the watcher. The file is there as long as something may be held.
const WATCHER_LOCK: &str = "play.lock";
/// Held by whoever begins a play, until its watcher has taken over.
const BEGIN_LOCK: &str = "play-begin.lock";
/// Asks the watcher to stop.
const STOP: &str = "play-stop";
/// What the watcher tells of the game.
const STATUS: &str = "play-status.json";

/// What a watcher tells of its game, for people: nothing is decided by it.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub(crate) struct PlayStatus {
    /// Processes of the game that run.
    pub(crate) processes: Vec<u32>,
    /// What could not be held of them, or of the PC.
    pub(crate) problems: Vec<String>,
}

/// The files of play in Frevin's home.
pub(crate) struct PlayFiles {
    home: PathBuf,
}

impl PlayFiles {
    pub(crate) fn of(context: &Context) -> Self {
        Self { home: context.home().to_owned() }
    }

    /// Whether there may be a play that has no end.
    pub(crate) fn tell_of_play(&self) -> bool {
        self.home.join(WATCHER_LOCK).exists()
    }

    fn open(&self, name: &str) -> Result<File, Failure> {
        crate::own_home::make(&self.home)?;
        let path = self.home.join(name);
        let file =
            fs_err::OpenOptions::new().create(true).truncate(false).write(true).open(path)?;
        Ok(file.into_file())
    }

    fn lock(&self, name: &str) -> Result<Option<File>, Failure> {
        let file = self.open(name)?;
        match file.try_lock() {
            Ok(()) => Ok(Some(file)),
            Err(std::fs::TryLockError::WouldBlock) => Ok(None),
            Err(std::fs::TryLockError::Error(error)) => Err(error.into()),
        }
    }

    /// The right to begin a play, which whoever settles has for a moment; nothing where one is being begun.
    pub(crate) fn wait_for_begin_lock(&self) -> Result<Option<File>, Failure> {
        const PATIENCE: Duration = Duration::from_secs(10);
        let begun = Instant::now();
        loop {
            match self.take_begin_lock()? {
                None if begun.elapsed() < PATIENCE => std::thread::sleep(Duration::from_millis(5)),
                taken => return Ok(taken),
            }
        }
    }

    /// The right to begin a play; nothing where one is being begun.
    pub(crate) fn take_begin_lock(&self) -> Result<Option<File>, Failure> {
        self.lock(BEGIN_LOCK)
    }

    /// The right to watch; nothing where there is a watcher.
    pub(crate) fn take_watcher_lock(&self) -> Result<Option<File>, Failure> {
        self.lock(WATCHER_LOCK)
    }

    /// Whether a watcher is at work.
    pub(crate) fn is_watched(&self) -> Result<bool, Failure> {
        if !self.tell_of_play() {
            return Ok(false);
        }
        // Shared with others who look: only a watcher has it alone.
        match self.open(WATCHER_LOCK)?.try_lock_shared() {
            Ok(()) => Ok(false),
            Err(std::fs::TryLockError::WouldBlock) => Ok(true),
            Err(std::fs::TryLockError::Error(error)) => Err(error.into()),
        }
    }

    pub(crate) fn ask_to_stop(&self) -> Result<(), Failure> {
        Ok(fs_err::write(self.home.join(STOP), "")?)
    }

    fn is_asked_to_stop(&self) -> bool {
        self.home.join(STOP).exists()
    }

    pub(crate) fn status(&self) -> PlayStatus {
        let text = fs_err::read_to_string(self.home.join(STATUS)).unwrap_or_default();
        serde_json::from_str(&text).unwrap_or_default()
    }

    fn tell(&self, status: &PlayStatus) {
        let Ok(text) = serde_json::to_string(status) else { return };
        let draft = self.home.join("play-status.draft");
        // It is for people only.
        if fs_err::write(&draft, text).is_ok() {
            let _ = fs_err::rename(draft, self.home.join(STATUS));
        }
    }

    /// Nothing is told yet of a play that begins, and from now on somebody may have to settle it.
    pub(crate) fn prepare(&self) -> Result<(), Failure> {
        for name in [STOP, STATUS] {
            let _ = fs_err::remove_file(self.home.join(name));
        }
        self.open(WATCHER_LOCK).map(drop)
    }

    /// Nothing of a play is held any more. As long as one of another PC has no end, somebody has to settle that.
    fn clear(&self, ledger: &Ledger) -> Result<(), Failure> {
        let _ = fs_err::remove_file(self.home.join(STOP));
        if !ledger.has_open_play()? {
            let _ = fs_err::remove_file(self.home.join(WATCHER_LOCK));
        }
        Ok(())
    }
}

/// Puts back what a play left whose watcher is gone. What it did, where there was one.
pub(crate) fn settle(context: &Context) -> Result<Vec<PlayRecord>, Failure> {
    let files = PlayFiles::of(context);
    if !files.tell_of_play() {
        return Ok(Vec::new());
    }
    // Somebody begins one, or watches one: nothing is to be settled.
    let Some(_beginning) = files.take_begin_lock()? else { return Ok(Vec::new()) };
    let Some(_watching) = files.take_watcher_lock()? else { return Ok(Vec::new()) };
    let Some(mut pc) = context.pc_if_named()? else { return Ok(Vec::new()) };
    let mut ledger = context.ledger()?;
    let open = ledger.open_plays(&pc.identity().id)?;
    for play in &open {
        put_back(context, &mut *pc, &mut ledger, play.id, PlayEnding::Settled)?;
    }
    files.clear(&ledger)?;
    Ok(open)
}

/// Puts back what a play holds, and writes its end down. What others have written meanwhile is theirs.
fn put_back(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    id: PlayId,
    ending: PlayEnding,
) -> Result<(), Failure> {
    // A change that was cut off half-way has no layers yet.
    recover::recover(context, pc, ledger, OnOthers::Keep)?;
    for change in ledger.changes_of_play(id)? {
        let selection = Selection::Change(change);
        let back = make_way_back(pc, ledger, &selection, OnOthers::Keep)?;
        roll_back(context, pc, ledger, &selection, OnOthers::Keep, back)?;
    }
    around::put_processes_back(context, ledger, id)?;
    Ok(ledger.end_play(id, context.clock.now(), ending)?)
}

/// Refuses where something is held for a game: what is compared would be another PC when it ends.
pub(crate) fn refuse_playing(ledger: &Ledger, pc: &dyn Pc) -> Result<(), Failure> {
    match ledger.open_plays(&pc.identity().id)?.first() {
        None => Ok(()),
        Some(play) => {
            let message =
                format!("{} is held while a game runs (play {})", play.plan.title, play.id);
            Err(Failure::new(Kind::Guarded, message)
                .hint("`frevin play stop` puts it back; the game goes on"))
        }
    }
}
