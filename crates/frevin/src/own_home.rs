//! Frevin's home: made so that only its owner can change it, and not believed where others can.
//!
//! What lies in it says what to write to the PC: on Windows, where Frevin runs with an
//! administrator's rights, whoever could plant a file there could have anything written.

use std::path::Path;

use crate::failure::Failure;

/// Makes the home where it is not there yet.
#[cfg(windows)]
pub(crate) fn make(home: &Path) -> Result<(), Failure> {
    if home.is_dir() {
        return Ok(());
    }
    if let Some(parent) = home.parent() {
        fs_err::create_dir_all(parent)?;
    }
    Ok(frevin_windows::own_folder::create(home)?)
}

/// Makes the home where it is not there yet; nothing has to be guarded here.
#[cfg(not(windows))]
pub(crate) fn make(home: &Path) -> Result<(), Failure> {
    // A file in its place is told by the ledger, with what to do.
    if !home.exists() {
        fs_err::create_dir_all(home)?;
    }
    Ok(())
}

/// Fails where somebody else could have planted something in the home.
#[cfg(windows)]
pub(crate) fn check(home: &Path) -> Result<(), Failure> {
    use crate::failure::Kind;
    use frevin_windows::own_folder::distrust;

    if !home.exists() {
        return Ok(());
    }
    let mut paths = vec![home.to_owned()];
    paths.extend(paths_in(home)?);
    // The owner's tweaks lie deeper, and are read.
    let tweaks = home.join("tweaks");
    for area in paths_in(&tweaks)? {
        paths.extend(paths_in(&area)?);
        paths.push(area);
    }
    match paths.iter().find_map(|path| distrust(path)) {
        None => Ok(()),
        Some(reason) => Err(Failure::new(Kind::Guarded, format!("nothing was read: {reason}"))
            .hint("what lies there decides what Frevin writes; let only yourself and administrators change it")
            .hint("or name another folder with --home")),
    }
}

#[cfg(windows)]
fn paths_in(folder: &Path) -> Result<Vec<std::path::PathBuf>, Failure> {
    if !folder.is_dir() {
        return Ok(Vec::new());
    }
    let entries = fs_err::read_dir(folder)?;
    Ok(entries.map(|entry| entry.map(|entry| entry.path())).collect::<Result<_, _>>()?)
}

/// Elsewhere Frevin changes rehearsal PCs only, with no rights that others lack.
#[cfg(not(windows))]
pub(crate) fn check(_home: &Path) -> Result<(), Failure> {
    Ok(())
}
