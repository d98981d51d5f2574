//! Scenes, visits and runs.

use frevin_core::frames::{FrameBlocks, FrameSeries, Metrics, RunConditions};
use frevin_core::profile::{ProfileName, SceneName};
use frevin_core::surroundings::BeforeAndAfter;
use frevin_core::tweak::TweakId;
use jiff::Timestamp;
use rusqlite::{OptionalExtension as _, Row, params};
use serde::{Deserialize, Serialize};

use crate::error::LedgerError;
use crate::frame_bytes::{Encoder, PACKED, decode};
use crate::run_frames::RunFrames;
use crate::store::{Ledger, parse, restore, store};

/// What is measured.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Scene {
    /// Its name.
    pub name: SceneName,
    /// The game.
    pub game: String,
    /// The graphics level.
    pub graphics: String,
    /// The resolution.
    pub resolution: String,
    /// What is played.
    pub route: String,
}

/// The number of a visit in its ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct VisitId(pub i64);

/// The number of a run in its ledger.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(transparent)]
pub struct RunId(pub i64);

/// Where a run's frames come from.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunSource {
    /// Recorded on a rehearsal PC.
    Rehearsal,
    /// Read from a log file of this name.
    LogFile(String),
    /// What Windows traced of a running program of this name.
    Program(String),
    /// Frevin's own test loop, on the PC that it ran on.
    TestLoop,
}

/// A visit about to be kept.
#[derive(Debug)]
pub struct NewVisit<'a> {
    /// The scene.
    pub scene: &'a SceneName,
    /// The PC, where it is known.
    pub pc: Option<&'a str>,
    /// The name that the owner gives to the state of the PC.
    pub state_name: &'a ProfileName,
    /// When it was recorded.
    pub recorded_at: Timestamp,
    /// The tweaks in force.
    pub tweaks: &'a [TweakId],
    /// What the PC was like around it, where somebody looked.
    pub surroundings: Option<&'a BeforeAndAfter>,
    /// Its runs.
    pub runs: &'a [NewRun],
}

/// A run about to be kept.
#[derive(Debug)]
pub struct NewRun {
    /// Whether it is a warm-up, to be left out of comparisons.
    pub is_warm_up: bool,
    /// Where its frames come from.
    pub source: RunSource,
    /// The start of the PC that it was recorded after, where it is known.
    pub boot: Option<String>,
    /// Which run it was after that start, from 1.
    pub run_since_boot: Option<u64>,
    /// Whether something was waiting for a restart.
    pub waits_for_restart: bool,
    /// Under what it was recorded.
    pub conditions: RunConditions,
    /// Its figures.
    pub metrics: Metrics,
    /// Its frames.
    pub frames: RunFrames,
}

/// A visit to a state of the PC.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct VisitRecord {
    /// Its number.
    pub id: VisitId,
    /// The scene.
    pub scene: SceneName,
    /// The PC, where it is known.
    pub pc: Option<String>,
    /// The name that the owner gave to the state of the PC.
    pub state_name: ProfileName,
    /// When it was recorded.
    pub recorded_at: Timestamp,
    /// The tweaks in force.
    pub tweaks: Vec<TweakId>,
    /// What the PC was like around it, where somebody looked.
    pub surroundings: Option<BeforeAndAfter>,
    /// Its runs.
    pub runs: Vec<Run>,
}

/// A run without its frames.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct Run {
    /// Its number.
    pub id: RunId,
    /// Whether it is a warm-up, left out of comparisons.
    pub is_warm_up: bool,
    /// Where its frames come from.
    pub source: RunSource,
    /// The start of the PC that it was recorded after, where it is known.
    pub boot: Option<String>,
    /// Which run it was after that start, from 1.
    pub run_since_boot: Option<u64>,
    /// Whether something was waiting for a restart.
    pub waits_for_restart: bool,
    /// Under what it was recorded; nothing where nobody looked.
    pub conditions: Option<RunConditions>,
    /// Its figures.
    pub metrics: Metrics,
}

/// Which visits are wanted.
#[derive(Debug, Clone, Default)]
pub struct RunFilter {
    /// Only of this scene.
    pub scene: Option<SceneName>,
    /// Only of states with this name.
    pub state_name: Option<ProfileName>,
}

