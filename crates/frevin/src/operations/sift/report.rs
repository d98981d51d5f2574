//! A sift as it is told.

use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::preview::LeftOut;
use frevin_core::sift::{
    FoundTweak, PlayedSift, Sift, SiftDesign, SiftEvent, SiftId, SiftInPlay, SiftProgress, Sifting,
    ToCome, TogetherFound,
};
use frevin_core::trial::in_play::Unjudged;
use frevin_core::trial::{Reason, TrialId};
use frevin_core::tweak::TweakUse;
use frevin_core::verdict::{Judge, Verdict};
use frevin_ledger::{Ledger, SiftRecord};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use super::begin::times;
use crate::failure::Failure;
use crate::operations::trial::is_taken_back_since;

/// A sift that has ended, or as far as it is.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct SiftReport {
    pub(crate) sift: SiftId,
    pub(crate) begun_at: Timestamp,
    pub(crate) ended_at: Option<Timestamp>,
    pub(crate) progress: SiftProgress,
    pub(crate) title: String,
    pub(crate) scene: SceneName,
    /// What it is judged by: effects are of that.
    pub(crate) judge: Judge,
    pub(crate) seed: u64,
    pub(crate) restarts: bool,
    /// Configurations that were measured, those that were measured again too.
    pub(crate) configurations: usize,
    pub(crate) most_configurations: usize,
    /// What one tweak at a time would have taken for the same errors.
    pub(crate) one_at_a_time: usize,
    /// How long it took, in seconds, without the trial at its end.
    pub(crate) seconds: u64,
    /// What a configuration takes on this PC, in seconds: as the scene and earlier restarts say.
    pub(crate) seconds_a_configuration: u64,
    /// The most that what is still to come takes, in seconds.
    pub(crate) most_seconds_still: u64,
    /// Tweaks of the profile that are not sifted, with why.
    pub(crate) left_out: Vec<LeftOut>,
    /// How many tweaks there are.
    pub(crate) tweak_count: usize,
    /// What was found of each tweak; nothing before the end, unless somebody peeks.
    pub(crate) tweaks: Vec<FoundTweak>,
    /// Tweaks that act together.
    pub(crate) together: Vec<TogetherFound>,
    /// What helped, with what it needs.
    pub(crate) helped: Vec<TweakUse>,
    /// The trial of what helped.
    pub(crate) trial: Option<TrialId>,
    /// Its verdict; nothing where nothing helped.
    pub(crate) verdict: Option<Verdict>,
    /// Whether what helped is in force at the end.
    pub(crate) kept: bool,
    /// Whether that was taken back or replaced since.
    pub(crate) is_taken_back_since: bool,
    /// Why it is, or is not.
    pub(crate) reason: Option<Reason>,
    pub(crate) is_given_up: bool,
    /// Measurements that were made and do not count.
    pub(crate) voided: usize,
    pub(crate) with_history: bool,
    /// How it was played, where it is a sift in play.
    #[serde(flatten)]
    pub(crate) in_play: Option<PlayedReport>,
}

/// How a sift in play was played.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct PlayedReport {
    /// Segments that were played: each is another configuration.
    pub(crate) segments: usize,
    pub(crate) pairs: usize,
    /// Those that do not count: menus, loading, pauses, caps.
    pub(crate) pairs_dropped: usize,
    /// Play over all sittings, in minutes.
    pub(crate) minutes: f64,
    pub(crate) sittings: usize,
    /// The smallest effect that it had to be sure about, in percent.
    pub(crate) smallest_effect_percent: f64,
    /// Frames so soon after a switch are not judged, in seconds.
    pub(crate) settling_s: f64,
    pub(crate) segment_s: f64,
    /// Whether the content's slope was taken out of pairs.
    pub(crate) is_detrended: bool,
    /// Whether all was sure before the time was out.
    pub(crate) is_sorted: bool,
    /// Why nothing was found.
    pub(crate) unjudged: Option<Unjudged>,
}

