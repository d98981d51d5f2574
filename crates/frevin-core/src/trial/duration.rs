//! How long a trial takes.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::time::Duration;

use super::design::Design;
use crate::verdict::{LARGEST_PAIR_COUNTS, PairLimit};

/// How long the parts of a trial take.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Pace {
    /// A run, with what it takes to begin it.
    pub run: Duration,
    /// A restart, until the next run can begin.
    pub restart: Duration,
}

/// What a visit is made of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Schedule {
    /// Whether the PC restarts before it.
    pub restarts: bool,
    /// Runs of each graphics level that count.
    pub runs: usize,
    /// Runs before them that do not.
    pub warm_up: usize,
    /// Graphics levels.
    pub levels: usize,
}

impl Schedule {
    /// The schedule of a trial.
    pub fn of(design: &Design) -> Self {
        let Design { restarts, runs, warm_up, .. } = *design;
        Self { restarts, runs, warm_up, levels: design.levels.len() }
    }
}

/// How long a trial may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Expected {
    /// Where it is decided at the first look.
    pub least: Duration,
    /// As most trials do.
    pub typical: Duration,
    /// Where it takes as many pairs as it may.
    pub most: Duration,
}

/// Pairs that a trial without history takes at least: the first look.
const FIRST_LOOK: usize = 4;
/// The same with a history.
const FIRST_LOOK_WITH_HISTORY: usize = 3;

impl Pace {
    /// What a pair of visits takes.
    fn pair(self, schedule: Schedule) -> Duration {
        let Schedule { restarts, runs, warm_up, levels } = schedule;
        let runs = u32::try_from(runs * levels + warm_up).unwrap_or(u32::MAX);
        let restart = if restarts { self.restart } else { Duration::ZERO };
        (self.run * runs + restart) * 2
    }

    /// How long the pairs still to come of a trial take, of which `done` are there.
    pub fn expected(self, design: &Design, done: usize) -> Expected {
        let pair = self.pair(Schedule::of(design));
        let first = match design.histories.first {
            Some(_) => FIRST_LOOK_WITH_HISTORY,
            None => FIRST_LOOK,
        };
        let most = design.limit.pairs();
        // Of trials of no effect and of +2 % at most 12 pairs, those without a history took 11.3 and
        // 8.2 on average (docs/measuring.md): three of four of the most.
        let typical = (most * 3).div_ceil(4);
        let still =
            |pairs: usize| pair * u32::try_from(pairs.saturating_sub(done)).unwrap_or(u32::MAX);
        Expected { least: still(first), typical: still(typical), most: still(most) }
    }
}

/// The largest limit of pairs that fits into a budget of time; else the time that the smallest needs.
///
/// # Errors
/// Where not even the smallest limit fits.
pub fn limit_within(
    budget: Duration,
    pace: Pace,
    schedule: Schedule,
) -> Result<PairLimit, Duration> {
    let pair = pace.pair(schedule);
    let needs = |pairs: usize| pair * u32::try_from(pairs).unwrap_or(u32::MAX);
    let fitting = LARGEST_PAIR_COUNTS.into_iter().rev().find(|pairs| needs(*pairs) <= budget);
    fitting.and_then(PairLimit::new).ok_or_else(|| needs(LARGEST_PAIR_COUNTS[0]))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_budget_takes_the_largest_limit_that_fits() {
        let pace = Pace { run: Duration::from_secs(60), restart: Duration::from_secs(60) };
        let minutes = |minutes: u64| Duration::from_secs(60 * minutes);
        // A pair: two restarts, two warm-ups, six runs: ten minutes.
        let schedule = Schedule { restarts: true, runs: 3, warm_up: 1, levels: 1 };
        let within = |budget| limit_within(minutes(budget), pace, schedule);
        assert_eq!(within(79), Err(minutes(80)));
        for (budget, pairs) in [(80, 8), (119, 8), (120, 12), (200, 20), (999, 20)] {
            assert_eq!(within(budget).map(PairLimit::pairs), Ok(pairs), "{budget}");
        }
        // Another level is three runs more of each visit: sixteen minutes.
        let schedule = Schedule { levels: 2, ..schedule };
        assert_eq!(limit_within(minutes(99), pace, schedule), Err(minutes(128)));
    }
}
