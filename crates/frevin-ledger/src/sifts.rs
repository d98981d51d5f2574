//! Sifts: their designs, and what happened in them.

use frevin_core::ids::{BootId, OperationId, PcId};
use frevin_core::layers::ChangeId;
use frevin_core::playing::PlayId;
use frevin_core::sift::{Configuration, Sift, SiftDesign, SiftEvent, SiftId};
use frevin_core::trial::{Place, TrialId};
use frevin_core::visits::VisitId;
use jiff::Timestamp;
use rusqlite::{Transaction, params};
use schemars::JsonSchema;
use serde::Serialize;

use crate::error::LedgerError;
use crate::operations::{self, OperationKind};
use crate::seal::{self, SealedPart};
use crate::store::{Ledger, parse, restore, store};
use crate::trials::TrialVisit;

/// What a change is made for, where it is a step of something larger.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum ChangeFor {
    /// A trial, and what of it is put in force.
    Trial(TrialId, Place),
    /// A sift, and the configuration that is put in force.
    Sift(SiftId, Configuration),
    /// A play, for as long as its game runs.
    Play(PlayId),
}

/// What a visit is made for, where it is a step of something larger.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum VisitFor {
    /// A trial.
    Trial(TrialVisit),
    /// A row of a sift.
    Sift(SiftId, usize),
    /// What was recorded while a game was played as its owner liked.
    Play(PlayId),
}

/// A sift about to begin.
#[derive(Debug)]
pub struct NewSift<'a> {
    /// The PC.
    pub pc: &'a PcId,
    /// The start of the PC in which it begins.
    pub boot: &'a BootId,
    /// When it begins, for people.
    pub at: Timestamp,
    /// Its design.
    pub design: &'a SiftDesign,
}

/// An event of a sift, and when it was written down.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct TimedSiftEvent {
    /// When, for people.
    pub at: Timestamp,
    /// What happened.
    #[serde(flatten)]
    pub event: SiftEvent,
}

/// A sift as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct SiftRecord {
    /// Its number.
    pub id: SiftId,
    /// Its place in the order of what was done.
    pub operation: OperationId,
    /// The PC.
    pub pc: PcId,
    /// When it began, for people.
    pub begun_at: Timestamp,
    /// Its design.
    pub design: SiftDesign,
    /// What has happened since.
    pub events: Vec<TimedSiftEvent>,
}

impl SiftRecord {
    /// The sift, its events replayed.
    ///
    /// # Errors
    /// Where its design cannot be sifted, which is not one that Frevin wrote.
    pub fn sift(&self) -> Result<Sift, LedgerError> {
        let events = self.events.iter().map(|timed| &timed.event);
        Sift::replay(self.design.clone(), events).map_err(|error| LedgerError::Unreadable {
            what: "a sift's design",
            reason: error.to_string(),
        })
    }

    /// Whether it has ended, without computing what it has found.
    pub fn has_ended(&self) -> bool {
        self.events.iter().any(|timed| matches!(timed.event, SiftEvent::Ended { .. }))
    }
}

fn insert(transaction: &Transaction<'_>, new: &NewSift<'_>) -> Result<SiftId, LedgerError> {
    let (pc, boot) = (Some(new.pc), Some(new.boot));
    let operation = operations::begin(transaction, OperationKind::Sift, pc, boot, new.at)?;
    transaction.execute(
        "INSERT INTO sift (operation, pc, begun_at, design) VALUES (?1, ?2, ?3, ?4)",
        params![
            operation.0,
            new.pc.as_str(),
            new.at.to_string(),
            store("a sift's design", new.design)?,
        ],
    )?;
    Ok(SiftId(transaction.last_insert_rowid()))
}

fn add_event(
    transaction: &Transaction<'_>,
    id: SiftId,
    at: Timestamp,
    event: &SiftEvent,
) -> Result<(), LedgerError> {
    transaction.execute(
        "INSERT INTO sift_event (sift, position, at, event)
         SELECT ?1, coalesce(max(position) + 1, 0), ?2, ?3 FROM sift_event WHERE sift = ?1",
        params![id.0, at.to_string(), store("an event of a sift", event)?],
    )?;
    Ok(())
}

impl Ledger {
    /// Writes the design of a sift down, durably.
    ///
    /// # Errors
    /// Where the ledger cannot be written; there is no sift then.
    pub fn begin_sift(&mut self, new: &NewSift<'_>) -> Result<SiftId, LedgerError> {
        let transaction = self.begin()?;
        let id = insert(&transaction, new)?;
        seal::commit(transaction, &[SealedPart::Sift(id)])?;
        Ok(id)
    }

