//! The order of what was done: a number for each operation, given by the ledger.

use frevin_core::ids::{BootId, OperationId, PcId};
use jiff::Timestamp;
use rusqlite::{Transaction, params};

use crate::error::LedgerError;

/// Kinds of operation.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum OperationKind {
    Change,
    Rollback,
    Visit,
    Trial,
    /// A sift was begun.
    Sift,
}

impl OperationKind {
    fn as_str(self) -> &'static str {
        match self {
            Self::Change => "change",
            Self::Rollback => "rollback",
            Self::Visit => "visit",
            Self::Trial => "trial",
            Self::Sift => "sift",
        }
    }
}

/// Gives the next number to an operation that begins with this transaction.
pub(crate) fn begin(
    transaction: &Transaction<'_>,
    kind: OperationKind,
    pc: Option<&PcId>,
    boot: Option<&BootId>,
    at: Timestamp,
) -> Result<OperationId, LedgerError> {
    transaction.execute(
        "INSERT INTO operation (pc, boot, kind, at) VALUES (?1, ?2, ?3, ?4)",
        params![pc.map(PcId::as_str), boot.map(BootId::as_str), kind.as_str(), at.to_string()],
    )?;
    Ok(OperationId(transaction.last_insert_rowid()))
}
