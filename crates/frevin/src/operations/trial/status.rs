//! How far a trial is, and what its owner has to do next.

use frevin_core::ids::SceneName;
use frevin_core::trial::{Action, Expected, Place, Progress, Seen, Trial, TrialId};
use frevin_ledger::{Ledger, TrialRecord};
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use super::pace;
use super::report::{TrialReport, report};
use crate::failure::Failure;

/// What is next in a trial.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "what", rename_all = "kebab-case")]
pub(crate) enum Next {
    /// The owner restarts the PC; then this state is visited.
    RestartThenVisit {
        /// What it is.
        state: String,
    },
    /// The PC restarts, and the trial goes on after its owner has signed in.
    SignIn,
    /// This state is visited.
    Visit {
        /// The pair, counted from 1.
        pair: usize,
        /// What it is.
        state: String,
    },
    /// Somebody plays, and the states are switched meanwhile.
    Play {
        /// What was played so far, in minutes.
        minutes_played: f64,
    },
    /// The owner goes on with it.
    GoOn,
    /// The PC is brought to where it should be.
    Settle,
}

/// How far a trial is.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct StatusReport {
    pub(crate) trial: TrialId,
    pub(crate) progress: Progress,
    pub(crate) scenes: Vec<SceneName>,
    pub(crate) a: String,
    pub(crate) b: String,
    pub(crate) pairs_made: usize,
    pub(crate) pair_limit: usize,
    /// What is to be done next; nothing after its end.
    pub(crate) next: Option<Next>,
    /// How long the pairs still to come take.
    pub(crate) expected: Option<Expected>,
    pub(crate) not_settled: Option<String>,
    /// The figures so far, where they were asked for.
    pub(crate) peek: Option<TrialReport>,
}

/// How far a trial is, with its figures so far where somebody peeks.
pub(crate) fn status(
    ledger: &Ledger,
    pc: &dyn Pc,
    record: &TrialRecord,
    peek: bool,
) -> Result<StatusReport, Failure> {
    let trial = record.trial();
    let design = &record.design;
    let is_going = trial.progress() == Progress::Going;
    let records = ledger.trials(&pc.identity().id)?;
    let pace = pace(&records, design.run_seconds);
    Ok(StatusReport {
        trial: record.id,
        progress: trial.progress(),
        scenes: design.levels.clone(),
        a: design.a.title.clone(),
        b: design.b.title.clone(),
        pairs_made: trial.judged().map_or(trial.pairs().len(), |judged| judged.test.pairs()),
        pair_limit: trial.comparison().pair_limit,
        next: next(pc, &trial)?,
        expected: (is_going && design.in_play.is_none())
            .then(|| pace.expected(design, trial.pairs().len())),
        not_settled: trial.not_settled().map(ToOwned::to_owned),
        peek: peek.then(|| report(ledger, Some(pc), record)).transpose()?,
    })
}

fn next(pc: &dyn Pc, trial: &Trial) -> Result<Option<Next>, Failure> {
    let (pair, arm) = trial.due();
    let state = trial.design().arm(arm).title.clone();
    Ok(match trial.progress() {
        Progress::Ended => None,
        Progress::Paused => Some(Next::GoOn),
        Progress::WayBackOpen | Progress::GivenUp => Some(Next::Settle),
        Progress::Going => {
            // Whether the state is there already makes no difference to what the owner has to do.
            let is_in_play = trial.design().in_play.is_some();
            let place = if is_in_play { trial.design().first_place() } else { Place::from(arm) };
            let seen = Seen { place, boot: pc.boot()?, others_are_as_before: true };
            Some(match trial.next(&seen) {
                Action::Play { .. } => Next::Play {
                    minutes_played: trial.judged().map_or(0.0, |judged| judged.played_s / 60.0),
                },
                Action::Restart if trial.entry_before().is_some() => Next::SignIn,
                Action::Restart => Next::RestartThenVisit { state },
                _ => Next::Visit { pair: pair + 1, state },
            })
        }
    })
}
