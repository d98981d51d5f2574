//! Settings files of games and programs.

use std::collections::BTreeMap;
use std::io::Write as _;
use std::path::{Path, PathBuf};

use frevin_core::setting::{Address, FilePart, FileSetting, Place, State};
use frevin_core::settings_file::{self, Edit};

use super::below::{Reached, Unreached, file_below, files_below};
use super::folder::{FolderPath, OpenFolder};
use crate::contract::{PcError, WriteError, Written};
use crate::durable::{Replace, put_back_replaced, sync_file};
use crate::limited::{self, LimitedReadError};

/// What a settings file may be long, in bytes: more than any is, and little enough to read.
const MAX_BYTES: u64 = 16 << 20;

/// The settings files of a PC.
#[derive(Debug, Clone)]
pub(crate) struct TextFiles {
    places: BTreeMap<Place, FolderPath>,
    /// Where a file's new bytes lie before they take its place; on the same drive as the places. It is
    /// Frevin's own.
    own: PathBuf,
    /// How new bytes take the place of old ones where more belongs to a file than its name and bytes. Where
    /// nothing does, by a change of names between two open folders, which is whole or not at all.
    replace: Option<Replace>,
}

const DRAFT: &str = "settings-file.new";

impl TextFiles {
    pub(crate) fn new(
        places: BTreeMap<Place, FolderPath>,
        own: PathBuf,
        replace: Option<Replace>,
    ) -> Self {
        Self { places, own, replace }
    }

    fn draft(&self) -> PathBuf {
        self.own.join(DRAFT)
    }

    /// Where the old file lies while the new one takes its place.
    fn backup(&self) -> PathBuf {
        self.draft().with_extension("old")
    }

    /// Says which file is being replaced, for whoever finds the draft or the backup after a crash.
    fn journal(&self) -> PathBuf {
        self.draft().with_extension("target")
    }

    fn find(&self, setting: &FileSetting) -> Result<Reached, Unreached> {
        let place = self.places.get(&setting.file().place()).ok_or(Unreached::NotThere)?;
        let place = place.open().map_err(|error| Unreached::Guarded(error.to_string()))?;
        file_below(place.ok_or(Unreached::NotThere)?, setting.file().names())
    }

