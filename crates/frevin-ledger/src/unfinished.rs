//! What a crash left in the middle.

use frevin_core::ids::PcId;

use crate::changes::Change;
use crate::error::LedgerError;
use crate::rollbacks::Rollback;
use crate::store::Ledger;

/// A change or a rollback that was begun and not ended: its process ended in the middle.
#[derive(Debug, Clone, PartialEq)]
pub enum Unfinished {
    /// A change: to be undone.
    Change(Change),
    /// A rollback: to be gone on with.
    Rollback(Rollback),
}

impl Ledger {
    /// The change or rollback of a PC that was begun and not ended, if there is one.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn unfinished(&self, pc: &PcId) -> Result<Option<Unfinished>, LedgerError> {
        if let Some(change) = self.unfinished_change(pc)? {
            return Ok(Some(Unfinished::Change(change)));
        }
        Ok(self.unfinished_rollback(pc)?.map(Unfinished::Rollback))
    }
}
