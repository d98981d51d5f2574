//! Snapshots: the exact state of everything a change was about to touch.

use frevin_core::ids::PcId;
use frevin_core::setting::{Address, State};
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, Transaction, params};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::error::LedgerError;
use crate::store::{Ledger, parse, restore, store};

/// The number of a snapshot in its ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct SnapshotId(pub i64);

/// A snapshot without its states.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct SnapshotSummary {
    /// Its number.
    pub id: SnapshotId,
    /// The PC that it was taken of.
    pub pc: PcId,
    /// When it was taken.
    pub taken_at: Timestamp,
    /// What it was taken for.
    pub reason: String,
    /// Whether it holds every setting of the PC that can be listed, or only what a change touched.
    pub is_whole: bool,
    /// How many settings it holds.
    pub settings: i64,
}

/// A snapshot.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Snapshot {
    /// What is known of it.
    #[serde(flatten)]
    pub summary: SnapshotSummary,
    /// What each setting held, in the order in which they were about to be touched.
    pub states: Vec<(Address, State)>,
}

pub(crate) fn insert(
    transaction: &Transaction<'_>,
    pc: &PcId,
    taken_at: Timestamp,
    reason: &str,
    is_whole: bool,
    states: &[(Address, State)],
) -> Result<SnapshotId, LedgerError> {
    transaction.execute(
        "INSERT INTO snapshot (pc, taken_at, reason, is_whole) VALUES (?1, ?2, ?3, ?4)",
        params![pc.as_str(), taken_at.to_string(), reason, is_whole],
    )?;
    let id = transaction.last_insert_rowid();
    let mut statement = transaction.prepare(
        "INSERT INTO snapshot_state (snapshot, position, address, state) VALUES (?1, ?2, ?3, ?4)",
    )?;
    for (position, (address, state)) in (0i64..).zip(states) {
        statement.execute(params![id, position, address.to_string(), store("a state", state)?])?;
    }
    Ok(SnapshotId(id))
}

const SUMMARY: &str = "SELECT id, pc, taken_at, reason, is_whole,
    (SELECT count(*) FROM snapshot_state WHERE snapshot = snapshot.id) AS settings FROM snapshot";

impl Ledger {
    /// Keeps a snapshot of every setting of a PC that can be listed.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn take_snapshot(
        &mut self,
        pc: &PcId,
        taken_at: Timestamp,
        reason: &str,
        states: &[(Address, State)],
    ) -> Result<SnapshotId, LedgerError> {
        let transaction = self.begin()?;
        let id = insert(&transaction, pc, taken_at, reason, true, states)?;
        transaction.commit()?;
        Ok(id)
    }

    /// The snapshots of a PC, the latest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn snapshots(&self, pc: &PcId) -> Result<Vec<SnapshotSummary>, LedgerError> {
        let mut statement =
            self.connection.prepare(&format!("{SUMMARY} WHERE pc = ?1 ORDER BY id DESC"))?;
        let mut rows = statement.query([pc.as_str()])?;
        let mut snapshots = Vec::new();
        while let Some(row) = rows.next()? {
            snapshots.push(summary_of(row)?);
        }
        Ok(snapshots)
    }

    /// A snapshot of a PC with its states.
    ///
    /// # Errors
    /// [`LedgerError::NoSnapshot`] where the PC has none of that number.
    pub fn snapshot(&self, pc: &PcId, id: SnapshotId) -> Result<Snapshot, LedgerError> {
        let summary = self
            .connection
            .query_row(
                &format!("{SUMMARY} WHERE pc = ?1 AND id = ?2"),
                params![pc.as_str(), id.0],
                |row| Ok(summary_of(row)),
            )
            .optional()?
            .ok_or(LedgerError::NoSnapshot(id.0))??;
        let mut statement = self.connection.prepare(
            "SELECT address, state FROM snapshot_state WHERE snapshot = ?1 ORDER BY position",
        )?;
        let mut rows = statement.query([id.0])?;
        let mut states = Vec::new();
        while let Some(row) = rows.next()? {
            let address: String = row.get(0)?;
            let state: String = row.get(1)?;
            states.push((parse("an address", &address)?, restore("a state", &state)?));
        }
        Ok(Snapshot { summary, states })
    }
}

fn summary_of(row: &rusqlite::Row<'_>) -> Result<SnapshotSummary, LedgerError> {
    Ok(SnapshotSummary {
        id: SnapshotId(row.get("id")?),
        pc: PcId::new(row.get::<_, String>("pc")?),
        taken_at: parse("a time", &row.get::<_, String>("taken_at")?)?,
        reason: row.get("reason")?,
        is_whole: row.get("is_whole")?,
        settings: row.get("settings")?,
    })
}