    /// Ends a sift and begins the one that follows it, durably and at once: there is no moment at which neither is open.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the first is open then as before.
    pub fn begin_sift_after(
        &mut self,
        before: SiftId,
        new: &NewSift<'_>,
    ) -> Result<SiftId, LedgerError> {
        let transaction = self.begin()?;
        let ended = SiftEvent::Ended { verdict: None, ending: None };
        add_event(&transaction, before, new.at, &ended)?;
        let id = insert(&transaction, new)?;
        seal::commit(transaction, &[SealedPart::Sift(before), SealedPart::Sift(id)])?;
        Ok(id)
    }

    /// Writes down what happened in a sift, durably.
    ///
    /// # Errors
    /// Where the ledger cannot be written; it is not written down then.
    pub fn add_sift_event(
        &mut self,
        id: SiftId,
        at: Timestamp,
        event: &SiftEvent,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        add_event(&transaction, id, at, event)?;
        seal::commit(transaction, &[SealedPart::Sift(id)])
    }

    /// A sift.
    ///
    /// # Errors
    /// [`LedgerError::NoSift`] where there is none of that number.
    pub fn sift(&self, id: SiftId) -> Result<SiftRecord, LedgerError> {
        let found = self.select_sifts("WHERE id = ?1", params![id.0])?;
        found.into_iter().next().ok_or(LedgerError::NoSift(id))
    }

    /// The sifts of a PC, the earliest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn sifts(&self, pc: &PcId) -> Result<Vec<SiftRecord>, LedgerError> {
        self.select_sifts("WHERE pc = ?1 ORDER BY id", params![pc.as_str()])
    }

    /// The sift of a PC that has begun and not ended, if one has.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn open_sift(&self, pc: &PcId) -> Result<Option<SiftRecord>, LedgerError> {
        let last = self.select_sifts("WHERE pc = ?1 ORDER BY id DESC LIMIT 1", [pc.as_str()])?;
        Ok(last.into_iter().find(|record| !record.has_ended()))
    }

    /// The changes that were carried out for a sift, the latest first, with what each put in force.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn changes_of_sift(
        &self,
        id: SiftId,
    ) -> Result<Vec<(ChangeId, Configuration)>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, sift_configuration FROM change WHERE sift = ?1 AND status = 'applied' ORDER BY id DESC",
        )?;
        let mut rows = statement.query([id.0])?;
        let mut changes = Vec::new();
        while let Some(row) = rows.next()? {
            let configuration: String = row.get(1)?;
            let configuration = restore("a configuration of a sift", &configuration)?;
            changes.push((ChangeId(row.get(0)?), configuration));
        }
        Ok(changes)
    }

    /// The visits of a sift that are whole, in the order in which they were made, with their rows.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn visits_of_sift(&self, id: SiftId) -> Result<Vec<(VisitId, usize)>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, sift_row FROM visit WHERE sift = ?1 AND status = 'whole' ORDER BY id",
        )?;
        let mut rows = statement.query([id.0])?;
        let mut visits = Vec::new();
        while let Some(row) = rows.next()? {
            let of = usize::try_from(row.get::<_, i64>(1)?).unwrap_or(usize::MAX);
            visits.push((VisitId(row.get(0)?), of));
        }
        Ok(visits)
    }

    fn select_sifts(
        &self,
        condition: &str,
        parameters: impl rusqlite::Params,
    ) -> Result<Vec<SiftRecord>, LedgerError> {
        let sql = format!("SELECT id, operation, pc, begun_at, design FROM sift {condition}");
        let mut statement = self.connection.prepare(&sql)?;
        let mut rows = statement.query(parameters)?;
        let mut sifts = Vec::new();
        while let Some(row) = rows.next()? {
            let id = SiftId(row.get("id")?);
            sifts.push(SiftRecord {
                id,
                operation: OperationId(row.get("operation")?),
                pc: PcId::new(row.get::<_, String>("pc")?),
                begun_at: parse("a time", &row.get::<_, String>("begun_at")?)?,
                design: restore("a sift's design", &row.get::<_, String>("design")?)?,
                events: self.events_of_sift(id)?,
            });
        }
        Ok(sifts)
    }

    fn events_of_sift(&self, id: SiftId) -> Result<Vec<TimedSiftEvent>, LedgerError> {
        let mut statement = self
            .connection
            .prepare_cached("SELECT at, event FROM sift_event WHERE sift = ?1 ORDER BY position")?;
        let mut rows = statement.query([id.0])?;
        let mut events = Vec::new();
        while let Some(row) = rows.next()? {
            events.push(TimedSiftEvent {
                at: parse("a time", &row.get::<_, String>(0)?)?,
                event: restore("an event of a sift", &row.get::<_, String>(1)?)?,
            });
        }
        Ok(events)
    }
}