    pub(crate) fn read(&self, setting: &FileSetting) -> State {
        let unreadable = |reason: String| State::Unreadable(reason);
        match self.find(setting) {
            Ok(file) => match bytes_of(&file) {
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
        let file = match self.find(setting) {
            Ok(file) => file,
            Err(Unreached::NotThere) => return Err(refused("this PC has no such file".to_owned())),
            Err(Unreached::Guarded(reason)) => return Err(refused(reason)),
            Err(Unreached::Failed(error)) => return Err(WriteError::Failed(error.into())),
        };
        let old = bytes_of(&file).map_err(refused)?;
        match settings_file::write(&old, setting.part(), state).map_err(refused)? {
            Edit::NotEmpty => return Ok(Written::LeftInPlace),
            Edit::Bytes(new) if new == old => {}
            Edit::Bytes(_) if self.replace.is_some() && is_read_only(&file) => {
                return Err(refused("the file is marked as read-only".to_owned()));
            }
            Edit::Bytes(new) => self.replace(&file, &new).map_err(PcError::Io)?,
        }
        Ok(Written::Done)
    }

    fn replace(&self, file: &Reached, bytes: &[u8]) -> std::io::Result<()> {
        let own = OpenFolder::open_trusted(&self.own)?.ok_or(std::io::ErrorKind::NotFound)?;
        let mut draft = own.create_file(DRAFT)?;
        draft.write_all(bytes)?;
        let Some(replace) = self.replace else {
            let metadata = file.folder.metadata(&file.name)?.ok_or(std::io::ErrorKind::NotFound)?;
            draft.set_permissions(metadata.permissions())?;
            drop(draft);
            return own.replace(DRAFT, &file.folder, &file.name);
        };
        // The new bytes are on disk before they count.
        draft.sync_all()?;
        drop(draft);
        // The folder is held open: what lies under this path is what was found.
        let path = file.folder.path().join(&file.name);
        let backup = self.backup();
        self.note_target(&path)?;
        if let Err(error) = replace(&path, &self.draft(), &backup) {
            put_back_replaced(&path, &self.draft(), &backup)?;
            return Err(error);
        }
        // Replacing is more than a change of names: its end is on disk before it counts.
        sync_file(&path)?;
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
        if self.replace.is_none() {
            // A change of names leaves a draft at most.
            return remove(&self.draft());
        }
        let noted = fs_err::read(self.journal()).ok();
        let target: Option<PathBuf> = noted.and_then(|bytes| serde_json::from_slice(&bytes).ok());
        match target {
            Some(target) => put_back_replaced(&target, &self.draft(), &self.backup())?,
            // No file was being replaced: what lies there is a draft that was never finished.
            None => remove(&self.draft())?,
        }
        remove(&self.journal())
    }

    /// Every settings file below the places, in the folder that it is in. A place that is a link has none.
    fn files(&self) -> Result<Vec<(FileSetting, Reached)>, PcError> {
        let mut files = Vec::new();
        for (place, root) in &self.places {
            let Ok(Some(root)) = root.open() else { continue };
            for found in files_below(&root)? {
                let path = format!("{place}/{}", found.below);
                // What is not a settings file is none of Frevin's.
                let Some(file) = path.parse().ok().and_then(|path| FileSetting::whole(path).ok())
                else {
                    continue;
                };
                let (folder, name) = match found.below.rsplit_once('/') {
                    Some((folder, name)) => (root.again()?.below(folder.split('/'))?, name),
                    None => (Some(root.again()?), found.below.as_str()),
                };
                let name = name.to_owned();
                files.extend(folder.map(|folder| (file, Reached { folder, name })));
            }
        }
        Ok(files)
    }

    /// Every settings file below the places, each with what can be read of it.
    pub(crate) fn addresses(&self) -> Result<Vec<Address>, PcError> {
        let mut addresses = Vec::new();
        for (file, reached) in self.files()? {
            let bytes = bytes_of(&reached).unwrap_or_default();
            let parts = settings_file::parts(&bytes, &file.file().ending());
            let settings = parts.into_iter().map(|part| file.with_part(part));
            // A part whose name is spelled as no address can be is read with the whole file.
            addresses.extend(settings.filter_map(|setting| setting.to_string().parse().ok()));
            addresses.push(Address::Text(file));
        }
        Ok(addresses)
    }

    pub(crate) fn sync(&self) -> std::io::Result<()> {
        for (_, reached) in self.files().map_err(std::io::Error::other)? {
            // Those that are replaced otherwise were synced as they were written.
            if self.replace.is_none() {
                reached.folder.sync_file(&reached.name)?;
            }
            reached.folder.sync()?;
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

/// Whether a file has the mark with which Windows refuses to replace it.
fn is_read_only(file: &Reached) -> bool {
    let metadata = file.folder.metadata(&file.name).ok().flatten();
    metadata.is_some_and(|metadata| metadata.permissions().readonly())
}

fn bytes_of(file: &Reached) -> Result<Vec<u8>, String> {
    let open = file.folder.open_file(&file.name).map_err(|error| error.to_string())?;
    limited::read_from(open, MAX_BYTES).map_err(|error| match error {
        LimitedReadError::Io(error) => error.to_string(),
        LimitedReadError::TooLong { limit_bytes } => {
            format!("it is longer than a settings file may be, {limit_bytes} bytes")
        }
    })
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
        let places = [(Place::Documents, FolderPath::trusted(documents))].into();
        (TextFiles::new(places, root.to_owned(), Some(replace)), file)
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
    fn a_file_that_is_marked_as_read_only_is_left() {
        let root = tempfile::tempdir().unwrap();
        let (files, file) = files(root.path(), keeps_backup);
        let mut permissions = fs_err::metadata(&file).unwrap().permissions();
        permissions.set_readonly(true);
        fs_err::set_permissions(&file, permissions).unwrap();
        let refused = write(&files);
        assert!(
            matches!(refused, Err(WriteError::Refused(reason)) if reason.contains("read-only"))
        );
        assert_eq!(fs_err::read_to_string(&file).unwrap(), "[A]\nv=1\n");
    }

    #[test]
    fn a_process_that_ends_between_the_two_moves_loses_nothing() {
        let root = tempfile::tempdir().unwrap();
        let (files, file) = files(root.path(), keeps_backup);
        fs_err::write(files.draft(), "[A]\nv=2\n").unwrap();
        files.note_target(&file).unwrap();
        fs_err::rename(&file, files.backup()).unwrap();
        files.tidy().unwrap();
        assert_eq!(fs_err::read_to_string(&file).unwrap(), "[A]\nv=1\n");
        only_the_file_is_left(root.path());

        fs_err::write(files.draft(), "unfinished").unwrap();
        files.tidy().unwrap();
        only_the_file_is_left(root.path());
        write(&files).unwrap();
        assert_eq!(fs_err::read_to_string(&file).unwrap(), "[A]\nv=2\n");
        only_the_file_is_left(root.path());
    }
}
