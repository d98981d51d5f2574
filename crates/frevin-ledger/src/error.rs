//! What can go wrong with a ledger.

use std::path::PathBuf;

use frevin_core::layers::ChangeId;
use thiserror::Error;

/// Why the ledger could not do what it was asked.
#[derive(Debug, Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum LedgerError {
    #[error("the ledger {} was written by a newer Frevin", .0.display())]
    Newer(PathBuf),
    #[error("the ledger {} is damaged: {reason}", .path.display())]
    Damaged { path: PathBuf, reason: String },
    #[error("the ledger {} cannot be opened for writing: {reason}", .path.display())]
    CannotOpen { path: PathBuf, reason: String },
    #[error("the ledger holds {what} that this Frevin cannot read: {reason}")]
    Unreadable { what: &'static str, reason: String },
    #[error("there is no profile `{0}` in the ledger")]
    NoProfile(String),
    #[error("there is no revision `{0}` in the ledger")]
    NoRevision(String),
    #[error("`{0}` begins the hash of more than one revision")]
    AmbiguousRevision(String),
    #[error("there is no change {0} in the ledger")]
    NoChange(ChangeId),
    #[error("there is no snapshot {0} in the ledger")]
    NoSnapshot(i64),
    #[error("there is no scene `{0}` in the ledger")]
    NoScene(String),
    #[error("there is a scene `{0}` in the ledger already")]
    SceneExists(String),
    #[error("there is no visit {0} in the ledger")]
    NoVisit(i64),
    #[error("there is no run {0} in the ledger")]
    NoRun(i64),
    #[error("the ledger could not be read or written: {0}")]
    Database(#[from] rusqlite::Error),
    #[error(transparent)]
    Io(#[from] std::io::Error),
}
