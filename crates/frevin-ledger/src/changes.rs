//! Changes: begun before the PC is touched, ended after it has been read back.

use std::collections::BTreeMap;

use frevin_core::layers::{ChangeId, Layer};
use frevin_core::preview::{Action, Step};
use frevin_core::profile::{ProfileName, RevisionName, Version};
use frevin_core::setting::{Address, State};
use frevin_core::tweak::TweakId;
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, Row, params};
use serde::Serialize;

use crate::error::LedgerError;
use crate::layers;
use crate::snapshots::{self, SnapshotId};
use crate::store::{Ledger, parse, restore, store};

/// What has become of a change.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum ChangeStatus {
    /// It was begun and not ended.
    Begun,
    /// It was carried out.
    Applied,
    /// It was undone before its end.
    Undone,
    /// A newer Frevin says something that this one does not know.
    Unknown(String),
}

impl ChangeStatus {
    fn as_str(&self) -> &str {
        match self {
            Self::Begun => "begun",
            Self::Applied => "applied",
            Self::Undone => "undone",
            Self::Unknown(other) => other,
        }
    }

    fn from_stored(text: String) -> Self {
        match text.as_str() {
            "begun" => Self::Begun,
            "applied" => Self::Applied,
            "undone" => Self::Undone,
            _ => Self::Unknown(text),
        }
    }
}

/// A change about to be made.
#[derive(Debug)]
pub struct NewChange<'a> {
    /// The PC.
    pub pc: &'a str,
    /// What it is, for people.
    pub title: &'a str,
    /// The revision that it applies, if it applies one.
    pub revision: Option<(&'a ProfileName, u32)>,
    /// The start of the PC that it is made after.
    pub boot: &'a str,
    /// When it begins.
    pub begun_at: Timestamp,
    /// Its steps.
    pub steps: &'a [Step],
}

/// A change of a PC.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Change {
    /// Its number.
    pub id: ChangeId,
    /// The PC.
    pub pc: String,
    /// The snapshot taken before it.
    pub snapshot: SnapshotId,
    /// What it is, for people.
    pub title: String,
    /// The revision that it applied, if it applied one.
    pub revision: Option<String>,
    /// The start of the PC that it was made after.
    pub boot: String,
    /// When it began.
    pub begun_at: Timestamp,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// What has become of it.
    pub status: ChangeStatus,
    /// How many settings it laid a layer on.
    pub layers_laid: usize,
    /// How many of its layers are still there.
    pub layers_left: usize,
    /// Its steps.
    pub steps: Vec<Step>,
}

/// A setting whose latest write waits for a restart of the PC.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Waiting {
    /// The setting.
    pub address: Address,
    /// The tweak that it was written for, where a change wrote it.
    pub tweak: Option<TweakId>,
}

const COLUMNS: &str = "id, pc, snapshot, title, profile, revision, boot, begun_at, ended_at, status,
    (SELECT count(*) FROM step WHERE step.change = change.id AND action != '\"already-so\"') AS laid,
    (SELECT count(*) FROM layer WHERE layer.change = change.id) AS remaining";

