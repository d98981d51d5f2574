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
    // Windows has no way to sync a folder, and its file systems need none.
    if cfg!(unix) {
        fs_err::File::open(folder)?.sync_all()?;
    }
    Ok(())
}

/// Puts `draft` in the place of `file`, which exists, in one step: whoever looks finds the one or
/// the other. The file keeps its owner, its access list and its other streams where the operating
/// system has them.
///
/// # Errors
/// Where it cannot be done; the file is as it was then.
pub fn replace_file(file: &Path, draft: &Path) -> std::io::Result<()> {
    #[cfg(windows)]
    return crate::windows::replace_file(file, draft);
    #[cfg(not(windows))]
    fs_err::rename(draft, file)
}
