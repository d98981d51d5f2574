//! Plays: what is held while a game runs.

use frevin_core::ids::PcId;
use frevin_core::layers::ChangeId;
use frevin_core::playing::{PlayEnding, PlayEvent, PlayId, PlayPlan};
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, params};
use schemars::JsonSchema;
use serde::Serialize;

use crate::error::LedgerError;
use crate::seal::{self, SealedPart};
use crate::store::{Ledger, parse, restore, store};

/// A play as the ledger keeps it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct PlayRecord {
    /// Its number.
    pub id: PlayId,
    /// The PC.
    pub pc: PcId,
    /// When it began, for people.
    pub begun_at: Timestamp,
    /// What was settled before it began.
    pub plan: PlayPlan,
    /// When it ended, and why; nothing while it is held.
    pub ended: Option<(Timestamp, PlayEnding)>,
    /// What happened meanwhile.
    pub events: Vec<TimedPlayEvent>,
}

/// Something that happened in a play.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct TimedPlayEvent {
    /// When, for people.
    pub at: Timestamp,
    /// What.
    #[serde(flatten)]
    pub event: PlayEvent,
}

impl Ledger {
    /// Writes down that something is to be held while a game runs, durably, before anything is.
    ///
    /// # Errors
    /// Where the ledger cannot be written; there is no play then.
    pub fn begin_play(
        &mut self,
        pc: &PcId,
        at: Timestamp,
        plan: &PlayPlan,
    ) -> Result<PlayId, LedgerError> {
        let transaction = self.begin()?;
        transaction.execute(
            "INSERT INTO play (pc, begun_at, plan) VALUES (?1, ?2, ?3)",
            params![pc.as_str(), at.to_string(), store("the plan of a play", plan)?],
        )?;
        let id = PlayId(transaction.last_insert_rowid());
        seal::commit(transaction, &[SealedPart::Play(id)])?;
        Ok(id)
    }

    /// Writes down that nothing of a play is held any more.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn end_play(
        &mut self,
        id: PlayId,
        at: Timestamp,
        ending: PlayEnding,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        transaction.execute(
            "UPDATE play SET ended_at = ?2, ending = ?3 WHERE id = ?1 AND ended_at IS NULL",
            params![id.0, at.to_string(), store("the end of a play", &ending)?],
        )?;
        seal::commit(transaction, &[SealedPart::Play(id)])
    }

    /// Writes down what happens in a play, durably.
    ///
    /// # Errors
    /// Where the ledger cannot be written.
    pub fn add_play_event(
        &mut self,
        id: PlayId,
        at: Timestamp,
        event: &PlayEvent,
    ) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        transaction.execute(
            "INSERT INTO play_event (play, position, at, event)
             SELECT ?1, coalesce(max(position) + 1, 0), ?2, ?3 FROM play_event WHERE play = ?1",
            params![id.0, at.to_string(), store("an event of a play", event)?],
        )?;
        seal::commit(transaction, &[SealedPart::Play(id)])
    }

    fn events_of_play(&self, id: PlayId) -> Result<Vec<TimedPlayEvent>, LedgerError> {
        let mut statement = self
            .connection
            .prepare_cached("SELECT at, event FROM play_event WHERE play = ?1 ORDER BY position")?;
        let mut rows = statement.query([id.0])?;
        let mut events = Vec::new();
        while let Some(row) = rows.next()? {
            events.push(TimedPlayEvent {
                at: parse("a time", &row.get::<_, String>("at")?)?,
                event: restore("an event of a play", &row.get::<_, String>("event")?)?,
            });
        }
        Ok(events)
    }

    /// The plays of a PC, the earliest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn plays(&self, pc: &PcId) -> Result<Vec<PlayRecord>, LedgerError> {
        self.select_plays("WHERE pc = ?1 ORDER BY id", pc)
    }

    /// A play; nothing where there is none of that number.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn play(&self, id: PlayId) -> Result<Option<PlayRecord>, LedgerError> {
        let sql = "SELECT pc FROM play WHERE id = ?1";
        let pc =
            self.connection.query_row(sql, [id.0], |row| row.get::<_, String>(0)).optional()?;
        let Some(pc) = pc else { return Ok(None) };
        Ok(self.plays(&PcId::new(pc))?.into_iter().find(|play| play.id == id))
    }

    /// The plays of a PC that have no end.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn open_plays(&self, pc: &PcId) -> Result<Vec<PlayRecord>, LedgerError> {
        self.select_plays("WHERE pc = ?1 AND ended_at IS NULL ORDER BY id", pc)
    }

    /// Whether a play of any PC has no end.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn has_open_play(&self) -> Result<bool, LedgerError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM play WHERE ended_at IS NULL)";
        Ok(self.connection.query_row(sql, [], |row| row.get(0))?)
    }

    /// The changes that were carried out for a play, the latest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn changes_of_play(&self, id: PlayId) -> Result<Vec<ChangeId>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id FROM change WHERE play = ?1 AND status = 'applied' ORDER BY id DESC",
        )?;
        let changes = statement.query_map([id.0], |row| Ok(ChangeId(row.get(0)?)))?;
        Ok(changes.collect::<Result<_, _>>()?)
    }

    fn select_plays(&self, condition: &str, pc: &PcId) -> Result<Vec<PlayRecord>, LedgerError> {
        let sql = format!("SELECT id, pc, begun_at, plan, ended_at, ending FROM play {condition}");
        let mut statement = self.connection.prepare(&sql)?;
        let mut rows = statement.query([pc.as_str()])?;
        let mut plays = Vec::new();
        while let Some(row) = rows.next()? {
            let ended_at: Option<String> = row.get("ended_at")?;
            let ending: Option<String> = row.get("ending")?;
            let ended = match ended_at.zip(ending) {
                None => None,
                Some((at, ending)) => {
                    Some((parse("a time", &at)?, restore("the end of a play", &ending)?))
                }
            };
            let id = PlayId(row.get("id")?);
            plays.push(PlayRecord {
                id,
                pc: PcId::new(row.get::<_, String>("pc")?),
                begun_at: parse("a time", &row.get::<_, String>("begun_at")?)?,
                plan: restore("the plan of a play", &row.get::<_, String>("plan")?)?,
                ended,
                events: self.events_of_play(id)?,
            });
        }
        Ok(plays)
    }
}
