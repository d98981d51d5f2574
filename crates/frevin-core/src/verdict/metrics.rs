//! What verdicts are made by, and what can veto them.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use frevin_stats::GuardLimits;

use super::comparison::Margins;
use super::figures::VisitFigures;

/// What a comparison is judged by.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Judge {
    /// Average FPS and 1% low.
    #[default]
    FrameRate,
    /// How fast an address answers: the median, and the slow tail.
    Ping,
    /// How long it takes until a frame answers to its player, as logs tell it: the median, and the slow tail.
    Latency,
}

impl Judge {
    /// The metrics that decide.
    pub fn primaries(self) -> [Primary; 2] {
        match self {
            Self::FrameRate => [Primary::AverageFps, Primary::Low1PercentFps],
            Self::Ping => [Primary::PingMedian, Primary::PingPercentile95],
            Self::Latency => [Primary::LatencyMedian, Primary::LatencyPercentile95],
        }
    }

    /// How many differences worth having in average FPS make up one in what decides: figures of any judge, divided by this,
    /// are sifted alike.
    pub fn scale(self) -> f64 {
        let margins = Margins::default();
        let [first, _] = self.primaries();
        margins.of(first) / margins.average_fps
    }

    /// The share by which a gain changes the figure that decides first, where the gain is a natural logarithm in units of
    /// [`Judge::scale`]: below 0 for a shorter ping.
    pub fn change_of(self, gain: f64) -> f64 {
        let [first, _] = self.primaries();
        let gain = self.scale() * gain;
        if first.is_less_better() { -gain } else { gain }.exp_m1()
    }

    /// The metrics that can veto.
    fn guards(self) -> &'static [Guard] {
        match self {
            Self::FrameRate => &[Guard::Stutters, Guard::Pacing, Guard::Ping, Guard::Latency],
            Self::Ping => &[Guard::AverageFps, Guard::Pacing, Guard::Latency],
            Self::Latency => &[Guard::AverageFps, Guard::Pacing, Guard::Ping],
        }
    }

    /// Those guards that every visit has a figure for.
    pub(super) fn guards_over(self, pairs: &[(VisitFigures, VisitFigures)]) -> Vec<Guard> {
        let is_had = |guard: &&Guard| {
            pairs.iter().all(|(a, b)| guard.ln(a).is_some() && guard.ln(b).is_some())
        };
        // Before there is a pair, frames are what is expected of a frame rate, and nothing is of a ping.
        let is_expected = |guard: &&Guard| {
            let is_of_frames = match guard {
                Guard::Stutters | Guard::Pacing => true,
                Guard::AverageFps | Guard::Ping | Guard::Latency => false,
            };
            !pairs.is_empty() || (self == Self::FrameRate && is_of_frames)
        };
        self.guards().iter().filter(is_had).filter(is_expected).copied().collect()
    }
}

/// A metric that verdicts are made by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Primary {
    /// Average FPS.
    AverageFps,
    /// 1% low FPS (percentile).
    Low1PercentFps,
    /// Median time of an answer. Less is better.
    PingMedian,
    /// The time that one answer of twenty takes longer than. Less is better.
    PingPercentile95,
    /// Median latency. Less is better.
    LatencyMedian,
    /// The latency that one frame of twenty takes longer than. Less is better.
    LatencyPercentile95,
}

impl Primary {
    /// The logarithm of a visit's value, with its sign turned where less is better.
    pub fn gain(self, visit: &VisitFigures) -> Option<f64> {
        match self {
            Self::AverageFps => visit.frames.map(|frames| frames.ln_average_fps),
            Self::Low1PercentFps => visit.frames.map(|frames| frames.ln_low_1_percent_fps),
            Self::PingMedian => visit.ping.map(|ping| -ping.ln_median_ms),
            Self::PingPercentile95 => visit.ping.map(|ping| -ping.ln_percentile_95_ms),
            Self::LatencyMedian => visit.latency.map(|latency| -latency.ln_median_ms),
            Self::LatencyPercentile95 => visit.latency.map(|latency| -latency.ln_percentile_95_ms),
        }
    }

    /// Whether less is better.
    pub fn is_less_better(self) -> bool {
        match self {
            Self::AverageFps | Self::Low1PercentFps => false,
            Self::PingMedian
            | Self::PingPercentile95
            | Self::LatencyMedian
            | Self::LatencyPercentile95 => true,
        }
    }
}

/// A metric that can only veto.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Guard {
    /// Stutter events of a visit's runs together.
    Stutters,
    /// Mean step from frame to frame, in milliseconds.
    Pacing,
    /// Median time in which an address answers, in milliseconds.
    Ping,
    /// Average FPS, where something else is judged: how much it falls.
    AverageFps,
    /// Median latency in milliseconds, as logs tell it.
    Latency,
}

impl Guard {
    /// The rises that matter in it.
    pub fn limits(self) -> GuardLimits {
        match self {
            Self::Stutters => GuardLimits { veto: 1.25, doubt: 1.5 },
            Self::Pacing | Self::Ping => GuardLimits { veto: 1.10, doubt: 1.2 },
            Self::AverageFps => GuardLimits { veto: 1.02, doubt: 1.04 },
            Self::Latency => GuardLimits { veto: 1.05, doubt: 1.10 },
        }
    }

    /// The logarithm of a visit's value, where it has one: more is worse.
    pub(super) fn ln(self, visit: &VisitFigures) -> Option<f64> {
        match self {
            // Half an event, so that a visit without any has a logarithm.
            Self::Stutters => visit.frames.map(|frames| (frames.stutter_events as f64 + 0.5).ln()),
            Self::Pacing => visit.frames.map(|frames| frames.ln_pacing_ms),
            Self::Ping => visit.ping.map(|ping| ping.ln_median_ms),
            Self::AverageFps => visit.frames.map(|frames| -frames.ln_average_fps),
            Self::Latency => visit.latency.map(|latency| latency.ln_median_ms),
        }
    }
}
