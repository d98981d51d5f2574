//! What can go wrong with a ledger.

use std::convert::Infallible;
use std::path::PathBuf;

use frevin_core::layers::ChangeId;
use frevin_core::sift::SiftId;
use frevin_core::trial::TrialId;
use rusqlite::ErrorCode;
use thiserror::Error;

use crate::seal::SealedPart;

/// Why the ledger could not do what it was asked.
#[derive(Debug, Error)]
#[non_exhaustive]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum LedgerError {
    #[error("the ledger {} was written by a newer Frevin", .0.display())]
    Newer(PathBuf),
    #[error("the ledger {} is damaged: {reason}", .path.display())]
    Damaged { path: PathBuf, reason: String },
    #[error("the ledger {} is not as Frevin wrote it", .path.display())]
    Altered { path: PathBuf, parts: Vec<SealedPart> },
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
    #[error("there is no rollback {0} in the ledger that could be ended")]
    NoRollback(i64),
    #[error("there is no snapshot {0} in the ledger")]
    NoSnapshot(i64),
    #[error("there is no sift {0} in the ledger")]
    NoSift(SiftId),
    #[error("there is no trial {0} in the ledger")]
    NoTrial(TrialId),
    #[error("there is no scene `{0}` in the ledger")]
    NoScene(String),
    #[error("there is a scene `{0}` in the ledger already")]
    SceneExists(String),
    #[error("there is no visit {0} in the ledger")]
    NoVisit(i64),
    #[error("there is no run {0} in the ledger")]
    NoRun(i64),
    #[error("another Frevin is writing the ledger, and went on for longer than five seconds")]
    Busy,
    #[error("the disk that the ledger is on is full")]
    DiskFull,
    #[error("the drive that the ledger is on did not take or give what it was asked")]
    Drive(#[source] rusqlite::Error),
    #[error("the ledger could not be read or written")]
    Database(#[source] rusqlite::Error),
    #[error(transparent)]
    Io(#[from] std::io::Error),
}

impl From<rusqlite::Error> for LedgerError {
    fn from(error: rusqlite::Error) -> Self {
        match error.sqlite_error_code() {
            Some(ErrorCode::DatabaseBusy | ErrorCode::DatabaseLocked) => Self::Busy,
            Some(ErrorCode::DiskFull) => Self::DiskFull,
            Some(
                ErrorCode::ReadOnly
                | ErrorCode::CannotOpen
                | ErrorCode::PermissionDenied
                | ErrorCode::SystemIoFailure,
            ) => Self::Drive(error),
            _ => Self::Database(error),
        }
    }
}

impl From<Infallible> for LedgerError {
    fn from(never: Infallible) -> Self {
        match never {}
    }
}
