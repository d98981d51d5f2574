//! The files of a rehearsal PC, read whole and replaced whole.

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::{Arc, Mutex, MutexGuard, PoisonError};

use serde::{Serialize, de::DeserializeOwned};

use crate::contract::PcError;
use crate::durable::{sync_file, sync_folder};
use crate::files::is_link;
use crate::limited::{self, LimitedReadError};

/// What a file of a rehearsal PC may be long, in bytes: far more than a whole registry of one.
const LONGEST_BYTES: u64 = 64 << 20;
/// What the name of a file that is being replaced ends in.
const DRAFT: &str = ".new";
/// The folder of what settings hold.
const SETTINGS: &str = "settings";

/// The folder of a rehearsal PC.
#[derive(Debug, Clone)]
pub(super) struct Folder {
    root: PathBuf,
    unsynced: Arc<Mutex<Unsynced>>,
}

/// Files that a power cut might still take back.
#[derive(Debug)]
struct Unsynced {
    /// Whether nothing was synced since the folder was opened: what another process wrote before is not
    /// known, so that every file counts.
    since_opened: bool,
    names: BTreeSet<String>,
}

impl Unsynced {
    fn note(&mut self, name: &str) {
        self.names.insert(name.to_owned());
    }

    fn has(&self, name: &str) -> bool {
        self.since_opened || self.names.contains(name)
    }
}

impl Folder {
    pub(super) fn new(root: &Path) -> Self {
        let unsynced = Unsynced { since_opened: true, names: BTreeSet::new() };
        Self { root: root.to_owned(), unsynced: Arc::new(Mutex::new(unsynced)) }
    }

    pub(super) fn root(&self) -> &Path {
        &self.root
    }

    /// Fails where one of the PC's own files or folders is a link: what is written would be written
    /// elsewhere. Whoever passes a PC on passes on a folder and nothing else.
    pub(super) fn refuse_links(&self) -> Result<(), PcError> {
        for folder in ["", SETTINGS] {
            let entries = match fs_err::read_dir(self.path(folder)) {
                // What is missing is told by who needs it.
                Err(_) => continue,
                Ok(entries) => entries,
            };
            for entry in entries {
                let entry = entry?;
                if is_link(&fs_err::symlink_metadata(entry.path())?) {
                    let name = Path::new(folder).join(entry.file_name());
                    let reason = "it is a link, and leads out of the PC's folder".to_owned();
                    return Err(self.broken(&name.to_string_lossy(), reason));
                }
            }
        }
        Ok(())
    }

    pub(super) fn path(&self, name: &str) -> PathBuf {
        self.root.join(name)
    }

    pub(super) fn read_toml<T: DeserializeOwned>(&self, name: &'static str) -> Result<T, PcError> {
        let text = self.read(name)?;
        toml::from_str(&text).map_err(|error| self.broken(name, error.to_string()))
    }

    pub(super) fn read_json<T: DeserializeOwned>(&self, name: &'static str) -> Result<T, PcError> {
        let text = self.read(name)?;
        serde_json::from_str(&text).map_err(|error| self.broken(name, error.to_string()))
    }

    pub(super) fn read_json_or_default<T: DeserializeOwned + Default>(
        &self,
        name: &str,
    ) -> Result<T, PcError> {
        if !self.path(name).exists() {
            return Ok(T::default());
        }
        let text = self.text(name)?;
        serde_json::from_str(&text).map_err(|error| self.broken(name, error.to_string()))
    }

    /// Replaces a file so that a process that ends at any moment leaves the old or the new one.
    /// Only who holds the PC's lock writes, so one name will do for the draft.
    pub(super) fn write_json(&self, name: &str, value: &impl Serialize) -> Result<(), PcError> {
        let mut text = serde_json::to_string_pretty(value)
            .map_err(|error| self.broken(name, error.to_string()))?;
        text.push('\n');
        self.write_text(name, &text)
    }

    /// The same with a text.
    pub(super) fn write_text(&self, name: &str, text: &str) -> Result<(), PcError> {
        let draft = self.path(&format!("{name}{DRAFT}"));
        fs_err::write(&draft, text)?;
        fs_err::rename(&draft, self.path(name))?;
        self.unsynced().note(name);
        Ok(())
    }

    /// Removes the draft that a process may have left that ended while it replaced `name`.
    pub(super) fn remove_draft(&self, name: &str) -> Result<(), PcError> {
        self.remove(&format!("{name}{DRAFT}"))
    }

    /// Removes a file, if it is there.
    pub(super) fn remove(&self, name: &str) -> Result<(), PcError> {
        match fs_err::remove_file(self.path(name)) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error.into()),
            _ => Ok(()),
        }
    }

    /// Makes a file survive a power cut, where it may not yet.
    pub(super) fn sync(&self, name: &str) -> Result<(), PcError> {
        if self.unsynced().has(name) {
            sync_file(&self.path(name))?;
        }
        Ok(())
    }

    /// Says that everything that was written was synced.
    pub(super) fn is_synced(&self) {
        *self.unsynced() = Unsynced { since_opened: false, names: BTreeSet::new() };
    }

    fn unsynced(&self) -> MutexGuard<'_, Unsynced> {
        self.unsynced.lock().unwrap_or_else(PoisonError::into_inner)
    }

    pub(super) fn sync_folder(&self, name: &str) -> Result<(), PcError> {
        Ok(sync_folder(&self.path(name))?)
    }

    fn read(&self, name: &'static str) -> Result<String, PcError> {
        match self.text(name) {
            Err(PcError::Io(error))
                if matches!(
                    error.kind(),
                    std::io::ErrorKind::NotFound | std::io::ErrorKind::NotADirectory
                ) =>
            {
                Err(PcError::NotAPc { folder: self.root.clone(), missing: name })
            }
            read => read,
        }
    }

    /// The text of a file. The folder may be somebody else's: no file of it is read without end.
    pub(super) fn text(&self, name: &str) -> Result<String, PcError> {
        let path = self.path(name);
        let bytes = limited::read(&path, LONGEST_BYTES).map_err(|error| match error {
            LimitedReadError::Io(error) => PcError::Io(std::io::Error::new(
                error.kind(),
                format!("{}: {error}", path.display()),
            )),
            error @ LimitedReadError::TooLong { .. } => self.broken(name, error.to_string()),
        })?;
        String::from_utf8(bytes).map_err(|error| self.broken(name, error.to_string()))
    }

    pub(super) fn broken(&self, name: &str, reason: String) -> PcError {
        PcError::Broken { file: self.path(name), reason }
    }
}
