//! Rollbacks: begun before the PC is touched, ended when their layers are out.

use frevin_core::layers::Selection;
use frevin_core::preview::BackStep;
use frevin_core::setting::TakesEffect;
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, params};
use serde::{Deserialize, Serialize};

use crate::error::LedgerError;
use crate::layers;
use crate::store::{Ledger, parse, restore, store};

/// The number of a rollback in its ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RollbackId(pub i64);

/// A rollback about to be made.
#[derive(Debug)]
pub struct NewRollback<'a> {
    /// The PC.
    pub pc: &'a str,
    /// The layers that it takes out.
    pub selection: &'a Selection,
    /// The start of the PC that it is made after.
    pub boot: &'a str,
    /// When it begins.
    pub begun_at: Timestamp,
    /// Its steps, each with what its write waits for.
    pub steps: &'a [(BackStep, TakesEffect)],
}

/// A rollback that was begun.
#[derive(Debug, Clone, PartialEq)]
pub struct Rollback {
    /// Its number.
    pub id: RollbackId,
    /// The layers that it takes out.
    pub selection: Selection,
    /// When it began.
    pub begun_at: Timestamp,
    /// Its steps.
    pub steps: Vec<BackStep>,
}

impl Ledger {
    /// Writes a rollback down, durably: it may touch the PC from now on.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn begin_rollback(&mut self, new: &NewRollback<'_>) -> Result<RollbackId, LedgerError> {
        let transaction = self.begin()?;
        transaction.execute(
            "INSERT INTO rollback (pc, selection, boot, begun_at, status)
             VALUES (?1, ?2, ?3, ?4, 'begun')",
            params![
                new.pc,
                store("a selection", new.selection)?,
                new.boot,
                new.begun_at.to_string()
            ],
        )?;
        let id = transaction.last_insert_rowid();
        let mut statement = transaction.prepare(
            "INSERT INTO rollback_step (rollback, position, step, takes_effect)
             VALUES (?1, ?2, ?3, ?4)",
        )?;
        for (position, (step, takes_effect)) in (0i64..).zip(new.steps) {
            let takes_effect = store("a moment", takes_effect)?;
            statement.execute(params![id, position, store("a step", step)?, takes_effect])?;
        }
        drop(statement);
        transaction.commit()?;
        Ok(RollbackId(id))
    }

    /// Ends a rollback that was carried out: its layers are taken out.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the rollback is unfinished then.
    pub fn finish_rollback(
        &mut self,
        pc: &str,
        id: RollbackId,
        selection: &Selection,
        ended_at: Timestamp,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        let mut held = layers::load(&transaction, pc)?;
        held.take_out(selection);
        layers::replace(&transaction, pc, &held)?;
        end(&transaction, id, "finished", ended_at)?;
        transaction.commit()?;
        Ok(())
    }

    /// Ends a rollback of which nothing is left on the PC.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the rollback is unfinished then.
    pub fn abandon_rollback(
        &mut self,
        id: RollbackId,
        ended_at: Timestamp,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        end(&transaction, id, "undone", ended_at)?;
        transaction.commit()?;
        Ok(())
    }

    pub(crate) fn unfinished_rollback(&self, pc: &str) -> Result<Option<Rollback>, LedgerError> {
        let row = self
            .connection
            .query_row(
                "SELECT id, selection, begun_at FROM rollback WHERE pc = ?1 AND status = 'begun'",
                [pc],
                |row| Ok((row.get(0)?, row.get::<_, String>(1)?, row.get::<_, String>(2)?)),
            )
            .optional()?;
        let Some((id, selection, begun_at)) = row else { return Ok(None) };
        let mut statement = self
            .connection
            .prepare("SELECT step FROM rollback_step WHERE rollback = ?1 ORDER BY position")?;
        let mut rows = statement.query([id])?;
        let mut steps = Vec::new();
        while let Some(row) = rows.next()? {
            steps.push(restore("a step", &row.get::<_, String>(0)?)?);
        }
        Ok(Some(Rollback {
            id: RollbackId(id),
            selection: restore("a selection", &selection)?,
            begun_at: parse("a time", &begun_at)?,
            steps,
        }))
    }
}

fn end(
    transaction: &rusqlite::Transaction<'_>,
    id: RollbackId,
    status: &str,
    ended_at: Timestamp,
) -> Result<(), LedgerError> {
    transaction.execute(
        "UPDATE rollback SET status = ?2, ended_at = ?3 WHERE id = ?1 AND status = 'begun'",
        params![id.0, status, ended_at.to_string()],
    )?;
    Ok(())
}
