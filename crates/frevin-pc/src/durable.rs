//! Making files survive a power cut, the way each operating system wants it.

use std::path::Path;

/// Makes the bytes of a file survive a power cut.
///
/// # Errors
/// Where they cannot be had on the disk.
pub fn sync_file(file: &Path) -> std::io::Result<()> {
    // Windows flushes only what is open for writing; elsewhere a file that may only be read can be
    // synced as well.
    let open = if cfg!(windows) {
        fs_err::OpenOptions::new().write(true).open(file)?
    } else {
        fs_err::File::open(file)?
    };
    open.sync_all()
}

/// Makes the names in a folder survive a power cut.
///
/// # Errors
/// Where they cannot be had on the disk.
pub fn sync_folder(folder: &Path) -> std::io::Result<()> {
    // Windows has no way to sync a folder: there a name is made durable as it is given, by renaming with
    // its flag for that.
    if cfg!(unix) {
        fs_err::File::open(folder)?.sync_all()?;
    }
    Ok(())
}

/// A function that puts a draft in the place of a file that exists, and keeps the old file under the
/// name of the backup, on the same drive, until the caller removes it. The file keeps its owner, its
/// access list and its other streams where the operating system has them.
///
/// Where it fails, the old file may lie under its own name or under the backup's, and the draft under
/// its own name or the file's: [`put_back_replaced`] tells which and mends it.
pub type Replace = fn(file: &Path, draft: &Path, backup: &Path) -> std::io::Result<()>;

/// The change of names that is [`Replace`] wherever that alone keeps all that belongs to a file.
///
/// # Errors
/// Where the file cannot be renamed; it is as it was then.
pub fn rename_over(file: &Path, draft: &Path, _backup: &Path) -> std::io::Result<()> {
    fs_err::rename(draft, file)
}

/// Makes sure that a file is there after [`Replace`] failed or was interrupted: the old one where it
/// still exists, else the new one. What was beside it goes.
///
/// # Errors
/// Where it cannot be put back: nothing is removed then.
pub fn put_back_replaced(file: &Path, draft: &Path, backup: &Path) -> std::io::Result<()> {
    if !file.try_exists()? {
        let kept = if backup.try_exists()? { backup } else { draft };
        if kept.try_exists()? {
            fs_err::rename(kept, file)?;
        }
    }
    for beside in [draft, backup] {
        match fs_err::remove_file(beside) {
            Err(error) if error.kind() != std::io::ErrorKind::NotFound => return Err(error),
            _ => {}
        }
    }
    Ok(())
}
