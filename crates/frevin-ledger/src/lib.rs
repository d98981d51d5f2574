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
mod operations;
mod revisions;
mod rollbacks;
mod snapshots;
mod store;
mod unfinished;
mod visits;

pub use changes::{Change, ChangeStatus, NewChange, NewStep};
pub use error::LedgerError;
pub use revisions::Saved;
pub use rollbacks::{NewBackStep, NewRollback, Rollback, RollbackId};
pub use snapshots::{Snapshot, SnapshotId, SnapshotSummary};
pub use store::Ledger;
pub use unfinished::Unfinished;
pub use visits::{FramesDigest, KeptFrames, NewRun, NewVisit, VisitFilter};
