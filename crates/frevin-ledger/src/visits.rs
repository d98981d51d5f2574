//! Visits and runs.

use frevin_core::environment::BeforeAndAfter;
use frevin_core::ids::{BootId, OperationId, PcId, SceneName, StateDigest, StateName};
use frevin_core::playing::PlayId;
use frevin_core::visits::{
    InForce, Run, RunId, RunSource, VisitContext, VisitId, VisitRecord, VisitStatus,
};
use frevin_frames::{
    FIGURES_VERSION, FrameBlocks, FrameSeries, FrameTally, Metrics, RunConditions, little_endian,
};
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, Row, Transaction, params};

use crate::error::LedgerError;
use crate::frame_bytes::{BY_BLOCK, decode, encode_all};
use crate::operations::{self, OperationKind};
use crate::sifts::VisitFor;
use crate::store::{Ledger, parse, restore, store};

/// Encoded frames that are held before they are written, in bytes.
const HELD_BYTES: usize = 32 << 20;

/// A visit about to be made.
#[derive(Debug)]
pub struct NewVisit<'a> {
    /// The scene.
    pub scene: &'a SceneName,
    /// The PC, where it is known.
    pub pc: Option<&'a PcId>,
    /// The start of the PC that it is made after, where it is known.
    pub boot: Option<&'a BootId>,
    /// The label that the owner gives to the state of the PC.
    pub state_name: &'a StateName,
    /// When it begins, for people.
    pub at: Timestamp,
    /// What is in force; nothing where that is not known.
    pub in_force: Option<&'a InForce>,
    /// Circumstances that runs do not show.
    pub context: &'a VisitContext,
    /// What it is made for, where it is a step of something larger.
    pub made_for: Option<VisitFor>,
}

/// A run about to be kept, without its frames.
#[derive(Debug)]
pub struct NewRun {
    /// Whether it is a warm-up, to be left out of comparisons.
    pub is_warm_up: bool,
    /// Where its frames come from.
    pub source: RunSource,
    /// The start of the PC that it was recorded after, where it is known.
    pub boot: Option<BootId>,
    /// Which run it was after that start, from 1.
    pub run_since_boot: Option<u64>,
    /// Whether the PC did not yet behave by all that was in force.
    pub was_waiting: bool,
    /// Under what it was recorded.
    pub conditions: RunConditions,
    /// Its figures.
    pub metrics: Metrics,
    /// The digest of its frames.
    pub frames_digest: String,
}

/// Which visits are wanted.
#[derive(Debug, Clone, Default)]
pub struct VisitFilter {
    /// Only of this scene.
    pub scene: Option<SceneName>,
    /// Only of states with this label.
    pub state_name: Option<StateName>,
    /// Only those that the owner made: of no trial, no sift and no play.
    pub is_the_owners: bool,
}

/// The digest of frames, by which the ledger knows them again.
#[derive(Debug, Clone, Default)]
pub struct FramesDigest(blake3::Hasher);

impl FramesDigest {
    /// Takes the next frames in.
    pub fn push(&mut self, frame_ms: &[f64]) {
        // Long texts are digested several pieces at once.
        const AT_ONCE: usize = 1 << 13;
        for frames in frame_ms.chunks(AT_ONCE) {
            self.0.update(&little_endian(frames));
        }
    }

    /// The digest of all of them, in hexadecimal digits.
    pub fn finish(&self) -> String {
        self.0.finalize().to_hex().to_string()
    }

    /// The digest of a run that is in memory.
    pub fn of(series: &FrameSeries) -> String {
        let mut digest = Self::default();
        digest.push(series.frame_ms());
        digest.finish()
    }
}

