//! What earlier trials tell of chance.

use super::design::Design;
use super::machine::{DonePair, Trial};
use crate::ids::PcId;
use crate::verdict::{Histories, History, Primary};

/// Trials of the same PC, scene and schedule that it takes before they count as a history.
const ENOUGH_TRIALS: usize = 3;
/// Pairs that a trial needs before its spread is believed.
const ENOUGH_PAIRS: usize = 3;

/// A trial made earlier.
#[derive(Debug, Clone)]
pub struct EarlierTrial {
    /// The PC.
    pub pc: PcId,
    /// What happened in it.
    pub trial: Trial,
}

/// How much pairs differ by chance on a PC, by earlier trials of the same scene, number of runs and length,
/// with restarts or without as this one. For each metric the mean of the trials' sample variances.
pub fn histories(earlier: &[EarlierTrial], pc: &PcId, design: &Design) -> Histories {
    let alike = earlier.iter().filter(|earlier| {
        let other = earlier.trial.design();
        earlier.pc == *pc
            && (&other.levels, other.runs, other.warm_up, other.run_seconds, other.restarts)
                == (
                    &design.levels,
                    design.runs,
                    design.warm_up,
                    design.run_seconds,
                    design.restarts,
                )
            && (other.judge, &other.ping) == (design.judge, &design.ping)
            && earlier.trial.pairs().len() >= ENOUGH_PAIRS
    });
    let alike: Vec<&Trial> = alike.map(|earlier| &earlier.trial).collect();
    let of = |primary: Primary| {
        if alike.len() < ENOUGH_TRIALS {
            return None;
        }
        let variances = alike.iter().map(|trial| variance(trial.pairs(), primary));
        Some(History { variance: variances.sum::<Option<f64>>()? / alike.len() as f64 })
    };
    let [first, second] = design.judge.primaries().map(of);
    Histories { first, second }
}

/// The sample variance of the pairs' differences of logarithms, over n - 1.
fn variance(pairs: &[DonePair], primary: Primary) -> Option<f64> {
    let difference =
        |pair: &DonePair| Some(primary.gain(&pair.b.figures)? - primary.gain(&pair.a.figures)?);
    let differences = pairs.iter().map(difference).collect::<Option<Vec<f64>>>()?;
    let count = differences.len() as f64;
    let mean = differences.iter().sum::<f64>() / count;
    let squares: f64 = differences.iter().map(|one| (one - mean).powi(2)).sum();
    Some(squares / (count - 1.0))
}
