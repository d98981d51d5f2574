//! Files set aside, from where they come back or go for good.

use std::collections::{BTreeMap, BTreeSet};
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use frevin_core::setting::{Address, CleanPart, CleanPlace, CleanSetting, State, Value};
use serde::{Deserialize, Serialize};

use super::below::{files_below, is_link};
use crate::contract::{CleanContent, PcError, WriteError, Written};
use crate::durable::{sync_file, sync_folder};

const MANIFEST: &str = "manifest.json";
const DAY: Duration = Duration::from_hours(24);

/// The places of a PC that can be cleaned, and what has been set aside of them.
///
/// Below `folder` there is a folder for each place that something has been set aside of: its
/// manifest, and the files under the paths that they had. The manifest is there before the first
/// file moves, and goes after the last has come back, so that what a crash leaves is always told.
#[derive(Debug, Clone)]
pub(crate) struct Quarantine {
    places: BTreeMap<CleanPlace, PathBuf>,
    folder: PathBuf,
}

/// What is set aside of a place.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Manifest {
    /// The age that files had to have, in days.
    untouched_days: u32,
    /// The files, by their path below the place.
    files: BTreeMap<String, SetAside>,
}

#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SetAside {
    bytes: u64,
}

impl Quarantine {
    pub(crate) fn new(places: BTreeMap<CleanPlace, PathBuf>, folder: PathBuf) -> Self {
        Self { places, folder }
    }

    pub(crate) fn read(&self, setting: CleanSetting) -> State {
        let state = match setting.part {
            CleanPart::Quarantine => self.manifest(setting.place).map(|manifest| {
                let manifest = manifest?;
                let untouched_days = manifest.untouched_days;
                Some(match self.is_half_way(setting.place, &manifest) {
                    true => Value::HalfQuarantined,
                    false => Value::Quarantined { untouched_days },
                })
            }),
            CleanPart::Files => self.files(setting.place),
        };
        state.map_or_else(|error| State::Unreadable(error.to_string()), State::from_option)
    }

    /// What lies in a place, over names and bytes; nothing where there is no such place.
    fn files(&self, place: CleanPlace) -> Result<Option<Value>, PcError> {
        let Some(root) = self.places.get(&place).filter(|root| root.is_dir()) else {
            return Ok(None);
        };
        let mut hasher = blake3::Hasher::new();
        let (mut count, mut bytes) = (0, 0);
        for file in files_below(root)? {
            hasher.update(format!("{}\n{}\n", file.below, file.bytes).as_bytes());
            hasher.update_reader(fs_err::File::open(root.join(&file.below))?)?;
            count += 1;
            bytes += file.bytes;
        }
        let digest = hasher.finalize().to_hex().to_string();
        Ok(Some(Value::Files { count, bytes, digest }))
    }

    pub(crate) fn write(
        &self,
        setting: CleanSetting,
        state: &State,
    ) -> Result<Written, WriteError> {
        let refused = |reason: &str| Err(WriteError::Refused(format!("{setting}: {reason}")));
        if setting.part == CleanPart::Files {
            return refused("it is there to be read");
        }
        let Some(root) = self.places.get(&setting.place).filter(|root| root.is_dir()) else {
            return refused("this PC has no such place");
        };
        match (state, self.manifest(setting.place)?) {
            (State::Absent, None) => Ok(Written::Done),
            (State::Absent, Some(manifest)) => {
                Ok(self.bring_back(setting.place, root, manifest)?)
            }
            (State::Value(Value::Quarantined { untouched_days }), known) => {
                let manifest = match known {
                    Some(known) if known.untouched_days == *untouched_days => known,
                    Some(_) => return refused("others of its files are set aside already"),
                    None => self.plan(setting.place, root, *untouched_days)?,
                };
                self.set_aside(setting.place, root, &manifest)?;
                Ok(Written::Done)
            }
            (other, _) => refused(&format!("it cannot hold {other}")),
        }
    }

    /// Whether a file that is told to be set aside lies where it came from.
    fn is_half_way(&self, place: CleanPlace, manifest: &Manifest) -> bool {
        let aside = self.folder_of(place).join("files");
        let Some(root) = self.places.get(&place) else { return false };
        let is_back = |below: &String| !aside.join(below).exists() && root.join(below).exists();
        manifest.files.keys().any(is_back)
    }

