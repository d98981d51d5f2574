//! A visit as verdicts take it: one value of each metric.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use frevin_frames::{LatencyFigures, Metrics};
use frevin_stats::probes::ProbeStats;
use frevin_stats::{Loss, median};

/// A visit to a state of the PC, as verdicts take it.
#[derive(Debug, Clone, Copy, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct VisitFigures {
    /// Of its frames, where a game was played.
    pub frames: Option<FrameFigures>,
    /// Of how an address answered, where one was asked.
    pub ping: Option<PingFigures>,
    /// Of latency, where every run has it, measured between the same two moments.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub latency: Option<LatencyOfVisit>,
}

/// Latency during a visit. Logarithms are natural ones, of milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct LatencyOfVisit {
    /// The median over the runs of ln(median).
    pub ln_median_ms: f64,
    /// The median over the runs of ln(95th percentile).
    pub ln_percentile_95_ms: f64,
}

/// What the frames of a visit come to. Logarithms are natural ones.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct FrameFigures {
    /// The median over the runs of ln(average FPS).
    pub ln_average_fps: f64,
    /// The median over the runs of ln(1% low FPS), the percentile.
    pub ln_low_1_percent_fps: f64,
    /// Stutter events of all runs together.
    pub stutter_events: u64,
    /// The median over the runs of ln(mean step from frame to frame in milliseconds).
    pub ln_pacing_ms: f64,
}

/// How an address answered during a visit. Logarithms are natural ones, of milliseconds and one more, so that an
/// answer within no time at all has one.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct PingFigures {
    /// The median over the runs of ln(median + 1 ms).
    pub ln_median_ms: f64,
    /// The median over the runs of ln(95th percentile + 1 ms).
    pub ln_percentile_95_ms: f64,
    /// What was lost.
    pub loss: Loss,
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
        let frames = FrameFigures {
            ln_average_fps: median_ln(|run| run.average_fps).ok_or(VisitError)?,
            ln_low_1_percent_fps: median_ln(|run| run.low_1_percent_fps).ok_or(VisitError)?,
            stutter_events: u64::try_from(events).unwrap_or(u64::MAX),
            // A visit of one-frame runs has no pacing, and none to lose.
            ln_pacing_ms: median_ln(|run| run.pacing_ms.max(f64::MIN_POSITIVE))
                .ok_or(VisitError)?,
        };
        Ok(Self { frames: Some(frames), ..Self::default() })
    }

    /// The same with runs of probes; without the figures of any where nothing answered.
    #[must_use]
    pub fn with_pings(self, runs: &[ProbeStats]) -> Self {
        Self { ping: PingFigures::of(runs), ..self }
    }

    /// The same with the latency of each run; without any where a run has none, or where they are measured
    /// between other moments, as the names of their columns say.
    #[must_use]
    pub fn with_latencies(self, runs: &[Option<&LatencyFigures>]) -> Self {
        Self { latency: LatencyOfVisit::of(runs), ..self }
    }

    /// The same without latency.
    #[must_use]
    pub fn without_latency(self) -> Self {
        Self { latency: None, ..self }
    }

    /// One visit of several graphics levels: logarithms are means over the levels, stutters and losses are
    /// added up. Nothing of none.
    pub fn over_levels(levels: &[Self]) -> Option<Self> {
        if levels.is_empty() {
            return None;
        }
        let frames: Option<Vec<FrameFigures>> = levels.iter().map(|level| level.frames).collect();
        let pings: Option<Vec<PingFigures>> = levels.iter().map(|level| level.ping).collect();
        let latencies: Option<Vec<LatencyOfVisit>> =
            levels.iter().map(|level| level.latency).collect();
        Some(Self {
            frames: frames.map(|levels| FrameFigures {
                ln_average_fps: mean(&levels, |level| level.ln_average_fps),
                ln_low_1_percent_fps: mean(&levels, |level| level.ln_low_1_percent_fps),
                stutter_events: levels.iter().map(|level| level.stutter_events).sum(),
                ln_pacing_ms: mean(&levels, |level| level.ln_pacing_ms),
            }),
            ping: pings.map(|levels| PingFigures {
                ln_median_ms: mean(&levels, |level| level.ln_median_ms),
                ln_percentile_95_ms: mean(&levels, |level| level.ln_percentile_95_ms),
                loss: levels.iter().map(|level| level.loss).fold(Loss::default(), Loss::and),
            }),
            latency: latencies.map(|levels| LatencyOfVisit {
                ln_median_ms: mean(&levels, |level| level.ln_median_ms),
                ln_percentile_95_ms: mean(&levels, |level| level.ln_percentile_95_ms),
            }),
        })
    }
}

