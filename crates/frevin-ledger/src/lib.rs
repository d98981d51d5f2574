//! The ledger: the durable database of everything but the PC itself.
//!
//! One SQLite file in Frevin's home holds profiles' revisions, snapshots, changes, rollbacks,
//! layers, scenes and runs. What is written in one call is there whole or not at all, and is on
//! the disk when the call returns. The ledger knows nothing of how a PC is read or written.
#![forbid(unsafe_code)]

mod changes;
mod error;
mod evidence;
mod frame_bytes;
mod history;
mod layers;
mod operations;
mod plays;
mod revisions;
mod rollbacks;
mod scenes;
mod seal;
mod sifts;
mod snapshots;
mod store;
mod trials;
mod unfinished;
mod visits;

pub use changes::{Change, ChangeStatus, NewChange, NewStep};
pub use error::LedgerError;
pub use history::{Deed, PastOperation};
pub use plays::{PlayRecord, TimedPlayEvent};
pub use revisions::Saved;
pub use rollbacks::{NewBackStep, NewRollback, Rollback, RollbackId};
pub use seal::SealedPart;
pub use sifts::{ChangeFor, NewSift, SiftRecord, TimedSiftEvent, VisitFor};
pub use snapshots::{Snapshot, SnapshotId, SnapshotSummary};
pub use store::Ledger;
pub use trials::{NewTrial, TrialEvent, TrialRecord, TrialVisit};
pub use unfinished::Unfinished;
pub use visits::{FramesDigest, KeptFrames, NewRun, NewVisit, VisitFilter};

/// Makes a file's bytes survive a power cut. Windows flushes only what is open for writing.
fn durable_file(file: &std::path::Path) -> std::io::Result<()> {
    std::fs::OpenOptions::new().write(true).open(file)?.sync_all()
}

/// Makes the names in a folder survive a power cut, where the operating system has a call for it.
fn durable_folder(folder: &std::path::Path) -> std::io::Result<()> {
    if cfg!(unix) { std::fs::File::open(folder)?.sync_all() } else { Ok(()) }
}
