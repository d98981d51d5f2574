//! The sequential test over pairs of segments: looks, decisions that stick, guards, its end.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF, Normal};

use super::pairs::InPlayPair;
use super::sign_test::{SignPair, SignTest};
use crate::sequence::{Decision, Interval};
use crate::verdict::Verdict;

/// The most pairs that a test may take.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct InPlayLimit(usize);

/// When the pairs are looked at; a limit between two of them is looked at too.
const LOOKS: [usize; 12] = [12, 16, 20, 24, 32, 40, 48, 64, 80, 96, 128, 160];

impl InPlayLimit {
    /// For short segments.
    pub const SHORT_SEGMENTS: Self = Self(160);
    /// For segments of ten seconds, and for a benchmark that repeats.
    pub const LONG_SEGMENTS: Self = Self(96);

    /// A limit that error rates were worked out for: 48 to 192 pairs.
    pub fn new(pairs: usize) -> Option<Self> {
        (48..=192).contains(&pairs).then_some(Self(pairs))
    }

    /// The limit in pairs.
    pub fn pairs(self) -> usize {
        self.0
    }

    pub(super) fn is_look(self, pairs: usize) -> bool {
        pairs == self.0 || LOOKS.contains(&pairs)
    }

    /// The upper quantile of the normal distribution for an error of `rate` that is spent in step with the pairs.
    fn quantile(self, rate: f64, pairs: usize) -> f64 {
        let error = rate * pairs as f64 / self.0 as f64;
        Normal::standard().inverse_cdf(1.0 - error)
    }
}

/// Error rates that over all looks come to 5 %, calibrated by simulation and rounded down.
pub(super) const ALL: f64 = 0.022;
/// The same while another figure is not better or worse (Holm's method).
const HALF: f64 = 0.011;

/// A figure that is tested.
#[derive(Debug, Clone)]
pub struct InPlayPrimary {
    margin: f64,
    pairs: SignTest,
    decision: Decision,
    decided_after_pairs: Option<usize>,
    /// The pairs that there were at the last look, and the quantile of its interval.
    looked_at: Option<(usize, f64)>,
}

impl InPlayPrimary {
    pub(super) fn new(margin: f64) -> Self {
        Self {
            margin,
            pairs: SignTest::default(),
            decision: Decision::Undecided,
            decided_after_pairs: None,
            looked_at: None,
        }
    }

    pub(super) fn push(&mut self, pair: SignPair) {
        self.pairs.push(pair);
    }

    /// What is known of it.
    pub fn decision(&self) -> Decision {
        self.decision
    }

    /// After how many pairs it became known.
    pub fn decided_after_pairs(&self) -> Option<usize> {
        self.decided_after_pairs
    }

    /// The difference worth having, as a share of A.
    pub fn margin(&self) -> f64 {
        self.margin
    }

    /// The interval at the last look: it holds the truth in 95 of 100 tests, over all looks.
    pub fn interval(&self) -> Option<Interval> {
        let (pairs, quantile) = self.looked_at?;
        Some(self.pairs.first(pairs).interval(quantile))
    }

    /// The standard error of the estimate, in logarithms: the width of the interval over that of two quantiles.
    pub fn standard_error(&self) -> Option<f64> {
        let (_, quantile) = self.looked_at?;
        let interval = self.interval()?;
        Some((interval.high.ln_1p() - interval.low.ln_1p()) / (2.0 * quantile))
    }

    /// Whether a few pairs carry what there is: the mean lies further from the estimate than two of its standard errors.
    pub fn is_uneven(&self) -> bool {
        let estimate = self.pairs.estimate();
        self.pairs.mean().is_some_and(|(mean, error)| (mean - estimate).abs() > 2.0 * error)
    }

    /// Its pairs.
    pub fn pairs(&self) -> &SignTest {
        &self.pairs
    }

    /// What a look at it decides, where the error may be `rate`.
    pub(super) fn look(&self, limit: InPlayLimit, rate: f64) -> Option<Decision> {
        let pairs = self.pairs.pairs();
        let margin = self.margin.ln_1p();
        let equivalence = limit.quantile(ALL, pairs);
        let within = [(-margin, 1.0), (margin, -1.0)].into_iter().all(|(edge, side)| {
            [self.pairs.score(edge), self.pairs.score_unclipped(edge)]
                .into_iter()
                .all(|score| side * score > equivalence)
        });
        if within {
            return Some(Decision::Same);
        }
        let score = self.pairs.score(0.0);
        (score.abs() > limit.quantile(rate / 2.0, pairs)).then_some(match score > 0.0 {
            true => Decision::Better,
            false => Decision::Worse,
        })
    }
}

/// Why a difference is worse that the figures tested do not show.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum InPlayVeto {
    /// More stutters.
    Stutters,
    /// Frames that follow each other less evenly.
    Pacing,
}

/// Rises of stutters and of pacing that matter, and those that leave doubt at the end, as factors.
const STUTTERS: (f64, f64) = (1.25, 1.5);
const PACING: (f64, f64) = (1.10, 1.2);

#[derive(Debug, Clone, Default)]
struct Guards {
    /// Differences of counts in A and in B.
    stutters: SignTest,
    stutters_of: [u64; 2],
    pacing: SignTest,
}

