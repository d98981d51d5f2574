//! Asking whoever drives a sift or an evening in another window to put it off: a file in Frevin's home that names it, looked
//! for between two steps.

use std::path::PathBuf;

use frevin_core::ids::PcId;
use frevin_core::sift::SiftId;

use crate::context::Context;
use crate::failure::Failure;

fn file(context: &Context) -> PathBuf {
    context.home().join("pause.asked")
}

/// How a sift of a PC is named in the file.
fn named(pc: &PcId, sift: SiftId) -> String {
    format!("{pc} {sift}\n")
}

/// Asks for it.
pub(crate) fn ask(context: &Context, pc: &PcId, sift: SiftId) -> Result<(), Failure> {
    Ok(fs_err::write(file(context), named(pc, sift))?)
}

/// Whether somebody has asked for it, of this sift of this PC.
pub(crate) fn is_asked(context: &Context, pc: &PcId, sift: SiftId) -> bool {
    fs_err::read_to_string(file(context)).is_ok_and(|text| text == named(pc, sift))
}

/// Forgets what was asked for.
pub(crate) fn forget(context: &Context) -> Result<(), Failure> {
    match fs_err::remove_file(file(context)) {
        Err(error) if error.kind() != std::io::ErrorKind::NotFound => Err(error.into()),
        _ => Ok(()),
    }
}