impl LatencyOfVisit {
    fn of(runs: &[Option<&LatencyFigures>]) -> Option<Self> {
        let runs: Vec<&LatencyFigures> = runs.iter().copied().collect::<Option<_>>()?;
        if runs.windows(2).any(|two| two[0].column != two[1].column) {
            return None;
        }
        Some(Self {
            ln_median_ms: median(runs.iter().map(|run| run.median_ms.ln()))?,
            ln_percentile_95_ms: median(runs.iter().map(|run| run.percentile_95_ms.ln()))?,
        })
    }
}

impl PingFigures {
    fn of(runs: &[ProbeStats]) -> Option<Self> {
        let times: Vec<_> = runs.iter().filter_map(|run| run.times).collect();
        let ln = |ms: f64| (ms + 1.0).ln();
        let loss = runs.iter().map(|run| Loss {
            sent: run.sent.into(),
            lost: (run.sent - run.answered.min(run.sent)).into(),
        });
        Some(Self {
            ln_median_ms: median(times.iter().map(|times| ln(times.median_ms)))?,
            ln_percentile_95_ms: median(
                // What an earlier Frevin did not keep is no shorter than the longest.
                times.iter().map(|times| ln(times.percentile_95_ms.unwrap_or(times.longest_ms))),
            )?,
            loss: loss.fold(Loss::default(), Loss::and),
        })
    }
}

fn mean<T>(levels: &[T], of: fn(&T) -> f64) -> f64 {
    levels.iter().map(of).sum::<f64>() / levels.len() as f64
}

#[cfg(test)]
mod tests {
    use super::*;

    fn figures(average: f64, events: u64, ping_ms: f64) -> VisitFigures {
        let frames = FrameFigures {
            ln_average_fps: average.ln(),
            ln_low_1_percent_fps: 0.0,
            stutter_events: events,
            ln_pacing_ms: 0.0,
        };
        let answers = ProbeStats::of(&[Some(ping_ms), Some(ping_ms), None]);
        VisitFigures { frames: Some(frames), ..VisitFigures::default() }.with_pings(&[answers])
    }

    #[test]
    fn levels_are_averaged_in_logarithms_and_counts_added_up() {
        let levels = [figures(50.0, 3, 9.0), figures(200.0, 4, 9.0)];
        let both = VisitFigures::over_levels(&levels).unwrap();
        let (frames, ping) = (both.frames.unwrap(), both.ping.unwrap());
        assert!((frames.ln_average_fps.exp() - 100.0).abs() < 1e-9);
        assert_eq!(frames.stutter_events, 7);
        assert!((ping.ln_median_ms.exp() - 10.0).abs() < 1e-9);
        assert_eq!(ping.loss, Loss { sent: 6, lost: 2 });
        let one = VisitFigures { ping: None, ..levels[0] };
        assert_eq!(VisitFigures::over_levels(&[levels[0], one]).unwrap().ping, None);
        assert_eq!(VisitFigures::over_levels(&[]), None);
    }

    #[test]
    fn latency_is_of_a_visit_whose_runs_all_have_it_between_the_same_moments() {
        let of = |column: &str, median_ms: f64| LatencyFigures {
            column: column.to_owned(),
            frames: 90,
            median_ms,
            percentile_95_ms: 2.0 * median_ms,
        };
        let (a, b, c) = (of("display", 20.0), of("display", 30.0), of("click", 90.0));
        let visit = |runs: &[Option<&LatencyFigures>]| {
            let latency = VisitFigures::default().with_latencies(runs).latency;
            latency.map(|latency| latency.ln_percentile_95_ms.exp())
        };
        let all = visit(&[Some(&a), Some(&b), Some(&b)]).unwrap();
        assert!((all - 60.0).abs() < 1e-9);
        assert_eq!(visit(&[Some(&a), None, Some(&b)]), None);
        assert_eq!(visit(&[Some(&a), Some(&c)]), None);
        let levels = [20.0, 80.0]
            .map(|ms| VisitFigures::default().with_latencies(&[Some(&of("display", ms))]));
        let both = VisitFigures::over_levels(&levels).unwrap().latency.unwrap();
        assert!((both.ln_median_ms.exp() - 40.0).abs() < 1e-9);
    }
}
