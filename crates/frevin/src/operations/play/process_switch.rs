//! What is held of a program's processes, switched on and off: for trials in play.

use std::collections::BTreeMap;

use frevin_core::playing::{ProcessBefore, ProcessHolds, ProcessKey};
use frevin_core::trial::in_play::PlaySource;

use super::games::known_as;
use super::processes::{
    before, can_raise, processors, put_back, running, set_memory_priority, set_priority,
    set_processors, unthrottle,
};
use crate::failure::{Failure, Kind};

/// The processes of a program that is played, and what they had.
///
/// They lose what they are given when they end, and it is written nowhere: where Frevin is killed, the program keeps it
/// until then.
pub(crate) struct ProcessSwitch {
    holds: ProcessHolds,
    /// The name of its file; nothing: this very process.
    file: Option<String>,
    had: BTreeMap<ProcessKey, ProcessBefore>,
}

impl ProcessSwitch {
    /// Gets ready; nothing is touched yet.
    ///
    /// # Errors
    /// Where it is not known which processes are played, or what is lowered could not be put back.
    pub(crate) fn new(holds: &ProcessHolds, source: &PlaySource) -> Result<Self, Failure> {
        let file = match source {
            PlaySource::TestLoop => None,
            PlaySource::Program { file } => Some(known_as(file)),
            PlaySource::Scene | PlaySource::GrowingLog { .. } => {
                let message = "it is not known which program is played";
                return Err(Failure::new(Kind::Usage, message).hint("name it with --program NAME"));
            }
        };
        if holds.priority.is_some() && !can_raise() {
            let message =
                "this user may not raise priorities: what is lowered could not be put back";
            return Err(Failure::new(Kind::Guarded, message));
        }
        Ok(Self { holds: holds.clone(), file, had: BTreeMap::new() })
    }

    /// Lets the program's processes have it.
    pub(crate) fn on(&mut self) -> Result<(), String> {
        let own = std::process::id();
        for one in running() {
            let is_its = match &self.file {
                None => one.id == own,
                Some(file) => known_as(&one.file) == *file,
            };
            if !is_its {
                continue;
            }
            if !self.had.contains_key(&one.key()) {
                self.had.insert(one.key(), before(one.id, &self.holds)?);
            }
            self.hold(one.id)?;
        }
        Ok(())
    }

    /// Gives them what they had.
    pub(crate) fn off(&self) -> Result<(), String> {
        let now = running();
        let still_run = |key: &ProcessKey| now.iter().any(|one| one.key() == *key);
        let left = self.had.iter().filter(|(key, _)| still_run(key));
        left.into_iter().try_for_each(|(key, before)| put_back(key.id, before))
    }

    fn hold(&self, id: u32) -> Result<(), String> {
        let ProcessHolds { priority, processors: choice, unthrottled, memory_priority } =
            &self.holds;
        if let Some(class) = priority {
            set_priority(id, *class)?;
        }
        if let Some(choice) = choice {
            let numbers = choice.of(&processors()).ok_or_else(|| {
                format!("{choice} is all that this PC has, or nothing that it has")
            })?;
            set_processors(id, &numbers.into_iter().collect::<Vec<_>>())?;
        }
        if *unthrottled {
            unthrottle(id)?;
        }
        memory_priority.map_or(Ok(()), |priority| set_memory_priority(id, priority))
    }
}

impl Drop for ProcessSwitch {
    fn drop(&mut self) {
        let _ = self.off();
    }
}
