//! What commands share: changing a PC with a ledger at hand, and measuring it.
//!
//! The order of things is what makes a crash at any moment recoverable. The ledger has the
//! change and its snapshot before the PC is touched, and learns of the end after everything has
//! been read back; in between, the change is unfinished, and [`recover`] settles it.

pub(crate) mod apply;
pub(crate) mod around;
pub(crate) mod compare;
pub(crate) mod like_with_like;
pub(crate) mod log_file;
pub(crate) mod measure;
pub(crate) mod network;
pub(crate) mod parquet_file;
pub(crate) mod readings;
pub(crate) mod recover;
pub(crate) mod rollback;
pub(crate) mod settle;
mod test_loop;
pub(crate) mod undo_files;
pub(crate) mod watched_folder;
mod writing;

use frevin_ledger::{Ledger, Unfinished};
use frevin_pc::Pc;

use crate::failure::{Failure, Kind};

/// Refuses to go on where an earlier change or rollback of the PC is unfinished.
pub(crate) fn refuse_unfinished(ledger: &Ledger, pc: &dyn Pc) -> Result<(), Failure> {
    let what = match ledger.unfinished(&pc.identity().id)? {
        None => return Ok(()),
        Some(Unfinished::Change(change)) => format!("change {} ({})", change.id, change.title),
        Some(Unfinished::Rollback(_)) => "a rollback".to_owned(),
    };
    Err(Failure::new(Kind::Unfinished, format!("{what} was interrupted and is unfinished"))
        .hint("`frevin recover` settles it"))
}