impl Ledger {
    /// Begins a visit. Until it is ended it counts for nothing, and whatever breaks it off leaves it
    /// to be seen.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn begin_visit(&mut self, visit: &NewVisit<'_>) -> Result<VisitId, LedgerError> {
        let transaction = self.begin()?;
        let operation =
            operations::begin(&transaction, OperationKind::Visit, visit.pc, visit.boot, visit.at)?;
        let (trial, sift, play) = match visit.made_for {
            None => (None, None, None),
            Some(VisitFor::Trial(of)) => (Some(of), None, None),
            Some(VisitFor::Sift(sift, row)) => (None, Some((sift, row)), None),
            Some(VisitFor::Play(play)) => (None, None, Some(play)),
        };
        let state = visit.in_force.map(|state| insert_state(&transaction, state)).transpose()?;
        transaction.execute(
            "INSERT INTO visit (scene, pc, state_name, recorded_at, tweaks, operation, state, status, context,
                                trial, trial_pair, trial_arm, sift, sift_row, play)
             VALUES (?1, ?2, ?3, ?4, '[]', ?5, ?6, 'begun', ?7, ?8, ?9, ?10, ?11, ?12, ?13)",
            params![
                visit.scene.as_str(),
                visit.pc.map(PcId::as_str),
                visit.state_name.as_str(),
                visit.at.to_string(),
                operation.0,
                state,
                store("circumstances", visit.context)?,
                trial.map(|of| of.trial.0),
                trial.map(|of| i64::try_from(of.pair).unwrap_or(i64::MAX)),
                trial.map(|of| <&str>::from(of.arm)),
                sift.map(|(sift, _)| sift.0),
                sift.map(|(_, row)| i64::try_from(row).unwrap_or(i64::MAX)),
                play.map(|play| play.0),
            ],
        )?;
        let id = VisitId(transaction.last_insert_rowid());
        transaction.commit()?;
        Ok(id)
    }

    /// Keeps a run of a visit that was begun, with every frame. Frames are packed while nobody waits
    /// for the ledger.
    ///
    /// # Errors
    /// Where the frames cannot be had or the ledger cannot be written; the run is not there then.
    pub fn add_run<B: FrameBlocks>(
        &mut self,
        visit: VisitId,
        run: &NewRun,
        frames: &B,
    ) -> Result<RunId, LedgerError>
    where
        LedgerError: From<B::Error>,
    {
        let mut id = None;
        let mut held: Vec<Vec<u8>> = Vec::new();
        let mut held_bytes = 0;
        let mut keep = |bytes: Vec<u8>| -> Result<(), LedgerError> {
            held_bytes += bytes.len();
            held.push(bytes);
            if held_bytes >= HELD_BYTES {
                held_bytes = 0;
                id = Some(self.write_blocks(visit, run, id, std::mem::take(&mut held), false)?);
            }
            Ok(())
        };
        encode_all(frames, &mut keep)?;
        self.write_blocks(visit, run, id, held, true)
    }

    /// Writes the next blocks of a run down, the run itself with the first of them. What is not whole is
    /// seen by nobody.
    fn write_blocks(
        &mut self,
        visit: VisitId,
        run: &NewRun,
        id: Option<RunId>,
        blocks: Vec<Vec<u8>>,
        is_whole: bool,
    ) -> Result<RunId, LedgerError> {
        let transaction = self.begin()?;
        let id = match id {
            Some(id) => id,
            None => insert_run(&transaction, visit, run)?,
        };
        insert_blocks(&transaction, id, blocks)?;
        transaction
            .execute("UPDATE run SET is_whole = ?2 WHERE id = ?1", params![id.0, is_whole])?;
        transaction.commit()?;
        Ok(id)
    }

    /// Ends a visit: it counts from now on.
    ///
    /// # Errors
    /// [`LedgerError::NoVisit`] where none of that number is begun.
    pub fn end_visit(
        &mut self,
        id: VisitId,
        environment: Option<&BeforeAndAfter>,
    ) -> Result<(), LedgerError> {
        let rows = self.connection.execute(
            "UPDATE visit SET status = 'whole', surroundings = ?2 WHERE id = ?1 AND status = 'begun'",
            params![id.0, environment.map(|found| store("an environment", found)).transpose()?],
        )?;
        if rows == 1 { Ok(()) } else { Err(LedgerError::NoVisit(id.0)) }
    }

    /// Says that a visit does not count, and why. Its runs stay to be looked at.
    ///
    /// # Errors
    /// [`LedgerError::NoVisit`] where there is none of that number.
    pub fn void_visit(&mut self, id: VisitId, reason: &str) -> Result<(), LedgerError> {
        let rows = self.connection.execute(
            "UPDATE visit SET status = 'void', void_reason = ?2 WHERE id = ?1",
            params![id.0, reason],
        )?;
        if rows == 1 { Ok(()) } else { Err(LedgerError::NoVisit(id.0)) }
    }

    /// Gives the state of a visit another label.
    ///
    /// # Errors
    /// [`LedgerError::NoVisit`] where there is none of that number.
    pub fn label_visit(&mut self, id: VisitId, state_name: &StateName) -> Result<(), LedgerError> {
        let rows = self.connection.execute(
            "UPDATE visit SET state_name = ?2 WHERE id = ?1",
            params![id.0, state_name.as_str()],
        )?;
        if rows == 1 { Ok(()) } else { Err(LedgerError::NoVisit(id.0)) }
    }

    /// The runs that were recorded in the present start of a PC.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn runs_since_boot(&self, pc: &PcId, boot: &BootId) -> Result<u64, LedgerError> {
        let count: i64 = self.connection.query_row(
            "SELECT count(*) FROM run JOIN visit ON visit.id = run.visit
             WHERE visit.pc = ?1 AND run.boot = ?2 AND run.is_whole",
            [pc.as_str(), boot.as_str()],
            |row| row.get(0),
        )?;
        Ok(u64::try_from(count).unwrap_or(0))
    }

    /// The visit and run that hold the same frames, if any do.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn run_with_frames(
        &self,
        digest: &str,
    ) -> Result<Option<(VisitRecord, RunId)>, LedgerError> {
        let found: Option<i64> = self
            .connection
            .query_row(
                "SELECT run.id FROM run JOIN visit ON visit.id = run.visit
                 WHERE frames_digest = ?1 AND is_whole AND visit.status <> 'void' ORDER BY run.id",
                [digest],
                |row| row.get(0),
            )
            .optional()?;
        let Some(id) = found.map(RunId) else { return Ok(None) };
        let (visit, _) = self.run(id)?;
        Ok(Some((visit, id)))
    }

    /// The visits that are wanted, in the order in which they were made.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn visits(&self, filter: &VisitFilter) -> Result<Vec<VisitRecord>, LedgerError> {
        let scene = filter.scene.as_ref().map(SceneName::as_str);
        let state_name = filter.state_name.as_ref().map(StateName::as_str);
        self.select_visits(
            "WHERE (?1 IS NULL OR scene = ?1) AND (?2 IS NULL OR state_name = ?2)
             AND (NOT ?3 OR (visit.trial IS NULL AND visit.sift IS NULL AND visit.play IS NULL))
             ORDER BY visit.operation",
            params![scene, state_name, filter.is_the_owners],
        )
    }

    /// A visit.
    ///
    /// # Errors
    /// [`LedgerError::NoVisit`] where there is none of that number.
    pub fn visit(&self, id: VisitId) -> Result<VisitRecord, LedgerError> {
        let found = self.select_visits("WHERE visit.id = ?1", params![id.0])?;
        found.into_iter().next().ok_or(LedgerError::NoVisit(id.0))
    }

    fn select_visits(
        &self,
        condition: &str,
        parameters: impl rusqlite::Params,
    ) -> Result<Vec<VisitRecord>, LedgerError> {
        let mut statement = self.connection.prepare(&format!(
            "SELECT visit.id, operation, scene, pc, state_name, recorded_at, status, void_reason, digest,
                    uses, context, surroundings, visit.play
             FROM visit LEFT JOIN state ON state.id = visit.state {condition}"
        ))?;
        let mut rows = statement.query(parameters)?;
        let mut visits = Vec::new();
        while let Some(row) = rows.next()? {
            let mut visit = visit_of(row)?;
            visit.runs = self.runs_of(visit.id)?;
            visits.push(visit);
        }
        Ok(visits)
    }

    fn runs_of(&self, visit: VisitId) -> Result<Vec<Run>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, is_warm_up, source, boot, run_since_boot, waits, conditions, metrics, figures_version
             FROM run WHERE visit = ?1 AND is_whole ORDER BY id",
        )?;
        let mut rows = statement.query([visit.0])?;
        let mut runs = Vec::new();
        while let Some(row) = rows.next()? {
            runs.push(self.run_of(row)?);
        }
        Ok(runs)
    }

    fn run_of(&self, row: &Row<'_>) -> Result<Run, LedgerError> {
        let ordinal: Option<i64> = row.get("run_since_boot")?;
        let conditions: Option<String> = row.get("conditions")?;
        let id = RunId(row.get("id")?);
        let mut conditions: Option<RunConditions> =
            conditions.map(|text| restore("conditions", &text)).transpose()?;
        let metrics = match self.kept_figures(row)? {
            Some(metrics) => metrics,
            None => {
                let (metrics, counted) = self.count_again(id, conditions.take())?;
                conditions = Some(counted);
                metrics
            }
        };
        Ok(Run {
            id,
            is_warm_up: row.get("is_warm_up")?,
            source: restore("a source", &row.get::<_, String>("source")?)?,
            boot: row.get::<_, Option<String>>("boot")?.map(BootId::new),
            run_since_boot: ordinal.and_then(|ordinal| ordinal.try_into().ok()),
            was_waiting: row.get("waits")?,
            conditions,
            metrics,
        })
    }

    /// Figures as they were kept, where they are of this version.
    fn kept_figures(&self, row: &Row<'_>) -> Result<Option<Metrics>, LedgerError> {
        if row.get::<_, u32>("figures_version")? != FIGURES_VERSION {
            return Ok(None);
        }
        Ok(restore("figures", &row.get::<_, String>("metrics")?).ok())
    }

    /// Figures of another version, counted again from the frames and kept. Where they cannot be kept,
    /// as on a disk that is full, they are counted once more next time.
    fn count_again(
        &self,
        id: RunId,
        conditions: Option<RunConditions>,
    ) -> Result<(Metrics, RunConditions), LedgerError> {
        let mut tally = FrameTally::default();
        let mut digest = FramesDigest::default();
        let frames = self.frame_blocks(id);
        frames.each_block(&mut |block| {
            tally.see(block);
            digest.push(block);
        })?;
        let (metrics, detected) = tally.finish(&frames)?;
        let conditions = RunConditions { detected, ..conditions.unwrap_or_default() };
        let kept = self.connection.execute(
            "UPDATE run SET metrics = ?2, figures_version = ?3, conditions = ?4, frames_digest = ?5
             WHERE id = ?1",
            params![
                id.0,
                store("figures", &metrics)?,
                FIGURES_VERSION,
                store("conditions", &conditions)?,
                digest.finish()
            ],
        );
        drop(kept);
        Ok((metrics, conditions))
    }

    /// A run and the visit that it belongs to.
    ///
    /// # Errors
    /// [`LedgerError::NoRun`] where there is none of that number.
    pub fn run(&self, id: RunId) -> Result<(VisitRecord, Run), LedgerError> {
        let visit: Option<i64> = self
            .connection
            .query_row("SELECT visit FROM run WHERE id = ?1", [id.0], |row| row.get(0))
            .optional()?;
        let visit = self.visit(VisitId(visit.ok_or(LedgerError::NoRun(id.0))?))?;
        let run = visit.runs.iter().find(|run| run.id == id).cloned();
        run.map(|run| (visit, run)).ok_or(LedgerError::NoRun(id.0))
    }

    /// Every frame of a run.
    ///
    /// # Errors
    /// [`LedgerError::NoRun`] where there is none of that number.
    pub fn frames(&self, id: RunId) -> Result<FrameSeries, LedgerError> {
        let mut frame_ms = Vec::new();
        self.frame_blocks(id).each_block(&mut |block| frame_ms.extend_from_slice(block))?;
        FrameSeries::new(frame_ms).map_err(|error| unreadable(error.to_string()))
    }

    /// The frames of a run, a block at a time.
    pub fn frame_blocks(&self, id: RunId) -> KeptFrames<'_> {
        KeptFrames { ledger: self, id }
    }
}

