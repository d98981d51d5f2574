//! Reports: what a page tells, put together from the ledger. Pages, drawings and tables are views of it.

use frevin_core::evidence::EvidenceFinding;
use frevin_core::figures::{Figures, FramesOf, IntervalRow, pair_points, segment_points};
use frevin_core::layers::ChangeId;
use frevin_core::playing::PlayEvent;
use frevin_core::preview::Reason;
use frevin_core::setting::{Address, State};
use frevin_core::sift::SiftId;
use frevin_core::trial::{Arm, Trial, TrialId};
use frevin_core::tweak::TweakUse;
use frevin_core::verdict::{Measured, MetricFinding, Primary};
use frevin_core::visits::{VisitId, VisitRecord};
use frevin_frames::{FrameBlocks as _, ShapeOf};
use frevin_ledger::{Ledger, PlayRecord, SiftRecord};
use frevin_pc::Pc;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::inspect::{InspectReport, inspect};
use super::{evidence, sift, trial, tune};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::sift::SiftReport;
use crate::operations::trial::TrialReport;
use crate::operations::tune::TuneReport;

/// What a report is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Subject {
    Trial(Option<TrialId>),
    Sift(Option<SiftId>),
    /// An evening.
    Tune(Option<SiftId>),
    Change(ChangeId),
    Play(Option<i64>),
    Pc,
}

/// What a page tells.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct ReportData {
    pub(crate) written_at: Timestamp,
    #[serde(flatten)]
    pub(crate) told: Told,
    pub(crate) figures: Figures,
    /// What was changed, or would be.
    pub(crate) changed: Vec<ChangedSetting>,
    /// The change that holds it, where one does.
    pub(crate) held_by: Option<ChangeId>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "of")]
pub(crate) enum Told {
    Trial(Box<TrialReport>),
    Sift(Box<SiftReport>),
    Tune(Box<EveningTold>),
    Change(Box<ChangeTold>),
    Play(Box<PlayTold>),
    Pc(Box<PcTold>),
}

/// An evening, with the figures of its proof.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct EveningTold {
    #[serde(flatten)]
    pub(crate) evening: TuneReport,
    pub(crate) rates: Vec<BeforeAndAfter>,
}

/// A figure of the PC as it came, which is A, and of the PC as it is tuned, which is B.
#[derive(Debug, Clone, Copy, JsonSchema, Serialize)]
pub(crate) struct BeforeAndAfter {
    pub(crate) of: Primary,
    #[serde(flatten)]
    pub(crate) figures: FiguresBeforeAndAfter,
    /// By how much it differs, by pairs, in percent.
    pub(crate) difference_percent: Option<f64>,
}

/// What it was and what it is, in its unit.
#[derive(Debug, Clone, Copy, JsonSchema, Serialize)]
#[serde(untagged)]
pub(crate) enum FiguresBeforeAndAfter {
    Fps { before_fps: f64, after_fps: f64 },
    Ms { before_ms: f64, after_ms: f64 },
}

#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct ChangeTold {
    pub(crate) change: ChangeId,
    pub(crate) title: String,
    pub(crate) at: Timestamp,
    /// Whether anything of it is in force.
    pub(crate) is_in_force: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct PlayTold {
    pub(crate) play: PlayRecord,
    pub(crate) visit: Option<VisitRecord>,
}

#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct PcTold {
    pub(crate) inspected: InspectReport,
    pub(crate) in_force: Vec<InForceRow>,
}

/// A tweak that is in force.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct InForceRow {
    #[serde(flatten)]
    pub(crate) used: TweakUse,
    pub(crate) change: ChangeId,
    pub(crate) since: Timestamp,
    /// What measuring has told of it on this PC, latest last: what was found, and the interval in percent.
    pub(crate) evidence: Vec<(EvidenceFinding, [f64; 3])>,
}

/// A setting before and after.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct ChangedSetting {
    #[serde(flatten)]
    pub(crate) used: TweakUse,
    pub(crate) address: Address,
    pub(crate) before: State,
    pub(crate) after: State,
}

/// Stretches of a drawing over time: about one for each point of a page's width.
const STRETCHES: usize = 640;

