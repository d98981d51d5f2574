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
    Ok(frevin_pc::windows::own_folder::create(home)?)
}

/// The ledger makes the home where nothing has to be guarded.
#[cfg(not(windows))]
pub(crate) fn make(_home: &Path) -> Result<(), Failure> {
    Ok(())
}

/// Fails where somebody else could have planted something in the home.
#[cfg(windows)]
pub(crate) fn check(home: &Path) -> Result<(), Failure> {
    use crate::failure::Kind;
    use frevin_pc::windows::own_folder::distrust;

    if !home.exists() {
        return Ok(());
    }
    let mut paths = vec![home.to_owned()];
    for entry in fs_err::read_dir(home)? {
        paths.push(entry?.path());
    }
    match paths.iter().find_map(|path| distrust(path)) {
        None => Ok(()),
        Some(reason) => Err(Failure::new(Kind::Guarded, format!("nothing was read: {reason}"))
            .hint("what lies there decides what Frevin writes; let only yourself and administrators change it")
            .hint("or name another folder with --home")),
    }
}

/// Elsewhere Frevin changes rehearsal PCs only, with no rights that others lack.
#[cfg(not(windows))]
pub(crate) fn check(_home: &Path) -> Result<(), Failure> {
    Ok(())
}
