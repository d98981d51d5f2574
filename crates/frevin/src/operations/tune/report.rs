//! What an evening came to, or how far it is.

use std::collections::{BTreeMap, BTreeSet};
use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::layers::{ChangeId, Layer};
use frevin_core::preview::LeftOut;
use frevin_core::sift::{FoundTweak, SiftId, SiftProgress};
use frevin_core::trial::{Reason, TrialId};
use frevin_core::tune::{Evening, EveningPlan, Goal, Mended};
use frevin_core::tweak::TweakUse;
use frevin_core::verdict::{Comparison, GuardFinding, GuardState, Judge, Verdict};
use frevin_core::visits::{FrameLimit, limit_of_runs};
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::{Pc, PcKind};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::keep::saved;
use super::opening::BASELINE_S;
use crate::failure::{Failure, Kind};
use crate::operations::driving::first_held;
use crate::operations::sift::{PlayedReport, SiftReport, report};
use crate::operations::trial::pace;

/// A kept tweak and what it was measured to give.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct KeptTweak {
    #[serde(flatten)]
    pub(crate) used: TweakUse,
    /// On what it is judged by, in percent: of a ping or a latency, less is better.
    pub(crate) effect_percent: f64,
    pub(crate) low_percent: f64,
    pub(crate) high_percent: f64,
}

/// Something that was plainly wrong and is mended.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct MendedHere {
    /// What was wrong.
    pub(crate) title: String,
    #[serde(flatten)]
    pub(crate) used: TweakUse,
    /// The change that holds it: where that is the one of what is kept, both were tried together.
    pub(crate) change: ChangeId,
}

/// What all that is kept gives together, on what it is judged by, in percent.
#[derive(Debug, Clone, Copy, JsonSchema, Serialize)]
pub(crate) struct Gain {
    pub(crate) low: f64,
    pub(crate) estimate: f64,
    pub(crate) high: f64,
}

/// An evening that has ended, or as far as it is.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct TuneReport {
    pub(crate) tune: SiftId,
    pub(crate) begun_at: Timestamp,
    pub(crate) scene: SceneName,
    pub(crate) title: String,
    pub(crate) goal: Goal,
    /// What it is judged by: effects are of that.
    pub(crate) judge: Judge,
    pub(crate) budget_minutes: f64,
    /// What it took so far: on a rehearsal PC, what it would have taken on a real one.
    pub(crate) spent_minutes: f64,
    pub(crate) progress: SiftProgress,
    pub(crate) plan: EveningPlan,
    /// Whether it asked again about what had aged.
    pub(crate) is_again: bool,
    /// What was asked about in play before the rest, or is being asked about.
    pub(crate) played: Option<PlayedReport>,
    /// Whether it is at what is asked about in play.
    pub(crate) is_in_play: bool,
    /// What was plainly wrong and was mended before it, and still is.
    pub(crate) mended: Vec<MendedHere>,
    /// What limited the frames before it, where that was told.
    pub(crate) frame_limit: Option<FrameLimit>,
    /// Whether what was tried at its end was kept.
    pub(crate) is_kept: bool,
    /// The tweaks that are in force by it.
    pub(crate) kept: Vec<KeptTweak>,
    /// What was found of each tweak that was asked about.
    pub(crate) found: Vec<FoundTweak>,
    /// Of one that goes on: what its latest look says, which may change.
    pub(crate) so_far: Vec<FoundTweak>,
    /// Configurations that were measured.
    pub(crate) configurations: usize,
    /// The most time that what is still to come takes, in minutes.
    pub(crate) most_minutes_still: f64,
    pub(crate) left_out: Vec<LeftOut>,
    /// The profile that what is kept was saved as.
    pub(crate) profile: Option<String>,
    /// The trial of what helped together.
    pub(crate) trial: Option<TrialId>,
    /// The change that holds what is kept.
    pub(crate) change: Option<ChangeId>,
    pub(crate) verdict: Option<Verdict>,
    pub(crate) reason: Option<Reason>,
    pub(crate) gain_percent: Option<Gain>,
    /// The guards that spoke against what was tried together.
    pub(crate) vetoes: Vec<GuardFinding>,
    pub(crate) is_given_up: bool,
    pub(crate) is_taken_back_since: bool,
}