impl Guards {
    fn push(&mut self, pair: &InPlayPair) {
        let [of_a, of_b] = pair.stutters;
        let count = |difference| SignPair { difference, gain: 1.0 };
        self.stutters.push(count(f64::from(of_b) - f64::from(of_a)));
        self.stutters_of[0] += u64::from(of_a);
        self.stutters_of[1] += u64::from(of_b);
        self.pacing.push(count(pair.pacing));
    }

    fn stutters_ratio(&self) -> f64 {
        let [of_a, of_b] = self.stutters_of.map(|count| count as f64 + 0.5);
        of_b / of_a
    }

    /// Whether the middle pair rises beyond a limit. Stutters are few: the middle of their differences is 0 unless most
    /// pairs have more.
    fn is_beyond(&self, of: fn((f64, f64)) -> f64) -> bool {
        self.stutters.median_difference() > of(STUTTERS).ln()
            || self.pacing.median_difference() > of(PACING).ln()
    }

    fn veto(&self, quantile: f64) -> Option<InPlayVeto> {
        if self.stutters.score_unclipped(0.0) > quantile && self.stutters_ratio() > STUTTERS.0 {
            return Some(InPlayVeto::Stutters);
        }
        let rises =
            self.pacing.score(0.0) > quantile && self.pacing.median_difference() > PACING.0.ln();
        rises.then_some(InPlayVeto::Pacing)
    }
}

/// A test that takes pairs of segments one by one until it has a verdict or may take no more.
#[derive(Debug, Clone)]
pub struct InPlayTest {
    limit: InPlayLimit,
    primaries: [InPlayPrimary; 2],
    guards: Guards,
    veto: Option<InPlayVeto>,
    ended: Option<Verdict>,
}

impl InPlayTest {
    /// A test with the difference worth having in each figure, as shares of A.
    pub fn new(limit: InPlayLimit, margins: [f64; 2]) -> Self {
        Self {
            limit,
            primaries: margins.map(InPlayPrimary::new),
            guards: Guards::default(),
            veto: None,
            ended: None,
        }
    }

    /// Takes one more pair. A test that has ended takes none.
    pub fn push(&mut self, pair: &InPlayPair) {
        if self.is_finished() {
            return;
        }
        for (primary, of) in self.primaries.iter_mut().zip(pair.primaries) {
            primary.push(of);
        }
        self.guards.push(pair);
        if self.limit.is_look(self.pairs()) {
            self.look();
        }
    }

    fn look(&mut self) {
        let pairs = self.pairs();
        while self.decide_one() {}
        if self.veto.is_none() {
            self.veto = self.guards.veto(self.limit.quantile(HALF, pairs));
        }
        self.ended = self.end();
        let quantile = self.limit.quantile(ALL / 2.0, pairs);
        for primary in &mut self.primaries {
            primary.looked_at = Some((pairs, quantile));
        }
    }

    /// Decides one figure, if one can be: a difference found in one frees error for the other at the same look.
    fn decide_one(&mut self) -> bool {
        let pairs = self.pairs();
        for (index, other) in [(0, 1), (1, 0)] {
            if self.primaries[index].decision != Decision::Undecided {
                continue;
            }
            let rate = if self.primaries[other].decision.is_difference() { ALL } else { HALF };
            if let Some(decision) = self.primaries[index].look(self.limit, rate) {
                self.primaries[index].decision = decision;
                self.primaries[index].decided_after_pairs = Some(pairs);
                return true;
            }
        }
        false
    }

    fn end(&self) -> Option<Verdict> {
        let is = |decision| self.primaries.iter().any(|primary| primary.decision == decision);
        if is(Decision::Worse) || self.veto.is_some() {
            return Some(Verdict::Worse);
        }
        if !is(Decision::Undecided) && !self.guards.is_beyond(|(veto, _)| veto) {
            return Some(self.of_primaries());
        }
        (self.pairs() >= self.limit.pairs()).then(|| self.at_the_end())
    }

    /// What the primaries say where none is worse.
    fn of_primaries(&self) -> Verdict {
        let decisions = self.primaries.each_ref().map(InPlayPrimary::decision);
        if decisions.contains(&Decision::Better) {
            Verdict::Better
        } else if decisions == [Decision::Same; 2] {
            Verdict::Same
        } else {
            Verdict::Undecided
        }
    }

    fn at_the_end(&self) -> Verdict {
        let in_doubt = self.guards.is_beyond(|(_, doubt)| doubt);
        if in_doubt { Verdict::Undecided } else { self.of_primaries() }
    }

    /// Ends the test with the pairs that there are, when the time is out.
    pub fn time_is_out(&mut self) {
        if self.ended.is_none() {
            self.ended = Some(self.at_the_end());
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
        self.primaries[0].pairs.pairs()
    }

    /// The figures tested.
    pub fn primaries(&self) -> &[InPlayPrimary; 2] {
        &self.primaries
    }

    /// Why it is worse although no figure is.
    pub fn veto(&self) -> Option<InPlayVeto> {
        self.veto
    }

    /// Stutters in A and in B, and by what factor B's steps from frame to frame are larger.
    pub fn guards(&self) -> ([u64; 2], f64) {
        (self.guards.stutters_of, self.guards.pacing.median_difference().exp())
    }
}

#[cfg(test)]
mod tests;
