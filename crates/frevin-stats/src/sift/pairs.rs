//! A sift in play: in one of two neighbouring segments a row of the design is on, in the other all that the row leaves
//! off, and a coin says which of them comes second (section 3b of the project's study of verdicts in play).
//!
//! What happens in the game is in the difference of the two with a sign that the coin gave, so that it is noise to every
//! effect; and each pair tells of all columns.

use rand_pcg::Pcg64;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::chain::{Beforehand, Chain, Posterior, Regression};
use super::design::{Factors, FactorsError, Rows};
use super::effects::{Effect, effect};
use super::found::{Found, Limits};
use super::matrix::dot;
use super::{LOOK_EVERY, USUAL_ROW_SPREAD};
use crate::portable::{coin, normal, shuffle, uniform};

/// The smallest effect that a sift in play must be sure about: the smaller, the more play it takes.
///
/// These are the ones that error rates are known for.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum SmallestEffect {
    /// 5 %: in free play.
    FivePercent,
    /// 3 %: in a benchmark that repeats, or in calm play.
    ThreePercent,
    /// 2 %: in a scene where nothing happens.
    TwoPercent,
}

impl SmallestEffect {
    /// The effect as a share.
    pub fn share(self) -> f64 {
        match self {
            Self::FivePercent => 0.05,
            Self::ThreePercent => 0.03,
            Self::TwoPercent => 0.02,
        }
    }
}

/// What a sift in play goes by.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct PairRule {
    /// What the design and the chain come from.
    pub seed: u64,
    /// The smallest effect that it must be sure about.
    pub smallest_effect: SmallestEffect,
}

/// A pair of segments. Figures are logarithms, each the larger the better: of the mean frame rate, of the slow frames'
/// rate.
#[derive(Debug, Clone, PartialEq)]
pub struct SiftedPair {
    /// What is on in the second of them; in the first it is all the rest.
    pub on_in_second: Vec<bool>,
    /// The second less the first.
    pub steps: [f64; 2],
    /// The pairs before and after it, where the segments next to it are valid and no gap is between.
    pub neighbours: Option<PairNeighbours>,
    /// Whether the pair that was taken last was played right before it.
    pub follows_last: bool,
}

/// What lies around a pair.
#[derive(Debug, Clone, PartialEq)]
pub struct PairNeighbours {
    /// The segment after it less the one before it.
    pub slopes: [f64; 2],
    /// What is on in the second segment of the pair before it.
    pub on_in_second_before: Vec<bool>,
    /// What is on in the second segment of the pair after it.
    pub on_in_second_after: Vec<bool>,
}

/// The share of the slope between the outer neighbours that is taken out of a pair.
const DETREND: f64 = 1.0 / 3.0;
/// Slopes are taken out where what is left of neighbouring pairs hangs together no more than this.
const MOST_AUTOCORRELATION: f64 = 0.2;
/// An effect is sure from a chance of .975 of its sign on, and none below .01 of being worth having.
const LIMITS: Limits = Limits { flagged_above: 0.975, cleared_below: 0.01 };
/// Degrees of freedom of what is known of the variance at each look.
const VARIANCE_DEGREES: f64 = 4.0;
/// The first look is after so many pairs more than there are columns.
const PAIRS_MORE_THAN_COLUMNS: usize = 4;
/// Rows that are drawn; after the last one comes the first again.
const ROWS: usize = 240;

/// A sift in play: pairs, and what the latest look said.
#[derive(Debug, Clone)]
pub struct PairSifting {
    columns: usize,
    rows: Rows,
    chain: Chain,
    pairs: Vec<SiftedPair>,
    posteriors: Vec<Posterior>,
    /// Whether the latest look took slopes out.
    is_detrended: bool,
    is_finished: bool,
}

impl PairSifting {
    /// A sift of so many columns of which nothing is played yet.
    ///
    /// # Errors
    /// Where there are none, or too many.
    pub fn new(columns: usize, rule: PairRule) -> Result<Self, FactorsError> {
        let factors = Factors::independent(columns)?;
        let rows = Rows::draw(&factors, ROWS, USUAL_ROW_SPREAD * USUAL_ROW_SPREAD, rule.seed);
        let beforehand = Beforehand {
            variance_degrees: VARIANCE_DEGREES,
            degrees_taken_out: 0.0,
            worth_having: rule.smallest_effect.share(),
        };
        Ok(Self {
            columns,
            rows,
            // Each look says what variance is expected.
            chain: Chain::new(columns, 1.0, beforehand, !rule.seed),
            pairs: Vec::new(),
            posteriors: Vec::new(),
            is_detrended: false,
            is_finished: false,
        })
    }

    /// The row that one segment of a pair runs, by the number of the pair since the sift began; the other runs all that
    /// it leaves off.
    pub fn row(&self, pair: usize) -> &[bool] {
        self.rows.row(pair % ROWS).unwrap_or_default()
    }

    /// Pairs before the first look: a multiple of four.
    pub fn first_look(&self) -> usize {
        Self::pairs_before_first_look(self.columns)
    }

    /// The same for so many columns.
    pub fn pairs_before_first_look(columns: usize) -> usize {
        (columns + PAIRS_MORE_THAN_COLUMNS).next_multiple_of(LOOK_EVERY)
    }

    /// Takes one more pair. Nothing is taken after the end.
    pub fn push(&mut self, pair: SiftedPair) {
        if self.is_finished {
            return;
        }
        self.pairs.push(pair);
        let is_look = self.pairs.len().is_multiple_of(LOOK_EVERY);
        if is_look && self.pairs.len() >= self.first_look() {
            self.look();
        }
    }

