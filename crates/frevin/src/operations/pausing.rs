//! Asking whoever drives a sift or an evening in another window to put it off: a file in Frevin's home, looked for between
//! two steps.

use std::path::PathBuf;

use crate::context::Context;
use crate::failure::Failure;

fn file(context: &Context) -> PathBuf {
    context.home().join("pause.asked")
}

/// Asks for it.
pub(crate) fn ask(context: &Context) -> Result<(), Failure> {
    Ok(fs_err::write(file(context), b"")?)
}

/// Whether somebody has asked.
pub(crate) fn is_asked(context: &Context) -> bool {
    file(context).exists()
}

/// Forgets that somebody has asked.
pub(crate) fn forget(context: &Context) -> Result<(), Failure> {
    match fs_err::remove_file(file(context)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error.into()),
        _ => Ok(()),
    }
}
