//! Files.

use std::path::Path;

use windows::Win32::Storage::FileSystem::{REPLACE_FILE_FLAGS, ReplaceFileW};
use windows::core::{HSTRING, PCWSTR};

/// Puts a file in the place of another, which keeps its owner, rights, streams and attributes.
pub(crate) fn replace_file(file: &Path, draft: &Path) -> std::io::Result<()> {
    let (file, draft) = (HSTRING::from(file.as_os_str()), HSTRING::from(draft.as_os_str()));
    let flags = REPLACE_FILE_FLAGS(0);
    // SAFETY: both names live for the call; no copy of the old file is kept.
    unsafe { ReplaceFileW(&file, &draft, PCWSTR::null(), flags, None, None) }
        .map_err(std::io::Error::from)
}
