//! Stutters: frames that take far longer than those around them.

use serde::{Deserialize, Serialize};

/// Frames on either side of the one looked at, in the moving median.
const HALF_WINDOW: usize = 30;
/// A stutter takes more than this many times the median around it …
const TIMES_MEDIAN: f64 = 2.0;
/// … and more than this many milliseconds beyond it.
const BEYOND_MEDIAN_MS: f64 = 4.0;

/// How much a run stuttered.
///
/// A frame of `t` ms stutters where `t > 2 m` and `t - m > 4 ms`, with `m` the median of the 61
/// frames centred on it (fewer at the ends of the run). An event is an unbroken row of such frames.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct StutterSummary {
    /// Frames that stutter.
    pub frames: usize,
    /// Events.
    pub events: usize,
    /// Events in a minute of the run.
    pub events_per_minute: f64,
    /// The part of the run's time that stutters took beyond the medians: `sum(t - m) / sum(t)`.
    pub excess_share: f64,
}

/// How much a run of these frame times, in milliseconds, stuttered.
pub fn stutters(frame_ms: &[f64]) -> StutterSummary {
    let total_ms: f64 = frame_ms.iter().sum();
    let mut summary =
        StutterSummary { frames: 0, events: 0, events_per_minute: 0.0, excess_share: 0.0 };
    let mut excess_ms = 0.0;
    let mut in_event = false;
    let mut window = SortedWindow::default();
    for frame in frame_ms.iter().take(HALF_WINDOW) {
        window.insert(*frame);
    }
    for (index, t) in frame_ms.iter().enumerate() {
        if let Some(entering) = frame_ms.get(index + HALF_WINDOW) {
            window.insert(*entering);
        }
        if let Some(leaving) = index.checked_sub(HALF_WINDOW + 1) {
            window.remove(frame_ms[leaving]);
        }
        let median = window.median();
        let stutters = *t > TIMES_MEDIAN * median && t - median > BEYOND_MEDIAN_MS;
        if stutters {
            summary.frames += 1;
            summary.events += usize::from(!in_event);
            excess_ms += t - median;
        }
        in_event = stutters;
    }
    if total_ms > 0.0 {
        summary.events_per_minute = summary.events as f64 * 60_000.0 / total_ms;
        summary.excess_share = excess_ms / total_ms;
    }
    summary
}

/// The frames around the one looked at, sorted, so that a step costs one search and one shift.
#[derive(Default)]
struct SortedWindow {
    sorted: Vec<f64>,
}

impl SortedWindow {
    fn insert(&mut self, value: f64) {
        let at = self.sorted.partition_point(|held| *held < value);
        self.sorted.insert(at, value);
    }

    fn remove(&mut self, value: f64) {
        let at = self.sorted.partition_point(|held| *held < value);
        self.sorted.remove(at);
    }

    fn median(&self) -> f64 {
        let middle = self.sorted.len() / 2;
        if self.sorted.len().is_multiple_of(2) {
            f64::midpoint(self.sorted[middle - 1], self.sorted[middle])
        } else {
            self.sorted[middle]
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn a_row_of_slow_frames_is_one_event() {
        let mut frames = vec![10.0; 200];
        frames[50] = 25.0;
        frames[100] = 40.0;
        frames[101] = 40.0;
        frames[150] = 19.9;
        let summary = stutters(&frames);
        assert_eq!((summary.frames, summary.events), (3, 2));
        let total: f64 = frames.iter().sum();
        assert!((summary.excess_share - 75.0 / total).abs() < 1e-12);
        assert!((summary.events_per_minute - 2.0 * 60_000.0 / total).abs() < 1e-9);
    }

    #[test]
    fn short_frames_must_also_be_far_beyond_the_median() {
        let mut frames = vec![2.0; 100];
        frames[50] = 5.9;
        assert_eq!(stutters(&frames).frames, 0, "3.9 ms beyond is not felt");
        frames[50] = 6.1;
        assert_eq!(stutters(&frames).frames, 1);
    }

    proptest! {
        #[test]
        fn the_moving_median_is_the_median_of_each_window(
            frames in prop::collection::vec(0.5..60.0f64, 1..200)
        ) {
            let plain = |index: usize| {
                let from = index.saturating_sub(HALF_WINDOW);
                let to = (index + HALF_WINDOW + 1).min(frames.len());
                let mut window = frames[from..to].to_vec();
                window.sort_by(f64::total_cmp);
                let middle = window.len() / 2;
                if window.len() % 2 == 0 { (window[middle - 1] + window[middle]) / 2.0 } else { window[middle] }
            };
            let expected = (0..frames.len())
                .filter(|i| frames[*i] > 2.0 * plain(*i) && frames[*i] - plain(*i) > 4.0)
                .count();
            prop_assert_eq!(stutters(&frames).frames, expected);
        }
    }
}
