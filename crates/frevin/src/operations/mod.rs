//! Operations that commands share: changing a PC with a ledger at hand.
//!
//! The order of things is what makes a crash at any moment recoverable. The ledger has the
//! change and its snapshot before the PC is touched, and learns of the end after everything has
//! been read back; in between, the change is unfinished, and [`recover`] undoes it.

pub(crate) mod apply;
pub(crate) mod choices;
pub(crate) mod driving;
pub(crate) mod evidence;
pub(crate) mod evidence_file;
pub(crate) mod inspect;
pub(crate) mod load;
pub(crate) mod network;
pub(crate) mod parquet_file;
pub(crate) mod pausing;
pub(crate) mod play;
pub(crate) mod profiles;
pub(crate) mod readings;
pub(crate) mod recover;
pub(crate) mod report;
pub(crate) mod resolve_drift;
pub(crate) mod restart;
pub(crate) mod rollback;
pub(crate) mod self_test;
pub(crate) mod sift;
pub(crate) mod sign_in;
pub(crate) mod sitting;
pub(crate) mod target;
pub(crate) mod trial;
pub(crate) mod tune;
pub(crate) mod undo_files;
pub(crate) mod waiting;
mod writing;

use frevin_ledger::{Ledger, Unfinished};
use frevin_pc::Pc;

use crate::failure::{Failure, Kind};

/// What is unfinished, by name.
pub(crate) fn name_of_unfinished(unfinished: &Unfinished) -> String {
    match unfinished {
        Unfinished::Change(change) => format!("change {} ({})", change.id, change.title),
        Unfinished::Rollback(_) => "a rollback".to_owned(),
    }
}

/// Refuses to go on where an earlier change or rollback of the PC is unfinished.
pub(crate) fn refuse_unfinished(ledger: &Ledger, pc: &dyn Pc) -> Result<(), Failure> {
    let Some(unfinished) = ledger.unfinished(&pc.identity().id)? else { return Ok(()) };
    let what = name_of_unfinished(&unfinished);
    Err(Failure::new(Kind::Unfinished, format!("{what} was interrupted and is unfinished"))
        .hint("`frevin recover` finishes it: the PC goes back to what it was"))
}
