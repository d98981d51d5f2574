//! Guards: metrics that can only veto.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::rule::Rule;
use super::sequence::{Look, Sequence};

/// The rises that matter in a guard, as factors: 1.25 is a quarter more. More is worse.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct GuardLimits {
    /// A certain rise beyond this vetoes; at or below it the guard is quiet.
    pub veto: f64,
    /// A rise beyond this when no more pairs may be taken leaves the verdict open.
    pub doubt: f64,
}

/// What a guard says.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum GuardState {
    /// No rise beyond the limit was seen so far: nothing stands in the way of "better".
    Quiet,
    /// A rise beyond the limit was seen, and is not certain: "better" has to wait.
    Waiting,
    /// A rise beyond the limit is certain. It stays so, whatever comes.
    Vetoes,
}

/// One guard's pairs: differences of logarithms, B less A, where more is worse.
///
/// A sequence without history, since the history of primaries is of other quantities. Its veto
/// stands once it was given.
#[derive(Debug, Clone)]
pub struct GuardSequence {
    rule: Rule,
    limits: GuardLimits,
    sequence: Sequence,
    vetoed_after_pairs: Option<usize>,
}

impl GuardSequence {
    /// A guard that takes as many pairs as `rule` and uses none of its history.
    pub fn new(rule: &Rule, limits: GuardLimits) -> Self {
        Self {
            rule: rule.without_history(),
            limits,
            sequence: Sequence::default(),
            vetoed_after_pairs: None,
        }
    }

    /// Takes one more pair and looks.
    pub fn push(&mut self, difference: f64) {
        self.sequence.push(&self.rule, difference);
        let harmful = self.look().is_some_and(|look| look.is_harmful_rise(self.limits.veto));
        if harmful && self.vetoed_after_pairs.is_none() {
            self.vetoed_after_pairs = Some(self.sequence.pairs());
        }
    }

    /// What it says after the pairs so far. Without pairs it is quiet.
    pub fn state(&self) -> GuardState {
        if self.vetoed_after_pairs.is_some() {
            GuardState::Vetoes
        } else if self.sequence.mean() <= self.limits.veto.ln() {
            GuardState::Quiet
        } else {
            GuardState::Waiting
        }
    }

    /// Whether the rise seen is so large that "better" or "same" is not to be said at the end,
    /// however uncertain the rise is.
    pub fn leaves_doubt(&self) -> bool {
        self.sequence.mean() > self.limits.doubt.ln()
    }

    /// After how many pairs it vetoed.
    pub fn vetoed_after_pairs(&self) -> Option<usize> {
        self.vetoed_after_pairs
    }

    /// The latest look, where the rule looks.
    pub fn look(&self) -> Option<Look> {
        self.sequence.look(&self.rule)
    }
}