fn insert_state(transaction: &Transaction<'_>, state: &InForce) -> Result<i64, LedgerError> {
    let uses = store("uses of tweaks", &state.uses)?;
    transaction.execute(
        "INSERT OR IGNORE INTO state (digest, uses) VALUES (?1, ?2)",
        [state.digest.as_str(), &uses],
    )?;
    Ok(transaction.query_row(
        "SELECT id FROM state WHERE digest = ?1 AND uses = ?2",
        [state.digest.as_str(), &uses],
        |row| row.get(0),
    )?)
}

fn insert_run(
    transaction: &Transaction<'_>,
    visit: VisitId,
    run: &NewRun,
) -> Result<RunId, LedgerError> {
    transaction.execute(
        "INSERT INTO run (visit, is_warm_up, source, boot, run_since_boot, waits, metrics, conditions,
                          frame_encoding, frames, is_whole, figures_version, frames_digest)
         VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, x'', 0, ?10, ?11)",
        params![
            visit.0,
            run.is_warm_up,
            store("a source", &run.source)?,
            run.boot.as_ref().map(BootId::as_str),
            run.run_since_boot.map(|ordinal| i64::try_from(ordinal).unwrap_or(i64::MAX)),
            run.was_waiting,
            store("figures", &run.metrics)?,
            store("conditions", &run.conditions)?,
            BY_BLOCK,
            FIGURES_VERSION,
            run.frames_digest,
        ],
    )?;
    Ok(RunId(transaction.last_insert_rowid()))
}

