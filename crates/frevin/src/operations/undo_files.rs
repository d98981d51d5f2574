//! The undo files of a change: its way back without Frevin.

use std::io::Write as _;
use std::path::{Path, PathBuf};

use frevin_core::layers::ChangeId;
use frevin_core::preview::Undoing;
use frevin_core::registry_text;
use frevin_core::setting::undo::sheet;
use frevin_pc::durable::sync_folder;
use serde::Serialize;

/// Where the undo files of a change are.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub(crate) struct UndoFiles {
    /// For the registry, in Windows' registry text format.
    pub(crate) registry: PathBuf,
    /// For everything else, to be read.
    pub(crate) sheet: PathBuf,
}

/// Writes the undo files of a change, durably.
pub(super) fn write(
    folder: &Path,
    change: ChangeId,
    title: &str,
    settings: &[Undoing],
) -> std::io::Result<UndoFiles> {
    let states = || settings.iter().map(|setting| (&setting.address, &setting.before));
    let heading = format!("Undo of change {change}: {title}");
    let files = UndoFiles {
        registry: folder.join(format!("change-{change}.reg")),
        sheet: folder.join(format!("change-{change}.txt")),
    };
    fs_err::create_dir_all(folder)?;
    write_durably(&files.registry, &registry_text::encode(&registry_text::write(states())))?;
    write_durably(&files.sheet, sheet(&heading, states()).as_bytes())?;
    // The folders above may be new as well, and their names are in the home's own folder.
    folder.ancestors().take(3).try_for_each(sync_folder)?;
    Ok(files)
}

#[cfg(windows)]
use frevin_windows::rename_for_good;

/// A rename whose new name is on the disk once the folder is synced, as it is after all files.
#[cfg(not(windows))]
fn rename_for_good(from: &Path, to: &Path) -> std::io::Result<()> {
    fs_err::rename(from, to)
}

/// Writes a file so that it is there whole, on the disk, or not at all. Only who holds the PC's
/// lock writes, so one name will do for the draft.
fn write_durably(path: &Path, bytes: &[u8]) -> std::io::Result<()> {
    let draft = path.with_extension("new");
    let mut file = fs_err::File::create(&draft)?;
    file.write_all(bytes)?;
    file.sync_all()?;
    rename_for_good(&draft, path)
}
