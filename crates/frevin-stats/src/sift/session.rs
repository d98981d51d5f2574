//! A sift as its rows come in: which is due, when the rule looks, when it stops, what it has found.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::chain::{Beforehand, Chain, Posterior, Regression};
use super::design::{Factors, Rows};
use super::effects::{Effect, Interaction, effect, interactions};
use super::found::Limits;
use super::matrix::without_trend;
use super::{FIRST_LOOK, Found, LOOK_EVERY, MOST_ROWS, PRIOR_DEGREES, WORTH_HAVING};
use crate::median;

const LIMITS: Limits = Limits { flagged_above: 0.95, cleared_below: 0.02 };
/// What a sift by rows takes for known.
pub(super) const BEFOREHAND: Beforehand = Beforehand {
    variance_degrees: PRIOR_DEGREES,
    degrees_taken_out: 2.0,
    worth_having: WORTH_HAVING,
};
/// A residual beyond so many scales is an outlier.
const OUTLIER_SCALES: f64 = 3.0;
/// The scale is no smaller than this share of the standard deviation that was expected.
const SMALLEST_SCALE: f64 = 0.8;
/// From the median absolute deviation to a normal standard deviation.
const MAD_TO_DEVIATION: f64 = 1.4826;
/// Values of a row that was measured again: their median counts.
const VALUES_OF_OUTLIER: usize = 3;

/// What a sift goes by.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct SiftRule {
    /// What the design and the chain come from.
    pub seed: u64,
    /// The variance of a row beside the effects, as earlier sifts showed it, or [`super::USUAL_ROW_SPREAD`] squared.
    pub row_variance: f64,
    /// The most rows: a look ends the sift there.
    pub most_rows: usize,
}

/// What is to be measured next.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Due {
    /// A row for the first time.
    Row(usize),
    /// A row again: what it gave was odd.
    Again(usize),
    /// Nothing: the rule has stopped.
    Nothing,
}

/// A sift: rows, what they gave, and what the latest look said.
#[derive(Debug, Clone)]
pub struct Sifting {
    factors: Factors,
    rule: SiftRule,
    rows: Rows,
    chain: Chain,
    /// What each row gave; several values where it was measured again.
    values: Vec<Vec<f64>>,
    /// Rows that are to be measured again, each as often as it stands here.
    again: Vec<usize>,
    posteriors: Vec<Posterior>,
    is_finished: bool,
}

impl Sifting {
    /// A sift of which nothing is measured yet. Its most rows are brought to where the rule looks.
    pub fn new(factors: Factors, rule: SiftRule) -> Self {
        let most = rule.most_rows.clamp(FIRST_LOOK, MOST_ROWS);
        let rule = SiftRule { most_rows: most - most % LOOK_EVERY, ..rule };
        let rows = Rows::draw(&factors, MOST_ROWS, rule.row_variance, rule.seed);
        // The chain has a stream of its own, so that a longer design changes no draw of it.
        let chain = Chain::new(factors.columns(), rule.row_variance, BEFOREHAND, !rule.seed);
        Self {
            factors,
            rule,
            rows,
            chain,
            values: Vec::new(),
            again: Vec::new(),
            posteriors: Vec::new(),
            is_finished: false,
        }
    }

    /// What is to be measured next.
    pub fn due(&self) -> Due {
        match self.again.first() {
            _ if self.is_finished => Due::Nothing,
            Some(row) => Due::Again(*row),
            None => Due::Row(self.values.len()),
        }
    }

    /// What is on in a row.
    pub fn row(&self, row: usize) -> Option<&[bool]> {
        self.rows.row(row)
    }

    /// Takes what was due: the logarithm of the figure. Nothing is taken after the end.
    pub fn push(&mut self, value: f64) {
        match self.due() {
            Due::Nothing => {}
            Due::Row(_) => {
                self.values.push(vec![value]);
                if self.values.len() >= FIRST_LOOK && self.values.len().is_multiple_of(LOOK_EVERY) {
                    self.look();
                }
            }
            Due::Again(row) => {
                self.values[row].push(value);
                self.again.remove(0);
                // Where more rows follow, the next look takes it in; an end has to rest on what it gave.
                if self.again.is_empty() && self.would_end() {
                    self.look();
                }
            }
        }
    }

    /// What each row is worth: the median where it was measured again.
    fn row_values(&self) -> Vec<f64> {
        self.values.iter().map(|row| median(row.iter().copied()).unwrap_or(f64::NAN)).collect()
    }

    fn regression(&self) -> Regression {
        Regression::of(&self.rows, &self.row_values(), self.factors.columns())
    }

    fn look(&mut self) {
        let regression = self.regression();
        self.posteriors = self.chain.look(&regression);
        self.again = self.outliers(&regression);
        self.is_finished = self.again.is_empty() && self.would_end();
    }

