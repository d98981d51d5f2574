//! How much of an evening is played, and what is asked about meanwhile.

use std::time::Duration;

use frevin_stats::sift::{MOST_COLUMNS, PairSifting};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::evening::Goal;
use super::plan::{EveningQuestion, FOUND_FOUR_OF_FIVE, TuneCandidate, WORTH_ASKING, questions};

/// What is asked about while somebody plays, before the rest of an evening.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct PlayPlan {
    /// The candidates that are asked about, those first of which most is expected.
    pub asked: Vec<EveningQuestion>,
    /// The most play, in seconds.
    pub most_play_s: f64,
    /// The smallest effect that it is sure about, in percent.
    pub smallest_effect_percent: f64,
}

/// What play takes.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct PlayCosts {
    /// Play before the first segment.
    pub lead_in_s: f64,
    /// How long a segment is, in seconds.
    pub segment_s: f64,
    /// The most play there may be, in seconds.
    pub most_play_s: f64,
    /// The smallest effect that it is sure about, as a share.
    pub smallest_effect: f64,
}

/// Of an evening, so much may be played: what is asked about in runs, and the proof, need the rest.
const SHARE_OF_PLAY: f64 = 0.25;
/// In free play most is sorted after twice the pairs of a first look, and nearly all after twice as many again.
const LOOKS_OF_PLAY: f64 = 4.0;

impl PlayCosts {
    /// The play that so many candidates need.
    fn takes_s(&self, candidates: usize) -> f64 {
        let pairs = PairSifting::pairs_before_first_look(candidates) as f64;
        self.lead_in_s + LOOKS_OF_PLAY * 2.0 * self.segment_s * pairs
    }
}

/// Splits off what is asked about in play: as many of the candidates that act at once as a quarter of the budget has time
/// for, those first of which most is expected. Two are the fewest; nothing where there are not so many.
pub fn plan_play(
    candidates: &[TuneCandidate],
    costs: &PlayCosts,
    budget: Duration,
) -> Option<PlayPlan> {
    let most_play_s = costs.most_play_s.min(SHARE_OF_PLAY * budget.as_secs_f64());
    let standard_error = costs.smallest_effect.ln_1p() / FOUND_FOUR_OF_FIVE;
    let mut asked = questions(candidates, Goal::Frames, standard_error);
    let most = (0..=MOST_COLUMNS).take_while(|count| costs.takes_s(*count) <= most_play_s).last();
    let worth = asked.iter().take_while(|one| one.expected_gain >= WORTH_ASKING).count();
    asked.truncate(worth.min(most.unwrap_or(0)));
    (asked.len() >= 2).then(|| PlayPlan {
        most_play_s: costs.takes_s(asked.len()),
        asked,
        smallest_effect_percent: 100.0 * costs.smallest_effect,
    })
}
