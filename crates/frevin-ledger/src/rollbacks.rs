//! Rollbacks: begun before the PC is touched, ended when their layers are out.

use frevin_core::ids::{BootId, PcId};
use frevin_core::layers::Selection;
use frevin_core::preview::BackStep;
use frevin_core::setting::TakesEffect;
use frevin_core::waiting::{PastWrite, Start};
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, params};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::changes::start_of;
use crate::error::LedgerError;
use crate::layers;
use crate::operations::{self, OperationKind};
use crate::seal::{self, SealedPart};
use crate::store::{Ledger, parse, restore, store};

/// The number of a rollback in its ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RollbackId(pub i64);

/// A rollback about to be made.
#[derive(Debug)]
pub struct NewRollback<'a> {
    /// The PC.
    pub pc: &'a PcId,
    /// The layers that it takes out.
    pub selection: &'a Selection,
    /// The start of the PC that it is made after.
    pub boot: &'a BootId,
    /// When it begins.
    pub begun_at: Timestamp,
    /// Its steps.
    pub steps: &'a [NewBackStep],
}

/// A step of a rollback about to be made.
#[derive(Debug, Clone)]
pub struct NewBackStep {
    /// The step.
    pub step: BackStep,
    /// What its write waits for.
    pub takes_effect: TakesEffect,
    /// The present start of that.
    pub start: Start,
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
        let operation = operations::begin(
            &transaction,
            OperationKind::Rollback,
            Some(new.pc),
            Some(new.boot),
            new.begun_at,
        )?;
        transaction.execute(
            "INSERT INTO rollback (pc, selection, boot, begun_at, status, operation)
             VALUES (?1, ?2, ?3, ?4, 'begun', ?5)",
            params![
                new.pc.as_str(),
                store("a selection", new.selection)?,
                new.boot.as_str(),
                new.begun_at.to_string(),
                operation.0
            ],
        )?;
        let id = transaction.last_insert_rowid();
        let mut statement = transaction.prepare(
            "INSERT INTO rollback_step (rollback, position, step, takes_effect, start)
             VALUES (?1, ?2, ?3, ?4, ?5)",
        )?;
        for (position, NewBackStep { step, takes_effect, start }) in (0i64..).zip(new.steps) {
            let (step, start) = (store("a step", step)?, store("a start", start)?);
            statement.execute(params![id, position, step, <&str>::from(*takes_effect), start])?;
        }
        drop(statement);
        seal::commit(transaction, &[SealedPart::Rollback(id)])?;
        Ok(RollbackId(id))
    }

    /// Ends a rollback that was carried out: its layers are taken out.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the rollback is unfinished then.
    pub fn finish_rollback(
        &mut self,
        id: RollbackId,
        ended_at: Timestamp,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        let (pc, selection) = transaction
            .query_row("SELECT pc, selection FROM rollback WHERE id = ?1", [id.0], |row| {
                Ok((row.get::<_, String>(0)?, row.get::<_, String>(1)?))
            })
            .optional()?
            .ok_or(LedgerError::NoRollback(id.0))?;
        let (pc, selection) = (PcId::new(pc), restore("a selection", &selection)?);
        let mut held = layers::load(&transaction, &pc)?;
        held.take_out(&selection);
        layers::replace(&transaction, &pc, &held)?;
        end(&transaction, id, "finished", ended_at)?;
        seal::commit(transaction, &[SealedPart::Rollback(id.0), SealedPart::Layers(pc)])?;
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
        seal::commit(transaction, &[SealedPart::Rollback(id.0)])?;
        Ok(())
    }

    /// The writes of rollbacks of a PC in its start `boot`, by operation.
    pub(crate) fn past_back_writes(
        &self,
        pc: &PcId,
        boot: &BootId,
    ) -> Result<Vec<(i64, Vec<PastWrite>)>, LedgerError> {
        let mut statement = self.connection.prepare(
            "SELECT operation, step, takes_effect, start
             FROM rollback_step JOIN rollback ON rollback.id = rollback_step.rollback
             WHERE pc = ?1 AND boot = ?2 AND status = 'finished' ORDER BY operation, position",
        )?;
        let mut rows = statement.query([pc.as_str(), boot.as_str()])?;
        let mut writes = Vec::new();
        while let Some(row) = rows.next()? {
            let step: BackStep = restore("a step", &row.get::<_, String>("step")?)?;
            let BackStep::Write { address, before, after } = step else { continue };
            let write = PastWrite {
                address,
                used: None,
                before,
                after,
                takes_effect: parse("a moment", &row.get::<_, String>("takes_effect")?)?,
                start: start_of(row.get("start")?)?,
            };
            writes.push((row.get("operation")?, vec![write]));
        }
        Ok(writes)
    }

    pub(crate) fn unfinished_rollback(&self, pc: &PcId) -> Result<Option<Rollback>, LedgerError> {
        let row = self
            .connection
            .query_row(
                "SELECT id, selection, begun_at FROM rollback WHERE pc = ?1 AND status = 'begun'",
                [pc.as_str()],
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
    let rows = transaction.execute(
        "UPDATE rollback SET status = ?2, ended_at = ?3 WHERE id = ?1 AND status = 'begun'",
        params![id.0, status, ended_at.to_string()],
    )?;
    if rows == 1 { Ok(()) } else { Err(LedgerError::NoRollback(id.0)) }
}
