//! Files.

use std::path::Path;

use windows::Win32::Storage::FileSystem::{
    MOVEFILE_REPLACE_EXISTING, MOVEFILE_WRITE_THROUGH, MoveFileExW, REPLACE_FILE_FLAGS,
    ReplaceFileW,
};
use windows::core::HSTRING;

/// Puts a draft in the place of a file, which keeps its owner, rights, streams and attributes. The old
/// file stays under the backup's name: without one, Windows may leave no file at all where it fails
/// (error 1176, "ReplaceFileW function" in the Windows documentation).
pub(crate) fn replace_file(file: &Path, draft: &Path, backup: &Path) -> std::io::Result<()> {
    let [file, draft, backup] = [file, draft, backup].map(|path| HSTRING::from(path.as_os_str()));
    let flags = REPLACE_FILE_FLAGS(0);
    // SAFETY: the names live for the call.
    unsafe { ReplaceFileW(&file, &draft, &backup, flags, None, None) }.map_err(std::io::Error::from)
}

/// Gives a file a name that nothing has, and returns when that is on the disk.
///
/// # Errors
/// Where something has the name, which is [`std::io::ErrorKind::AlreadyExists`], or Windows does not do
/// it; nothing has changed then.
pub(crate) fn move_new(from: &Path, to: &Path) -> std::io::Result<()> {
    let [from, to] = [from, to].map(|path| HSTRING::from(path.as_os_str()));
    // SAFETY: the names live for the call.
    unsafe { MoveFileExW(&from, &to, MOVEFILE_WRITE_THROUGH) }.map_err(std::io::Error::from)
}

/// Renames a file, over another if there is one, and returns when the new name is on the disk.
///
/// # Errors
/// Where Windows does not do it; both files are as they were then.
pub fn rename_for_good(from: &Path, to: &Path) -> std::io::Result<()> {
    let [from, to] = [from, to].map(|path| HSTRING::from(path.as_os_str()));
    // SAFETY: the names live for the call.
    unsafe { MoveFileExW(&from, &to, MOVEFILE_REPLACE_EXISTING | MOVEFILE_WRITE_THROUGH) }
        .map_err(std::io::Error::from)
}
