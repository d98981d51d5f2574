//! The performance model: how long frames take on a rehearsal PC, and what its settings do to that.

use std::collections::BTreeMap;

use frevin_core::expression::Expression;
use frevin_core::setting::{Address, State};
use frevin_stats::in_play::ContentKind;
use serde::Deserialize;
use serde_json::Value as Json;

/// The performance model of `model.toml`. Frevin's analysis never reads it; tests and users do,
/// to see whether verdicts are true.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Model {
    /// The scenes that can be played.
    pub scenes: Vec<ModelScene>,
    pub(super) noise: Noise,
    pub(super) warm_up: WarmUp,
    pub(super) slow_frames: SlowFrames,
    pub(super) stutters: Stutters,
    #[serde(default)]
    pub(super) effects: Vec<Effect>,
}

/// A scene that can be played on a rehearsal PC.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ModelScene {
    /// Its name.
    pub name: String,
    /// The game.
    pub game: String,
    /// Its graphics level.
    pub graphics: String,
    /// Its resolution.
    pub resolution: String,
    /// What is played.
    pub route: String,
    /// The typical frame time in milliseconds, with no effect at work.
    pub(super) frame_ms: f64,
    /// What a frame costs the graphics card, in milliseconds; without it nothing tells how busy the card is.
    #[serde(default)]
    pub(super) graphics_ms: Option<f64>,
    /// What a frame costs the thread that makes it, in milliseconds, with no effect at work.
    #[serde(default)]
    pub(super) processor_ms: Option<f64>,
    /// Latency: how many frames lie between a key and the display, and what they take in all before, in milliseconds.
    #[serde(default)]
    pub(super) latency: Option<ModelLatency>,
    /// What happens in it while it is played on and on; free play where nothing is said.
    #[serde(default)]
    pub(super) content: Option<ContentKind>,
    /// After how many seconds it repeats, where it is a benchmark that does.
    #[serde(default)]
    pub(super) loop_s: Option<f64>,
}

/// How long a player waits for a frame that answers: `base_ms + frames x frame time`.
#[derive(Debug, Clone, Copy, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct ModelLatency {
    /// Whatever the frame time.
    pub(super) base_ms: f64,
    /// How many frames wait for each other.
    pub(super) frames: f64,
}

/// How frames, runs and starts of the PC differ by chance; spreads are standard deviations of
/// the logarithm of frame time.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Noise {
    /// From frame to frame.
    pub(super) frame_spread: f64,
    /// How much of a frame's deviation the next one inherits, from 0 to 1.
    pub(super) frame_memory: f64,
    /// From run to run.
    pub(super) run_spread: f64,
    /// From run to run, of the excess of slow frames.
    pub(super) slow_frames_run_spread: f64,
    /// From one start of the PC to the next.
    pub(super) boot_spread: f64,
    /// Slowing down over an hour of play, as a share.
    pub(super) drift_per_hour: f64,
}

/// The first runs after a restart: caches are empty.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct WarmUp {
    pub(super) runs: u64,
    /// Frame time is this many times as long.
    pub(super) frame_time: f64,
    /// Stutters are this many times as frequent.
    pub(super) stutters: f64,
}

/// Frames that take somewhat longer, which the 1% low is made of.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct SlowFrames {
    /// Their share of all frames.
    pub(super) share: f64,
    /// How much longer they take on average, as a share.
    pub(super) mean_excess: f64,
}

/// Frames that take very much longer.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Stutters {
    pub(super) per_minute: f64,
    pub(super) shortest_ms: f64,
    pub(super) longest_ms: f64,
}

/// What some settings do to frames while an expression over them holds.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Effect {
    /// What it is, for readers of the file.
    pub(super) name: String,
    /// The settings that the expression speaks of, by the names it gives them.
    reads: BTreeMap<String, Address>,
    /// When it is at work: CEL over those names. A setting that is absent is null.
    when: String,
    /// Frame time is multiplied by this.
    #[serde(default = "one")]
    frame_time: f64,
    /// The excess of slow frames is multiplied by this.
    #[serde(default = "one")]
    slow_frames: f64,
    /// The frequency of stutters is multiplied by this.
    #[serde(default = "one")]
    stutters: f64,
    /// Latency is multiplied by this, beside what the frame time does to it.
    #[serde(default = "one")]
    latency: f64,
    /// The time in which it builds up and wears off while somebody plays, in seconds: after it, 63 % of it are felt.
    #[serde(default)]
    pub(super) builds_up_s: f64,
}

fn one() -> f64 {
    1.0
}

/// What all effects at work come to: factors on frame time, slow frames and stutters.
#[derive(Debug, Clone, Copy, PartialEq)]
pub(super) struct Factors {
    pub(super) frame_time: f64,
    pub(super) slow_frames: f64,
    pub(super) stutters: f64,
    pub(super) latency: f64,
}

impl Model {
    /// Checks what reading the file does not.
    pub(super) fn check(&self) -> Result<(), String> {
        let unset = |_: &Address| State::Absent;
        for effect in &self.effects {
            let sample = variables(effect, &unset);
            Expression::parse(&effect.when)
                .and_then(|when| when.check(&sample))
                .map_err(|error| format!("effect `{}`: {error}", effect.name))?;
        }
        match self.scenes.iter().find(|scene| scene.frame_ms.is_nan() || scene.frame_ms <= 0.0) {
            Some(scene) => Err(format!("scene `{}` has no frame time above zero", scene.name)),
            None => Ok(()),
        }
    }

    /// What the effects at work come to. `in_effect` is what the PC goes by now.
    pub(super) fn factors(
        &self,
        in_effect: &impl Fn(&Address) -> State,
    ) -> Result<Factors, String> {
        let felt = self.at_work(in_effect)?;
        let felt: Vec<f64> = felt.into_iter().map(|is| if is { 1.0 } else { 0.0 }).collect();
        Ok(self.factors_felt(&felt))
    }

    /// Whether each effect is at work.
    pub(super) fn at_work(
        &self,
        in_effect: &impl Fn(&Address) -> State,
    ) -> Result<Vec<bool>, String> {
        let is_at_work = |effect: &Effect| {
            Expression::parse(&effect.when)
                .and_then(|when| when.holds(&variables(effect, in_effect)))
                .map_err(|error| format!("effect `{}`: {error}", effect.name))
        };
        self.effects.iter().map(is_at_work).collect()
    }

    /// What effects come to of which so much is felt, each from 0 to 1.
    pub(super) fn factors_felt(&self, felt: &[f64]) -> Factors {
        let mut factors =
            Factors { frame_time: 1.0, slow_frames: 1.0, stutters: 1.0, latency: 1.0 };
        for (effect, felt) in self.effects.iter().zip(felt).filter(|(_, felt)| **felt > 0.0) {
            let of = |factor: f64| if *felt < 1.0 { factor.powf(*felt) } else { factor };
            factors.frame_time *= of(effect.frame_time);
            factors.slow_frames *= of(effect.slow_frames);
            factors.stutters *= of(effect.stutters);
            factors.latency *= of(effect.latency);
        }
        factors
    }
}

fn variables(effect: &Effect, in_effect: &impl Fn(&Address) -> State) -> Json {
    let plain = |address: &Address| in_effect(address).plain();
    effect.reads.iter().map(|(name, address)| (name.clone(), plain(address))).collect()
}
