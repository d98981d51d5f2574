//! A trial as it is told.

use frevin_core::ids::{NameError, SceneName, StateName};
use frevin_core::setting::TakesEffect;
use frevin_core::trial::in_play::Unjudged;
use frevin_core::trial::{
    Arm, Doubt, Ending, Event, KeepPolicy, Progress, Question, Reason, Trial, TrialId,
};
use frevin_core::verdict::{Comparison, Judge, Loss, Measured, MetricFinding, Primary};
use frevin_core::visits::{Caution, FrameLimit, VisitId, VisitRecord, limit_by_levels};
use frevin_ledger::{Ledger, TrialRecord};
use frevin_pc::Pc;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::failure::{Failure, Kind};
use crate::measure::compare::{Around, around_and_cautions};
use crate::operations::waiting::waiting;

/// A pair of visits, in figures that people read.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct PairReport {
    /// Counted from 1.
    pub(crate) pair: usize,
    /// Which state was visited first.
    pub(crate) first: Arm,
    pub(crate) a: SideReport,
    pub(crate) b: SideReport,
}

/// A visit of a pair.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct SideReport {
    /// The visit of each graphics level.
    pub(crate) visits: Vec<VisitId>,
    #[serde(flatten)]
    pub(crate) frames: Option<FramesReport>,
    #[serde(flatten)]
    pub(crate) ping: Option<PingReport>,
    #[serde(flatten)]
    pub(crate) latency: Option<LatencyReport>,
    pub(crate) doubts: Vec<Doubt>,
}

/// What its frames come to.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct FramesReport {
    pub(crate) average_fps: f64,
    pub(crate) low_1_percent_fps: f64,
    pub(crate) stutter_events: u64,
}

/// How an address answered.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct PingReport {
    pub(crate) ping_median_ms: f64,
    pub(crate) ping_percentile_95_ms: f64,
    pub(crate) ping_loss: Loss,
}

/// What latency it had.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct LatencyReport {
    pub(crate) latency_median_ms: f64,
    pub(crate) latency_percentile_95_ms: f64,
}

/// A visit that was made and does not count.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct VoidedReport {
    pub(crate) pair: usize,
    pub(crate) arm: Arm,
    #[serde(flatten)]
    pub(crate) doubt: Doubt,
}

/// What one graphics level shows by itself.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct LevelReport {
    pub(crate) scene: SceneName,
    pub(crate) findings: Vec<MetricFinding>,
}

/// A trial that has ended, or as far as it is.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct TrialReport {
    pub(crate) trial: TrialId,
    pub(crate) begun_at: Timestamp,
    pub(crate) ended_at: Option<Timestamp>,
    pub(crate) progress: Progress,
    pub(crate) question: Question,
    /// What was measured: several where it was at several graphics levels.
    pub(crate) scenes: Vec<SceneName>,
    pub(crate) a: String,
    pub(crate) b: String,
    pub(crate) seed: u64,
    pub(crate) restarts: bool,
    pub(crate) keep: KeepPolicy,
    pub(crate) judge: Judge,
    /// What the pairs say.
    #[serde(flatten)]
    pub(crate) comparison: Comparison,
    /// Whether B is in force at the end.
    pub(crate) kept: bool,
    /// Whether what was kept was taken back or replaced since.
    pub(crate) is_taken_back_since: bool,
    /// Why the PC is left as it is; nothing before the end.
    pub(crate) reason: Option<Reason>,
    /// Why the PC could not be brought to where it should be.
    pub(crate) not_settled: Option<String>,
    /// What the PC does not yet behave by.
    pub(crate) waits_for: Option<TakesEffect>,
    /// The pairs in the order in which they were made.
    pub(crate) visits: Vec<PairReport>,
    pub(crate) voided: Vec<VoidedReport>,
    /// What each graphics level shows by itself, for reading, where there are several.
    pub(crate) by_level: Vec<LevelReport>,
    pub(crate) cautions: Vec<Caution>,
    #[serde(flatten)]
    pub(crate) around: Around,
    /// Whether earlier trials told how much pairs differ by chance.
    pub(crate) with_history: bool,
    /// Whether something of the process that is played was tried, and no setting.
    #[serde(skip)]
    pub(crate) is_of_process: bool,
    /// How it was played, where it is a trial in play.
    #[serde(flatten)]
    pub(crate) in_play: Option<InPlayReport>,
}

