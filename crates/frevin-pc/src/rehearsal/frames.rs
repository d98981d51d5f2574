//! Frame times out of the performance model.

use frevin_core::setting::{Address, State};
use frevin_frames::{FrameSeries, LatencyFigures, LogReadings, Metrics, metrics};
use rand::{RngExt as _, SeedableRng as _};
use rand_distr::{Distribution as _, Exp1, StandardNormal};
use rand_pcg::Pcg64;

use super::clock::Clock;
use super::model::{Factors, Model, ModelScene};

/// The most frames that a run may have: an hour at 2000 FPS.
const MOST_FRAMES: usize = 7_200_000;

/// A run recorded on a rehearsal PC.
#[derive(Debug, Clone, PartialEq)]
pub struct RecordedRun {
    /// Its frames.
    pub series: FrameSeries,
    /// What a log of it would tell beside them.
    pub readings: LogReadings,
    /// Which run it was after the last start of the PC, from 1.
    pub run_since_boot: u64,
}

/// Plays a scene. The same PC in the same state at the same point of its life gives the same run.
pub(super) fn record(
    model: &Model,
    scene: &str,
    seconds: f64,
    seed: u64,
    clock: &Clock,
    in_effect: impl Fn(&Address) -> State,
) -> Result<RecordedRun, String> {
    let scene = scene_of(model, scene)?;
    let factors = model.factors(&in_effect)?;
    let player = Player { model, scene, factors, clock, seed };
    let series = FrameSeries::new(player.play(seconds)).map_err(|error| error.to_string())?;
    let readings = player.readings(&series);
    Ok(RecordedRun { series, readings, run_since_boot: clock.runs_since_boot + 1 })
}

/// A scene of a model, by its name.
pub(super) fn scene_of<'a>(model: &'a Model, scene: &str) -> Result<&'a ModelScene, String> {
    model.scenes.iter().find(|known| known.name == scene).ok_or_else(|| {
        let known: Vec<_> = model.scenes.iter().map(|scene| scene.name.as_str()).collect();
        format!("it has no scene `{scene}`; it has {}", known.join(", "))
    })
}

struct Player<'a> {
    model: &'a Model,
    scene: &'a ModelScene,
    factors: Factors,
    clock: &'a Clock,
    seed: u64,
}

impl Player<'_> {
    fn play(&self, seconds: f64) -> Vec<f64> {
        let noise = &self.model.noise;
        let mut rng = self.rng("run", self.clock.runs);
        let mut normal = || -> f64 { StandardNormal.sample(&mut rng) };
        let run_deviation = noise.run_spread * normal();
        let slow_deviation = noise.slow_frames_run_spread * normal();
        let boot_deviation: f64 = StandardNormal.sample(&mut self.rng("boot", self.clock.boots));
        let drift = noise.drift_per_hour * self.clock.played_seconds / 3600.0;
        let is_warm_up = self.clock.runs_since_boot < self.model.warm_up.runs;
        let warm_up = |factor: f64| if is_warm_up { factor } else { 1.0 };

        let typical_ms = self.scene.frame_ms
            * self.factors.frame_time
            * warm_up(self.model.warm_up.frame_time)
            * (run_deviation + noise.boot_spread * boot_deviation + drift).exp();
        let slow_excess =
            self.model.slow_frames.mean_excess * self.factors.slow_frames * slow_deviation.exp();
        let stutters_per_ms = self.model.stutters.per_minute / 60_000.0
            * self.factors.stutters
            * warm_up(self.model.warm_up.stutters);
        let typical = Typical { frame_ms: typical_ms, slow_excess, stutters_per_ms };
        let mut maker = FrameMaker::new(rng);
        let mut frames = Vec::new();
        let mut elapsed_ms = 0.0;
        while elapsed_ms < seconds * 1000.0 && frames.len() < MOST_FRAMES {
            let frame_ms = maker.next(self.model, typical);
            elapsed_ms += frame_ms;
            frames.push(frame_ms);
        }
        frames
    }

    /// What a log of a run tells beside its frames. Both busy times are of the typical frame: what makes a frame
    /// long on one of the two makes the other wait.
    fn readings(&self, series: &FrameSeries) -> LogReadings {
        let scene = self.scene;
        if scene.latency.is_none() && scene.graphics_ms.is_none() && scene.processor_ms.is_none() {
            return LogReadings::default();
        }
        let run: Metrics = metrics(series);
        let mean_ms = 1000.0 / run.average_fps;
        let share = |ms: Option<f64>, factor: f64| ms.map(|ms| (ms * factor / mean_ms).min(1.0));
        LogReadings {
            latency: self.scene.latency.map(|latency| {
                let of = |frame_ms: f64| {
                    self.factors.latency * (latency.base_ms + latency.frames * frame_ms)
                };
                LatencyFigures {
                    column: "simulated latency".to_owned(),
                    frames: run.frames as u64,
                    median_ms: of(1000.0 / run.median_fps),
                    // Frames that wait for each other even each other out; one in a hundred does not.
                    percentile_95_ms: of(1000.0 / run.low_1_percent_fps),
                }
            }),
            graphics_busy_share: share(self.scene.graphics_ms, 1.0),
            processor_busy_share: share(self.scene.processor_ms, self.factors.frame_time),
            ..LogReadings::default()
        }
    }

    fn rng(&self, purpose: &str, ordinal: u64) -> Pcg64 {
        chance(self.seed, purpose, ordinal)
    }
}

