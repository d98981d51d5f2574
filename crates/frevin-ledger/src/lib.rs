//! The ledger: the durable database of everything but the PC itself.
//!
//! One SQLite file in Frevin's home holds profiles' revisions, snapshots, changes, rollbacks,
//! layers, scenes and runs. What is written in one call is there whole or not at all, and is on
//! the disk when the call returns. The ledger knows nothing of how a PC is read or written.
#![forbid(unsafe_code)]

mod changes;
mod error;
mod frame_bytes;
mod layers;
mod revisions;
mod rollbacks;
mod run_frames;
mod runs;
mod snapshots;
mod store;
mod unfinished;

pub use changes::{Change, ChangeStatus, NewChange, Waiting};
pub use error::LedgerError;
pub use revisions::Saved;
pub use rollbacks::{NewRollback, Rollback, RollbackId};
pub use run_frames::{FrameCollector, RunFrames};
pub use runs::{
    KeptFrames, NewRun, NewVisit, Run, RunFilter, RunId, RunSource, Scene, VisitId, VisitRecord,
};
pub use snapshots::{Snapshot, SnapshotId, SnapshotSummary};
pub use store::Ledger;
pub use unfinished::Unfinished;