/// How a trial in play was played.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct InPlayReport {
    /// Segments that were played.
    pub(crate) segments: usize,
    /// Play over all sittings, in minutes.
    pub(crate) minutes: f64,
    pub(crate) sittings: usize,
    /// Pairs of segments that do not count: menus, loading, pauses, caps.
    pub(crate) pairs_dropped: usize,
    /// Frames so soon after a switch are not judged, in seconds: what sets in later is not seen.
    pub(crate) settling_s: f64,
    pub(crate) segment_s: f64,
    /// Stutters right after a switch, for each.
    pub(crate) stutters_a_switch: f64,
    /// Whether what there is shows in some scenes only.
    pub(crate) is_uneven: bool,
    /// Why it ended without a verdict.
    pub(crate) unjudged: Option<Unjudged>,
}

impl InPlayReport {
    fn of(trial: &Trial) -> Option<Self> {
        let (judged, in_play) = (trial.judged()?, trial.design().in_play.as_ref()?);
        Some(Self {
            segments: judged.segments,
            minutes: judged.played_s / 60.0,
            sittings: trial.sittings().len(),
            pairs_dropped: judged.pairs_dropped,
            settling_s: in_play.settling_s(judged.doubled),
            segment_s: in_play.segment_s(judged.doubled),
            stutters_a_switch: judged.stutters_a_switch,
            is_uneven: judged.is_uneven(),
            unjudged: judged.unjudged,
        })
    }
}

/// The trials of a PC.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct TrialList {
    pub(crate) trials: Vec<TrialReport>,
}

/// The label of the visits to a state of a trial.
pub(crate) fn state_name(trial: TrialId, arm: Arm) -> Result<StateName, Failure> {
    let arm: &str = arm.into();
    format!("trial-{trial}-{arm}")
        .parse()
        .map_err(|error: NameError| Failure::new(Kind::Internal, error.to_string()))
}

