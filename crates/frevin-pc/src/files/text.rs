//! Settings files of games and programs.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use frevin_core::setting::{Address, FilePart, FileSetting, Place, State};
use frevin_core::settings_file::{self, Edit};

use super::below::{Unreached, file_below, files_below};
use crate::contract::{PcError, WriteError, Written};
use crate::durable::{replace_file, sync_file, sync_folder};

/// What a settings file may be long, in bytes: more than any is, and little enough to read.
const MAX_BYTES: u64 = 16 << 20;

/// The settings files of a PC.
#[derive(Debug, Clone)]
pub(crate) struct TextFiles {
    places: BTreeMap<Place, PathBuf>,
    /// Where a file's new bytes lie before they take its place; on the same drive as the places.
    draft: PathBuf,
}

impl TextFiles {
    pub(crate) fn new(places: BTreeMap<Place, PathBuf>, draft: PathBuf) -> Self {
        Self { places, draft }
    }

    fn find(&self, setting: &FileSetting) -> Result<PathBuf, Unreached> {
        let place = self.places.get(&setting.file().place()).ok_or(Unreached::NotThere)?;
        file_below(place, setting.file().names())
    }

    pub(crate) fn read(&self, setting: &FileSetting) -> State {
        let unreadable = |reason: String| State::Unreadable(reason);
        match self.find(setting) {
            Ok(path) => match bytes_of(&path) {
                Ok(bytes) => settings_file::read(&bytes, setting.part()),
                Err(reason) => unreadable(reason),
            },
            Err(Unreached::NotThere) if *setting.part() == FilePart::Whole => State::Absent,
            Err(Unreached::NotThere) => unreadable("this PC has no such file".to_owned()),
            Err(Unreached::Guarded(reason)) => unreadable(reason),
            Err(Unreached::Failed(error)) => unreadable(error.to_string()),
        }
    }

    /// Puts a whole new file in the place of the old one, so that a process that ends at any moment
    /// leaves one or the other.
    pub(crate) fn write(
        &self,
        setting: &FileSetting,
        state: &State,
    ) -> Result<Written, WriteError> {
        let refused = |reason: String| WriteError::Refused(format!("{setting}: {reason}"));
        let path = match self.find(setting) {
            Ok(path) => path,
            Err(Unreached::NotThere) => return Err(refused("this PC has no such file".to_owned())),
            Err(Unreached::Guarded(reason)) => return Err(refused(reason)),
            Err(Unreached::Failed(error)) => return Err(WriteError::Failed(error.into())),
        };
        let old = bytes_of(&path).map_err(refused)?;
        match settings_file::write(&old, setting.part(), state).map_err(refused)? {
            Edit::NotEmpty => return Ok(Written::LeftInPlace),
            Edit::Bytes(new) if new == old => {}
            Edit::Bytes(new) => self.replace(&path, &new).map_err(PcError::Io)?,
        }
        Ok(Written::Done)
    }

    fn replace(&self, path: &Path, bytes: &[u8]) -> std::io::Result<()> {
        let permissions = fs_err::metadata(path)?.permissions();
        let mut draft = fs_err::File::create(&self.draft)?;
        draft.write_all(bytes)?;
        if cfg!(windows) {
            // A replaced file keeps its rights there; the new bytes are on disk before they count.
            draft.sync_all()?;
        } else {
            fs_err::set_permissions(&self.draft, permissions)?;
        }
        drop(draft);
        replace_file(path, &self.draft)?;
        // Where replacing is more than a change of names, its end is on disk before it counts. Elsewhere
        // a flush does that for all files at once.
        if cfg!(windows) { sync_file(path) } else { Ok(()) }
    }

    /// Clears away what a process left that ended while it wrote.
    pub(crate) fn tidy(&self) -> std::io::Result<()> {
        match fs_err::remove_file(&self.draft) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
            _ => Ok(()),
        }
    }

    fn files(&self) -> Result<Vec<(FileSetting, PathBuf)>, PcError> {
        let mut files = Vec::new();
        for (place, root) in &self.places {
            for found in files_below(root)? {
                let path = format!("{place}/{}", found.below);
                // What is not a settings file is none of Frevin's.
                let Some(file) = path.parse().ok().and_then(|path| FileSetting::whole(path).ok())
                else {
                    continue;
                };
                files.push((file, root.join(found.below)));
            }
        }
        Ok(files)
    }

    /// Every settings file below the places, each with what can be read of it.
    pub(crate) fn addresses(&self) -> Result<Vec<Address>, PcError> {
        let mut addresses = Vec::new();
        for (file, path) in self.files()? {
            let bytes = bytes_of(&path).unwrap_or_default();
            let parts = settings_file::parts(&bytes, &file.file().ending());
            let settings = parts.into_iter().map(|part| file.with_part(part));
            // A part whose name is spelled as no address can be is read with the whole file.
            addresses.extend(settings.filter_map(|setting| setting.to_string().parse().ok()));
            addresses.push(Address::Text(file));
        }
        Ok(addresses)
    }

    pub(crate) fn sync(&self) -> std::io::Result<()> {
        for (_, path) in self.files().map_err(std::io::Error::other)? {
            sync_file(&path)?;
            if let Some(folder) = path.parent() {
                sync_folder(folder)?;
            }
        }
        Ok(())
    }
}

fn bytes_of(path: &Path) -> Result<Vec<u8>, String> {
    let length = fs_err::metadata(path).map_err(|error| error.to_string())?.len();
    if length > MAX_BYTES {
        return Err(format!("it is longer than a settings file may be: {length} bytes"));
    }
    fs_err::read(path).map_err(|error| error.to_string())
}
