//! The history of a PC: what was done to it and recorded on it, in order.

use frevin_core::ids::{OperationId, PcId, SceneName, StateName};
use frevin_core::layers::{ChangeId, Selection};
use frevin_core::sift::SiftId;
use frevin_core::trial::TrialId;
use frevin_core::visits::VisitId;
use jiff::Timestamp;
use rusqlite::Row;
use schemars::JsonSchema;
use serde::Serialize;

use crate::changes::ChangeStatus;
use crate::error::LedgerError;
use crate::store::{Ledger, parse, restore};

/// Something that was done.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct PastOperation {
    /// Its place in the order.
    pub operation: OperationId,
    /// When it began, for people.
    pub at: Timestamp,
    /// The trial that it was a part of, where it was one.
    pub of_trial: Option<TrialId>,
    /// The sift that it was a part of, where it was one.
    pub of_sift: Option<SiftId>,
    /// What it was.
    #[serde(flatten)]
    pub deed: Deed,
}

/// What was done.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "deed", rename_all = "kebab-case")]
pub enum Deed {
    /// A change of the PC.
    Change {
        /// Its number.
        change: ChangeId,
        /// What it was, for people.
        title: String,
        /// What has become of it.
        status: ChangeStatus,
        /// Whether something of it is still in force.
        is_in_force: bool,
    },
    /// Settings were put back.
    Rollback {
        /// Which layers it took out.
        selection: Selection,
        /// begun, finished, undone.
        status: String,
    },
    /// Runs were recorded.
    Visit {
        /// Its number.
        visit: VisitId,
        /// What was measured.
        scene: SceneName,
        /// The label of the state.
        state_name: StateName,
        /// begun, whole, void.
        status: String,
        /// How many runs.
        runs: usize,
    },
    /// A trial was begun.
    Trial {
        /// Its number.
        trial: TrialId,
    },
    /// A sift was begun.
    Sift {
        /// Its number.
        sift: SiftId,
    },
}

impl Deed {
    fn is_change(&self, id: ChangeId) -> bool {
        matches!(self, Self::Change { change, .. } if *change == id)
    }
}

impl Ledger {
    /// What was done to a PC and recorded on it, in the order in which it began.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn history(&self, pc: &PcId) -> Result<Vec<PastOperation>, LedgerError> {
        let mut statement = self.connection.prepare(
            "SELECT seq, kind, at,
                    change.id AS change, change.title, change.status AS change_status,
                    EXISTS (SELECT 1 FROM layer WHERE layer.change = change.id) AS is_in_force,
                    selection, rollback.status AS rollback_status,
                    visit.id AS visit, visit.scene, visit.state_name, visit.status AS visit_status,
                    (SELECT count(*) FROM run WHERE run.visit = visit.id AND run.is_whole) AS runs,
                    trial.id AS trial,
                    sift.id AS sift,
                    coalesce(change.trial, visit.trial) AS of_trial,
                    coalesce(change.sift, visit.sift) AS of_sift
             FROM operation
             LEFT JOIN change ON change.operation = seq
             LEFT JOIN rollback ON rollback.operation = seq
             LEFT JOIN visit ON visit.operation = seq
             LEFT JOIN trial ON trial.operation = seq
             LEFT JOIN sift ON sift.operation = seq
             WHERE operation.pc = ?1 ORDER BY seq",
        )?;
        let mut rows = statement.query([pc.as_str()])?;
        let mut history: Vec<PastOperation> = Vec::new();
        while let Some(row) = rows.next()? {
            let deed = deed_of(row)?;
            // Taking back what a trial put in force is a part of it.
            let taken_back = match &deed {
                Deed::Rollback { selection: Selection::Change(change), .. } => {
                    history.iter().find(|past| past.deed.is_change(*change))
                }
                _ => None,
            };
            let of_trial = row.get::<_, Option<i64>>("of_trial")?.map(TrialId);
            let of_sift = row.get::<_, Option<i64>>("of_sift")?.map(SiftId);
            history.push(PastOperation {
                operation: OperationId(row.get("seq")?),
                at: parse("a time", &row.get::<_, String>("at")?)?,
                of_trial: of_trial.or(taken_back.and_then(|past| past.of_trial)),
                of_sift: of_sift.or(taken_back.and_then(|past| past.of_sift)),
                deed,
            });
        }
        Ok(history)
    }
}

fn deed_of(row: &Row<'_>) -> Result<Deed, LedgerError> {
    if let Some(change) = row.get::<_, Option<i64>>("change")? {
        return Ok(Deed::Change {
            change: ChangeId(change),
            title: row.get("title")?,
            status: ChangeStatus::from_stored(row.get("change_status")?),
            is_in_force: row.get("is_in_force")?,
        });
    }
    if let Some(selection) = row.get::<_, Option<String>>("selection")? {
        let selection = restore("a selection", &selection)?;
        return Ok(Deed::Rollback { selection, status: row.get("rollback_status")? });
    }
    if let Some(visit) = row.get::<_, Option<i64>>("visit")? {
        return Ok(Deed::Visit {
            visit: VisitId(visit),
            scene: parse("a scene's name", &row.get::<_, String>("scene")?)?,
            state_name: parse("a state's name", &row.get::<_, String>("state_name")?)?,
            status: row.get("visit_status")?,
            runs: usize::try_from(row.get::<_, i64>("runs")?).unwrap_or(0),
        });
    }
    if let Some(sift) = row.get::<_, Option<i64>>("sift")? {
        return Ok(Deed::Sift { sift: SiftId(sift) });
    }
    match row.get::<_, Option<i64>>("trial")? {
        Some(trial) => Ok(Deed::Trial { trial: TrialId(trial) }),
        None => Err(LedgerError::Unreadable {
            what: "an operation",
            reason: format!("its kind is `{}`", row.get::<_, String>("kind")?),
        }),
    }
}