    fn folder_of(&self, place: CleanPlace) -> PathBuf {
        self.folder.join(place.name())
    }

    fn manifest(&self, place: CleanPlace) -> Result<Option<Manifest>, PcError> {
        let file = self.folder_of(place).join(MANIFEST);
        match fs_err::read(&file) {
            Err(error) if error.kind() == std::io::ErrorKind::NotFound => Ok(None),
            Err(error) => Err(error.into()),
            Ok(bytes) => match serde_json::from_slice::<Manifest>(&bytes) {
                Ok(manifest) if manifest.files.keys().all(|below| stays_below(below)) => {
                    Ok(Some(manifest))
                }
                Ok(_) => {
                    let reason = "it names a file that is not below its place".to_owned();
                    Err(PcError::Broken { file, reason })
                }
                Err(error) => Err(PcError::Broken { file, reason: error.to_string() }),
            },
        }
    }

    /// Decides which files go, and makes that last before any does.
    fn plan(&self, place: CleanPlace, root: &Path, days: u32) -> Result<Manifest, PcError> {
        let now = SystemTime::now();
        let is_old = |changed: SystemTime| {
            now.duration_since(changed).is_ok_and(|age| age >= DAY * days) || days == 0
        };
        let files = files_below(root)?.into_iter().filter(|file| is_old(file.changed));
        let files = files.map(|file| (file.below, SetAside { bytes: file.bytes })).collect();
        let manifest = Manifest { untouched_days: days, files };
        self.save(place, &manifest)?;
        Ok(manifest)
    }

    fn save(&self, place: CleanPlace, manifest: &Manifest) -> Result<(), PcError> {
        let folder = self.folder_of(place);
        fs_err::create_dir_all(&folder)?;
        let (draft, file) = (folder.join("manifest.new"), folder.join(MANIFEST));
        let text = serde_json::to_vec_pretty(manifest)
            .map_err(|error| PcError::Broken { file: file.clone(), reason: error.to_string() })?;
        fs_err::write(&draft, text)?;
        sync_file(&draft)?;
        fs_err::rename(&draft, &file)?;
        sync_folders([folder.as_path(), &self.folder].into_iter().chain(self.folder.parent()))
    }

    fn set_aside(&self, place: CleanPlace, root: &Path, plan: &Manifest) -> Result<(), PcError> {
        let aside = self.folder_of(place).join("files");
        for below in plan.files.keys() {
            move_file(root, &aside, below)?;
        }
        Ok(())
    }

    /// Brings back what is there to come back. A file whose place another has taken since stays.
    fn bring_back(
        &self,
        place: CleanPlace,
        root: &Path,
        mut manifest: Manifest,
    ) -> Result<Written, PcError> {
        let aside = self.folder_of(place).join("files");
        let mut touched = BTreeSet::new();
        let mut left = BTreeMap::new();
        for (below, file) in std::mem::take(&mut manifest.files) {
            let (from, to) = (aside.join(&below), root.join(&below));
            if !from.exists() {
                continue;
            }
            if fs_err::symlink_metadata(&to).is_ok() {
                left.insert(below, file);
                continue;
            }
            move_file(&aside, root, &below)?;
            touched.extend(to.parent().map(Path::to_owned));
        }
        sync_folders(touched.iter().map(PathBuf::as_path))?;
        if !left.is_empty() {
            manifest.files = left;
            self.save(place, &manifest)?;
            return Ok(Written::LeftInPlace);
        }
        self.remove(place)?;
        Ok(Written::Done)
    }

    /// Takes the place's quarantine away, the manifest last of what it tells of.
    fn remove(&self, place: CleanPlace) -> Result<(), PcError> {
        let folder = self.folder_of(place);
        let aside = folder.join("files");
        if aside.exists() {
            fs_err::remove_dir_all(aside)?;
        }
        fs_err::remove_dir_all(folder)?;
        match fs_err::remove_dir(&self.folder) {
            // Other places have something set aside.
            Err(error) if error.kind() != std::io::ErrorKind::DirectoryNotEmpty => {
                Err(error.into())
            }
            _ => Ok(()),
        }
    }

