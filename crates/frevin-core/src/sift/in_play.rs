//! Sifts in play: configurations change every few seconds while somebody plays, instead of from run to run.
//!
//! Segments and what counts of them are those of a trial in play ([`crate::trial::in_play`]): of a pair, B is a row of the
//! design, and A all that the row leaves off.

use frevin_stats::sift::{
    FactorsError, Found, PairNeighbours, PairRule, PairSifting, SiftedPair, SmallestEffect,
};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::design::Configuration;
use super::machine::FoundTweak;
use crate::trial::Arm;
use crate::trial::in_play::{
    InPlay, LEAD_IN_S, MOST_PLAY_S, PlayedPair, Segment, SegmentFrames, Unjudged, are_too_many,
    pairs_of,
};
use crate::tweak::TweakUse;
use crate::verdict::Judge;

/// How a sift in play is played.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct SiftInPlay {
    /// Segments, and where frames come from.
    #[serde(flatten)]
    pub play: InPlay,
    /// The smallest effect that it must be sure about.
    pub smallest_effect: SmallestEffect,
    /// The most play over all sittings, in seconds, where it is less than [`MOST_PLAY_S`].
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub most_play_s: Option<f64>,
}

impl SiftInPlay {
    /// The most play over all sittings, in seconds.
    pub fn most_play_s(&self) -> f64 {
        self.most_play_s.unwrap_or(MOST_PLAY_S)
    }
}

/// Settling times are declared, or a tweak is not sifted in play: they are never doubled.
const NEVER_DOUBLED: u32 = 0;

/// What was played of a sift.
#[derive(Debug, Clone)]
pub struct PlayedSift {
    design: InPlay,
    most_play_s: f64,
    seed: u64,
    sifting: PairSifting,
    sittings: Vec<Vec<Segment>>,
    /// Pairs of the latest sitting that were looked at.
    looked_at: usize,
    pairs_played: usize,
    pairs_dropped: usize,
    pairs_capped: usize,
    /// The sitting and the number of the pair that was taken last.
    last_taken: Option<(usize, usize)>,
    unjudged: Option<Unjudged>,
}

impl PlayedSift {
    pub(super) fn new(
        design: &SiftInPlay,
        columns: usize,
        seed: u64,
    ) -> Result<Self, FactorsError> {
        let rule = PairRule { seed, smallest_effect: design.smallest_effect };
        Ok(Self {
            design: design.play.clone(),
            most_play_s: design.most_play_s(),
            seed,
            sifting: PairSifting::new(columns, rule)?,
            sittings: Vec::new(),
            looked_at: 0,
            pairs_played: 0,
            pairs_dropped: 0,
            pairs_capped: 0,
            last_taken: None,
            unjudged: None,
        })
    }

    /// Takes segments that were played, in their order.
    pub(super) fn take(&mut self, sitting: usize, segments: &[Segment]) {
        if sitting >= self.sittings.len() {
            // No segment follows the last pair of the sitting before.
            self.look_at_pairs(true);
            self.sittings.resize_with(sitting + 1, Vec::new);
            self.looked_at = 0;
        }
        for segment in segments {
            self.sittings[sitting].push(*segment);
            self.look_at_pairs(self.is_out_of_time());
        }
    }

    fn look_at_pairs(&mut self, is_whole: bool) {
        let Some(sitting) = self.sittings.len().checked_sub(1) else { return };
        let (design, segments) = (self.design.clone(), self.sittings[sitting].clone());
        for pair in pairs_of(&design, NEVER_DOUBLED, &segments, is_whole).skip(self.looked_at) {
            self.looked_at += 1;
            if !self.sifting.is_finished() && self.unjudged.is_none() {
                self.look_at(sitting, &pair);
            }
        }
        if !self.sifting.is_finished()
            && are_too_many(self.pairs_dropped, self.pairs_played, self.is_out_of_time())
        {
            self.unjudged.get_or_insert(match 2 * self.pairs_capped > self.pairs_dropped {
                true => Unjudged::Capped,
                false => Unjudged::TooMuchIsNoPlay,
            });
        }
    }

