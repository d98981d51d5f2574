//! What an effect is believed to be, and what asking about it is worth.

use frevin_stats::{normal_below, normal_gain};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::evening::Goal;
use crate::tweak::Standing;
use crate::verdict::Judge;

/// What an effect is believed to be before it is measured: a normal distribution of the natural logarithm of the ratio of
/// frame rates, with the tweak to without. Of another judge, that of the gain in it, in units of [`Judge::scale`].
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Belief {
    /// Its mean.
    pub mean: f64,
    /// Its standard deviation.
    pub spread: f64,
}

/// Areas whose tweaks are about something else than how fast frames are made, however well founded they are for that.
const NOT_ABOUT_FRAMES: [&str; 9] =
    ["clean", "firmware", "input", "looks", "network", "privacy", "sound", "storage", "updates"];
/// The same of how soon a frame answers to its player.
const NOT_ABOUT_LATENCY: [&str; 8] =
    ["clean", "firmware", "looks", "network", "privacy", "sound", "storage", "updates"];
/// Areas whose tweaks are about how soon an address answers.
const ABOUT_PING: [&str; 3] = ["background", "network", "services"];

/// Whether tweaks of an area are about what is judged.
fn is_about(judge: Judge, area: &str) -> bool {
    match judge {
        Judge::FrameRate => !NOT_ABOUT_FRAMES.contains(&area),
        Judge::Latency => !NOT_ABOUT_LATENCY.contains(&area),
        Judge::Ping => ABOUT_PING.contains(&area),
    }
}

/// What is believed of a tweak that nobody has measured on this PC, by how well founded it is. The spreads are those that
/// make effects of 2 % and more about as rare as practitioners find them: one tweak of four that is sound, one of six
/// that is plausible, one of twelve that is contested; and one of hundreds in an area that is about something else.
fn unmeasured(standing: Standing, area: &str, judge: Judge) -> Belief {
    let (mean, spread) = match standing {
        Standing::Harmful => (-0.03, 0.006),
        Standing::NoEffect => (0.0, 0.003),
        Standing::Sound | Standing::Plausible | Standing::Contested if !is_about(judge, area) => {
            (0.0, 0.006)
        }
        Standing::Sound => (0.007, 0.020),
        Standing::Plausible => (0.003, 0.018),
        Standing::Contested => (0.0, 0.014),
    };
    Belief { mean, spread }
}

/// What has been measured before may have changed since by this much: another driver, another version of the game.
const SINCE_THEN: f64 = 0.01;

/// What is believed of a tweak of this standing and area, of which these effects were measured on this PC, each with its
/// standard error: precisions add up, as those of normal distributions do.
pub fn belief(standing: Standing, area: &str, judge: Judge, measured: &[(f64, f64)]) -> Belief {
    measured.iter().fold(unmeasured(standing, area, judge), |belief, (ln_ratio, standard_error)| {
        belief.after(*ln_ratio, standard_error.hypot(SINCE_THEN))
    })
}

impl Belief {
    /// What is believed after this was measured: precisions add up. Nothing is learnt where there is no standard error.
    pub fn after(self, ln_ratio: f64, standard_error: f64) -> Self {
        if standard_error <= 0.0 {
            return self;
        }
        let (before, measured) = (self.spread.powi(2).recip(), standard_error.powi(2).recip());
        let precision = before + measured;
        Self {
            mean: (self.mean * before + ln_ratio * measured) / precision,
            spread: precision.recip().sqrt(),
        }
    }

    /// What asking is expected to gain, where the tweak is kept only if the answer says that it helps (the expected value
    /// of sample information; Raiffa and Schlaifer, 1961). `standard_error` is that of the answer.
    pub fn expected_gain(self, standard_error: f64) -> f64 {
        let variance = self.spread * self.spread;
        normal_gain(self.mean, variance / (variance + standard_error * standard_error).sqrt())
    }
}

/// What sparing power with a tweak that costs no frames is taken to be worth, as a natural logarithm of frame rate: as
/// much for each, so that time goes to those that are likely to cost none.
const SPARED: f64 = 0.01;
/// What a set may cost of average FPS and still counts as no difference.
const NO_COST: f64 = 0.01;

impl Belief {
    /// The chance that a measurement with this standard error says that it costs no frames worth having.
    pub fn chance_of_no_cost(self, standard_error: f64) -> f64 {
        normal_below((self.mean + NO_COST) / self.spread.hypot(standard_error))
    }

    /// What asking is expected to be worth, for a goal.
    pub fn worth(self, goal: Goal, standard_error: f64) -> f64 {
        match goal {
            Goal::Frames | Goal::Ping | Goal::Latency => self.expected_gain(standard_error),
            Goal::Quiet => SPARED * self.chance_of_no_cost(standard_error),
        }
    }
}
