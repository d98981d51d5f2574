//! Trials: their designs, and what happened in them.

use frevin_core::ids::{BootId, OperationId, PcId};
use frevin_core::layers::ChangeId;
use frevin_core::trial::{Arm, Design, Event, Place, Trial, TrialId};
use frevin_core::visits::VisitId;
use jiff::Timestamp;
use rusqlite::{Row, params};
use schemars::JsonSchema;
use serde::Serialize;

use crate::error::LedgerError;
use crate::operations::{self, OperationKind};
use crate::seal::{self, SealedPart};
use crate::store::{Ledger, parse, restore, store};

/// A trial about to begin.
#[derive(Debug)]
pub struct NewTrial<'a> {
    /// The PC.
    pub pc: &'a PcId,
    /// The start of the PC in which it begins.
    pub boot: &'a BootId,
    /// When it begins, for people.
    pub at: Timestamp,
    /// Its design.
    pub design: &'a Design,
}

/// The visit of a trial that a visit is.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct TrialVisit {
    /// The trial.
    pub trial: TrialId,
    /// The pair, counted from 0.
    pub pair: usize,
    /// The state.
    pub arm: Arm,
}

/// An event of a trial, and when it was written down.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct TrialEvent {
    /// When, for people.
    pub at: Timestamp,
    /// What happened.
    #[serde(flatten)]
    pub event: Event,
}

/// A trial as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct TrialRecord {
    /// Its number.
    pub id: TrialId,
    /// Its place in the order of what was done.
    pub operation: OperationId,
    /// The PC.
    pub pc: PcId,
    /// When it began, for people.
    pub begun_at: Timestamp,
    /// Its design.
    pub design: Design,
    /// What has happened since.
    pub events: Vec<TrialEvent>,
}

impl TrialRecord {
    /// The trial, its events replayed.
    pub fn trial(&self) -> Trial {
        Trial::replay(self.design.clone(), self.events.iter().map(|event| &event.event))
    }
}

impl Ledger {
    /// Writes the design of a trial down, durably.
    ///
    /// # Errors
    /// Where the ledger cannot be written; there is no trial then.
    pub fn begin_trial(&mut self, new: &NewTrial<'_>) -> Result<TrialId, LedgerError> {
        let transaction = self.begin()?;
        let (pc, boot) = (Some(new.pc), Some(new.boot));
        let operation = operations::begin(&transaction, OperationKind::Trial, pc, boot, new.at)?;
        transaction.execute(
            "INSERT INTO trial (operation, pc, begun_at, design) VALUES (?1, ?2, ?3, ?4)",
            params![
                operation.0,
                new.pc.as_str(),
                new.at.to_string(),
                store("a trial's design", new.design)?,
            ],
        )?;
        let id = TrialId(transaction.last_insert_rowid());
        seal::commit(transaction, &[SealedPart::Trial(id)])?;
        Ok(id)
    }

    /// Writes down what happened in a trial, durably.
    ///
    /// # Errors
    /// Where the ledger cannot be written; it is not written down then.
    pub fn add_trial_event(
        &mut self,
        id: TrialId,
        at: Timestamp,
        event: &Event,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        transaction.execute(
            "INSERT INTO trial_event (trial, position, at, event)
             SELECT ?1, coalesce(max(position) + 1, 0), ?2, ?3 FROM trial_event WHERE trial = ?1",
            params![id.0, at.to_string(), store("an event of a trial", event)?],
        )?;
        seal::commit(transaction, &[SealedPart::Trial(id)])
    }

    /// A trial.
    ///
    /// # Errors
    /// [`LedgerError::NoTrial`] where there is none of that number.
    pub fn trial(&self, id: TrialId) -> Result<TrialRecord, LedgerError> {
        let found = self.select_trials("WHERE id = ?1", params![id.0])?;
        found.into_iter().next().ok_or(LedgerError::NoTrial(id))
    }

    /// The trials of a PC, the earliest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn trials(&self, pc: &PcId) -> Result<Vec<TrialRecord>, LedgerError> {
        self.select_trials("WHERE pc = ?1 ORDER BY id", params![pc.as_str()])
    }

    /// The trial of a PC that has begun and not ended, if one has.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn open_trial(&self, pc: &PcId) -> Result<Option<TrialRecord>, LedgerError> {
        let last = self.select_trials("WHERE pc = ?1 ORDER BY id DESC LIMIT 1", [pc.as_str()])?;
        Ok(last.into_iter().find(|record| record.trial().ended().is_none()))
    }

    /// The changes that were carried out for a trial, the latest first, with what each put in force.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn changes_of_trial(&self, id: TrialId) -> Result<Vec<(ChangeId, Place)>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, trial_place FROM change WHERE trial = ?1 AND status = 'applied' ORDER BY id DESC",
        )?;
        let mut rows = statement.query([id.0])?;
        let mut changes = Vec::new();
        while let Some(row) = rows.next()? {
            let place: String = row.get(1)?;
            changes.push((ChangeId(row.get(0)?), restore("a state of a trial", &place)?));
        }
        Ok(changes)
    }

    /// The visits of a trial that are whole, in the order in which they were made.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn visits_of_trial(&self, id: TrialId) -> Result<Vec<(VisitId, TrialVisit)>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, trial_pair, trial_arm FROM visit WHERE trial = ?1 AND status = 'whole' ORDER BY id",
        )?;
        let mut rows = statement.query([id.0])?;
        let mut visits = Vec::new();
        while let Some(row) = rows.next()? {
            let arm = parse("a state of a trial", &row.get::<_, String>(2)?)?;
            let pair = usize::try_from(row.get::<_, i64>(1)?).unwrap_or(usize::MAX);
            visits.push((VisitId(row.get(0)?), TrialVisit { trial: id, pair, arm }));
        }
        Ok(visits)
    }

    fn select_trials(
        &self,
        condition: &str,
        parameters: impl rusqlite::Params,
    ) -> Result<Vec<TrialRecord>, LedgerError> {
        let sql = format!("SELECT id, operation, pc, begun_at, design FROM trial {condition}");
        let mut statement = self.connection.prepare(&sql)?;
        let mut rows = statement.query(parameters)?;
        let mut trials = Vec::new();
        while let Some(row) = rows.next()? {
            let mut record = record_of(row)?;
            record.events = self.events_of_trial(record.id)?;
            trials.push(record);
        }
        Ok(trials)
    }

    fn events_of_trial(&self, id: TrialId) -> Result<Vec<TrialEvent>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT at, event FROM trial_event WHERE trial = ?1 ORDER BY position",
        )?;
        let mut rows = statement.query([id.0])?;
        let mut events = Vec::new();
        while let Some(row) = rows.next()? {
            events.push(TrialEvent {
                at: parse("a time", &row.get::<_, String>(0)?)?,
                event: restore("an event of a trial", &row.get::<_, String>(1)?)?,
            });
        }
        Ok(events)
    }
}

fn record_of(row: &Row<'_>) -> Result<TrialRecord, LedgerError> {
    Ok(TrialRecord {
        id: TrialId(row.get("id")?),
        operation: OperationId(row.get("operation")?),
        pc: PcId::new(row.get::<_, String>("pc")?),
        begun_at: parse("a time", &row.get::<_, String>("begun_at")?)?,
        design: restore("a trial's design", &row.get::<_, String>("design")?)?,
        events: Vec::new(),
    })
}