impl Ledger {
    /// Adds a scene.
    ///
    /// # Errors
    /// [`LedgerError::SceneExists`] where there is another of that name.
    pub fn add_scene(&mut self, scene: &Scene) -> Result<(), LedgerError> {
        match self.scene(&scene.name) {
            Ok(known) if known == *scene => return Ok(()),
            Ok(_) => return Err(LedgerError::SceneExists(scene.name.to_string())),
            Err(LedgerError::NoScene(_)) => {}
            Err(other) => return Err(other),
        }
        self.connection.execute(
            "INSERT INTO scene (name, game, graphics, resolution, route) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![
                scene.name.as_str(),
                scene.game,
                scene.graphics,
                scene.resolution,
                scene.route
            ],
        )?;
        Ok(())
    }

    /// The scene of that name.
    ///
    /// # Errors
    /// [`LedgerError::NoScene`] where there is none.
    pub fn scene(&self, name: &SceneName) -> Result<Scene, LedgerError> {
        let scenes = self.scenes()?;
        let found = scenes.into_iter().find(|scene| scene.name == *name);
        found.ok_or_else(|| LedgerError::NoScene(name.to_string()))
    }

    /// Every scene, by name.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn scenes(&self) -> Result<Vec<Scene>, LedgerError> {
        let mut statement = self
            .connection
            .prepare("SELECT name, game, graphics, resolution, route FROM scene ORDER BY name")?;
        let mut rows = statement.query([])?;
        let mut scenes = Vec::new();
        while let Some(row) = rows.next()? {
            scenes.push(Scene {
                name: parse("a scene's name", &row.get::<_, String>(0)?)?,
                game: row.get(1)?,
                graphics: row.get(2)?,
                resolution: row.get(3)?,
                route: row.get(4)?,
            });
        }
        Ok(scenes)
    }

    /// Keeps a visit with all of its runs and every frame.
    ///
    /// # Errors
    /// Where the ledger cannot be written; nothing has been written then.
    pub fn add_visit(&mut self, visit: &NewVisit<'_>) -> Result<VisitId, LedgerError> {
        let transaction = self.begin()?;
        transaction.execute(
            "INSERT INTO visit (scene, pc, state_name, recorded_at, tweaks, surroundings)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6)",
            params![
                visit.scene.as_str(),
                visit.pc,
                visit.state_name.as_str(),
                visit.recorded_at.to_string(),
                store("tweaks", &visit.tweaks)?,
                visit.surroundings.map(|found| store("surroundings", found)).transpose()?,
            ],
        )?;
        let id = transaction.last_insert_rowid();
        let mut statement = transaction.prepare(
            "INSERT INTO run (visit, is_warm_up, source, boot, run_since_boot, waits, metrics,
                              conditions, frame_encoding, frames)
             VALUES (?1, ?2, ?3, ?4, ?5, ?6, ?7, ?8, ?9, x'')",
        )?;
        let mut of_block =
            transaction.prepare("INSERT INTO frame_block (run, bytes) VALUES (?1, ?2)")?;
        for run in visit.runs {
            statement.execute(params![
                id,
                run.is_warm_up,
                store("a source", &run.source)?,
                run.boot,
                run.run_since_boot.map(|ordinal| i64::try_from(ordinal).unwrap_or(i64::MAX)),
                run.waits_for_restart,
                store("figures", &run.metrics)?,
                store("conditions", &run.conditions)?,
                PACKED,
            ])?;
            let run_id = transaction.last_insert_rowid();
            let mut keep = |bytes: Vec<u8>| -> Result<(), LedgerError> {
                of_block.execute(params![run_id, bytes])?;
                Ok(())
            };
            let mut encoder = Encoder::new(&mut keep);
            run.frames.each_block(&mut |frames| encoder.see(frames))?;
            encoder.finish()?;
        }
        drop((statement, of_block));
        transaction.commit()?;
        Ok(VisitId(id))
    }

    /// The visits that are wanted, in the order in which they were made.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn visits(&self, filter: &RunFilter) -> Result<Vec<VisitRecord>, LedgerError> {
        let scene = filter.scene.as_ref().map(ProfileName::as_str);
        let state_name = filter.state_name.as_ref().map(ProfileName::as_str);
        self.select_visits(
            "WHERE (?1 IS NULL OR scene = ?1) AND (?2 IS NULL OR state_name = ?2) ORDER BY id",
            params![scene, state_name],
        )
    }

    /// A visit.
    ///
    /// # Errors
    /// [`LedgerError::NoVisit`] where there is none of that number.
    pub fn visit(&self, id: VisitId) -> Result<VisitRecord, LedgerError> {
        let found = self.select_visits("WHERE id = ?1", params![id.0])?;
        found.into_iter().next().ok_or(LedgerError::NoVisit(id.0))
    }

    fn select_visits(
        &self,
        condition: &str,
        parameters: impl rusqlite::Params,
    ) -> Result<Vec<VisitRecord>, LedgerError> {
        let mut statement = self.connection.prepare(&format!(
            "SELECT id, scene, pc, state_name, recorded_at, tweaks, surroundings FROM visit {condition}"
        ))?;
        let mut rows = statement.query(parameters)?;
        let mut visits = Vec::new();
        while let Some(row) = rows.next()? {
            let id = VisitId(row.get("id")?);
            let surroundings: Option<String> = row.get("surroundings")?;
            visits.push(VisitRecord {
                id,
                scene: parse("a scene's name", &row.get::<_, String>("scene")?)?,
                pc: row.get("pc")?,
                state_name: parse("a state's name", &row.get::<_, String>("state_name")?)?,
                recorded_at: parse("a time", &row.get::<_, String>("recorded_at")?)?,
                tweaks: restore("tweaks", &row.get::<_, String>("tweaks")?)?,
                surroundings: surroundings
                    .map(|text| restore("surroundings", &text))
                    .transpose()?,
                runs: self.runs_of(id)?,
            });
        }
        Ok(visits)
    }

    fn runs_of(&self, visit: VisitId) -> Result<Vec<Run>, LedgerError> {
        let mut statement = self.connection.prepare_cached(
            "SELECT id, is_warm_up, source, boot, run_since_boot, waits, conditions, metrics FROM run
             WHERE visit = ?1 ORDER BY id",
        )?;
        let mut rows = statement.query([visit.0])?;
        let mut runs = Vec::new();
        while let Some(row) = rows.next()? {
            runs.push(run_of(row)?);
        }
        Ok(runs)
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

fn run_of(row: &Row<'_>) -> Result<Run, LedgerError> {
    let ordinal: Option<i64> = row.get("run_since_boot")?;
    let conditions: Option<String> = row.get("conditions")?;
    Ok(Run {
        conditions: conditions.map(|text| restore("conditions", &text)).transpose()?,
        id: RunId(row.get("id")?),
        is_warm_up: row.get("is_warm_up")?,
        source: restore("a source", &row.get::<_, String>("source")?)?,
        boot: row.get("boot")?,
        run_since_boot: ordinal.and_then(|ordinal| ordinal.try_into().ok()),
        waits_for_restart: row.get("waits")?,
        metrics: restore("figures", &row.get::<_, String>("metrics")?)?,
    })
}
