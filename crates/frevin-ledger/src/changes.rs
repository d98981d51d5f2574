//! Changes: begun before the PC is touched, ended after it has been read back.

use std::collections::BTreeSet;

use frevin_core::ids::{BootId, OperationId, PcId};
use frevin_core::layers::{ChangeId, Layer};
use frevin_core::preview::{Action, Step};
use frevin_core::profile::{ProfileName, RevisionName, Version};
use frevin_core::setting::{Address, State};
use frevin_core::sift::SiftId;
use frevin_core::trial::TrialId;
use frevin_core::waiting::{PastWrite, Start};
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, Row, params};
use schemars::JsonSchema;
use serde::Serialize;

use crate::error::LedgerError;
use crate::layers::{self, store_arguments, use_of};
use crate::operations::{self, OperationKind};
use crate::seal::{self, SealedPart};
use crate::sifts::ChangeFor;
use crate::snapshots::{self, SnapshotId};
use crate::store::{Ledger, parse, restore, store};

/// What has become of a change.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
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

    pub(crate) fn from_stored(text: String) -> Self {
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
    pub pc: &'a PcId,
    /// What it is, for people.
    pub title: &'a str,
    /// The revision that it applies, if it applies one.
    pub revision: Option<(&'a ProfileName, u32)>,
    /// The start of the PC that it is made after.
    pub boot: &'a BootId,
    /// When it begins.
    pub begun_at: Timestamp,
    /// The change whose layers it takes the place of, if it does.
    pub replaces: Option<ChangeId>,
    /// What it is made for, where it is a step of something larger.
    pub made_for: Option<&'a ChangeFor>,
    /// Its steps.
    pub steps: &'a [NewStep],
}

/// A step about to be made.
#[derive(Debug, Clone)]
pub struct NewStep {
    /// The step.
    pub step: Step,
    /// The present start of what its write waits for.
    pub start: Start,
}

/// A change of a PC.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Change {
    /// Its number.
    pub id: ChangeId,
    /// Its place in the order of what was done.
    pub operation: OperationId,
    /// The PC.
    pub pc: PcId,
    /// The snapshot taken before it.
    pub snapshot: SnapshotId,
    /// What it is, for people.
    pub title: String,
    /// The revision that it applied, if it applied one.
    pub revision: Option<String>,
    /// The start of the PC that it was made after.
    pub boot: BootId,
    /// When it began.
    pub begun_at: Timestamp,
    /// The change whose layers it took the place of, if it did.
    pub replaces: Option<ChangeId>,
    /// When it ended.
    pub ended_at: Option<Timestamp>,
    /// What has become of it.
    pub status: ChangeStatus,
    /// The trial that it was made for, if it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub trial: Option<TrialId>,
    /// The sift that it was made for, if it was.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub sift: Option<SiftId>,
    /// How many settings it laid a layer on.
    pub layers_laid: usize,
    /// How many of its layers are still there.
    pub layers_left: usize,
    /// How many of its layers were let go: no way back is left for them.
    pub layers_let_go: usize,
    /// Its steps.
    pub steps: Vec<Step>,
}

const COLUMNS: &str = "id, operation, pc, snapshot, title, profile, revision, boot, begun_at, ended_at, status, replaces, let_go, trial, sift,
    (SELECT count(*) FROM step WHERE step.change = change.id AND action IN ('write', 'share')) AS laid,
    (SELECT count(*) FROM layer WHERE layer.change = change.id) AS remaining";