/// The evening that is meant: the one that is named, else the latest of the PC.
pub(crate) fn find(
    ledger: &Ledger,
    pc: &dyn Pc,
    id: Option<SiftId>,
) -> Result<SiftRecord, Failure> {
    let evenings = ledger.sifts(&pc.identity().id)?.into_iter();
    let mut evenings = evenings.filter(|record| record.design.evening.is_some());
    // One that was played first is told by the part that came after it.
    let is_meant = |record: &SiftRecord, id: SiftId| {
        let evening = record.design.evening.as_ref();
        let first = evening.and_then(|evening| evening.played_first.as_ref());
        record.id == id || first.is_some_and(|first| first.sift == id)
    };
    let found = match id {
        Some(id) => evenings.rfind(|record| is_meant(record, id)),
        None => evenings.next_back(),
    };
    found.ok_or_else(|| match id {
        Some(id) => Failure::new(Kind::NotFound, format!("there is no evening {id} of this PC")),
        None => Failure::new(Kind::NotFound, "there was no evening on this PC yet")
            .hint("`frevin tune` begins one"),
    })
}

/// Tells an evening.
///
/// # Errors
/// Where it is a sift that is of none, or the ledger cannot be read.
pub(crate) fn told_evening_of(
    pc_kind: PcKind,
    ledger: &Ledger,
    record: &SiftRecord,
) -> Result<TuneReport, Failure> {
    let evening = record.design.evening.as_ref();
    let evening = evening.ok_or_else(|| Failure::new(Kind::Internal, "it is no evening"))?;
    let sift = report(ledger, record, false)?;
    let first = part_before(ledger, evening)?;
    let layers = ledger.layers(&record.pc)?;
    let is_given_up = record.sift()?.is_given_up();
    let mended = |mended: &Mended| {
        let mut all = layers.iter().flat_map(|(_, stack)| &stack.layers);
        // Where it was given up, another evening's may be in force again.
        let is_meant = |layer: &&Layer| {
            layer.used == mended.wish.used && (!is_given_up || layer.change == mended.change)
        };
        let layer = all.find(is_meant)?;
        let (title, used) = (mended.title.clone(), layer.used.clone());
        Some(MendedHere { title, used, change: layer.change })
    };
    let is_going_on = !record.has_ended() && !sift.is_given_up && sift.tweaks.is_empty();
    let so_far = if is_going_on { report(ledger, record, true)?.tweaks } else { Vec::new() };
    let kept = if sift.kept { kept(&sift, evening, first.as_ref()) } else { Vec::new() };
    let profile = saved(ledger, evening.goal, &sift)?.map(|revision| revision.name().to_string());
    let change = match sift.trial {
        Some(trial) if sift.kept => {
            first_held(&layers, ledger.changes_of_trial(trial)?).map(|(change, _)| change)
        }
        _ => None,
    };
    let proof = match sift.trial {
        Some(trial) => proof(ledger, trial)?,
        None => None,
    };
    let spent = spent(pc_kind, ledger, record, &sift, first.as_ref(), evening)?;
    let still = match evening.is_played() {
        true => {
            let played_s = sift.in_play.as_ref().map_or(0.0, |played| 60.0 * played.minutes);
            let most_s = evening.plan.in_play.as_ref().map_or(0.0, |plan| plan.most_play_s);
            let EveningPlan { sift_s, trial_s, .. } = evening.plan;
            (most_s - played_s).max(0.0) + (sift_s + trial_s) as f64
        }
        false => sift.most_seconds_still as f64,
    };
    // Of what could not be told in play and was asked about again, the later word counts.
    let is_asked_again =
        |used: &TweakUse| record.design.tweaks.iter().any(|tweak| tweak.wish.used == *used);
    let in_play = first.iter().flat_map(|first| &first.tweaks);
    let mut found: Vec<FoundTweak> =
        in_play.filter(|tweak| !is_asked_again(&tweak.used)).cloned().collect();
    found.extend(sift.tweaks);
    Ok(TuneReport {
        tune: sift.sift,
        begun_at: first.as_ref().map_or(sift.begun_at, |first| first.begun_at),
        scene: sift.scene.clone(),
        title: sift.title.clone(),
        goal: evening.goal,
        judge: record.design.judge,
        budget_minutes: evening.budget_s as f64 / 60.0,
        spent_minutes: spent.as_secs_f64() / 60.0,
        progress: sift.progress,
        plan: evening.plan.clone(),
        is_again: evening.is_again,
        is_in_play: evening.is_played(),
        played: first.and_then(|first| first.in_play).or(sift.in_play),
        mended: evening.mended.iter().filter_map(mended).collect(),
        frame_limit: baseline_limit(ledger, evening)?,
        is_kept: sift.kept,
        kept,
        found,
        so_far,
        configurations: sift.configurations,
        most_minutes_still: still / 60.0,
        left_out: sift.left_out,
        profile,
        trial: sift.trial,
        change,
        verdict: sift.verdict,
        reason: sift.reason,
        gain_percent: proof.as_ref().and_then(gain),
        vetoes: proof.map(vetoes).unwrap_or_default(),
        is_given_up,
        is_taken_back_since: sift.is_taken_back_since,
    })
}

