//! How long a trial takes.

use std::time::Duration;

use serde::{Deserialize, Serialize};

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

/// How long a trial may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
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
    fn pair(self, restarts: bool, runs: usize, warm_up: usize) -> Duration {
        let runs = u32::try_from(runs + warm_up).unwrap_or(u32::MAX);
        let restart = if restarts { self.restart } else { Duration::ZERO };
        (self.run * runs + restart) * 2
    }

    /// How long the pairs still to come of a trial take, of which `done` are there.
    pub fn expected(self, design: &Design, done: usize) -> Expected {
        let pair = self.pair(design.restarts, design.runs, design.warm_up);
        let first = match design.histories.average_fps {
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
    (restarts, runs, warm_up): (bool, usize, usize),
) -> Result<PairLimit, Duration> {
    let pair = pace.pair(restarts, runs, warm_up);
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
        let within = |budget| limit_within(minutes(budget), pace, (true, 3, 1));
        assert_eq!(within(79), Err(minutes(80)));
        for (budget, pairs) in [(80, 8), (119, 8), (120, 12), (200, 20), (999, 20)] {
            assert_eq!(within(budget).map(PairLimit::pairs), Ok(pairs), "{budget}");
        }
    }
}
