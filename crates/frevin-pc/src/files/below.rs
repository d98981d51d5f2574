//! Finding files below a folder, without following a link.

use std::fs::Metadata;
use std::path::{Path, PathBuf};

use frevin_core::setting::WinName;

/// Why a file is not reached.
#[derive(Debug)]
pub(crate) enum Unreached {
    /// There is none.
    NotThere,
    /// There is something that is not to be touched.
    Guarded(String),
    /// It could not be looked for.
    Failed(std::io::Error),
}

/// The file below `root` that `names` lead to, found without regard to case as Windows does.
///
/// Every step is looked at before it is taken: a link, or something of two names, ends the way.
pub(crate) fn file_below(root: &Path, names: &[WinName]) -> Result<PathBuf, Unreached> {
    let mut path = root.to_owned();
    for (depth, name) in names.iter().enumerate() {
        path = entry_named(&path, name)?;
        let metadata = fs_err::symlink_metadata(&path).map_err(Unreached::Failed)?;
        let is_last = depth + 1 == names.len();
        if is_link(&metadata) {
            return Err(Unreached::Guarded(format!("{name} is a link, and might lead elsewhere")));
        }
        if is_last && !metadata.is_file() {
            return Err(Unreached::Guarded(format!("{name} is not a file")));
        }
        if is_last && has_another_name(&metadata) {
            return Err(Unreached::Guarded(format!("{name} is the same file as one elsewhere")));
        }
        if !is_last && !metadata.is_dir() {
            return Err(Unreached::NotThere);
        }
    }
    Ok(path)
}

fn entry_named(folder: &Path, name: &WinName) -> Result<PathBuf, Unreached> {
    let entries = match fs_err::read_dir(folder) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => {
            return Err(Unreached::NotThere);
        }
        other => other.map_err(Unreached::Failed)?,
    };
    let mut found = None;
    for entry in entries {
        let entry = entry.map_err(Unreached::Failed)?;
        let is_it = entry.file_name().to_str().is_some_and(|other| WinName::new(other) == *name);
        if is_it && found.replace(entry.path()).is_some() {
            return Err(Unreached::Guarded(format!("{name} is there twice, in other letters")));
        }
    }
    found.ok_or(Unreached::NotThere)
}

/// Whether this is a way to somewhere else.
pub fn is_link(metadata: &Metadata) -> bool {
    #[cfg(windows)]
    {
        use std::os::windows::fs::MetadataExt as _;
        // FILE_ATTRIBUTE_REPARSE_POINT: links, junctions, mount points and the like.
        if metadata.file_attributes() & 0x400 != 0 {
            return true;
        }
    }
    metadata.file_type().is_symlink()
}

fn has_another_name(metadata: &Metadata) -> bool {
    #[cfg(unix)]
    {
        use std::os::unix::fs::MetadataExt as _;
        metadata.nlink() > 1
    }
    #[cfg(not(unix))]
    {
        let _ = metadata;
        false
    }
}

/// A plain file below a folder.
#[derive(Debug, Clone)]
pub(crate) struct FoundFile {
    /// Its path below the folder, with `/` between the names.
    pub(crate) below: String,
    /// Its length in bytes.
    pub(crate) bytes: u64,
    /// When it was last changed.
    pub(crate) changed: std::time::SystemTime,
}

/// Every plain file below a folder, in order of path. Links are passed over, and so is what has no
/// name in Unicode; a folder that is not there has none.
pub(crate) fn files_below(root: &Path) -> std::io::Result<Vec<FoundFile>> {
    let mut found = Vec::new();
    match fs_err::symlink_metadata(root) {
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(found),
        Err(error) => return Err(error),
        Ok(metadata) if is_link(&metadata) || !metadata.is_dir() => return Ok(found),
        Ok(_) => collect(root, "", &mut found)?,
    }
    found.sort_by(|a, b| a.below.cmp(&b.below));
    Ok(found)
}

fn collect(folder: &Path, below: &str, found: &mut Vec<FoundFile>) -> std::io::Result<()> {
    for entry in fs_err::read_dir(folder)? {
        let entry = entry?;
        let metadata = fs_err::symlink_metadata(entry.path())?;
        let name = entry.file_name();
        let Some(name) = name.to_str().filter(|_| !is_link(&metadata)) else { continue };
        let below = if below.is_empty() { name.to_owned() } else { format!("{below}/{name}") };
        if metadata.is_dir() {
            collect(&entry.path(), &below, found)?;
        } else if metadata.is_file() {
            found.push(FoundFile { below, bytes: metadata.len(), changed: metadata.modified()? });
        }
    }
    Ok(())
}