    /// Whether the latest look ends the sift, unless rows are odd.
    fn would_end(&self) -> bool {
        let is_clear = self.posteriors.iter().all(|one| LIMITS.found(one) != Found::Unclear);
        is_clear || self.values.len() >= self.rule.most_rows
    }

    /// The rows that are far from what all effects together say, and were not measured again yet, each twice.
    fn outliers(&self, regression: &Regression) -> Vec<usize> {
        if self.values.len() <= FIRST_LOOK {
            return Vec::new();
        }
        let residuals = regression.residuals(self.posteriors.iter().map(|one| one.mean));
        let middle = median(residuals.iter().copied()).unwrap_or_default();
        let deviation = median(residuals.iter().map(|left| (left - middle).abs()));
        // After few rows the effects take up most of what chance did, and the residuals look smaller than they are: on a
        // PC twice as loud as its history says, rows would be called odd that are not, and their medians would make
        // the noise look smaller still.
        let scale = (MAD_TO_DEVIATION * deviation.unwrap_or_default())
            .max(SMALLEST_SCALE * self.rule.row_variance.sqrt())
            .max(self.chain.row_spread());
        let is_odd = |row: &usize| {
            (residuals[*row] - middle).abs() > OUTLIER_SCALES * scale
                && self.values[*row].len() == 1
        };
        let odd = (0..residuals.len()).filter(is_odd);
        odd.flat_map(|row| std::iter::repeat_n(row, VALUES_OF_OUTLIER - 1)).collect()
    }

    /// Whether the rule has stopped.
    pub fn is_finished(&self) -> bool {
        self.is_finished
    }

    /// Rows that were measured, without those that were measured again.
    pub fn rows_measured(&self) -> usize {
        self.values.len()
    }

    /// Everything that was measured, what was measured again too.
    pub fn measurements(&self) -> usize {
        self.values.iter().map(Vec::len).sum()
    }

    /// The most rows.
    pub fn most_rows(&self) -> usize {
        self.rule.most_rows
    }

    /// What the latest look said of each column; nothing before the first.
    pub fn posteriors(&self) -> &[Posterior] {
        &self.posteriors
    }

    /// What was found of each column, as the latest look has it; nothing before the first.
    pub fn found(&self) -> Vec<Found> {
        self.posteriors.iter().map(|one| LIMITS.found(one)).collect()
    }

    fn flagged(&self) -> Vec<usize> {
        let all = self.posteriors.iter().enumerate();
        all.filter(|(_, one)| LIMITS.found(one).is_flagged()).map(|(column, _)| column).collect()
    }

    /// The flagged columns that act together.
    pub fn interactions(&self) -> Vec<Interaction> {
        let regression = self.regression();
        let places: Vec<f64> = (1..=self.values.len()).map(|row| row as f64).collect();
        let both = |first: usize, second: usize| {
            let is_both = |row: usize| {
                let on = self.rows.row(row).is_some_and(|on| on[first] && on[second]);
                f64::from(u8::from(on))
            };
            let column: Vec<f64> = (0..self.values.len()).map(is_both).collect();
            without_trend(&column, &places)
        };
        let flagged = self.flagged();
        let prior = self.rule.row_variance;
        interactions(&flagged, &regression.columns, both, &regression.values, prior)
    }

    /// The effect of each column on another figure of the same rows, by least squares beside the flagged ones. Nothing
    /// where too few rows were measured to tell.
    ///
    /// Rows that were measured again count with their median.
    pub fn effects_on(&self, values: &[Vec<f64>]) -> Vec<Option<Effect>> {
        let values: Vec<f64> =
            values.iter().map(|row| median(row.iter().copied()).unwrap_or(f64::NAN)).collect();
        let regression = Regression::of(&self.rows, &values, self.factors.columns());
        let flagged = self.flagged();
        let of = |column: usize| {
            let others: Vec<&Vec<f64>> = flagged
                .iter()
                .filter(|other| **other != column)
                .map(|other| &regression.columns[*other])
                .collect();
            effect(&regression.columns[column], &others, &regression.values, 2.0)
        };
        (0..self.factors.columns()).map(of).collect()
    }

    /// The same of the figure itself: what evidence is made of, never the posterior, which is drawn to 0.
    pub fn effects(&self) -> Vec<Option<Effect>> {
        self.effects_on(&self.values)
    }

    /// The variance of a row beside the effects, for sifts to come; nothing before the first look.
    pub fn row_variance(&self) -> Option<f64> {
        if self.posteriors.is_empty() {
            return None;
        }
        let left = self.regression().residuals(self.posteriors.iter().map(|one| one.mean));
        let squares: f64 = left.iter().map(|left| left * left).sum();
        let degrees = PRIOR_DEGREES + left.len() as f64 - 2.0;
        Some((PRIOR_DEGREES * self.rule.row_variance + squares) / degrees)
    }
}
