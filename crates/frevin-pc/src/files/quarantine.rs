//! Files set aside, from where they come back or go for good.

use std::collections::{BTreeMap, BTreeSet};
use std::io;
use std::time::{Duration, SystemTime};

use frevin_core::setting::{Address, CleanPart, CleanPlace, CleanSetting, State, Value};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::below::files_below;
use super::folder::{FolderPath, MoveNew, OpenFolder};
use crate::contract::{CleanContent, PcError, WriteError, Written};
use crate::limited::LimitedReadError;

const MANIFEST: &str = "manifest.json";
const DRAFT: &str = "manifest.new";
/// The folder of what is set aside, beside the manifest.
const ASIDE: &str = "files";
/// What a manifest may be long, in bytes: hundreds of thousands of files.
const LONGEST_MANIFEST_BYTES: u64 = 64 << 20;
const DAY: Duration = Duration::from_hours(24);

/// The places of a PC that can be cleaned, and what has been set aside of them.
///
/// Below `folder` there is a folder for each place that something has been set aside of: its
/// manifest, and the files under the paths that they had. The manifest is there before the first
/// file moves, and goes after the last has come back, so that what a crash leaves is always told.
#[derive(Debug, Clone)]
pub(crate) struct Quarantine {
    places: BTreeMap<CleanPlace, FolderPath>,
    folder: FolderPath,
    move_new: MoveNew,
}

/// What is set aside of a place.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Manifest {
    /// The age that files had to have, in days.
    untouched_days: u32,
    /// The files, by their path below the place.
    files: BTreeMap<String, SetAside>,
}

#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct SetAside {
    bytes: u64,
}

impl Quarantine {
    /// What is set aside of `places` lies below `folder`, on the same drive as they do.
    pub(crate) fn new(
        places: BTreeMap<CleanPlace, FolderPath>,
        folder: FolderPath,
        move_new: MoveNew,
    ) -> Self {
        Self { places, folder, move_new }
    }

    pub(crate) fn read(&self, setting: CleanSetting) -> State {
        let state = match setting.part {
            CleanPart::Quarantine => self.manifest(setting.place).and_then(|manifest| {
                let Some(manifest) = manifest else { return Ok(None) };
                let untouched_days = manifest.untouched_days;
                Ok(Some(match self.is_half_way(setting.place, &manifest)? {
                    true => Value::HalfQuarantined,
                    false => Value::Quarantined { untouched_days },
                }))
            }),
            CleanPart::Files => self.files(setting.place),
        };
        state.map_or_else(|error| State::Unreadable(error.to_string()), State::from_option)
    }

    /// The folder of a place; nothing where the PC has none.
    fn place(&self, place: CleanPlace) -> Result<Option<OpenFolder>, PcError> {
        match self.places.get(&place) {
            Some(folder) => Ok(folder.open()?),
            None => Ok(None),
        }
    }

    fn own_path(&self, place: CleanPlace) -> FolderPath {
        self.folder.join(place.name())
    }

    /// What is set aside of a place, in its folder; nothing where there is none.
    fn aside(&self, place: CleanPlace) -> Result<Option<OpenFolder>, PcError> {
        Ok(self.own_path(place).join(ASIDE).open()?)
    }