impl PlayedReport {
    fn of(design: &SiftDesign, played: &PlayedSift) -> Option<Self> {
        let SiftInPlay { play, smallest_effect, .. } = design.in_play.as_ref()?;
        let (pairs, pairs_dropped) = played.pairs_played();
        Some(Self {
            segments: played.segments(),
            pairs,
            pairs_dropped,
            minutes: played.played_s() / 60.0,
            sittings: played.sittings(),
            smallest_effect_percent: 100.0 * smallest_effect.share(),
            settling_s: play.settling_s(0),
            segment_s: play.segment_s(0),
            is_detrended: played.sifting().is_detrended(),
            is_sorted: played.sifting().is_finished(),
            unjudged: played.unjudged(),
        })
    }
}

/// The sifts of a PC.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct SiftList {
    pub(crate) sifts: Vec<SiftReport>,
}

/// Tells a sift; what it has found so far too, where somebody peeks.
pub(crate) fn report(
    ledger: &Ledger,
    record: &SiftRecord,
    peek: bool,
) -> Result<SiftReport, Failure> {
    let sift: Sift = record.sift()?;
    let design = &record.design;
    let is_decided = sift.to_come() != ToCome::Configurations && !sift.is_abandoned();
    let shows = is_decided || peek;
    let trial = sift.trial().map(|trial| ledger.trial(trial)).transpose()?;
    let ending = sift.ended().and_then(|(_, ending)| ending);
    let measured_until = record
        .events
        .iter()
        .rev()
        .find(|timed| matches!(timed.event, SiftEvent::Measured { .. } | SiftEvent::Played { .. }))
        .map_or(record.begun_at, |timed| timed.at);
    let took = Duration::try_from(record.begun_at.until(measured_until).unwrap_or_default());
    let helping = sift.helping();
    let (a_configuration, still) = times(ledger, &record.pc, &sift)?;
    Ok(SiftReport {
        sift: record.id,
        begun_at: record.begun_at,
        ended_at: record.has_ended().then(|| record.events.last().map(|last| last.at)).flatten(),
        progress: sift.progress(),
        title: design.title.clone(),
        scene: design.scene.clone(),
        judge: design.judge,
        seed: design.rule.seed,
        restarts: design.restarts,
        configurations: sift.rows_sifted().map_or(0, Sifting::measurements),
        most_configurations: sift.rows_sifted().map_or(0, Sifting::most_rows),
        in_play: sift.played().and_then(|played| PlayedReport::of(design, played)),
        one_at_a_time: one_at_a_time(design.tweaks.len()),
        seconds: took.map_or(0, |took| took.as_secs()),
        seconds_a_configuration: a_configuration.as_secs(),
        most_seconds_still: still.as_secs(),
        left_out: design.left_out.clone(),
        tweak_count: design.tweaks.len(),
        tweaks: if shows { sift.found() } else { Vec::new() },
        together: if shows { sift.together() } else { Vec::new() },
        helped: design
            .wishes(&helping)
            .into_iter()
            .filter(|_| shows)
            .map(|wish| wish.used)
            .collect(),
        verdict: trial
            .as_ref()
            .filter(|trial| trial.trial().ended().is_some())
            .map(|trial| trial.trial().comparison().verdict),
        trial: sift.trial(),
        kept: ending.is_some_and(|ending| ending.kept),
        is_taken_back_since: match &trial {
            Some(trial) => is_taken_back_since(ledger, trial, ending)?,
            None => false,
        },
        reason: ending.map(|ending| ending.reason),
        is_given_up: sift.is_abandoned(),
        voided: sift.voided(),
        with_history: design.with_history,
    })
}

/// What one tweak at a time takes for about the same errors: 95, 200 and 410 runs for 10, 20 and 40 tweaks, by
/// simulation.
fn one_at_a_time(tweaks: usize) -> usize {
    (21 * tweaks).saturating_sub(20) / 2
}