impl Ledger {
    /// Writes a change and the snapshot before it down, durably: it may touch the PC from now on.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn begin_change(&mut self, change: &NewChange<'_>) -> Result<ChangeId, LedgerError> {
        let states: Vec<_> = first_states(change.steps);
        let (trial, sift, play) = match change.made_for {
            None => (None, None, None),
            Some(ChangeFor::Trial(trial, place)) => (Some((trial, place)), None, None),
            Some(ChangeFor::Sift(sift, on)) => (None, Some((sift, on)), None),
            Some(ChangeFor::Play(play)) => (None, None, Some(play)),
        };
        let transaction = self.begin()?;
        let operation = operations::begin(
            &transaction,
            OperationKind::Change,
            Some(change.pc),
            Some(change.boot),
            change.begun_at,
        )?;
        let reason = format!("before {}", change.title);
        let snapshot =
            snapshots::insert(&transaction, change.pc, change.begun_at, &reason, false, &states)?;
        transaction.execute(
            "INSERT INTO change (pc, snapshot, title, profile, revision, boot, begun_at, status, operation,
                                 replaces, trial, trial_place, sift, sift_configuration, play)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, 'begun', ?8, ?9, ?10, ?11, ?12, ?13, ?14)",
            params![
                change.pc.as_str(),
                snapshot.0,
                change.title,
                change.revision.map(|(profile, _)| profile.as_str()),
                change.revision.map(|(_, number)| number),
                change.boot.as_str(),
                change.begun_at.to_string(),
                operation.0,
                change.replaces.map(|replaced| replaced.0),
                trial.map(|(trial, _)| trial.0),
                trial.map(|(_, place)| store("a state of a trial", &place)).transpose()?,
                sift.map(|(sift, _)| sift.0),
                sift.map(|(_, on)| store("a configuration of a sift", on)).transpose()?,
                play.map(|play| play.0),
            ],
        )?;
        let id = ChangeId(transaction.last_insert_rowid());
        let mut statement = transaction.prepare(
            "INSERT INTO step
                (change, position, tweak, address, before, after, action, takes_effect, reason, arguments, start)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, ?10, ?11)",
        )?;
        for (position, NewStep { step, start }) in (0i64..).zip(change.steps) {
            statement.execute(params![
                id.0,
                position,
                step.used.tweak.as_str(),
                step.address.to_string(),
                store("a state", &step.before)?,
                store("a state", &step.after)?,
                <&str>::from(step.action),
                <&str>::from(step.takes_effect),
                store("a reason", &step.reason)?,
                store_arguments(&step.used)?,
                store("a start", start)?,
            ])?;
        }
        drop(statement);
        seal::commit(transaction, &[SealedPart::Change(id)])?;
        Ok(id)
    }

    /// Ends a change that was carried out: its layers are laid, in the place of those of the change
    /// that it replaces.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the change is unfinished then.
    pub fn finish_change(&mut self, id: ChangeId, ended_at: Timestamp) -> Result<(), LedgerError> {
        self.finish_change_except(id, &BTreeSet::new(), ended_at)
    }

    /// The same, but for settings that went back on their own: no layer is laid on them.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the change is unfinished then.
    pub fn finish_change_except(
        &mut self,
        id: ChangeId,
        except: &BTreeSet<Address>,
        ended_at: Timestamp,
    ) -> Result<(), LedgerError> {
        let change = self.change(id)?;
        let transaction = self.begin()?;
        let mut held = layers::load(&transaction, &change.pc)?;
        let is_held = |step: &&Step| step.action.holds() && !except.contains(&step.address);
        let held_steps = change.steps.iter().filter(is_held);
        let new = held_steps.map(|step| {
            let layer = Layer { change: id, used: step.used.clone(), state: step.after.clone() };
            (step.address.clone(), step.before.clone(), layer)
        });
        match change.replaces {
            Some(replaced) => held.replace_change(replaced, new.collect()),
            None => new.for_each(|(address, before, layer)| held.lay(&address, &before, layer)),
        }
        layers::replace(&transaction, &change.pc, &held)?;
        set_status(&transaction, id, &ChangeStatus::Applied, ended_at)?;
        let layers = SealedPart::Layers(change.pc);
        seal::commit(transaction, &[SealedPart::Change(id), layers])?;
        Ok(())
    }

    /// Ends a change of which nothing is left on the PC.
    ///
    /// # Errors
    /// Where the ledger cannot be written; the change is unfinished then.
    pub fn abandon_change(&mut self, id: ChangeId, ended_at: Timestamp) -> Result<(), LedgerError> {
        let transaction = self.begin()?;
        set_status(&transaction, id, &ChangeStatus::Undone, ended_at)?;
        seal::commit(transaction, &[SealedPart::Change(id)])?;
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
    pub fn changes(&self, pc: &PcId) -> Result<Vec<Change>, LedgerError> {
        let mut statement = self
            .connection
            .prepare(&format!("SELECT {COLUMNS} FROM change WHERE pc = ?1 ORDER BY id DESC"))?;
        let mut rows = statement.query([pc.as_str()])?;
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
    pub fn has_applied_change(&self, pc: &PcId) -> Result<bool, LedgerError> {
        let sql = "SELECT EXISTS (SELECT 1 FROM change WHERE pc = ?1 AND status = 'applied')";
        Ok(self.connection.query_row(sql, [pc.as_str()], |row| row.get(0))?)
    }

    pub(crate) fn unfinished_change(&self, pc: &PcId) -> Result<Option<Change>, LedgerError> {
        let sql = format!("SELECT {COLUMNS} FROM change WHERE pc = ?1 AND status = 'begun'");
        let change =
            self.connection.query_row(&sql, [pc.as_str()], |row| Ok(change_of(row))).optional()?;
        change.transpose()?.map(|change| self.with_steps(change)).transpose()
    }

    /// The writes to a PC in its start `boot`, in the order in which they were made.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn past_writes(&self, pc: &PcId, boot: &BootId) -> Result<Vec<PastWrite>, LedgerError> {
        let mut ordered: Vec<(i64, Vec<PastWrite>)> = Vec::new();
        let mut statement = self.connection.prepare(
            "SELECT operation, tweak, arguments, address, before, after, action, takes_effect, start
             FROM step JOIN change ON change.id = step.change
             WHERE pc = ?1 AND boot = ?2 AND status = 'applied' ORDER BY operation, position",
        )?;
        let mut rows = statement.query([pc.as_str(), boot.as_str()])?;
        while let Some(row) = rows.next()? {
            let text = |column: &str| row.get::<_, String>(column);
            let action: Action = parse("an action", &text("action")?)?;
            if !action.writes() {
                continue;
            }
            let used = use_of(&text("tweak")?, row.get("arguments")?)?;
            let write = PastWrite {
                address: parse("an address", &text("address")?)?,
                used: action.holds().then_some(used),
                before: restore("a state", &text("before")?)?,
                after: restore("a state", &text("after")?)?,
                takes_effect: parse("a moment", &text("takes_effect")?)?,
                start: start_of(row.get("start")?)?,
            };
            ordered.push((row.get("operation")?, vec![write]));
        }
        ordered.extend(self.past_back_writes(pc, boot)?);
        // What came first is told by numbers that the ledger gave; steps of one operation are in order.
        ordered.sort_by_key(|(operation, _)| *operation);
        Ok(ordered.into_iter().flat_map(|(_, writes)| writes).collect())
    }

    fn with_steps(&self, mut change: Change) -> Result<Change, LedgerError> {
        let mut statement = self.connection.prepare(
            "SELECT tweak, address, before, after, action, takes_effect, reason, arguments
             FROM step WHERE change = ?1 ORDER BY position",
        )?;
        let mut rows = statement.query([change.id.0])?;
        while let Some(row) = rows.next()? {
            let text = |column: usize| row.get::<_, String>(column);
            change.steps.push(Step {
                used: use_of(&text(0)?, row.get(7)?)?,
                address: parse("an address", &text(1)?)?,
                before: restore("a state", &text(2)?)?,
                after: restore("a state", &text(3)?)?,
                action: parse("an action", &text(4)?)?,
                takes_effect: parse("a moment", &text(5)?)?,
                reason: restore("a reason", &text(6)?)?,
            });
        }
        Ok(change)
    }
}

