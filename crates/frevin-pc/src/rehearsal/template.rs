//! Making rehearsal PCs of the shipped ones.

use std::path::{Path, PathBuf};

use include_dir::{Dir, include_dir};
use thiserror::Error;
use uuid::Uuid;

use super::clock::Clock;
use super::folder::Folder;
use super::pc::{CLOCK, FORMAT, LOCK, PC, PcFile, RehearsalPc};
use super::settings::Settings;
use crate::contract::PcError;

static SHIPPED: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../rehearsal/pcs");

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
    for file in template.folder.files().chain(template.folder.dirs().flat_map(Dir::files)) {
        let path =
            draft.path().join(file.path().strip_prefix(template.name).unwrap_or(file.path()));
        if let Some(inner) = path.parent() {
            fs_err::create_dir_all(inner)?;
        }
        fs_err::write(&path, file.contents())?;
    }
    let id = Uuid::new_v4().to_string();
    let file = PcFile { format: FORMAT, id, name: name.to_owned(), seed };
    let text = toml::to_string(&file).map_err(|error| PcError::Broken {
        file: draft.path().join(PC),
        reason: error.to_string(),
    })?;
    fs_err::write(draft.path().join(PC), text)?;
    let files = Folder::new(draft.path());
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
