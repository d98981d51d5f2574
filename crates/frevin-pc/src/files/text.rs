//! Settings files of games and programs.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use frevin_core::setting::{Address, FilePart, FileSetting, Place, State};
use frevin_core::settings_file::{self, Edit};

use super::below::{Unreached, file_below, files_below};
use crate::contract::{PcError, WriteError, Written};
use crate::durable::{Replace, put_back_replaced, sync_file, sync_folder};

/// What a settings file may be long, in bytes: more than any is, and little enough to read.
const MAX_BYTES: u64 = 16 << 20;

/// The settings files of a PC.
#[derive(Debug, Clone)]
pub(crate) struct TextFiles {
    places: BTreeMap<Place, PathBuf>,
    /// Where a file's new bytes lie before they take its place; on the same drive as the places.
    draft: PathBuf,
    replace: Replace,
}

impl TextFiles {
    pub(crate) fn new(places: BTreeMap<Place, PathBuf>, draft: PathBuf, replace: Replace) -> Self {
        Self { places, draft, replace }
    }

    /// Where the old file lies while the new one takes its place.
    fn backup(&self) -> PathBuf {
        self.draft.with_extension("old")
    }

    /// Says which file is being replaced, for whoever finds the draft or the backup after a crash.
    fn journal(&self) -> PathBuf {
        self.draft.with_extension("target")
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
        let backup = self.backup();
        self.note_target(path)?;
        if let Err(error) = (self.replace)(path, &self.draft, &backup) {
            put_back_replaced(path, &self.draft, &backup)?;
            return Err(error);
        }
        // Where replacing is more than a change of names, its end is on disk before it counts. Elsewhere
        // a flush does that for all files at once.
        if cfg!(windows) {
            sync_file(path)?;
        }
        self.tidy()
    }

    /// The name of the file about to be replaced is on disk before its bytes can be anywhere else.
    fn note_target(&self, path: &Path) -> std::io::Result<()> {
        let target = std::path::absolute(path)?;
        let bytes = serde_json::to_vec(&target).map_err(std::io::Error::other)?;
        let mut file = fs_err::File::create(self.journal())?;
        file.write_all(&bytes)?;
        if cfg!(windows) { file.sync_all() } else { Ok(()) }
    }

    /// Puts back what a process left that ended while it wrote, and clears away what is not needed.
    pub(crate) fn tidy(&self) -> std::io::Result<()> {
        let target: Option<PathBuf> =
            fs_err::read(self.journal()).ok().and_then(|bytes| serde_json::from_slice(&bytes).ok());
        match target {
            Some(target) => put_back_replaced(&target, &self.draft, &self.backup())?,
            // No file was being replaced: what lies there is a draft that was never finished.
            None => remove(&self.draft)?,
        }
        remove(&self.journal())
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

fn remove(path: &Path) -> std::io::Result<()> {
    match fs_err::remove_file(path) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

fn bytes_of(path: &Path) -> Result<Vec<u8>, String> {
    let length = fs_err::metadata(path).map_err(|error| error.to_string())?.len();
    if length > MAX_BYTES {
        return Err(format!("it is longer than a settings file may be: {length} bytes"));
    }
    fs_err::read(path).map_err(|error| error.to_string())
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;

    const SETTING: &str = "text:documents/game.ini#ini:[A]v";

    /// The ways in which `ReplaceFileW` is documented to fail: nothing moved; the old file moved to the
    /// backup's name and the new one not moved; the same, and the process ended.
    fn moves_nothing(_: &Path, _: &Path, _: &Path) -> std::io::Result<()> {
        Err(std::io::Error::other("1175"))
    }

    fn moves_half(file: &Path, _: &Path, backup: &Path) -> std::io::Result<()> {
        fs_err::rename(file, backup)?;
        Err(std::io::Error::other("1177"))
    }

    fn keeps_backup(file: &Path, draft: &Path, backup: &Path) -> std::io::Result<()> {
        fs_err::rename(file, backup)?;
        fs_err::rename(draft, file)
    }

    fn files(root: &Path, replace: Replace) -> (TextFiles, PathBuf) {
        let documents = root.join("documents");
        fs_err::create_dir_all(&documents).unwrap();
        let file = documents.join("game.ini");
        fs_err::write(&file, "[A]\nv=1\n").unwrap();
        let places = [(Place::Documents, documents)].into();
        (TextFiles::new(places, root.join("settings-file.new"), replace), file)
    }

    fn write(files: &TextFiles) -> Result<Written, WriteError> {
        let Ok(Address::Text(setting)) = SETTING.parse() else { unreachable!() };
        let two = frevin_core::setting::Value::Written("2".to_owned());
        files.write(&setting, &two.into())
    }

    fn only_the_file_is_left(root: &Path) {
        let left: Vec<_> =
            fs_err::read_dir(root).unwrap().map(|e| e.unwrap().file_name()).collect();
        assert_eq!(left, ["documents"]);
    }

    #[test]
    fn a_failed_replacement_leaves_the_old_file() {
        for replace in [moves_nothing as Replace, moves_half] {
            let root = tempfile::tempdir().unwrap();
            let (files, file) = files(root.path(), replace);
            assert!(write(&files).is_err());
            assert_eq!(fs_err::read_to_string(&file).unwrap(), "[A]\nv=1\n");
            files.tidy().unwrap();
            only_the_file_is_left(root.path());
        }
    }

    #[test]
    fn a_process_that_ends_between_the_two_moves_loses_nothing() {
        let root = tempfile::tempdir().unwrap();
        let (files, file) = files(root.path(), keeps_backup);
        fs_err::write(&files.draft, "[A]\nv=2\n").unwrap();
        files.note_target(&file).unwrap();
        fs_err::rename(&file, files.backup()).unwrap();
        files.tidy().unwrap();
        assert_eq!(fs_err::read_to_string(&file).unwrap(), "[A]\nv=1\n");
        only_the_file_is_left(root.path());

        fs_err::write(&files.draft, "unfinished").unwrap();
        files.tidy().unwrap();
        only_the_file_is_left(root.path());
        write(&files).unwrap();
        assert_eq!(fs_err::read_to_string(&file).unwrap(), "[A]\nv=2\n");
        only_the_file_is_left(root.path());
    }
}
