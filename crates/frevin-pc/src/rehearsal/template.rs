//! Making rehearsal PCs of the shipped ones.

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};
use std::time::{Duration, SystemTime};

use include_dir::{Dir, include_dir};
use thiserror::Error;
use uuid::Uuid;

use super::clock::Clock;
use super::folder::Folder;
use super::pc::{CLOCK, FORMAT, LOCK, PC, PcFile, RehearsalPc};
use super::settings::{FILES, Settings};
use crate::contract::PcError;
use crate::files::{OpenFolder, files_below};

static SHIPPED: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../rehearsal/pcs");

/// Names the shipped PC that another is based on.
const BASED_ON: &str = "based-on";

/// A shipped rehearsal PC that others are made of.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct Template {
    name: &'static str,
    folder: &'static Dir<'static>,
}

/// Why a rehearsal PC was not made.
#[derive(Debug, Error)]
pub enum TemplateError {
    /// The folder is there already and holds something.
    #[error("{} exists and is not empty", .0.display())]
    NotEmpty(PathBuf),
    /// The PC could not be written, or what was written is none.
    #[error(transparent)]
    Pc(#[from] PcError),
    /// A file could not be written.
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

impl Template {
    /// Every shipped PC.
    pub fn all() -> Vec<Self> {
        let named = |folder: &'static Dir<'static>| {
            let name = folder.path().file_name()?.to_str()?;
            Some(Self { name, folder })
        };
        SHIPPED.dirs().filter_map(named).collect()
    }

    /// The shipped PC of that name.
    pub fn named(name: &str) -> Option<Self> {
        Self::all().into_iter().find(|template| template.name == name)
    }

    /// The shipped PC whose files it takes over where it has none of its own.
    fn based_on(self) -> Option<Self> {
        let file = self.folder.get_file(self.folder.path().join(BASED_ON))?;
        Self::named(file.contents_utf8()?.trim())
    }

    /// Its name.
    pub fn name(self) -> &'static str {
        self.name
    }
}

/// Makes a PC in `folder`, which is created and must be empty if it exists.
///
/// `seed` decides every chance event of the PC's life: two PCs of one template and seed behave
/// alike. The PC is complete or not there: its files are written beside `folder` first.
///
/// # Errors
/// [`TemplateError`] where the folder is in use or cannot be written.
pub fn create(
    folder: &Path,
    template: Template,
    name: &str,
    seed: u64,
) -> Result<RehearsalPc, TemplateError> {
    if fs_err::read_dir(folder).is_ok_and(|mut entries| entries.next().is_some()) {
        return Err(TemplateError::NotEmpty(folder.to_owned()));
    }
    let parent = match folder.parent() {
        Some(parent) if !parent.as_os_str().is_empty() => parent,
        _ => Path::new("."),
    };
    fs_err::create_dir_all(parent)?;
    let draft = tempfile::Builder::new().prefix(".rehearsal-").tempdir_in(parent)?;
    if let Some(base) = template.based_on() {
        write_out(base.folder, base.name, draft.path())?;
    }
    write_out(template.folder, template.name, draft.path())?;
    let files = Folder::new(draft.path());
    age_files(&files)?;
    let id = Uuid::new_v4().to_string();
    let at_first = Some(Settings::load(&files)?.simulated_load());
    let file = PcFile { format: FORMAT, id, name: name.to_owned(), seed, at_first };
    let text = toml::to_string(&file).map_err(|error| PcError::Broken {
        file: draft.path().join(PC),
        reason: error.to_string(),
    })?;
    fs_err::write(draft.path().join(PC), text)?;
    files.write_json(CLOCK, &Clock { boots: 1, ..Clock::default() })?;
    fs_err::write(draft.path().join(LOCK), "")?;
    // Written once by the PC itself, so that a setting put back leaves the very same bytes.
    Settings::load(&files)?.save_all(&files)?;
    if folder.exists() {
        fs_err::remove_dir(folder)?;
    }
    let draft = draft.keep();
    if let Err(error) = fs_err::rename(&draft, folder) {
        // Nothing is left of a PC that could not be put in its place; if even that fails, the
        // folder's name says what it is.
        let _ = fs_err::remove_dir_all(&draft);
        return Err(error.into());
    }
    Ok(RehearsalPc::open(folder)?)
}

fn write_out(folder: &Dir<'_>, template: &str, to: &Path) -> std::io::Result<()> {
    for file in folder.files() {
        let path = to.join(file.path().strip_prefix(template).unwrap_or(file.path()));
        if let Some(inner) = path.parent() {
            fs_err::create_dir_all(inner)?;
        }
        fs_err::write(&path, file.contents())?;
    }
    folder.dirs().try_for_each(|inner| write_out(inner, template, to))
}

/// How old the PC's files are when it is made: by the beginning of their path, in days.
const AGES: &str = "file-ages.json";

/// Gives the files of a new PC the age that the template says, so that what is cleaned by age has
/// something to go by.
fn age_files(folder: &Folder) -> Result<(), PcError> {
    let ages: BTreeMap<String, u64> = folder.read_json_or_default(AGES)?;
    let root = folder.path(FILES);
    let files = match OpenFolder::open_trusted(&root)? {
        Some(files) => files_below(&files)?,
        None => Vec::new(),
    };
    for file in files {
        let Some((_, days)) = ages.iter().rev().find(|(path, _)| file.below.starts_with(*path))
        else {
            continue;
        };
        let changed = SystemTime::now() - Duration::from_hours(24 * days);
        fs_err::File::options().write(true).open(root.join(file.below))?.set_modified(changed)?;
    }
    folder.remove(AGES)?;
    folder.remove(BASED_ON)
}
