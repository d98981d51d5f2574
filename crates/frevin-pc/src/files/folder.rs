//! A folder that is held open. What lies below it is reached from it, one name at a time and through no
//! link, so that nothing can be put in the way between a look and what is done.

use std::io;
use std::path::{Path, PathBuf};

use cap_fs_ext::{DirExt as _, FollowSymlinks, OpenOptionsFollowExt as _};
use cap_std::ambient_authority;
use cap_std::fs::{Dir, File, Metadata, OpenOptions};

/// Moves a file to a name that nothing has yet; where something has it, nothing is moved.
pub type MoveNew = fn(from: &Path, to: &Path) -> io::Result<()>;

/// A folder, and what leads to it below one that is trusted.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(crate) struct FolderPath {
    /// Believed as it is, links and all: the owner's word, or the operating system's.
    trusted: PathBuf,
    /// Names below it, none of which may be a link.
    below: Vec<String>,
}

impl FolderPath {
    pub(crate) fn trusted(path: impl Into<PathBuf>) -> Self {
        Self { trusted: path.into(), below: Vec::new() }
    }

    pub(crate) fn join(&self, name: &str) -> Self {
        let mut below = self.below.clone();
        below.push(name.to_owned());
        Self { trusted: self.trusted.clone(), below }
    }

    /// Its own name; nothing where all of it is trusted.
    pub(crate) fn name(&self) -> Option<String> {
        self.below.last().cloned()
    }

    /// The folder that it is in, where not all of it is trusted.
    pub(crate) fn parent(&self) -> Self {
        let above = self.below.len().saturating_sub(1);
        Self { trusted: self.trusted.clone(), below: self.below[..above].to_vec() }
    }

    /// The folder; nothing where it is not there.
    ///
    /// # Errors
    /// Where a link is in the way, or something that is no folder.
    pub(crate) fn open(&self) -> io::Result<Option<OpenFolder>> {
        let Some(folder) = OpenFolder::open_trusted(&self.trusted)? else { return Ok(None) };
        folder.below(self.below.iter().map(String::as_str))
    }

    /// The folder, made where it is not there.
    ///
    /// # Errors
    /// As [`Self::open`], and where it cannot be made.
    pub(crate) fn make(&self) -> io::Result<OpenFolder> {
        fs_err::create_dir_all(&self.trusted)?;
        let folder = OpenFolder::open_trusted(&self.trusted)?.ok_or(io::ErrorKind::NotFound)?;
        self.below.iter().try_fold(folder, |folder, name| folder.make_folder(name))
    }
}

/// A folder that is held open.
#[derive(Debug)]
pub(crate) struct OpenFolder {
    dir: Dir,
    /// Where it was found, for messages, and for functions of Windows that take no handle. While it is
    /// open, Windows lets nobody rename or remove it.
    path: PathBuf,
}

impl OpenFolder {
    /// A folder whose path is trusted; nothing where it is not there.
    pub(crate) fn open_trusted(path: &Path) -> io::Result<Option<Self>> {
        let opened = Dir::open_ambient_dir(path, ambient_authority());
        Ok(found(opened)?.map(|dir| Self { dir, path: path.to_owned() }))
    }

    pub(crate) fn path(&self) -> &Path {
        &self.path
    }

    /// What the folder holds under a name, without following a link; nothing where it is not there.
    pub(crate) fn metadata(&self, name: &str) -> io::Result<Option<Metadata>> {
        found(self.dir.symlink_metadata(name))
    }

    /// A folder in it; nothing where there is none.
    ///
    /// # Errors
    /// Where something else has the name.
    pub(crate) fn folder(&self, name: &str) -> io::Result<Option<Self>> {
        let path = self.path.join(name);
        match self.metadata(name)? {
            None => return Ok(None),
            Some(metadata) if is_link_at(&metadata) => return Err(is_a_link(&path)),
            Some(metadata) if !metadata.is_dir() => {
                return Err(io::Error::other(format!("{} is not a folder", path.display())));
            }
            Some(_) => {}
        }
        Ok(found(self.dir.open_dir_nofollow(name))?.map(|dir| Self { dir, path }))
    }