fn insert_blocks(
    transaction: &Transaction<'_>,
    run: RunId,
    blocks: Vec<Vec<u8>>,
) -> Result<(), LedgerError> {
    let mut statement =
        transaction.prepare("INSERT INTO frame_block (run, bytes) VALUES (?1, ?2)")?;
    for bytes in blocks {
        statement.execute(params![run.0, bytes])?;
    }
    Ok(())
}

fn visit_of(row: &Row<'_>) -> Result<VisitRecord, LedgerError> {
    let environment: Option<String> = row.get("surroundings")?;
    let context: Option<String> = row.get("context")?;
    let digest: Option<String> = row.get("digest")?;
    let uses: Option<String> = row.get("uses")?;
    let in_force = match digest.zip(uses) {
        Some((digest, uses)) => Some(InForce {
            digest: StateDigest::new(digest),
            uses: restore("uses of tweaks", &uses)?,
        }),
        None => None,
    };
    let reason: Option<String> = row.get("void_reason")?;
    let status = match row.get::<_, String>("status")?.as_str() {
        "begun" => VisitStatus::Begun,
        "whole" => VisitStatus::Whole,
        "void" => VisitStatus::Void(reason.unwrap_or_default()),
        other => VisitStatus::Unknown(other.to_owned()),
    };
    Ok(VisitRecord {
        id: VisitId(row.get("id")?),
        of_play: row.get::<_, Option<i64>>("play")?.map(PlayId),
        operation: OperationId(row.get("operation")?),
        scene: parse("a scene's name", &row.get::<_, String>("scene")?)?,
        pc: row.get::<_, Option<String>>("pc")?.map(PcId::new),
        state_name: parse("a state's name", &row.get::<_, String>("state_name")?)?,
        recorded_at: parse("a time", &row.get::<_, String>("recorded_at")?)?,
        status,
        in_force,
        context: context
            .map(|text| restore("circumstances", &text))
            .transpose()?
            .unwrap_or_default(),
        environment: environment.map(|text| restore("an environment", &text)).transpose()?,
        runs: Vec::new(),
    })
}

