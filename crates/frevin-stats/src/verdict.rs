//! The sequential test as a whole: primary metrics, guards, its end and its verdict.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::guard::{GuardLimits, GuardSequence, GuardState};
use super::rule::{History, PairLimit, Rule};
use super::sequence::{Decision, Sequences};

/// The answer to whether B is different from A.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Verdict {
    /// Better in at least one primary metric, worse in none, and no guard stands in the way.
    Better,
    /// Worse in a primary metric, or a guard vetoes.
    Worse,
    /// No difference worth having in any primary metric, and no guard stands in the way.
    Same,
    /// Not enough is known.
    Undecided,
}

/// A test that takes pairs one by one until it has a verdict or may take no more.
///
/// It ends with *worse* at the first primary metric that is worse and at the first veto; with
/// *better* or *same* once every primary is decided and every guard is quiet. A verdict once given
/// stands: pairs that come later are not taken.
#[derive(Debug, Clone)]
pub struct SequentialTest {
    limit: PairLimit,
    primaries: Sequences,
    guards: Vec<GuardSequence>,
    ended: Option<Verdict>,
}

impl SequentialTest {
    /// A test by primary metrics, each with the difference worth having (a share of A) and the
    /// history of its own, and by guards.
    pub fn new(
        limit: PairLimit,
        primaries: &[(f64, Option<History>)],
        guards: &[GuardLimits],
    ) -> Self {
        let plain = Rule::new(limit, None);
        let rules = primaries.iter().map(|(margin, history)| {
            let rule = if history.is_some() { Rule::new(limit, *history) } else { plain.clone() };
            (rule, *margin)
        });
        Self {
            limit,
            primaries: Sequences::new(rules.collect()),
            guards: guards.iter().map(|limits| GuardSequence::new(&plain, *limits)).collect(),
            ended: None,
        }
    }

    /// Takes one more pair: differences of logarithms, B less A, of each primary metric (more is
    /// better) and of each guard (more is worse). A test that has ended takes none.
    pub fn push(&mut self, primaries: &[f64], guards: &[f64]) {
        if self.is_finished() {
            return;
        }
        self.primaries.push(primaries);
        for (guard, difference) in self.guards.iter_mut().zip(guards) {
            guard.push(*difference);
        }
        self.ended = self.end();
    }

    fn end(&self) -> Option<Verdict> {
        let mut decisions = self.primaries.decisions();
        let guard_is = |state| self.guards.iter().any(|guard| guard.state() == state);
        if decisions.any(|decision| decision == Decision::Worse) || guard_is(GuardState::Vetoes) {
            return Some(Verdict::Worse);
        }
        let so_far = self.of_primaries();
        if self.primaries.is_decided() && !guard_is(GuardState::Waiting) {
            return Some(so_far);
        }
        (self.pairs() >= self.limit.pairs()).then(|| {
            let in_doubt = self.guards.iter().any(GuardSequence::leaves_doubt);
            if in_doubt { Verdict::Undecided } else { so_far }
        })
    }

    /// What the primaries say where none is worse.
    fn of_primaries(&self) -> Verdict {
        let mut decisions = self.primaries.decisions();
        if decisions.any(|decision| decision == Decision::Better) {
            Verdict::Better
        } else if self.primaries.decisions().all(|decision| decision == Decision::Same) {
            Verdict::Same
        } else {
            Verdict::Undecided
        }
    }

    /// The verdict; undecided while more pairs may still be taken.
    pub fn verdict(&self) -> Verdict {
        self.ended.unwrap_or(Verdict::Undecided)
    }

    /// Whether more pairs can no longer change the verdict.
    pub fn is_finished(&self) -> bool {
        self.ended.is_some()
    }

    /// How many pairs were taken.
    pub fn pairs(&self) -> usize {
        self.primaries.pairs()
    }

    /// The primary metrics.
    pub fn primaries(&self) -> &Sequences {
        &self.primaries
    }

    /// The guards.
    pub fn guards(&self) -> &[GuardSequence] {
        &self.guards
    }
}

#[cfg(test)]
mod tests;