    /// The folder that names lead to; nothing where one of them is not there.
    pub(crate) fn below<'a>(
        self,
        names: impl IntoIterator<Item = &'a str>,
    ) -> io::Result<Option<Self>> {
        let mut folder = self;
        for name in names {
            match folder.folder(name)? {
                Some(inner) => folder = inner,
                None => return Ok(None),
            }
        }
        Ok(Some(folder))
    }

    /// The same folder, held open once more.
    pub(crate) fn again(&self) -> io::Result<Self> {
        Ok(Self { dir: self.dir.try_clone()?, path: self.path.clone() })
    }

    /// A folder in it, made where there is none.
    pub(crate) fn make_folder(&self, name: &str) -> io::Result<Self> {
        if let Some(folder) = self.folder(name)? {
            return Ok(folder);
        }
        match self.dir.create_dir(name) {
            Err(error) if error.kind() != io::ErrorKind::AlreadyExists => return Err(error),
            _ => {}
        }
        self.folder(name)?.ok_or_else(|| io::ErrorKind::NotFound.into())
    }

    /// The names in it that are Unicode.
    pub(crate) fn names(&self) -> io::Result<Vec<String>> {
        let mut names = Vec::new();
        for entry in self.dir.entries()? {
            names.extend(entry?.file_name().into_string());
        }
        Ok(names)
    }

    /// A plain file in it, open for reading.
    ///
    /// # Errors
    /// Where it is not there, or is a link.
    pub(crate) fn open_file(&self, name: &str) -> io::Result<File> {
        let mut options = OpenOptions::new();
        self.dir.open_with(name, options.read(true).follow(FollowSymlinks::No))
    }

    /// Makes the bytes of a file in it survive a power cut.
    pub(crate) fn sync_file(&self, name: &str) -> io::Result<()> {
        let mut options = OpenOptions::new();
        // Windows flushes only what is open for writing; elsewhere a file that may only be read can be
        // synced as well.
        let options = if cfg!(windows) { options.write(true) } else { options.read(true) };
        self.dir.open_with(name, options.follow(FollowSymlinks::No))?.sync_all()
    }

    /// A new file in it. What had the name before goes, and is not followed.
    pub(crate) fn create_file(&self, name: &str) -> io::Result<File> {
        self.remove_file(name)?;
        let mut options = OpenOptions::new();
        self.dir.open_with(name, options.write(true).create_new(true).follow(FollowSymlinks::No))
    }

    /// Removes a file, or a link, where there is one.
    pub(crate) fn remove_file(&self, name: &str) -> io::Result<()> {
        found(self.dir.remove_file_or_symlink(name)).map(drop)
    }

    /// Removes a folder in it with all that it holds, where there is one. No link is followed.
    pub(crate) fn remove_folder(&self, name: &str) -> io::Result<()> {
        found(self.dir.remove_dir_all(name)).map(drop)
    }

    /// Removes a folder in it, where there is one and it holds nothing. Says whether it is gone.
    pub(crate) fn remove_empty_folder(&self, name: &str) -> io::Result<bool> {
        match self.dir.remove_dir(name) {
            Err(error) if error.kind() == io::ErrorKind::DirectoryNotEmpty => Ok(false),
            other => found(other).map(|_| true),
        }
    }

    /// Puts a file of this folder in the place of one of `to`.
    pub(crate) fn replace(&self, name: &str, to: &Self, as_name: &str) -> io::Result<()> {
        self.dir.rename(name, &to.dir, as_name)
    }

    /// Moves a file of this folder to the same name in `to`. Where something has that name there,
    /// nothing is moved, and the error is [`io::ErrorKind::AlreadyExists`].
    pub(crate) fn move_new(&self, name: &str, to: &Self, move_new: MoveNew) -> io::Result<()> {
        #[cfg(target_os = "linux")]
        {
            use rustix::fs::{RenameFlags, renameat_with};
            let moved = renameat_with(&self.dir, name, &to.dir, name, RenameFlags::NOREPLACE);
            match moved {
                // Some file systems do not know the flag.
                Err(rustix::io::Errno::INVAL | rustix::io::Errno::NOSYS) => {}
                other => return Ok(other?),
            }
        }
        if to.metadata(name)?.is_some() {
            return Err(io::ErrorKind::AlreadyExists.into());
        }
        move_new(&self.path.join(name), &to.path.join(name))
    }

    /// Makes the names in it survive a power cut.
    pub(crate) fn sync(&self) -> io::Result<()> {
        // Windows has no such call: there a name is made durable as it is given.
        if cfg!(unix) { self.dir.open(".")?.sync_all() } else { Ok(()) }
    }
}

/// Moves a file by giving it its new name before the old one is taken: the way that every system has.
///
/// # Errors
/// Where something has the new name; nothing has changed then.
pub fn link_and_remove(from: &Path, to: &Path) -> io::Result<()> {
    std::fs::hard_link(from, to)?;
    std::fs::remove_file(from)
}

/// What is there, or nothing where it is not.
fn found<T>(answer: io::Result<T>) -> io::Result<Option<T>> {
    match answer {
        Ok(answer) => Ok(Some(answer)),
        Err(error) if error.kind() == io::ErrorKind::NotFound => Ok(None),
        Err(error) => Err(error),
    }
}

fn is_a_link(path: &Path) -> io::Error {
    io::Error::other(format!("{} is a link, and might lead elsewhere", path.display()))
}

/// Whether this is a way to somewhere else.
pub(crate) fn is_link_at(metadata: &Metadata) -> bool {
    #[cfg(windows)]
    {
        use cap_std::fs::MetadataExt as _;
        // FILE_ATTRIBUTE_REPARSE_POINT: links, junctions, mount points and the like.
        if metadata.file_attributes() & 0x400 != 0 {
            return true;
        }
    }
    metadata.file_type().is_symlink()
}
