//! The figures of a run, each by its definition.

use serde::{Deserialize, Serialize};

use super::series::FrameSeries;
use super::stutter::{StutterSummary, stutters};

/// The figures of a run of `N` frame times `t` in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Metrics {
    /// Frames in the run, `N`.
    pub frames: usize,
    /// Length of the run in seconds.
    pub seconds: f64,
    /// `1000 N / sum(t)`. Never the mean of `1000 / t`, which rises when frames jitter.
    pub average_fps: f64,
    /// `1000 / median(t)`.
    pub median_fps: f64,
    /// 1% low: `1000 / Q99(t)`, with the quantile of type 7 of Hyndman and Fan.
    pub low_1_percent_fps: f64,
    /// 0.1% low: `1000 / Q99.9(t)`. Differs by a quarter from run to run at 60 s, and remains
    /// unstable at 300 s: to be read with care.
    pub low_01_percent_fps: f64,
    /// `1000 k / sum` of the `k = max(1, floor(N / 100))` longest frames.
    pub slowest_1_percent_average_fps: f64,
    /// `1000 k / sum` of the `k = max(1, floor(N / 1000))` longest frames.
    pub slowest_01_percent_average_fps: f64,
    /// `1000 / t` of the frame at which, counted from the slowest, frames hold 1 % of the time.
    pub time_weighted_low_1_percent_fps: f64,
    /// The longest frame in milliseconds.
    pub longest_frame_ms: f64,
    /// Standard deviation of the frame times in milliseconds, over `N - 1`; 0 for one frame.
    pub standard_deviation_ms: f64,
    /// Pacing: the mean of `|t[i] - t[i-1]|` divided by the mean of `t`; 0 for one frame.
    pub pacing: f64,
    /// Stutters.
    pub stutter: StutterSummary,
}

/// The figures of a run.
pub fn metrics(series: &FrameSeries) -> Metrics {
    let frame_ms = series.frame_ms();
    let count = frame_ms.len() as f64;
    let total_ms = series.total_ms();
    let mean_ms = total_ms / count;
    let mut ascending = frame_ms.to_vec();
    ascending.sort_unstable_by(f64::total_cmp);
    let squares: f64 = frame_ms.iter().map(|t| (t - mean_ms).powi(2)).sum();
    let steps: f64 = frame_ms.windows(2).map(|pair| (pair[1] - pair[0]).abs()).sum();
    let per_frame_gap = |sum: f64| if frame_ms.len() > 1 { sum / (count - 1.0) } else { 0.0 };
    Metrics {
        frames: frame_ms.len(),
        seconds: total_ms / 1000.0,
        average_fps: 1000.0 * count / total_ms,
        median_fps: 1000.0 / quantile(&ascending, 0.5),
        low_1_percent_fps: 1000.0 / quantile(&ascending, 0.99),
        low_01_percent_fps: 1000.0 / quantile(&ascending, 0.999),
        slowest_1_percent_average_fps: slowest_average_fps(&ascending, 100),
        slowest_01_percent_average_fps: slowest_average_fps(&ascending, 1000),
        time_weighted_low_1_percent_fps: time_weighted_low_fps(&ascending, 0.01 * total_ms),
        longest_frame_ms: ascending.last().copied().unwrap_or(f64::NAN),
        standard_deviation_ms: per_frame_gap(squares).sqrt(),
        pacing: per_frame_gap(steps) / mean_ms,
        stutter: stutters(frame_ms),
    }
}

/// The quantile of type 7 of Hyndman and Fan (1996): at `h = (N - 1) p`, linear between the two
/// neighbours.
fn quantile(ascending: &[f64], p: f64) -> f64 {
    let h = (ascending.len() - 1) as f64 * p;
    let below = ascending[h.floor() as usize];
    let above = ascending[h.ceil() as usize];
    below + (h - h.floor()) * (above - below)
}

fn slowest_average_fps(ascending: &[f64], one_in: usize) -> f64 {
    let count = (ascending.len() / one_in).max(1);
    let slowest = &ascending[ascending.len() - count..];
    1000.0 * count as f64 / slowest.iter().sum::<f64>()
}

fn time_weighted_low_fps(ascending: &[f64], enough_ms: f64) -> f64 {
    let mut held_ms = 0.0;
    for t in ascending.iter().rev() {
        held_ms += t;
        if held_ms >= enough_ms {
            return 1000.0 / t;
        }
    }
    ascending.first().map_or(f64::NAN, |shortest| 1000.0 / shortest)
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn of(frame_ms: Vec<f64>) -> Metrics {
        metrics(&FrameSeries::new(frame_ms).unwrap())
    }

    fn close(given: f64, expected: f64) {
        assert!((given / expected - 1.0).abs() < 1e-6, "{given} is not {expected}");
    }

    /// Expected values computed by hand from the definitions for t = 1, 2, …, 200.
    #[test]
    fn every_figure_follows_its_definition() {
        let m = of((1..=200).map(f64::from).collect());
        assert_eq!(m.frames, 200);
        close(m.seconds, 20.1);
        close(m.average_fps, 1000.0 / 100.5);
        close(m.median_fps, 1000.0 / 100.5);
        close(m.low_1_percent_fps, 1000.0 / 198.01);
        close(m.low_01_percent_fps, 1000.0 / 199.801);
        close(m.slowest_1_percent_average_fps, 1000.0 / 199.5);
        close(m.slowest_01_percent_average_fps, 1000.0 / 200.0);
        // 1 % of 20100 ms is 201 ms: 200 + 199 reaches it.
        close(m.time_weighted_low_1_percent_fps, 1000.0 / 199.0);
        close(m.longest_frame_ms, 200.0);
        close(m.standard_deviation_ms, (200.0 * 201.0 / 12.0_f64).sqrt());
        close(m.pacing, 1.0 / 100.5);
    }

    #[test]
    fn the_average_is_not_the_mean_of_rates() {
        close(of(vec![5.0, 15.0]).average_fps, 100.0);
    }

    #[test]
    fn one_frame_is_a_run() {
        let m = of(vec![20.0]);
        close(m.average_fps, 50.0);
        close(m.low_01_percent_fps, 50.0);
        assert_eq!((m.standard_deviation_ms, m.pacing, m.stutter.events), (0.0, 0.0, 0));
    }

    #[test]
    fn what_is_no_frame_time_is_refused() {
        for bad in [0.0, -1.0, f64::NAN, f64::INFINITY] {
            assert!(FrameSeries::new(vec![10.0, bad]).is_err(), "{bad}");
        }
        assert!(FrameSeries::new(vec![]).is_err());
    }

    proptest! {
        #[test]
        fn lows_are_ordered_and_scale_with_time(
            frames in prop::collection::vec(1.0..50.0f64, 1..400), factor in 0.5..2.0f64
        ) {
            let m = of(frames.clone());
            let slack = 1.0 + 1e-9;
            prop_assert!(m.low_01_percent_fps <= m.low_1_percent_fps * slack);
            prop_assert!(m.low_1_percent_fps <= m.median_fps * slack);
            prop_assert!(1000.0 / m.longest_frame_ms <= m.low_01_percent_fps * slack);
            let scaled = of(frames.iter().map(|t| t * factor).collect());
            close(scaled.average_fps * factor, m.average_fps);
            close(scaled.low_1_percent_fps * factor, m.low_1_percent_fps);
        }
    }
}