    fn look(&mut self) {
        // The first look has no effects yet that could be taken out of what is left.
        let has_slopes = self.pairs.iter().any(|pair| pair.neighbours.is_some());
        self.is_detrended =
            has_slopes && !self.posteriors.is_empty() && self.hangs_together_little();
        let regression = self.regression(0, self.is_detrended);
        let squares = dot(&regression.values, &regression.values);
        self.chain.expect(squares / regression.values.len() as f64);
        self.posteriors = self.chain.look(&regression);
        self.is_finished = self.found().iter().all(|found| *found != Found::Unclear);
    }

    /// Whether what is left of neighbouring pairs without their slopes is near enough to independent.
    fn hangs_together_little(&self) -> bool {
        let regression = self.regression(0, true);
        let left = regression.residuals(self.posteriors.iter().map(|one| one.mean));
        let neighbours: Vec<f64> = left
            .windows(2)
            .zip(&self.pairs[1..])
            .filter(|(_, second)| second.follows_last)
            .map(|(two, _)| two[0] * two[1])
            .collect();
        let squares = dot(&left, &left) / left.len() as f64;
        let together = neighbours.iter().sum::<f64>() / neighbours.len().max(1) as f64;
        together <= MOST_AUTOCORRELATION * squares
    }

    /// A figure of the pairs, and what an effect of 1 of each column adds to it.
    fn regression(&self, figure: usize, is_detrended: bool) -> Regression {
        let around = |pair: &SiftedPair| pair.neighbours.clone().filter(|_| is_detrended);
        let values = self.pairs.iter().map(|pair| {
            let slope = around(pair).map_or(0.0, |around| around.slopes[figure]);
            pair.steps[figure] - DETREND * slope
        });
        let column = |column: usize| {
            let sign = |on: &[bool]| if on[column] { 1.0 } else { -1.0 };
            let gain = |pair: &SiftedPair| {
                // The segment before is a second one, the one after a first one, with all that its pair's second leaves
                // off: both take away from the slope that is taken out.
                let outside = around(pair).map_or(0.0, |around| {
                    sign(&around.on_in_second_before) + sign(&around.on_in_second_after)
                });
                sign(&pair.on_in_second) + DETREND * outside / 2.0
            };
            self.pairs.iter().map(gain).collect()
        };
        Regression { columns: (0..self.columns).map(column).collect(), values: values.collect() }
    }

    /// Whether the rule has stopped.
    pub fn is_finished(&self) -> bool {
        self.is_finished
    }

    /// How many pairs were taken.
    pub fn pairs(&self) -> usize {
        self.pairs.len()
    }

    /// Whether the latest look took the slope of the content out of pairs.
    pub fn is_detrended(&self) -> bool {
        self.is_detrended
    }

    /// What the latest look said of each column; nothing before the first.
    pub fn posteriors(&self) -> &[Posterior] {
        &self.posteriors
    }

    /// What was found of each column, as the latest look has it; nothing before the first.
    pub fn found(&self) -> Vec<Found> {
        self.posteriors.iter().map(|one| LIMITS.found(one)).collect()
    }

    /// The effect of each column by least squares beside the flagged ones: on the mean frame rate, and on the slow frames'.
    pub fn effects(&self) -> Vec<[Option<Effect>; 2]> {
        let found = self.found();
        let regressions = [0, 1].map(|figure| self.regression(figure, self.is_detrended));
        let of = |column: usize| {
            regressions.each_ref().map(|regression| {
                let is_other =
                    |(other, found): &(usize, &Found)| *other != column && found.is_flagged();
                let others: Vec<&Vec<f64>> = found
                    .iter()
                    .enumerate()
                    .filter(is_other)
                    .map(|(other, _)| &regression.columns[other])
                    .collect();
                effect(&regression.columns[column], &others, &regression.values, 0.0)
            })
        };
        (0..self.columns).map(of).collect()
    }
}

/// What a simulated sift came to.
#[derive(Debug, Clone)]
pub struct SimulatedSift {
    /// The true effects.
    pub effects: Vec<f64>,
    /// The sift at its end.
    pub sifting: PairSifting,
}

/// The most pairs of a simulated sift.
const MOST_SIMULATED_PAIRS: usize = 200;

/// A sift in play of a made-up PC whose pairs differ independently and normally with this standard deviation, beside
/// effects: up to four losses and up to four gains, as large as these ranges say; or none.
///
/// # Errors
/// Where there are no columns, or too many.
pub fn simulated_sift(
    columns: usize,
    (losses, gains): ((f64, f64), (f64, f64)),
    matters: bool,
    (deviation, rule): (f64, PairRule),
    rng: &mut Pcg64,
) -> Result<SimulatedSift, FactorsError> {
    let mut effects = vec![0.0; columns];
    let mut places: Vec<usize> = (0..columns).collect();
    shuffle(rng, &mut places);
    let mut places = places.into_iter();
    for (sign, (low, high)) in [(-1.0, losses), (1.0, gains)] {
        let count = if matters { (uniform(rng) * 5.0) as usize } else { 0 };
        for place in places.by_ref().take(count) {
            effects[place] = sign * (low + (high - low) * uniform(rng));
        }
    }
    let mut sifting = PairSifting::new(columns, rule)?;
    while !sifting.is_finished() && sifting.pairs() < MOST_SIMULATED_PAIRS {
        let is_second = coin(rng);
        let on: Vec<bool> =
            sifting.row(sifting.pairs()).iter().map(|on| *on == is_second).collect();
        let sum: f64 =
            on.iter().zip(&effects).map(|(on, effect)| if *on { *effect } else { -effect }).sum();
        sifting.push(SiftedPair {
            on_in_second: on,
            steps: [sum + deviation * normal(rng), 0.0],
            neighbours: None,
            follows_last: true,
        });
    }
    Ok(SimulatedSift { effects, sifting })
}

#[cfg(test)]
mod tests;