/// What limited the frames of the visit before an evening.
fn baseline_limit(ledger: &Ledger, evening: &Evening) -> Result<Option<FrameLimit>, Failure> {
    let Some(baseline) = evening.baseline else { return Ok(None) };
    let visit = ledger.visit(baseline)?;
    Ok(limit_of_runs(visit.counted().map(|run| (run, &visit.context))))
}

/// The part of an evening that was played before this one.
pub(super) fn part_before(
    ledger: &Ledger,
    evening: &Evening,
) -> Result<Option<SiftReport>, Failure> {
    let Some(first) = &evening.played_first else { return Ok(None) };
    report(ledger, &ledger.sift(first.sift)?, false).map(Some)
}

/// What is in force by an evening, with what was found of each in the part that asked about it last.
pub(super) fn kept(
    sift: &SiftReport,
    evening: &Evening,
    first: Option<&SiftReport>,
) -> Vec<KeptTweak> {
    let tweaks = first.iter().flat_map(|first| &first.tweaks).chain(&sift.tweaks);
    let found: BTreeMap<&TweakUse, &FoundTweak> =
        tweaks.map(|found| (&found.used, found)).collect();
    let in_play = evening.helped_in_play().iter().map(|wish| &wish.used);
    let helped: BTreeSet<&TweakUse> = sift.helped.iter().chain(in_play).collect();
    helped
        .into_iter()
        .filter_map(|used| {
            let found = found.get(used)?;
            Some(KeptTweak {
                used: used.clone(),
                effect_percent: found.effect_percent,
                low_percent: found.low_percent,
                high_percent: found.high_percent,
            })
        })
        .collect()
}

/// What the trial of all that helped found, once it has ended.
fn proof(ledger: &Ledger, trial: TrialId) -> Result<Option<Comparison>, Failure> {
    let trial = ledger.trial(trial)?.trial();
    Ok(trial.ended().map(|_| trial.comparison()))
}

fn gain(proof: &Comparison) -> Option<Gain> {
    let difference = proof.findings.first()?.difference?;
    Some(Gain {
        low: 100.0 * difference.low,
        estimate: 100.0 * difference.estimate,
        high: 100.0 * difference.high,
    })
}

fn vetoes(proof: Comparison) -> Vec<GuardFinding> {
    proof.guards.into_iter().filter(|guard| guard.state == GuardState::Vetoes).collect()
}

/// How long it took: by the clock, or by what its parts take where a rehearsal PC plays them in no time.
fn spent(
    pc_kind: PcKind,
    ledger: &Ledger,
    record: &SiftRecord,
    sift: &SiftReport,
    first: Option<&SiftReport>,
    evening: &Evening,
) -> Result<Duration, Failure> {
    let last = record.events.last().map_or(record.begun_at, |event| event.at);
    if pc_kind == PcKind::Live {
        let begun_at = first.map_or(record.begun_at, |first| first.begun_at);
        return Ok(Duration::try_from(begun_at.until(last).unwrap_or_default()).unwrap_or_default());
    }
    let played = first.unwrap_or(sift).in_play.as_ref().map_or(0.0, |played| played.minutes);
    let rows = u32::try_from(sift.configurations).unwrap_or(u32::MAX);
    let of_rows = Duration::from_secs(sift.seconds_a_configuration) * rows;
    let pairs = match sift.trial {
        Some(trial) => ledger.trial(trial)?.trial().pairs().len(),
        None => 0,
    };
    let share = pairs as f64 / evening.plan.trial_pairs.max(1) as f64;
    let of_baseline = match evening.baseline {
        Some(_) => pace(&ledger.trials(&record.pc)?, BASELINE_S).run,
        None => Duration::ZERO,
    };
    let of_play = Duration::from_secs_f64(60.0 * played);
    Ok(of_baseline + of_play + of_rows + Duration::from_secs(evening.plan.trial_s).mul_f64(share))
}