fn unreadable(reason: String) -> LedgerError {
    LedgerError::Unreadable { what: "frames", reason }
}

/// The frames of a run as the ledger keeps them.
#[derive(Debug)]
pub struct KeptFrames<'a> {
    ledger: &'a Ledger,
    id: RunId,
}

impl FrameBlocks for KeptFrames<'_> {
    type Error = LedgerError;

    fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> Result<(), LedgerError> {
        let connection = &self.ledger.connection;
        let row: Option<(String, Vec<u8>)> = connection
            .query_row("SELECT frame_encoding, frames FROM run WHERE id = ?1", [self.id.0], |row| {
                Ok((row.get(0)?, row.get(1)?))
            })
            .optional()?;
        let (encoding, whole) = row.ok_or(LedgerError::NoRun(self.id.0))?;
        // Until the third schema the frames of a run were one piece.
        if !whole.is_empty() {
            see(&decode(&encoding, &whole).map_err(unreadable)?);
        }
        let mut statement = connection
            .prepare_cached("SELECT bytes FROM frame_block WHERE run = ?1 ORDER BY id")?;
        let mut rows = statement.query([self.id.0])?;
        while let Some(row) = rows.next()? {
            let bytes: Vec<u8> = row.get(0)?;
            see(&decode(&encoding, &bytes).map_err(unreadable)?);
        }
        Ok(())
    }
}
