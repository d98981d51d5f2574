//! A sift as it is told.

use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::sift::{FoundTweak, Sift, SiftId, SiftProgress, TogetherFound};
use frevin_core::trial::{Reason, TrialId};
use frevin_core::tweak::TweakUse;
use frevin_core::verdict::Verdict;
use frevin_ledger::{Ledger, SiftRecord};
use jiff::Timestamp;
use serde::Serialize;

use super::begin::times;
use crate::failure::Failure;
use crate::operations::trial::is_taken_back_since;

/// A sift that has ended, or as far as it is.
#[derive(Debug, Clone, Serialize)]
pub(crate) struct SiftReport {
    pub(crate) sift: SiftId,
    pub(crate) begun_at: Timestamp,
    pub(crate) ended_at: Option<Timestamp>,
    pub(crate) progress: SiftProgress,
    pub(crate) title: String,
    pub(crate) scene: SceneName,
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
}

/// The sifts of a PC.
#[derive(Debug, Clone, Serialize)]
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
    let is_decided = !matches!(
        sift.progress(),
        SiftProgress::Introducing | SiftProgress::Measuring | SiftProgress::GivenUp
    );
    let shows = (is_decided && !sift.is_abandoned()) || peek;
    let trial = sift.trial().map(|trial| ledger.trial(trial)).transpose()?;
    let ending = sift.ended().and_then(|(_, ending)| ending);
    let measured_until = record
        .events
        .iter()
        .rev()
        .find(|timed| matches!(timed.event, frevin_core::sift::SiftEvent::Measured { .. }))
        .map_or(record.begun_at, |timed| timed.at);
    let took = Duration::try_from(record.begun_at.until(measured_until).unwrap_or_default());
    let helping = sift.helping();
    let (a_configuration, still) = times(ledger, record, &sift)?;
    Ok(SiftReport {
        sift: record.id,
        begun_at: record.begun_at,
        ended_at: record.has_ended().then(|| record.events.last().map(|last| last.at)).flatten(),
        progress: sift.progress(),
        title: design.title.clone(),
        scene: design.scene.clone(),
        seed: design.rule.seed,
        restarts: design.restarts,
        configurations: sift.sifting().measurements(),
        most_configurations: sift.sifting().most_rows(),
        one_at_a_time: one_at_a_time(design.tweaks.len()),
        seconds: took.map_or(0, |took| took.as_secs()),
        seconds_a_configuration: a_configuration.as_secs(),
        most_seconds_still: still.as_secs(),
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