/// Puts a report together.
pub(crate) fn report(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    subject: Subject,
) -> Result<ReportData, Failure> {
    let written_at = context.clock.now();
    let plain = |told| ReportData {
        written_at,
        told,
        figures: Figures::default(),
        changed: Vec::new(),
        held_by: None,
    };
    match subject {
        Subject::Trial(id) => {
            let record = trial::find(ledger, pc, id)?;
            let replayed = record.trial();
            let told = trial::report(ledger, Some(pc), &record)?;
            let figures = Figures {
                intervals: IntervalRow::of_comparison(&told.comparison),
                frames: frames_of_trial(ledger, &replayed)?,
                pairs: pair_points(&replayed),
                segments: segment_points(&replayed),
            };
            let changes = ledger.changes_of_trial(record.id)?.into_iter();
            let held_by = changes.map(|(change, _)| change).next_back();
            let changed = held_by.map(|change| changed(ledger, change)).transpose()?;
            Ok(ReportData {
                figures,
                changed: changed.unwrap_or_default(),
                held_by: held_by.filter(|_| told.kept && !told.is_taken_back_since),
                ..plain(Told::Trial(Box::new(told)))
            })
        }
        Subject::Sift(id) => {
            let record = sift::find(ledger, pc, id)?;
            let told = sift::report(ledger, &record, false)?;
            Ok(ReportData { written_at, ..of_sift(ledger, &record, told)? })
        }
        Subject::Tune(id) => {
            let record = tune::find(ledger, pc, id)?;
            let told = sift::report(ledger, &record, false)?;
            let trial = told.trial.map(|trial| ledger.trial(trial)).transpose()?;
            let of_sift = of_sift(ledger, &record, told)?;
            let rates = trial.as_ref().map(|trial| rates(&trial.trial())).unwrap_or_default();
            let pairs = trial.map(|trial| pair_points(&trial.trial())).unwrap_or_default();
            let evening = tune::told_evening_of(pc.identity().kind, ledger, &record)?;
            let intervals = IntervalRow::of_tweaks(evening.found.clone(), &record.design);
            Ok(ReportData {
                written_at,
                told: Told::Tune(Box::new(EveningTold { evening, rates })),
                figures: Figures { pairs, intervals, ..of_sift.figures },
                ..of_sift
            })
        }
        Subject::Change(id) => {
            let change = ledger.change(id)?;
            let is_in_force = change.layers_left > 0;
            let told =
                ChangeTold { change: id, title: change.title, at: change.begun_at, is_in_force };
            Ok(ReportData {
                changed: changed(ledger, id)?,
                held_by: is_in_force.then_some(id),
                ..plain(Told::Change(Box::new(told)))
            })
        }
        Subject::Play(id) => {
            let plays = ledger.plays(&pc.identity().id)?;
            let is_meant = |play: &PlayRecord| id.is_none_or(|id| play.id.0 == id);
            let play = plays.into_iter().rfind(is_meant).ok_or_else(|| {
                Failure::new(Kind::NotFound, "there is no such play of this PC")
                    .hint("`frevin play list` shows those there are")
            })?;
            let recorded = play.events.iter().find_map(|timed| match timed.event {
                PlayEvent::Recorded { visit } => Some(visit),
                _ => None,
            });
            let visit = recorded.map(|visit| ledger.visit(visit)).transpose()?;
            let frames = recorded.map(|visit| frames_of(ledger, None, &[visit])).transpose()?;
            let figures = Figures { frames: frames.into_iter().collect(), ..Figures::default() };
            Ok(ReportData { figures, ..plain(Told::Play(Box::new(PlayTold { play, visit }))) })
        }
        Subject::Pc => {
            let inspected = inspect(context, pc, ledger)?;
            let in_force = in_force(context, pc, ledger)?;
            Ok(plain(Told::Pc(Box::new(PcTold { inspected, in_force }))))
        }
    }
}

/// What a sift tells, with the frames of its trial.
fn of_sift(ledger: &Ledger, record: &SiftRecord, told: SiftReport) -> Result<ReportData, Failure> {
    let intervals = match told.tweaks.is_empty() {
        true => Vec::new(),
        false => IntervalRow::of_tweaks(record.sift()?.found(), &record.design),
    };
    let trial = told.trial.map(|trial| ledger.trial(trial)).transpose()?;
    let (mut changes, mut frames) = (Vec::new(), Vec::new());
    if let Some(trial) = &trial {
        changes = ledger.changes_of_trial(trial.id)?;
        frames = frames_of_trial(ledger, &trial.trial())?;
    }
    let held_by = changes.into_iter().map(|(change, _)| change).next_back();
    let changed = held_by.map(|change| changed(ledger, change)).transpose()?;
    Ok(ReportData {
        written_at: Timestamp::default(),
        figures: Figures { intervals, frames, ..Figures::default() },
        changed: changed.unwrap_or_default(),
        held_by: held_by.filter(|_| told.kept && !told.is_taken_back_since),
        told: Told::Sift(Box::new(told)),
    })
}