    fn look_at(&mut self, sitting: usize, pair: &PlayedPair<'_>) {
        self.pairs_played += 1;
        let is_capped = pair.first.looks_capped || pair.second.looks_capped;
        let frames = pair.first.frames.as_ref().zip(pair.second.frames.as_ref());
        let Some((first, second)) = frames.filter(|_| !is_capped) else {
            self.pairs_dropped += 1;
            self.pairs_capped += usize::from(is_capped);
            return;
        };
        let neighbours = pair.neighbours.map(|(before, _, after, _)| PairNeighbours {
            slopes: steps(before, after),
            on_in_second_before: self.on_in_second(sitting, pair.number.saturating_sub(1)),
            on_in_second_after: self.on_in_second(sitting, pair.number + 1),
        });
        let is_loop = self.design.loop_s.is_some();
        let follows_last = !is_loop
            && pair
                .number
                .checked_sub(1)
                .is_some_and(|before| self.last_taken == Some((sitting, before)));
        self.last_taken = Some((sitting, pair.number));
        let row = self.sifting.row(self.pairs_before(sitting) + pair.number);
        self.sifting.push(SiftedPair {
            on_in_second: row.iter().map(|on| *on == (pair.second.arm == Arm::B)).collect(),
            steps: steps(first, second),
            neighbours,
            follows_last,
        });
    }

    /// What is on in the second segment of a pair of neighbours.
    fn on_in_second(&self, sitting: usize, pair: usize) -> Vec<bool> {
        self.on(sitting, 2 * pair + 1)
    }

    /// What is on in a segment of a sitting.
    fn on(&self, sitting: usize, segment: usize) -> Vec<bool> {
        let arm = self.design.arm(self.seed, sitting, segment, NEVER_DOUBLED);
        let pair = self.design.pair_number(segment, NEVER_DOUBLED);
        let row = self.sifting.row(self.pairs_before(sitting) + pair);
        row.iter().map(|on| *on == (arm == Arm::B)).collect()
    }

    /// What is on in a segment of a sitting.
    pub fn configuration(&self, sitting: usize, segment: usize) -> Configuration {
        Configuration::of_row(&self.on(sitting, segment))
    }

    /// Pairs of all sittings before one: rows of the design go on from sitting to sitting.
    fn pairs_before(&self, sitting: usize) -> usize {
        let number = |segment| self.design.pair_number(segment, NEVER_DOUBLED);
        let pairs = |segments: &Vec<Segment>| {
            (0..segments.len()).map(|segment| number(segment) + 1).max().unwrap_or(0)
        };
        self.sittings.iter().take(sitting).map(pairs).sum()
    }

    /// What was found of each column; nothing before the first look.
    pub(super) fn found(&self, tweaks: impl Iterator<Item = TweakUse>) -> Vec<FoundTweak> {
        let (found, effects) = (self.found_of_columns(), self.sifting.effects());
        tweaks
            .zip(self.sifting.posteriors())
            .zip(found.into_iter().zip(effects))
            .map(|((used, posterior), (found, [average, slow]))| FoundTweak {
                on_low_1_percent: slow,
                least_squares: average,
                ..FoundTweak::of(used, found, posterior, Judge::FrameRate)
            })
            .collect()
    }

    /// Nothing is sure where too much was no play.
    pub(super) fn found_of_columns(&self) -> Vec<Found> {
        let found = self.sifting.found();
        match self.unjudged {
            None => found,
            Some(_) => found.iter().map(|_| Found::Unclear).collect(),
        }
    }

    /// Whether more play can no longer change what is found: all is sorted, the time is out, or too much is no play.
    pub fn is_finished(&self) -> bool {
        self.sifting.is_finished() || self.is_out_of_time() || self.unjudged.is_some()
    }

    fn is_out_of_time(&self) -> bool {
        self.played_s() >= self.most_play_s
    }

    /// Play over all sittings, in seconds.
    pub fn played_s(&self) -> f64 {
        self.sittings
            .iter()
            .map(|sitting| sitting.last().map_or(LEAD_IN_S, |last| last.end_s))
            .sum()
    }

    /// Sittings so far.
    pub fn sittings(&self) -> usize {
        self.sittings.len()
    }

    /// Segments that were played.
    pub fn segments(&self) -> usize {
        self.sittings.iter().map(Vec::len).sum()
    }

    /// Pairs of segments that were played, and those of them that do not count.
    pub fn pairs_played(&self) -> (usize, usize) {
        (self.pairs_played, self.pairs_dropped)
    }

    /// Why it ended with nothing found.
    pub fn unjudged(&self) -> Option<Unjudged> {
        self.unjudged
    }

    /// The statistics.
    pub fn sifting(&self) -> &PairSifting {
        &self.sifting
    }
}

/// The second less the first, each figure the larger the better.
fn steps(first: &SegmentFrames, second: &SegmentFrames) -> [f64; 2] {
    [first.ln_mean_ms - second.ln_mean_ms, first.ln_slow_ms - second.ln_slow_ms]
}

#[cfg(test)]
mod tests;