    /// Clears away what a process left that ended while it wrote.
    pub(crate) fn tidy(&self) -> Result<(), PcError> {
        for place in CleanPlace::ALL {
            let folder = self.folder_of(place);
            let is_told = folder.join(MANIFEST).exists();
            // Files without their manifest are nobody's doing here: they are left for their owner.
            if folder.is_dir() && !is_told && !folder.join("files").exists() {
                self.remove(place)?;
            }
        }
        Ok(())
    }

    /// Deletes for good what is set aside of a place, and says how much that was.
    pub(crate) fn empty(&self, place: CleanPlace) -> Result<CleanContent, PcError> {
        let content = self.content_of(place)?;
        if self.manifest(place)?.is_some() {
            self.remove(place)?;
        }
        Ok(content)
    }

    /// How much each place holds, and how much of it is set aside.
    pub(crate) fn content(&self) -> Result<Vec<CleanContent>, PcError> {
        let is_there = |place: &&CleanPlace| self.places[*place].is_dir();
        self.places.keys().filter(is_there).map(|place| self.content_of(*place)).collect()
    }

    fn content_of(&self, place: CleanPlace) -> Result<CleanContent, PcError> {
        let mut content =
            CleanContent { place, files: 0, bytes: 0, files_set_aside: 0, bytes_set_aside: 0 };
        if let Some(root) = self.places.get(&place) {
            for file in files_below(root)? {
                content.files += 1;
                content.bytes += file.bytes;
            }
        }
        for file in files_below(&self.folder_of(place).join("files"))? {
            content.files_set_aside += 1;
            content.bytes_set_aside += file.bytes;
        }
        Ok(content)
    }

    pub(crate) fn addresses(&self) -> Vec<Address> {
        let mut addresses = Vec::new();
        for (place, root) in &self.places {
            let at = |part| Address::Clean(CleanSetting { place: *place, part });
            if root.is_dir() {
                addresses.push(at(CleanPart::Files));
            }
            if self.folder_of(*place).join(MANIFEST).exists() {
                addresses.push(at(CleanPart::Quarantine));
            }
        }
        addresses
    }

    pub(crate) fn sync(&self) -> Result<(), PcError> {
        for (place, root) in &self.places {
            if self.manifest(*place)?.is_some() {
                let aside = self.folder_of(*place).join("files");
                sync_folders(folders_below(root)?.iter().map(PathBuf::as_path))?;
                sync_folders(folders_below(&aside)?.iter().map(PathBuf::as_path))?;
            }
        }
        Ok(())
    }
}

/// Whether a path of a manifest goes down only.
fn stays_below(below: &str) -> bool {
    let goes_down = |name: &str| {
        !name.is_empty() && name != "." && name != ".." && !name.contains(['\\', ':', '\0'])
    };
    below.split('/').all(goes_down)
}

/// Moves a file below one folder to the same path below another, where there is none. One that
/// has gone, or has been moved already, is not missed: the move is repeated after a crash.
fn move_file(from: &Path, to: &Path, below: &str) -> std::io::Result<()> {
    let mut folder = to.to_owned();
    fs_err::create_dir_all(&folder)?;
    let names: Vec<&str> = below.split('/').collect();
    for name in &names[..names.len() - 1] {
        folder.push(name);
        match fs_err::symlink_metadata(&folder) {
            Ok(metadata) if metadata.is_dir() && !is_link(&metadata) => {}
            Ok(_) => {
                let message = format!("{} is not a folder of its own", folder.display());
                return Err(std::io::Error::other(message));
            }
            Err(_) => fs_err::create_dir(&folder)?,
        }
    }
    match fs_err::rename(from.join(below), to.join(below)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error),
        _ => Ok(()),
    }
}

/// A folder and those of the files below it.
fn folders_below(root: &Path) -> std::io::Result<BTreeSet<PathBuf>> {
    let mut folders = BTreeSet::new();
    for file in files_below(root)? {
        folders.extend(root.join(file.below).parent().map(Path::to_owned));
    }
    if root.is_dir() {
        folders.insert(root.to_owned());
    }
    Ok(folders)
}

/// Makes the names in folders survive a power cut. Windows has no such call, and needs none.
fn sync_folders<'a>(folders: impl Iterator<Item = &'a Path>) -> Result<(), PcError> {
    for folder in folders {
        sync_folder(folder)?;
    }
    Ok(())
}