impl Ledger {
    /// Writes a change and the snapshot before it down, durably: it may touch the PC from now on.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn begin_change(&mut self, change: &NewChange<'_>) -> Result<ChangeId, LedgerError> {
        let states: Vec<_> = first_states(change.steps);
        let transaction = self.begin()?;
        let reason = format!("before {}", change.title);
        let snapshot =
            snapshots::insert(&transaction, change.pc, change.begun_at, &reason, false, &states)?;
        transaction.execute(
            "INSERT INTO change (pc, snapshot, title, profile, revision, boot, begun_at, status)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'begun')",
            params![
                change.pc,
                snapshot.0,
                change.title,
                change.revision.map(|(profile, _)| profile.as_str()),
                change.revision.map(|(_, number)| number),
                change.boot,
                change.begun_at.to_string(),
            ],
        )?;
        let id = ChangeId(transaction.last_insert_rowid());
        let mut statement = transaction.prepare(
            "INSERT INTO step
                (change, position, tweak, address, before, after, action, takes_effect, reason)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9)",
        )?;
        for (position, step) in (0i64..).zip(change.steps) {
            statement.execute(params![
                id.0,
                position,
                step.tweak.as_str(),
                step.address.to_string(),
                store("a state", &step.before)?,
                store("a state", &step.after)?,
                store("an action", &step.action)?,
                store("a moment", &step.takes_effect)?,
                store("a reason", &step.reason)?,
            ])?;
        }
        drop(statement);
        transaction.commit()?;
        Ok(id)
    }

    /// Ends a change that was carried out: its layers are laid.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the change is unfinished then.
    pub fn finish_change(&mut self, id: ChangeId, ended_at: Timestamp) -> Result<(), LedgerError> {
        let change = self.change(id)?;
        let transaction = self.begin()?;
        let mut held = layers::load(&transaction, &change.pc)?;
        for step in change.steps.iter().filter(|step| step.action != Action::AlreadySo) {
            let tweak = step.tweak.clone();
            let layer = Layer { change: id, tweak, state: step.after.clone() };
            held.lay(&step.address, &step.before, layer);
        }
        layers::replace(&transaction, &change.pc, &held)?;
        set_status(&transaction, id, &ChangeStatus::Applied, ended_at)?;
        transaction.commit()?;
        Ok(())
    }

    /// Ends a change of which nothing is left on the PC.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the change is unfinished then.
    pub fn abandon_change(&mut self, id: ChangeId, ended_at: Timestamp) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        set_status(&transaction, id, &ChangeStatus::Undone, ended_at)?;
        transaction.commit()?;
        Ok(())
    }

    /// A change.
    ///
    /// # Errors
    /// [`LedgerError::NoChange`] where there is none of that number.
    pub fn change(&self, id: ChangeId) -> Result<Change, LedgerError> {
        let row = self
            .connection
            .query_row(&format!("SELECT {COLUMNS} FROM change WHERE id = ?1"), [id.0], |row| {
                Ok(change_of(row))
            })
            .optional()?
            .ok_or(LedgerError::NoChange(id))??;
        self.with_steps(row)
    }

    /// The changes of a PC, the latest first.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn changes(&self, pc: &str) -> Result<Vec<Change>, LedgerError> {
        let mut statement = self
            .connection
            .prepare(&format!("SELECT {COLUMNS} FROM change WHERE pc = ?1 ORDER BY id DESC"))?;
        let mut rows = statement.query([pc])?;
        let mut changes = Vec::new();
        while let Some(row) = rows.next()? {
            changes.push(self.with_steps(change_of(row)?)?);
        }
        Ok(changes)
    }

    /// Whether a change of a PC was ever carried out.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn has_applied_change(&self, pc: &str) -> Result<bool, LedgerError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM change WHERE pc = ?1 AND status = 'applied')";
        Ok(self.connection.query_row(sql, [pc], |row| row.get(0))?)
    }

    pub(crate) fn unfinished_change(&self, pc: &str) -> Result<Option<Change>, LedgerError> {
        let sql = format!("SELECT {COLUMNS} FROM change WHERE pc = ?1 AND status = 'begun'");
        let change = self.connection.query_row(&sql, [pc], |row| Ok(change_of(row))).optional()?;
        change.transpose()?.map(|change| self.with_steps(change)).transpose()
    }

    /// What was written after the start `boot` of a PC and waits for its next one. What has been
    /// put back since to what it was at that start does not.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn waiting_for_restart(&self, pc: &str, boot: &str) -> Result<Vec<Waiting>, LedgerError> {
        let mut statement = self.connection.prepare(
            "SELECT change.begun_at AS at, position, step.address, step.tweak, before, after
             FROM step JOIN change ON change.id = step.change
             WHERE pc = ?1 AND boot = ?2 AND status = 'applied'
                 AND action = '\"write\"' AND takes_effect = '\"restart\"'
             UNION ALL
             SELECT rollback.begun_at, position, step ->> '$.write.address', NULL,
                 step -> '$.write.before', step -> '$.write.after'
             FROM rollback_step JOIN rollback ON rollback.id = rollback_step.rollback
             WHERE pc = ?1 AND boot = ?2 AND status = 'finished'
                 AND takes_effect = '\"restart\"' AND step -> '$.write' IS NOT NULL
             ORDER BY at, position",
        )?;
        let mut rows = statement.query([pc, boot])?;
        let mut written: BTreeMap<Address, (Option<TweakId>, State, State)> = BTreeMap::new();
        while let Some(row) = rows.next()? {
            let text = |column: &str| row.get::<_, String>(column);
            let address = parse("an address", &text("address")?)?;
            let tweak: Option<String> = row.get("tweak")?;
            let tweak = tweak.map(|tweak| parse("a tweak's name", &tweak)).transpose()?;
            let before = restore("a state", &text("before")?)?;
            let after: State = restore("a state", &text("after")?)?;
            let entry = written.entry(address).or_insert((None, before, State::Absent));
            entry.0 = tweak;
            entry.2 = after;
        }
        let waits = |(address, (tweak, at_start, now))| {
            (at_start != now).then_some(Waiting { address, tweak })
        };
        Ok(written.into_iter().filter_map(waits).collect())
    }

    fn with_steps(&self, mut change: Change) -> Result<Change, LedgerError> {
        let mut statement = self.connection.prepare(
            "SELECT tweak, address, before, after, action, takes_effect, reason
             FROM step WHERE change = ?1 ORDER BY position",
        )?;
        let mut rows = statement.query([change.id.0])?;
        while let Some(row) = rows.next()? {
            let text = |column: usize| row.get::<_, String>(column);
            change.steps.push(Step {
                tweak: parse("a tweak's name", &text(0)?)?,
                address: parse("an address", &text(1)?)?,
                before: restore("a state", &text(2)?)?,
                after: restore("a state", &text(3)?)?,
                action: restore("an action", &text(4)?)?,
                takes_effect: restore("a moment", &text(5)?)?,
                reason: restore("a reason", &text(6)?)?,
            });
        }
        Ok(change)
    }
}