    /// What lies in a place, over names and bytes; nothing where there is no such place.
    fn files(&self, place: CleanPlace) -> Result<Option<Value>, PcError> {
        let Some(root) = self.place(place)? else { return Ok(None) };
        let mut hasher = blake3::Hasher::new();
        let (mut count, mut bytes) = (0, 0);
        for file in files_below(&root)? {
            hasher.update(format!("{}\n{}\n", file.below, file.bytes).as_bytes());
            if let Some((folder, name)) = folder_of(&root, &file.below)? {
                hasher.update_reader(folder.open_file(name)?)?;
            }
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
        let root = match self.place(setting.place) {
            Ok(Some(root)) => root,
            Ok(None) => return refused("this PC has no such place"),
            Err(error) => return refused(&error.to_string()),
        };
        match (state, self.manifest(setting.place)?) {
            (State::Absent, None) => Ok(Written::Done),
            (State::Absent, Some(manifest)) => {
                Ok(self.bring_back(setting.place, &root, manifest)?)
            }
            (State::Value(Value::Quarantined { untouched_days }), known) => {
                let manifest = match known {
                    Some(known) if known.untouched_days == *untouched_days => known,
                    Some(_) => return refused("others of its files are set aside already"),
                    None => self.plan(setting.place, &root, *untouched_days)?,
                };
                self.set_aside(setting.place, &root, &manifest)?;
                Ok(Written::Done)
            }
            (other, _) => refused(&format!("it cannot hold {other}")),
        }
    }

    /// Whether a file that is told to be set aside lies where it came from.
    fn is_half_way(&self, place: CleanPlace, manifest: &Manifest) -> Result<bool, PcError> {
        let Some(root) = self.place(place)? else { return Ok(false) };
        let aside = self.aside(place)?;
        for below in manifest.files.keys() {
            let is_aside = match &aside {
                Some(aside) => is_there(aside, below)?,
                None => false,
            };
            if !is_aside && is_there(&root, below)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    fn manifest(&self, place: CleanPlace) -> Result<Option<Manifest>, PcError> {
        let own = self.own_path(place);
        let Some(folder) = own.open()? else { return Ok(None) };
        let file = folder.path().join(MANIFEST);
        if folder.metadata(MANIFEST)?.is_none() {
            return Ok(None);
        }
        let broken = |reason: String| PcError::Broken { file: file.clone(), reason };
        let open = folder.open_file(MANIFEST)?;
        let bytes =
            crate::limited::read_from(open, LONGEST_MANIFEST_BYTES).map_err(
                |error| match error {
                    LimitedReadError::Io(error) => PcError::Io(error),
                    error @ LimitedReadError::TooLong { .. } => broken(error.to_string()),
                },
            )?;
        match serde_json::from_slice::<Manifest>(&bytes) {
            Ok(manifest) if manifest.files.keys().all(|below| stays_below(below)) => {
                Ok(Some(manifest))
            }
            Ok(_) => Err(broken("it names a file that is not below its place".to_owned())),
            Err(error) => Err(broken(error.to_string())),
        }
    }

    /// Decides which files go, and makes that last before any does. A file whose name something has in the
    /// quarantine that nobody told of stays.
    fn plan(&self, place: CleanPlace, root: &OpenFolder, days: u32) -> Result<Manifest, PcError> {
        let now = SystemTime::now();
        let is_old = |changed: SystemTime| {
            now.duration_since(changed).is_ok_and(|age| age >= DAY * days) || days == 0
        };
        let aside = self.aside(place)?;
        let mut files = BTreeMap::new();
        for file in files_below(root)?.into_iter().filter(|file| is_old(file.changed)) {
            let is_taken = match &aside {
                Some(aside) => is_there(aside, &file.below)?,
                None => false,
            };
            if !is_taken {
                files.insert(file.below, SetAside { bytes: file.bytes });
            }
        }
        let manifest = Manifest { untouched_days: days, files };
        self.save(place, &manifest)?;
        Ok(manifest)
    }

    fn save(&self, place: CleanPlace, manifest: &Manifest) -> Result<(), PcError> {
        let folder = self.own_path(place).make()?;
        let text = serde_json::to_vec_pretty(manifest).map_err(|error| PcError::Broken {
            file: folder.path().join(MANIFEST),
            reason: error.to_string(),
        })?;
        let mut draft = folder.create_file(DRAFT)?;
        io::Write::write_all(&mut draft, &text)?;
        draft.sync_all()?;
        drop(draft);
        folder.replace(DRAFT, &folder, MANIFEST)?;
        folder.sync()?;
        // The folder's own name, and that of the one it is in.
        let above = self.folder.make()?;
        above.sync()?;
        Ok(above.path().parent().map_or(Ok(()), crate::durable::sync_folder)?)
    }

    fn set_aside(
        &self,
        place: CleanPlace,
        root: &OpenFolder,
        plan: &Manifest,
    ) -> Result<(), PcError> {
        let aside = self.own_path(place).join(ASIDE).make()?;
        for below in plan.files.keys() {
            match self.move_file(root, &aside, below) {
                // The one that is told of is there: what has its name in the place now is another, and
                // stays.
                Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {}
                moved => moved?,
            }
        }
        Ok(())
    }

    /// Brings back what is there to come back. A file whose place another has taken since stays.
    fn bring_back(
        &self,
        place: CleanPlace,
        root: &OpenFolder,
        mut manifest: Manifest,
    ) -> Result<Written, PcError> {
        let mut touched = BTreeSet::new();
        let mut left = BTreeMap::new();
        if let Some(aside) = self.aside(place)? {
            for (below, file) in std::mem::take(&mut manifest.files) {
                if !is_there(&aside, &below)? {
                    continue;
                }
                match self.move_file(&aside, root, &below) {
                    Err(error) if error.kind() == io::ErrorKind::AlreadyExists => {
                        left.insert(below, file);
                    }
                    moved => {
                        moved?;
                        touched.insert(parent_of(&below).to_owned());
                    }
                }
            }
        }
        for folder in touched {
            if let Some(folder) = root.again()?.below(names_of(&folder))? {
                folder.sync()?;
            }
        }
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
        let Some(above) = self.folder.open()? else { return Ok(()) };
        if let Some(own) = above.folder(place.name())? {
            own.remove_folder(ASIDE)?;
        }
        above.remove_folder(place.name())?;
        let name = self.folder.name();
        if let (Some(name), Some(outer)) = (name, self.folder.parent().open()?) {
            drop(above);
            // Other places may have something set aside.
            outer.remove_empty_folder(&name)?;
        }
        Ok(())
    }

    /// Clears away what a process left that ended while it wrote.
    pub(crate) fn tidy(&self) -> Result<(), PcError> {
        for place in CleanPlace::ALL {
            let Some(own) = self.own_path(place).open()? else { continue };
            // Files without their manifest are nobody's doing here: they are left for their owner.
            if own.metadata(MANIFEST)?.is_none() && own.metadata(ASIDE)?.is_none() {
                drop(own);
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

    /// How much each place holds, and how much of it is set aside. A place that is a link counts as none.
    pub(crate) fn content(&self) -> Result<Vec<CleanContent>, PcError> {
        let is_there = |place: &&CleanPlace| matches!(self.place(**place), Ok(Some(_)));
        self.places.keys().filter(is_there).map(|place| self.content_of(*place)).collect()
    }

    fn content_of(&self, place: CleanPlace) -> Result<CleanContent, PcError> {
        let mut content =
            CleanContent { place, files: 0, bytes: 0, files_set_aside: 0, bytes_set_aside: 0 };
        if let Some(root) = self.place(place)? {
            for file in files_below(&root)? {
                content.files += 1;
                content.bytes += file.bytes;
            }
        }
        if let Some(aside) = self.aside(place)? {
            for file in files_below(&aside)? {
                content.files_set_aside += 1;
                content.bytes_set_aside += file.bytes;
            }
        }
        Ok(content)
    }

    pub(crate) fn addresses(&self) -> Vec<Address> {
        let mut addresses = Vec::new();
        for place in self.places.keys() {
            let at = |part| Address::Clean(CleanSetting { place: *place, part });
            if !matches!(self.place(*place), Ok(None)) {
                addresses.push(at(CleanPart::Files));
            }
            if !matches!(self.manifest(*place), Ok(None)) {
                addresses.push(at(CleanPart::Quarantine));
            }
        }
        addresses
    }

    pub(crate) fn sync(&self) -> Result<(), PcError> {
        for place in self.places.keys() {
            if self.manifest(*place)?.is_some() {
                for folder in [self.place(*place)?, self.aside(*place)?].into_iter().flatten() {
                    sync_folders_below(&folder)?;
                }
            }
        }
        Ok(())
    }

    /// Moves a file below one folder to the same path below another, where there is none. One that
    /// has gone, or has been moved already, is not missed: the move is repeated after a crash.
    fn move_file(&self, from: &OpenFolder, to: &OpenFolder, below: &str) -> io::Result<()> {
        let Some((source, name)) = folder_of(from, below)? else { return Ok(()) };
        if source.metadata(name)?.is_none() {
            return Ok(());
        }
        let target = names_of(parent_of(below))
            .try_fold(to.again()?, |folder, name| folder.make_folder(name))?;
        match source.move_new(name, &target, self.move_new) {
            Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(()),
            moved => moved,
        }
    }
}

/// Whether a path of a manifest goes down only.
fn stays_below(below: &str) -> bool {
    let goes_down = |name: &str| {
        !name.is_empty() && name != "." && name != ".." && !name.contains(['\\', ':', '\0'])
    };
    below.split('/').all(goes_down)
}

fn names_of(below: &str) -> impl Iterator<Item = &str> {
    below.split('/').filter(|name| !name.is_empty())
}

/// The path of the folder that a path below another leads into; nothing for one in the folder itself.
fn parent_of(below: &str) -> &str {
    below.rsplit_once('/').map_or("", |(parent, _)| parent)
}

/// The folder that a file below another is in, and its name there; nothing where a folder on the way is
/// not there.
fn folder_of<'a>(root: &OpenFolder, below: &'a str) -> io::Result<Option<(OpenFolder, &'a str)>> {
    let name = below.rsplit('/').next().unwrap_or(below);
    let folder = root.again()?.below(names_of(parent_of(below)))?;
    Ok(folder.map(|folder| (folder, name)))
}

fn is_there(root: &OpenFolder, below: &str) -> io::Result<bool> {
    match folder_of(root, below)? {
        Some((folder, name)) => Ok(folder.metadata(name)?.is_some()),
        None => Ok(false),
    }
}

/// Makes the names in a folder, and in those of the files below it, survive a power cut.
fn sync_folders_below(root: &OpenFolder) -> io::Result<()> {
    let files = files_below(root)?;
    let folders: BTreeSet<&str> = files.iter().map(|file| parent_of(&file.below)).collect();
    for folder in folders {
        if let Some(folder) = root.again()?.below(names_of(folder))? {
            folder.sync()?;
        }
    }
    root.sync()
}
