//! A visit as verdicts take it: one value of each metric.

use serde::{Deserialize, Serialize};
use thiserror::Error;

use frevin_frames::Metrics;
use frevin_stats::{GuardLimits, median};

/// A visit to a state of the PC, as verdicts take it. Logarithms are natural ones.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct VisitFigures {
    /// The median over the runs of ln(average FPS).
    pub ln_average_fps: f64,
    /// The median over the runs of ln(1% low FPS), the percentile.
    pub ln_low_1_percent_fps: f64,
    /// Stutter events of all runs together.
    pub stutter_events: u64,
    /// The median over the runs of ln(mean step from frame to frame in milliseconds).
    pub ln_pacing_ms: f64,
    /// ln(median time of an answer in milliseconds + 1), where an address was asked.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub ln_ping_ms: Option<f64>,
}

/// A visit without runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("a visit needs at least one run besides its warm-up")]
pub struct VisitError;

impl VisitFigures {
    /// The figures of a visit with these runs, warm-up left out.
    ///
    /// # Errors
    /// Where there are none.
    pub fn of(runs: &[Metrics]) -> Result<Self, VisitError> {
        let median_ln = |of: fn(&Metrics) -> f64| median(runs.iter().map(|run| of(run).ln()));
        let events: usize = runs.iter().map(|run| run.stutter.events).sum();
        Ok(Self {
            ln_average_fps: median_ln(|run| run.average_fps).ok_or(VisitError)?,
            ln_low_1_percent_fps: median_ln(|run| run.low_1_percent_fps).ok_or(VisitError)?,
            stutter_events: u64::try_from(events).unwrap_or(u64::MAX),
            // A visit of one-frame runs has no pacing, and none to lose.
            ln_pacing_ms: median_ln(|run| run.pacing_ms.max(f64::MIN_POSITIVE))
                .ok_or(VisitError)?,
            ln_ping_ms: None,
        })
    }

    /// The same with the median time in which an address answered.
    #[must_use]
    pub fn with_ping(self, median_ms: Option<f64>) -> Self {
        // A millisecond more, so that an answer within no time at all has a logarithm.
        Self { ln_ping_ms: median_ms.map(|ms| (ms + 1.0).ln()), ..self }
    }

    /// One visit of several graphics levels: logarithms are means over the levels, stutters are added up.
    /// Nothing of none.
    pub fn over_levels(levels: &[Self]) -> Option<Self> {
        let count = levels.len();
        if count == 0 {
            return None;
        }
        let mean = |of: fn(&Self) -> f64| levels.iter().map(of).sum::<f64>() / count as f64;
        Some(Self {
            ln_average_fps: mean(|level| level.ln_average_fps),
            ln_low_1_percent_fps: mean(|level| level.ln_low_1_percent_fps),
            stutter_events: levels.iter().map(|level| level.stutter_events).sum(),
            ln_pacing_ms: mean(|level| level.ln_pacing_ms),
            ln_ping_ms: levels
                .iter()
                .map(|level| level.ln_ping_ms)
                .sum::<Option<f64>>()
                .map(|sum| sum / count as f64),
        })
    }
}

/// A metric that verdicts are made by.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Primary {
    /// Average FPS.
    AverageFps,
    /// 1% low FPS (percentile).
    Low1PercentFps,
}

impl Primary {
    /// Both.
    pub const ALL: [Self; 2] = [Self::AverageFps, Self::Low1PercentFps];

    /// The logarithm of a visit's value.
    pub(crate) fn ln(self, visit: &VisitFigures) -> f64 {
        match self {
            Self::AverageFps => visit.ln_average_fps,
            Self::Low1PercentFps => visit.ln_low_1_percent_fps,
        }
    }
}

/// A metric that can only veto.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Guard {
    /// Stutter events of a visit's runs together.
    Stutters,
    /// Mean step from frame to frame, in milliseconds.
    Pacing,
    /// Median time in which an address answers, in milliseconds.
    Ping,
}

impl Guard {
    /// All of them.
    const ALL: [Self; 3] = [Self::Stutters, Self::Pacing, Self::Ping];

    /// Those that can be looked at in these pairs: each visit has the figure.
    pub(super) fn over(pairs: &[(VisitFigures, VisitFigures)]) -> Vec<Self> {
        let has =
            |guard: Self| pairs.iter().all(|(a, b)| guard.ln(a).is_some() && guard.ln(b).is_some());
        let is_always = |guard: Self| guard != Self::Ping || !pairs.is_empty();
        Self::ALL.into_iter().filter(|guard| is_always(*guard) && has(*guard)).collect()
    }

    /// The rises that matter in it.
    pub fn limits(self) -> GuardLimits {
        match self {
            Self::Stutters => GuardLimits { veto: 1.25, doubt: 1.5 },
            Self::Pacing | Self::Ping => GuardLimits { veto: 1.10, doubt: 1.2 },
        }
    }

    /// The logarithm of a visit's value, where it has one.
    pub(super) fn ln(self, visit: &VisitFigures) -> Option<f64> {
        match self {
            // Half an event, so that a visit without any has a logarithm.
            Self::Stutters => Some((visit.stutter_events as f64 + 0.5).ln()),
            Self::Pacing => Some(visit.ln_pacing_ms),
            Self::Ping => visit.ln_ping_ms,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn figures(average: f64, events: u64, ping: Option<f64>) -> VisitFigures {
        VisitFigures {
            ln_average_fps: average.ln(),
            ln_low_1_percent_fps: 0.0,
            stutter_events: events,
            ln_pacing_ms: 0.0,
            ln_ping_ms: None,
        }
        .with_ping(ping)
    }

    #[test]
    fn levels_are_averaged_in_logarithms_and_stutters_added_up() {
        let levels = [figures(50.0, 3, Some(9.0)), figures(200.0, 4, Some(9.0))];
        let both = VisitFigures::over_levels(&levels).unwrap();
        assert!((both.ln_average_fps.exp() - 100.0).abs() < 1e-9);
        assert_eq!(both.stutter_events, 7);
        assert!((both.ln_ping_ms.unwrap().exp() - 10.0).abs() < 1e-9);
        assert_eq!(VisitFigures::over_levels(&[]), None);
    }

    #[test]
    fn a_guard_that_not_every_visit_has_is_none() {
        let (with, without) = (figures(1.0, 0, Some(1.0)), figures(1.0, 0, None));
        assert_eq!(Guard::over(&[(with, with)]).len(), 3);
        assert_eq!(Guard::over(&[(with, with), (with, without)]), [Guard::Stutters, Guard::Pacing]);
    }
}
