//! Pairs coming in one by one, and what is known after each.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::rule::{Bounds, Rule};

/// What is known of one metric.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Decision {
    /// B is better than A.
    Better,
    /// B is worse than A.
    Worse,
    /// There is no difference worth having.
    Same,
    /// Not enough is known.
    Undecided,
}

impl Decision {
    /// Whether it says that there is a difference.
    pub fn is_difference(self) -> bool {
        matches!(self, Self::Better | Self::Worse)
    }
}

/// By how much B differs from A, as a share of A: 0.05 is 5 % more.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Interval {
    /// The lower end.
    pub low: f64,
    /// The estimate.
    pub estimate: f64,
    /// The upper end.
    pub high: f64,
}

/// One metric's pairs at one look.
#[derive(Debug, Clone, Copy)]
pub struct Look {
    pairs: usize,
    mean: f64,
    standard_error: f64,
    bounds: Bounds,
}

impl Look {
    /// Whether the whole equivalence interval lies within the margin, a share of A.
    fn is_same(&self, margin: f64) -> bool {
        let margin = margin.ln_1p();
        let half = self.bounds.equivalence * self.standard_error;
        self.mean - half > -margin && self.mean + half < margin
    }

    fn difference(&self, bound: f64) -> Option<Decision> {
        if self.mean.abs() <= bound * self.standard_error {
            return None;
        }
        Some(if self.mean > 0.0 { Decision::Better } else { Decision::Worse })
    }

    /// The interval to report: it holds the truth in 95 of 100 comparisons, over all looks.
    pub fn interval(&self) -> Interval {
        let half = self.bounds.difference_5_percent * self.standard_error;
        Interval {
            low: (self.mean - half).exp_m1(),
            estimate: self.mean.exp_m1(),
            high: (self.mean + half).exp_m1(),
        }
    }

    /// Whether a rise beyond `times` is certain enough to veto, for a metric where less is better.
    pub(crate) fn is_harmful_rise(&self, times: f64) -> bool {
        self.mean > self.bounds.guard * self.standard_error && self.mean > times.ln()
    }

    /// How many pairs it is over.
    pub fn pairs(&self) -> usize {
        self.pairs
    }
}

/// One metric's pairs: differences of logarithms, B less A.
#[derive(Debug, Clone, Default)]
pub struct Sequence {
    pairs: usize,
    mean: f64,
    squares: f64,
    disowned: bool,
}

impl Sequence {
    /// Takes one more pair. (Welford's recurrence for mean and squared deviations.)
    pub fn push(&mut self, rule: &Rule, difference: f64) {
        self.pairs += 1;
        let deviation = difference - self.mean;
        self.mean += deviation / self.pairs as f64;
        self.squares += deviation * (difference - self.mean);
        self.disowned |= rule.disowns_history(self.pairs, self.squares);
    }

    /// How many pairs were taken.
    pub fn pairs(&self) -> usize {
        self.pairs
    }

    /// The mean difference of logarithms so far; 0 without pairs.
    pub fn mean(&self) -> f64 {
        self.mean
    }

    /// The look at the pairs so far, if the rule looks there.
    pub fn look(&self, rule: &Rule) -> Option<Look> {
        let (variance, bounds) = rule.look(self.pairs, self.squares, self.disowned)?;
        let standard_error = (variance / self.pairs as f64).sqrt();
        Some(Look { pairs: self.pairs, mean: self.mean, standard_error, bounds })
    }
}

/// Several primary metrics of one comparison, decided together.
///
/// With two, each has half the error to spend until the other is better or worse, and then all
/// of it (Holm's method). A decision once made stands.
#[derive(Debug, Clone)]
pub struct Sequences {
    metrics: Vec<Metric>,
}

#[derive(Debug, Clone)]
struct Metric {
    rule: Rule,
    margin: f64,
    sequence: Sequence,
    decision: Decision,
    decided_after_pairs: Option<usize>,
}

impl Sequences {
    /// A comparison by metrics with these rules and margins, each margin a share of A.
    pub fn new(metrics: Vec<(Rule, f64)>) -> Self {
        let metric = |(rule, margin)| Metric {
            rule,
            margin,
            sequence: Sequence::default(),
            decision: Decision::Undecided,
            decided_after_pairs: None,
        };
        Self { metrics: metrics.into_iter().map(metric).collect() }
    }

    /// Takes one more pair: for each metric, the difference of logarithms, B less A. Pairs
    /// beyond a rule's limit are not taken.
    pub fn push(&mut self, differences: &[f64]) {
        for (metric, difference) in self.metrics.iter_mut().zip(differences) {
            if metric.sequence.pairs < metric.rule.limit().pairs() {
                metric.sequence.push(&metric.rule, *difference);
            }
        }
        // A difference found in one metric frees error for the others at the same look.
        while self.decide_one() {}
    }

    fn decide_one(&mut self) -> bool {
        for index in 0..self.metrics.len() {
            let metric = &self.metrics[index];
            if metric.decision != Decision::Undecided {
                continue;
            }
            let Some(look) = metric.sequence.look(&metric.rule) else { continue };
            let others_differ = self
                .decisions()
                .enumerate()
                .all(|(other, decision)| other == index || decision.is_difference());
            let bound = if others_differ {
                look.bounds.difference_5_percent
            } else {
                look.bounds.difference_25_per_mille
            };
            let decision = if look.is_same(metric.margin) {
                Some(Decision::Same)
            } else {
                look.difference(bound)
            };
            if let Some(decision) = decision {
                self.metrics[index].decision = decision;
                self.metrics[index].decided_after_pairs = Some(look.pairs);
                return true;
            }
        }
        false
    }

    /// How many pairs have been taken.
    pub fn pairs(&self) -> usize {
        self.metrics.first().map_or(0, |metric| metric.sequence.pairs)
    }

    /// What is known of each metric.
    pub fn decisions(&self) -> impl Iterator<Item = Decision> {
        self.metrics.iter().map(|metric| metric.decision)
    }

    /// What is known of a metric.
    pub fn decision(&self, index: usize) -> Decision {
        self.metrics[index].decision
    }

    /// After how many pairs it became known.
    pub fn decided_after_pairs(&self, index: usize) -> Option<usize> {
        self.metrics[index].decided_after_pairs
    }

    /// The latest look at a metric.
    pub fn look(&self, index: usize) -> Option<Look> {
        let metric = &self.metrics[index];
        metric.sequence.look(&metric.rule)
    }

    /// Whether a history was given for a metric and does not fit what is seen.
    pub fn has_dropped_history(&self, index: usize) -> bool {
        self.metrics[index].sequence.disowned
    }

    /// Whether every metric is decided.
    pub fn is_decided(&self) -> bool {
        self.decisions().all(|decision| decision != Decision::Undecided)
    }

    /// Whether every metric is decided, or takes no more pairs.
    pub fn is_finished(&self) -> bool {
        let is_full = |metric: &Metric| metric.sequence.pairs >= metric.rule.limit().pairs();
        self.is_decided() || self.metrics.iter().all(is_full)
    }
}

#[cfg(test)]
mod tests;