/// What chance is for a purpose at a point of a PC's life.
pub(super) fn chance(seed: u64, purpose: &str, ordinal: u64) -> Pcg64 {
    let mut hasher = blake3::Hasher::new();
    hasher.update(&seed.to_le_bytes());
    hasher.update(purpose.as_bytes());
    hasher.update(&ordinal.to_le_bytes());
    let hash = hasher.finalize();
    let mut seed = [0; 8];
    seed.copy_from_slice(&hash.as_bytes()[..8]);
    Pcg64::seed_from_u64(u64::from_le_bytes(seed))
}

/// What frames are like where chance is left out.
#[derive(Debug, Clone, Copy)]
pub(super) struct Typical {
    /// How long one takes, in milliseconds.
    pub(super) frame_ms: f64,
    /// How much longer slow frames take on average, as a share.
    pub(super) slow_excess: f64,
    /// How many stutters there are in a millisecond.
    pub(super) stutters_per_ms: f64,
}

/// Frames of a scene, one after another: each inherits a part of the one before it.
#[derive(Debug)]
pub(super) struct FrameMaker {
    rng: Pcg64,
    deviation: f64,
}

impl FrameMaker {
    pub(super) fn new(mut rng: Pcg64) -> Self {
        let deviation = StandardNormal.sample(&mut rng);
        Self { rng, deviation }
    }

    /// How long the next frame takes, in milliseconds.
    pub(super) fn next(&mut self, model: &Model, typical: Typical) -> f64 {
        let Typical { frame_ms, slow_excess, stutters_per_ms } = typical;
        let Model { noise, stutters, slow_frames, .. } = model;
        let rng = &mut self.rng;
        let innovation = (1.0 - noise.frame_memory.powi(2)).max(0.0).sqrt();
        let fresh: f64 = StandardNormal.sample(rng);
        self.deviation = noise.frame_memory * self.deviation + innovation * fresh;
        let mut frame_ms = frame_ms * (noise.frame_spread * self.deviation).exp();
        if rng.random::<f64>() < slow_frames.share {
            let excess: f64 = Exp1.sample(rng);
            frame_ms *= 1.0 + slow_excess * excess;
        }
        if rng.random::<f64>() < stutters_per_ms * frame_ms {
            frame_ms += rng.random_range(stutters.shortest_ms..=stutters.longest_ms);
        }
        frame_ms
    }
}

/// What a PC brings into play, whatever its settings: how this start of it is, and how long it has been played.
#[derive(Debug, Clone, Copy)]
pub(super) struct Life {
    boot_deviation: f64,
    drift_per_hour: f64,
    played_s: f64,
}

impl Life {
    pub(super) fn of(model: &Model, seed: u64, clock: &Clock) -> Self {
        let boot: f64 = StandardNormal.sample(&mut chance(seed, "boot", clock.boots));
        Self {
            boot_deviation: model.noise.boot_spread * boot,
            drift_per_hour: model.noise.drift_per_hour,
            played_s: clock.played_seconds,
        }
    }

    /// By what factor frames take longer after so much more play.
    pub(super) fn drift(&self, played_s: f64) -> f64 {
        (self.boot_deviation + self.drift_per_hour * (self.played_s + played_s) / 3600.0).exp()
    }
}