/// Tells a trial, on the PC that it is of where that is at hand.
pub(crate) fn report(
    ledger: &Ledger,
    pc: Option<&dyn Pc>,
    record: &TrialRecord,
) -> Result<TrialReport, Failure> {
    let trial = record.trial();
    let design = &record.design;
    let comparison = trial.comparison();
    let (a, b) = (state_name(record.id, Arm::A)?, state_name(record.id, Arm::B)?);
    let mut cautions: Vec<Caution> = Vec::new();
    let mut around =
        Around { around_a: Vec::new(), around_b: Vec::new(), limit_a: None, limit_b: None };
    for level in 0..design.levels.len() {
        let mut pairs: Vec<(VisitRecord, VisitRecord)> = Vec::new();
        for pair in trial.pairs() {
            if let (Some(a), Some(b)) = (pair.a.visits.get(level), pair.b.visits.get(level)) {
                pairs.push((ledger.visit(*a)?, ledger.visit(*b)?));
            }
        }
        let borrowed: Vec<_> = pairs.iter().map(|(a, b)| (a, b)).collect();
        let (around_level, of_level) = around_and_cautions((&a, &b), &borrowed, 0, 0);
        around.around_a.extend(around_level.around_a);
        around.around_b.extend(around_level.around_b);
        around.limit_a = around.limit_a.or(around_level.limit_a);
        around.limit_b = around.limit_b.or(around_level.limit_b);
        // Cautions are of frames: without a game there are none.
        if pairs.iter().all(|(a, _)| a.counted().next().is_none()) {
            continue;
        }
        let is_new = |caution: &Caution| !cautions.contains(caution);
        let new: Vec<Caution> = of_level.into_iter().filter(is_new).collect();
        cautions.extend(new);
    }
    let by_level = match design.levels[..] {
        [] | [_] => Vec::new(),
        _ => design
            .levels
            .iter()
            .enumerate()
            .map(|(level, scene)| LevelReport {
                scene: scene.clone(),
                findings: trial.comparison_of_level(level).findings,
            })
            .collect(),
    };
    // What logs tell says more than what levels do.
    around.limit_a = around.limit_a.or(limit_of_levels(&by_level, |(a, _)| a));
    around.limit_b = around.limit_b.or(limit_of_levels(&by_level, |(_, b)| b));
    let ending = trial.ended();
    let own = pc.filter(|pc| pc.identity().id == record.pc);
    let waits = own.map(|pc| waiting(pc, ledger)).transpose()?.unwrap_or_default();
    let ended_at = record
        .events
        .iter()
        .rev()
        .find_map(|event| matches!(event.event, Event::Ended(_)).then_some(event.at));
    let voided = record.events.iter().filter_map(|event| match &event.event {
        Event::Voided { pair, arm, doubt, .. } => {
            Some(VoidedReport { pair: pair + 1, arm: *arm, doubt: doubt.clone() })
        }
        _ => None,
    });
    let side = |done: &frevin_core::trial::DoneVisit| SideReport {
        visits: done.visits.clone(),
        frames: done.figures.frames.map(|frames| FramesReport {
            average_fps: frames.ln_average_fps.exp(),
            low_1_percent_fps: frames.ln_low_1_percent_fps.exp(),
            stutter_events: frames.stutter_events,
        }),
        // The millisecond that was added is taken away again.
        ping: done.figures.ping.map(|ping| PingReport {
            ping_median_ms: ping.ln_median_ms.exp() - 1.0,
            ping_percentile_95_ms: ping.ln_percentile_95_ms.exp() - 1.0,
            ping_loss: ping.loss,
        }),
        latency: done.figures.latency.map(|latency| LatencyReport {
            latency_median_ms: latency.ln_median_ms.exp(),
            latency_percentile_95_ms: latency.ln_percentile_95_ms.exp(),
        }),
        doubts: done.doubts.clone(),
    };
    let visits = trial.pairs().iter().enumerate().map(|(index, pair)| PairReport {
        pair: index + 1,
        first: pair.first,
        a: side(&pair.a),
        b: side(&pair.b),
    });
    Ok(TrialReport {
        trial: record.id,
        begun_at: record.begun_at,
        ended_at,
        progress: trial.progress(),
        question: design.question,
        scenes: design.levels.clone(),
        a: design.a.title.clone(),
        b: design.b.title.clone(),
        seed: design.seed,
        restarts: design.restarts,
        keep: design.keep,
        judge: design.judge,
        kept: ending.is_some_and(|ending: Ending| ending.kept),
        is_taken_back_since: is_taken_back_since(ledger, record, ending)?,
        reason: ending.map(|ending| ending.reason),
        not_settled: trial.not_settled().map(ToOwned::to_owned),
        waits_for: waits.iter().map(|waiting| waiting.waits_for).max(),
        visits: visits.collect(),
        voided: voided.collect(),
        by_level,
        cautions,
        around,
        with_history: design.histories.first.is_some(),
        is_of_process: trial.design().is_of_process(),
        in_play: InPlayReport::of(&trial),
        comparison,
    })
}

/// What the average FPS of graphics levels tells of what limits them, in one of both states.
fn limit_of_levels(levels: &[LevelReport], side: fn((f64, f64)) -> f64) -> Option<FrameLimit> {
    let rates = levels.iter().filter_map(|level| {
        let average = level.findings.iter().find(|finding| finding.primary == Primary::AverageFps);
        match average?.measured {
            Measured::Fps { a_fps, b_fps } => Some(side((a_fps?, b_fps?))),
            Measured::Ms { .. } => None,
        }
    });
    limit_by_levels(&rates.collect::<Vec<_>>())
}

/// Whether nothing is in force any more of what a trial left in force.
pub(crate) fn is_taken_back_since(
    ledger: &Ledger,
    record: &TrialRecord,
    ending: Option<Ending>,
) -> Result<bool, Failure> {
    let Some(ending) = ending else { return Ok(false) };
    if record.design.wishes_at(ending.place).is_empty() {
        return Ok(false);
    }
    let left = ledger
        .changes_of_trial(record.id)?
        .into_iter()
        .map(|(change, _)| change)
        .chain(record.design.holder);
    for change in left {
        if ledger.change(change)?.layers_left > 0 {
            return Ok(false);
        }
    }
    Ok(true)
}
