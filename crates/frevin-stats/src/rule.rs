//! The bounds of the sequential test.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, StudentsT};
use std::sync::{Arc, OnceLock};

/// The most pairs that a comparison may take; one of [`LARGEST_PAIR_COUNTS`].
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PairLimit(usize);

/// The limits that bounds have been worked out for.
pub const LARGEST_PAIR_COUNTS: [usize; 3] = [8, 12, 20];

impl PairLimit {
    /// The limit of `pairs` pairs, if bounds have been worked out for it.
    pub fn new(pairs: usize) -> Option<Self> {
        LARGEST_PAIR_COUNTS.contains(&pairs).then_some(Self(pairs))
    }

    /// The limit in pairs.
    pub fn pairs(self) -> usize {
        self.0
    }
}

impl Default for PairLimit {
    fn default() -> Self {
        Self(12)
    }
}

/// How much pairs of a metric differed by chance in earlier trials on the same PC.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct History {
    /// The mean sample variance of the pairs' differences of logarithms, over 3 or more trials.
    pub variance: f64,
}

impl History {
    /// What the history counts for, in degrees of freedom.
    const DEGREES_OF_FREEDOM: f64 = 4.0;
    /// A sample variance beyond this many times the history's disowns the history.
    const DISOWNED_BEYOND: f64 = 3.0;
}

/// Error rates that together over all looks come to 5 %, 2.5 %, and 5 % for equivalence.
#[derive(Debug, Clone, Copy, PartialEq)]
struct Rates {
    difference_5_percent: f64,
    difference_25_per_mille: f64,
    equivalence: f64,
}

fn rates(limit: PairLimit, with_history: bool) -> Rates {
    let (difference_5_percent, difference_25_per_mille, equivalence) =
        match (limit.pairs(), with_history) {
            (8, false) => (0.0234, 0.0107, 0.0257),
            (8, true) => (0.0236, 0.0108, 0.0257),
            (20, false) => (0.0155, 0.0068, 0.0173),
            (20, true) => (0.0163, 0.0073, 0.0183),
            (_, false) => (0.0191, 0.0089, 0.0209),
            (_, true) => (0.0195, 0.0090, 0.0219),
        };
    Rates { difference_5_percent, difference_25_per_mille, equivalence }
}

/// Quantiles of the t distribution for one look.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(crate) struct Bounds {
    /// |m| / se beyond this is a difference, where the error may be 5 %.
    pub(crate) difference_5_percent: f64,
    /// The same where it may be 2.5 %.
    pub(crate) difference_25_per_mille: f64,
    /// Half-width of the equivalence interval, in standard errors.
    pub(crate) equivalence: f64,
    /// m / se beyond this in the harmful direction is a guard's veto.
    pub(crate) guard: f64,
}

/// When a comparison may look, and what it takes to decide at each look.
#[derive(Debug, Clone)]
pub struct Rule {
    limit: PairLimit,
    history: Option<History>,
    /// By number of pairs; looks begin at the first `Some`.
    plain: Arc<[Option<Bounds>]>,
    with_history: Arc<[Option<Bounds>]>,
}

impl Rule {
    /// The rule for at most `limit` pairs.
    pub fn new(limit: PairLimit, history: Option<History>) -> Self {
        let plain = known_bounds(limit, false);
        let with_history = match history {
            Some(_) => known_bounds(limit, true),
            None => Arc::default(),
        };
        Self { limit, history, plain, with_history }
    }

    /// The same rule for what has no history.
    pub fn without_history(&self) -> Self {
        Self { history: None, with_history: Arc::default(), ..self.clone() }
    }

    /// The most pairs that the comparison may take.
    pub fn limit(&self) -> PairLimit {
        self.limit
    }

    /// Variance and bounds for a look at `pairs` pairs whose squared deviations sum to
    /// `squares`, if the rule looks there.
    pub(crate) fn look(&self, pairs: usize, squares: f64, disowned: bool) -> Option<(f64, Bounds)> {
        let n = pairs as f64;
        match self.history.filter(|_| !disowned) {
            Some(history) => {
                let prior = History::DEGREES_OF_FREEDOM;
                let variance = (prior * history.variance + squares) / (n - 1.0 + prior);
                Some((variance, (*self.with_history.get(pairs)?)?))
            }
            None => Some((squares / (n - 1.0), (*self.plain.get(pairs)?)?)),
        }
    }

    /// Whether so many pairs with such squared deviations show that this is not the PC, or not
    /// the noise, that the history speaks of.
    pub(crate) fn disowns_history(&self, pairs: usize, squares: f64) -> bool {
        let Some(history) = self.history else { return false };
        pairs >= 2 && squares / (pairs as f64 - 1.0) > History::DISOWNED_BEYOND * history.variance
    }
}

/// The bounds of a limit, worked out once: quantiles cost more than all else of a comparison.
fn known_bounds(limit: PairLimit, with_history: bool) -> Arc<[Option<Bounds>]> {
    type Known = OnceLock<Arc<[Option<Bounds>]>>;
    static KNOWN: [[Known; 2]; LARGEST_PAIR_COUNTS.len()] =
        [const { [const { OnceLock::new() }; 2] }; LARGEST_PAIR_COUNTS.len()];
    let first_look = if with_history { 3 } else { 4 };
    let work_out = || bounds_by_pairs(limit, with_history, first_look);
    match LARGEST_PAIR_COUNTS.iter().position(|pairs| *pairs == limit.pairs()) {
        Some(index) => KNOWN[index][usize::from(with_history)].get_or_init(work_out).clone(),
        None => work_out(),
    }
}

fn bounds_by_pairs(
    limit: PairLimit,
    with_history: bool,
    first_look: usize,
) -> Arc<[Option<Bounds>]> {
    let rates = rates(limit, with_history);
    let n_max = limit.pairs() as f64;
    (0..=limit.pairs())
        .map(|pairs| {
            if pairs < first_look {
                return None;
            }
            let n = pairs as f64;
            let fraction = n / n_max;
            let freedom =
                if with_history { n - 1.0 + History::DEGREES_OF_FREEDOM } else { n - 1.0 };
            let t = StudentsT::new(0.0, 1.0, freedom).ok()?;
            Some(Bounds {
                difference_5_percent: t
                    .inverse_cdf(1.0 - rates.difference_5_percent * fraction / 2.0),
                difference_25_per_mille: t
                    .inverse_cdf(1.0 - rates.difference_25_per_mille * fraction / 2.0),
                equivalence: t.inverse_cdf(1.0 - rates.equivalence * fraction),
                guard: t.inverse_cdf(1.0 - rates.difference_25_per_mille * fraction / 2.0),
            })
        })
        .collect()
}
