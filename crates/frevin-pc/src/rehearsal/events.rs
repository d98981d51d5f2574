//! What has happened to a rehearsal PC, one line of JSON an event.

use std::io::{Read, Seek, SeekFrom, Write as _};

use frevin_core::setting::{Address, State};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::folder::Folder;
use super::pc::StartedAnew;
use crate::contract::PcError;

const EVENTS: &str = "events.jsonl";

/// Something that happened to a rehearsal PC.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "event")]
pub enum Event {
    /// The PC started.
    Started {
        /// The number of the start.
        boot: u64,
    },
    /// Something less than the PC was started anew.
    StartedAnew {
        /// The number of the start of the PC that it happened after.
        boot: u64,
        /// What it was.
        what: StartedAnew,
    },
    /// A setting was written.
    Written {
        /// The number of the start that it happened after.
        boot: u64,
        /// The setting.
        address: Box<Address>,
        /// What it held.
        before: State,
        /// What it holds.
        after: State,
    },
    /// A run was recorded.
    Played {
        /// The number of the start that it happened after.
        boot: u64,
        /// The scene.
        scene: String,
    },
}

pub(super) fn append(folder: &Folder, event: &Event) -> Result<(), PcError> {
    let mut line =
        serde_json::to_string(event).map_err(|error| folder.broken(EVENTS, error.to_string()))?;
    line.push('\n');
    let path = folder.path(EVENTS);
    let mut file = fs_err::OpenOptions::new().create(true).read(true).append(true).open(path)?;
    if is_cut_short(&mut file)? {
        line.insert(0, '\n');
    }
    file.write_all(line.as_bytes())?;
    Ok(())
}

/// Whether the last line was cut short by a crash.
fn is_cut_short(file: &mut (impl Read + Seek)) -> std::io::Result<bool> {
    if file.seek(SeekFrom::End(0))? == 0 {
        return Ok(false);
    }
    file.seek(SeekFrom::End(-1))?;
    let mut last = [0];
    file.read_exact(&mut last)?;
    Ok(last != *b"\n")
}

/// The events from the first on. A line that a crash cut short is passed over.
pub(super) fn read(folder: &Folder) -> Result<Vec<Event>, PcError> {
    let path = folder.path(EVENTS);
    if !path.exists() {
        return Ok(Vec::new());
    }
    let text = folder.text(EVENTS)?;
    Ok(text.lines().filter_map(|line| serde_json::from_str(line).ok()).collect())
}
