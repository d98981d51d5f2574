//! Visits: stays in one state of the PC with runs of a scene, and what may be said of them.
//!
//! Plain data that the ledger keeps and views show. [`cautions`] and [`marks`] say what weakens a
//! comparison or a run, as values that a program can decide by.

mod cautions;
mod evidence;
mod limit;
mod marks;

use std::collections::BTreeSet;

use frevin_frames::{LatencyFigures, Metrics, RunConditions};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::environment::BeforeAndAfter;
use crate::ids::{BootId, OperationId, PcId, SceneName, StateDigest, StateName};
use crate::layers::Layers;
use crate::playing::PlayId;
use crate::tweak::TweakUse;
use crate::waiting::Waiting;

pub use cautions::{Caution, WarmPart, cautions};
pub use evidence::{Evidence, StatePair, pairs_of_states};
pub use limit::{FrameLimit, frame_limit, limit_by_levels, limit_of_runs};
pub use marks::{Mark, marks};

/// A scene: what is measured.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct VisitId(pub i64);

/// The number of a run in its ledger.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct RunId(pub i64);

/// A source of a run's frames.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunSource {
    /// Recorded on a rehearsal PC.
    Rehearsal,
    /// Read from a log file of this name.
    LogFile(String),
    /// Traced by Windows of a running program of this name.
    Program(String),
    /// Frevin's own test loop, on the PC that it ran on.
    TestLoop,
}

/// The state of the PC that a visit was made in, as Frevin's layers hold it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct InForce {
    /// Digest of the settings held and their states.
    pub digest: StateDigest,
    /// The uses of tweaks that hold them.
    pub uses: Vec<TweakUse>,
}

impl InForce {
    /// What these layers hold.
    pub fn of(layers: &Layers) -> Self {
        Self { digest: layers.digest(), uses: layers.uses() }
    }
}

/// The state of a visit itself.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum VisitStatus {
    /// It was begun and not ended: broken off, or still going on.
    Begun,
    /// It was ended with all of its runs.
    Whole,
    /// It does not count, for the reason given.
    Void(String),
    /// A newer Frevin says something that this one does not know.
    Unknown(String),
}

/// Circumstances of a visit that runs do not show.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(default)]
pub struct VisitContext {
    /// Settings that the PC did not yet behave by.
    pub waiting: Vec<Waiting>,
    /// The build of Windows.
    pub windows_build: Option<u32>,
    /// The version of the graphics card's driver.
    pub graphics_driver: Option<String>,
    /// The memory of the graphics card that games use, in mebibytes.
    pub graphics_memory_mib: Option<u64>,
}

/// A visit to a state of the PC.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct VisitRecord {
    /// Its number.
    pub id: VisitId,
    /// Its place in the order of what was done.
    pub operation: OperationId,
    /// The scene.
    pub scene: SceneName,
    /// The PC, where it is known.
    pub pc: Option<PcId>,
    /// The label that the owner gave to the state of the PC.
    pub state_name: StateName,
    /// When it was recorded, for people.
    pub recorded_at: Timestamp,
    /// Whether it is whole.
    pub status: VisitStatus,
    /// What was in force; nothing where that is not known.
    pub in_force: Option<InForce>,
    /// Circumstances that runs do not show.
    pub context: VisitContext,
    /// What the PC was like around it, where somebody looked.
    pub environment: Option<BeforeAndAfter>,
    /// The play that it was recorded in: ordinary play, which no other recording can be compared with.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub of_play: Option<PlayId>,
    /// Its runs.
    pub runs: Vec<Run>,
}

impl VisitRecord {
    /// The columns that the latency of its runs was read from, each once: latencies are only compared that begin and
    /// end at the same moments.
    pub fn latency_columns(&self) -> BTreeSet<&str> {
        let latencies = self.counted().filter_map(Run::latency);
        latencies.map(|latency| latency.column.as_str()).collect()
    }

    /// Whether an earlier visit read latency from other columns: the two are not compared then.
    pub fn has_other_latency_than(&self, earlier: &Self) -> bool {
        let before = earlier.latency_columns();
        !before.is_empty() && before != self.latency_columns()
    }

    /// The runs that count: all but warm-up.
    pub fn counted(&self) -> impl Iterator<Item = &Run> {
        self.runs.iter().filter(|run| !run.is_warm_up)
    }
}

/// A run without its frames.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Run {
    /// Its number.
    pub id: RunId,
    /// Whether it is a warm-up, left out of comparisons.
    pub is_warm_up: bool,
    /// Where its frames come from.
    pub source: RunSource,
    /// The start of the PC that it was recorded after, where it is known.
    pub boot: Option<BootId>,
    /// Which run it was after that start, from 1.
    pub run_since_boot: Option<u64>,
    /// Whether the PC did not yet behave by all that was in force.
    pub was_waiting: bool,
    /// Under what it was recorded; nothing where nobody looked.
    pub conditions: Option<RunConditions>,
    /// Its figures.
    pub metrics: Metrics,
}

impl Run {
    /// Its latency, where its log tells it.
    pub fn latency(&self) -> Option<&LatencyFigures> {
        self.conditions.as_ref()?.readings.latency.as_ref()
    }

    /// Under what it was recorded, as far as anybody looked.
    pub fn conditions(&self) -> RunConditions {
        self.conditions.clone().unwrap_or_default()
    }
}
