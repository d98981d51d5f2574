//! Finding files below a folder, without following a link.

use std::fs::Metadata;
use std::io;
use std::time::SystemTime;

use frevin_core::setting::WinName;

use super::folder::{OpenFolder, is_link_at};

/// No program nests its files deeper; each level is held open while what is below it is looked at.
const DEEPEST: usize = 100;

/// Why a file is not reached.
#[derive(Debug)]
pub(crate) enum Unreached {
    /// There is none.
    NotThere,
    /// There is something that is not to be touched.
    Guarded(String),
    /// It could not be looked for.
    Failed(io::Error),
}

impl From<io::Error> for Unreached {
    fn from(error: io::Error) -> Self {
        Self::Failed(error)
    }
}

/// A file that was reached: the folder that it is in, held open, and its name there.
#[derive(Debug)]
pub(crate) struct Reached {
    pub(crate) folder: OpenFolder,
    pub(crate) name: String,
}

/// The file below `root` that `names` lead to, found without regard to case as Windows does.
///
/// Every step is looked at before it is taken: a link, or something of two names, ends the way.
pub(crate) fn file_below(root: OpenFolder, names: &[WinName]) -> Result<Reached, Unreached> {
    let mut folder = root;
    let Some((last, folders)) = names.split_last() else { return Err(Unreached::NotThere) };
    for name in folders {
        let (found, metadata) = entry_named(&folder, name)?;
        if !metadata.is_dir() {
            return Err(Unreached::NotThere);
        }
        folder = folder.folder(&found)?.ok_or(Unreached::NotThere)?;
    }
    let (name, metadata) = entry_named(&folder, last)?;
    if !metadata.is_file() {
        return Err(Unreached::Guarded(format!("{last} is not a file")));
    }
    if has_another_name(&metadata) {
        return Err(Unreached::Guarded(format!("{last} is the same file as one elsewhere")));
    }
    Ok(Reached { folder, name })
}

fn entry_named(
    folder: &OpenFolder,
    name: &WinName,
) -> Result<(String, cap_std::fs::Metadata), Unreached> {
    let mut found = None;
    for other in folder.names()? {
        if WinName::new(other.as_str()) == *name && found.replace(other).is_some() {
            return Err(Unreached::Guarded(format!("{name} is there twice, in other letters")));
        }
    }
    let other = found.ok_or(Unreached::NotThere)?;
    let metadata = folder.metadata(&other)?.ok_or(Unreached::NotThere)?;
    if is_link_at(&metadata) {
        return Err(Unreached::Guarded(format!("{name} is a link, and might lead elsewhere")));
    }
    Ok((other, metadata))
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

fn has_another_name(metadata: &cap_std::fs::Metadata) -> bool {
    #[cfg(unix)]
    {
        use cap_std::fs::MetadataExt as _;
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
    pub(crate) changed: SystemTime,
}

/// Every plain file below a folder, in order of path. Links are passed over, and so is what has no
/// name in Unicode, and what this process may not look at.
pub(crate) fn files_below(root: &OpenFolder) -> io::Result<Vec<FoundFile>> {
    let mut found = Vec::new();
    collect(root, "", DEEPEST, &mut found)?;
    found.sort_by(|a, b| a.below.cmp(&b.below));
    Ok(found)
}

fn collect(
    folder: &OpenFolder,
    below: &str,
    levels_left: usize,
    found: &mut Vec<FoundFile>,
) -> io::Result<()> {
    if levels_left == 0 {
        let shown = folder.path().display();
        return Err(io::Error::other(format!("{shown} lies more than {DEEPEST} folders deep")));
    }
    let names = match folder.names() {
        Err(error) if error.kind() == io::ErrorKind::PermissionDenied && !below.is_empty() => {
            return Ok(());
        }
        names => names?,
    };
    for name in names {
        // What has gone since it was listed is not there, and what this process may not look at is none of
        // its business.
        let metadata = match folder.metadata(&name) {
            Ok(Some(metadata)) if !is_link_at(&metadata) => metadata,
            Ok(_) => continue,
            Err(error) if error.kind() == io::ErrorKind::PermissionDenied => continue,
            Err(error) => return Err(error),
        };
        let below = if below.is_empty() { name.clone() } else { format!("{below}/{name}") };
        if metadata.is_dir() {
            match folder.folder(&name) {
                Ok(Some(inner)) => collect(&inner, &below, levels_left - 1, found)?,
                Ok(None) => {}
                Err(error) if error.kind() == io::ErrorKind::PermissionDenied => {}
                Err(error) => return Err(error),
            }
        } else if metadata.is_file() {
            let changed = metadata.modified()?.into_std();
            found.push(FoundFile { below, bytes: metadata.len(), changed });
        }
    }
    Ok(())
}