/// What decides of both states of a trial.
fn rates(trial: &Trial) -> Vec<BeforeAndAfter> {
    let rate = |finding: &MetricFinding| {
        let figures = match finding.measured {
            Measured::Fps { a_fps, b_fps } => {
                FiguresBeforeAndAfter::Fps { before_fps: a_fps?, after_fps: b_fps? }
            }
            Measured::Ms { a_ms, b_ms } => {
                FiguresBeforeAndAfter::Ms { before_ms: a_ms?, after_ms: b_ms? }
            }
        };
        let difference_percent = finding.difference.map(|one| 100.0 * one.estimate);
        Some(BeforeAndAfter { of: finding.primary, figures, difference_percent })
    };
    trial.comparison().findings.iter().filter_map(rate).collect()
}

/// The settings of a change that its tweaks wanted.
fn changed(ledger: &Ledger, id: ChangeId) -> Result<Vec<ChangedSetting>, Failure> {
    let steps = ledger.change(id)?.steps.into_iter();
    let wanted = steps.filter(|step| step.reason == Reason::Wanted);
    Ok(wanted
        .map(|step| ChangedSetting {
            used: step.used,
            address: step.address,
            before: step.before,
            after: step.after,
        })
        .collect())
}

/// Frame times of both states of a trial; nothing where none were kept, as in play.
fn frames_of_trial(ledger: &Ledger, trial: &Trial) -> Result<Vec<FramesOf>, Failure> {
    let of = |arm: Arm| -> Result<FramesOf, Failure> {
        let visits: Vec<VisitId> = trial
            .pairs()
            .iter()
            .flat_map(|pair| match arm {
                Arm::A => pair.a.visits.clone(),
                Arm::B => pair.b.visits.clone(),
            })
            .collect();
        frames_of(ledger, Some(arm), &visits)
    };
    if trial.pairs().is_empty() {
        return Ok(Vec::new());
    }
    Ok(vec![of(Arm::A)?, of(Arm::B)?])
}

/// The runs of visits that count, one after another.
fn frames_of(ledger: &Ledger, arm: Option<Arm>, visits: &[VisitId]) -> Result<FramesOf, Failure> {
    let visits = visits
        .iter()
        .map(|visit| Ok(ledger.visit(*visit)?))
        .collect::<Result<Vec<_>, Failure>>()?;
    let runs: Vec<_> = visits.iter().flat_map(VisitRecord::counted).collect();
    let total_ms = 1000.0 * runs.iter().map(|run| run.metrics.seconds).sum::<f64>();
    let mut shape = ShapeOf::new(total_ms, STRETCHES);
    for run in runs {
        ledger.frame_blocks(run.id).each_block(&mut |block| shape.see(block))?;
    }
    Ok(FramesOf { arm, shape: shape.finish() })
}

/// The tweaks that are in force, since when and with what evidence.
fn in_force(context: &Context, pc: &dyn Pc, ledger: &Ledger) -> Result<Vec<InForceRow>, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    let mut rows: Vec<InForceRow> = Vec::new();
    for layer in layers.iter().flat_map(|(_, stack)| &stack.layers) {
        if rows.iter().any(|row| row.used == layer.used && row.change == layer.change) {
            continue;
        }
        let since = ledger.change(layer.change)?.begun_at;
        let (used, change) = (layer.used.clone(), layer.change);
        rows.push(InForceRow { used, change, since, evidence: Vec::new() });
    }
    for told in evidence::told(context, pc, ledger, None)? {
        for row in rows.iter_mut().filter(|row| row.used == told.evidence.used) {
            let record = &told.evidence;
            let percent = [record.low_percent, record.effect_percent, record.high_percent];
            row.evidence.push((record.finding, percent));
        }
    }
    rows.sort_by_key(|row| (row.since, row.used.to_string()));
    Ok(rows)
}