/// What each setting of a plan holds before the first step that touches it.
fn first_states(steps: &[NewStep]) -> Vec<(Address, State)> {
    let mut states: Vec<(Address, State)> = Vec::new();
    for NewStep { step, .. } in steps {
        if !states.iter().any(|(address, _)| *address == step.address) {
            states.push((step.address.clone(), step.before.clone()));
        }
    }
    states
}

/// The start of what a write waits for; not known of ledgers of earlier versions.
pub(crate) fn start_of(stored: Option<String>) -> Result<Start, LedgerError> {
    stored.map_or(Ok(Start::Unknown), |text| restore("a start", &text))
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
        operation: OperationId(row.get("operation")?),
        pc: PcId::new(row.get::<_, String>("pc")?),
        snapshot: SnapshotId(row.get("snapshot")?),
        title: row.get("title")?,
        revision,
        boot: BootId::new(row.get::<_, String>("boot")?),
        replaces: row.get::<_, Option<i64>>("replaces")?.map(ChangeId),
        begun_at: parse("a time", &row.get::<_, String>("begun_at")?)?,
        ended_at: ended_at.map(|at| parse("a time", &at)).transpose()?,
        status: ChangeStatus::from_stored(row.get("status")?),
        trial: row.get::<_, Option<i64>>("trial")?.map(TrialId),
        sift: row.get::<_, Option<i64>>("sift")?.map(SiftId),
        layers_laid: count("laid")?,
        layers_left: count("remaining")?,
        layers_let_go: count("let_go")?,
        steps: Vec::new(),
    })
}
