//! The regression of a sift: most effects are none, a few are not, and the noise is about what it was before.
//!
//! Spike and slab by Gibbs sampling (George and McCulloch, 1993): an effect is 0, or drawn from a normal
//! distribution. A sweep draws each effect given all others, and then the variance of a row. Averages are of the
//! conditional distributions, not of the draws (Gelfand and Smith, 1990), which needs far fewer sweeps.

use rand::SeedableRng as _;
use rand_pcg::Pcg64;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::EFFECT_SPREAD;
use super::design::Rows;
use super::matrix::{dot, gram, without_trend};
use crate::portable::{chi_square, logistic, normal, normal_below, shuffle, uniform};

const BURN_IN_SWEEPS: usize = 60;
const KEPT_SWEEPS: usize = 200;
/// An effect matters with this chance at most, before anything is measured; about four of them do.
const MOST_LIKELY: f64 = 0.25;
const EXPECTED_EFFECTS: f64 = 4.0;

/// What a look says of one column.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Posterior {
    /// The mean of the effect, in natural logarithms.
    pub mean: f64,
    /// Its standard deviation.
    pub standard_deviation: f64,
    /// The chance that it is above 0.
    pub above_zero: f64,
    /// The chance that it is below 0.
    pub below_zero: f64,
    /// The chance that it is as large as is worth having, either way.
    pub worth_having: f64,
}

/// What is taken for known before anything is measured.
#[derive(Debug, Clone, Copy)]
pub(super) struct Beforehand {
    /// Degrees of freedom of what is known of the variance.
    pub(super) variance_degrees: f64,
    /// Degrees of freedom that were taken out of the values: a constant, a trend.
    pub(super) degrees_taken_out: f64,
    /// An effect worth having.
    pub(super) worth_having: f64,
}

/// The chain, carried on from look to look.
#[derive(Debug, Clone)]
pub(super) struct Chain {
    rng: Pcg64,
    effects: Vec<f64>,
    row_variance: f64,
    prior_variance: f64,
    beforehand: Beforehand,
    /// The mean of the variances that the latest look has drawn.
    mean_variance: f64,
}

/// Rows that were measured, without a constant and a trend.
pub(super) struct Regression {
    /// The columns.
    pub(super) columns: Vec<Vec<f64>>,
    /// The measured values.
    pub(super) values: Vec<f64>,
}

impl Regression {
    pub(super) fn of(rows: &Rows, values: &[f64], columns: usize) -> Self {
        let places: Vec<f64> = (1..=values.len()).map(|row| row as f64).collect();
        let column = |column| without_trend(&rows.coded(column, values.len()), &places);
        Self { columns: (0..columns).map(column).collect(), values: without_trend(values, &places) }
    }

    /// What is left of the values beside these effects.
    pub(super) fn residuals(&self, effects: impl Iterator<Item = f64> + Clone) -> Vec<f64> {
        let left = |row: usize| {
            let explained: f64 = self
                .columns
                .iter()
                .zip(effects.clone())
                .map(|(column, effect)| column[row] * effect)
                .sum();
            self.values[row] - explained
        };
        (0..self.values.len()).map(left).collect()
    }
}

/// Sums over the sweeps that are kept.
#[derive(Clone, Copy, Default)]
struct Sums {
    mean: f64,
    square: f64,
    above_zero: f64,
    below_zero: f64,
    worth_having: f64,
}

impl Chain {
    pub(super) fn new(
        columns: usize,
        prior_variance: f64,
        beforehand: Beforehand,
        seed: u64,
    ) -> Self {
        Self {
            rng: Pcg64::seed_from_u64(seed),
            effects: vec![0.0; columns],
            row_variance: prior_variance,
            prior_variance,
            beforehand,
            mean_variance: prior_variance,
        }
    }

    /// The standard deviation of a row beside the effects, as the latest look has it.
    pub(super) fn row_spread(&self) -> f64 {
        self.mean_variance.sqrt()
    }

    /// Takes another variance for what is known beforehand. The chain goes on from where it is.
    pub(super) fn expect(&mut self, prior_variance: f64) {
        self.prior_variance = prior_variance;
    }

    /// Looks at what was measured so far.
    pub(super) fn look(&mut self, regression: &Regression) -> Vec<Posterior> {
        let columns = self.effects.len();
        let products = gram(&regression.columns);
        let with_values: Vec<f64> =
            regression.columns.iter().map(|column| dot(column, &regression.values)).collect();
        let squares = dot(&regression.values, &regression.values);
        let Beforehand { variance_degrees, degrees_taken_out, worth_having } = self.beforehand;
        let degrees = variance_degrees + regression.values.len() as f64 - degrees_taken_out;
        let chance = MOST_LIKELY.min(EXPECTED_EFFECTS / columns as f64);
        let prior_odds = libm::log(chance / (1.0 - chance));
        let slab = EFFECT_SPREAD * EFFECT_SPREAD;
        // What the effects explain of each column.
        let mut explained: Vec<f64> = products.iter().map(|row| dot(row, &self.effects)).collect();
        let mut sums = vec![Sums::default(); columns];
        let mut variances = 0.0;
        let mut order: Vec<usize> = (0..columns).collect();
        for sweep in 0..BURN_IN_SWEEPS + KEPT_SWEEPS {
            let is_kept = sweep >= BURN_IN_SWEEPS;
            shuffle(&mut self.rng, &mut order);
            for &column in &order {
                let own = products[column][column];
                let before = self.effects[column];
                let left = with_values[column] - explained[column] + own * before;
                let variance = 1.0 / (own / self.row_variance + 1.0 / slab);
                let mean = variance / self.row_variance * left;
                let odds =
                    prior_odds + libm::log(variance / slab) / 2.0 + mean * mean / (2.0 * variance);
                let probability = logistic(odds);
                let spread = variance.sqrt();
                let drawn = if uniform(&mut self.rng) < probability {
                    mean + spread * normal(&mut self.rng)
                } else {
                    0.0
                };
                if drawn != before {
                    self.effects[column] = drawn;
                    for (explained, product) in explained.iter_mut().zip(&products[column]) {
                        *explained += product * (drawn - before);
                    }
                }
                if is_kept {
                    let sums = &mut sums[column];
                    let below = |limit: f64| normal_below((limit - mean) / spread);
                    sums.mean += probability * mean;
                    sums.square += probability * (mean * mean + variance);
                    sums.above_zero += probability * normal_below(mean / spread);
                    sums.below_zero += probability * below(0.0);
                    let above = normal_below((mean - worth_having) / spread);
                    sums.worth_having += probability * (above + below(-worth_having));
                }
            }
            let fitted: f64 = self
                .effects
                .iter()
                .zip(with_values.iter().zip(&explained))
                .map(|(effect, (value, explained))| effect * (2.0 * value - explained))
                .sum();
            let residual = (squares - fitted).max(0.0);
            self.row_variance = (variance_degrees * self.prior_variance + residual)
                / chi_square(&mut self.rng, degrees);
            if is_kept {
                variances += self.row_variance;
            }
        }
        let kept = KEPT_SWEEPS as f64;
        self.mean_variance = variances / kept;
        let posterior = |sums: &Sums| {
            let mean = sums.mean / kept;
            Posterior {
                mean,
                standard_deviation: (sums.square / kept - mean * mean).max(0.0).sqrt(),
                above_zero: sums.above_zero / kept,
                below_zero: sums.below_zero / kept,
                worth_having: sums.worth_having / kept,
            }
        };
        sums.iter().map(posterior).collect()
    }
}