/// What each setting of a plan holds before the first step that touches it.
fn first_states(steps: &[Step]) -> Vec<(Address, State)> {
    let mut states: Vec<(Address, State)> = Vec::new();
    for step in steps {
        if !states.iter().any(|(address, _)| *address == step.address) {
            states.push((step.address.clone(), step.before.clone()));
        }
    }
    states
}

fn set_status(
    transaction: &rusqlite::Transaction<'_>,
    id: ChangeId,
    status: &ChangeStatus,
    ended_at: Timestamp,
) -> Result<(), LedgerError> {
    let rows = transaction.execute(
        "UPDATE change SET status = ?2, ended_at = ?3 WHERE id = ?1 AND status = 'begun'",
        params![id.0, status.as_str(), ended_at.to_string()],
    )?;
    if rows == 1 { Ok(()) } else { Err(LedgerError::NoChange(id)) }
}

fn change_of(row: &Row<'_>) -> Result<Change, LedgerError> {
    let profile: Option<String> = row.get("profile")?;
    let number: Option<u32> = row.get("revision")?;
    let revision = match profile.zip(number) {
        Some((profile, number)) => {
            let profile = parse("a profile's name", &profile)?;
            Some(RevisionName { profile, version: Version::Number(number) }.to_string())
        }
        None => None,
    };
    let ended_at: Option<String> = row.get("ended_at")?;
    let count = |column: &str| row.get::<_, i64>(column).map(|n| usize::try_from(n).unwrap_or(0));
    Ok(Change {
        id: ChangeId(row.get("id")?),
        pc: row.get("pc")?,
        snapshot: SnapshotId(row.get("snapshot")?),
        title: row.get("title")?,
        revision,
        boot: row.get("boot")?,
        begun_at: parse("a time", &row.get::<_, String>("begun_at")?)?,
        ended_at: ended_at.map(|at| parse("a time", &at)).transpose()?,
        status: ChangeStatus::from_stored(row.get("status")?),
        layers_laid: count("laid")?,
        layers_left: count("remaining")?,
        steps: Vec::new(),
    })
}
