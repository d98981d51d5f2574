//! Stutters: frames that take far longer than those around them.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::stream::lanes::{greatest, least};

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
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
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
    let mut count = StutterCount::default();
    count.see(frame_ms);
    count.summary(frame_ms.iter().sum())
}

/// Frames looked at together: where the longest of them does not stutter against the shortest around
/// them, none does, and no median is needed.
const STRIDE: usize = 64;
/// Frames taken in at once, so that what is held stays small.
const TAKEN: usize = 1 << 12;

/// Counts the stutters of frames that come in blocks.
#[derive(Default)]
pub(super) struct StutterCount {
    /// Frames that are yet to be judged, and those before them that are in their windows.
    held: Vec<f64>,
    /// How many of those have been judged.
    judged: usize,
    frames: usize,
    events: usize,
    excess_ms: f64,
    in_event: bool,
    window: Vec<f64>,
}

/// Whether a frame would stutter if the median around it were this. Where it does, it does for any
/// shorter one.
fn stutters_against(frame_ms: f64, median_ms: f64) -> bool {
    frame_ms > TIMES_MEDIAN * median_ms && frame_ms - median_ms > BEYOND_MEDIAN_MS
}

impl StutterCount {
    #[inline(always)]
    pub(super) fn see(&mut self, block: &[f64]) {
        for frames in block.chunks(TAKEN) {
            self.held.extend_from_slice(frames);
            self.judge(self.held.len().saturating_sub(HALF_WINDOW));
            let past = self.judged.saturating_sub(HALF_WINDOW);
            self.held.drain(..past);
            self.judged -= past;
        }
    }

    /// What was counted, of a run of this length.
    pub(super) fn summary(mut self, total_ms: f64) -> StutterSummary {
        self.judge(self.held.len());
        let per_total = |part: f64| if total_ms > 0.0 { part / total_ms } else { 0.0 };
        StutterSummary {
            frames: self.frames,
            events: self.events,
            events_per_minute: per_total(self.events as f64 * 60_000.0),
            excess_share: per_total(self.excess_ms),
        }
    }

    #[inline(always)]
    fn judge(&mut self, to: usize) {
        while self.judged < to {
            let stride = self.judged..to.min(self.judged + STRIDE);
            let around = self.around(stride.start).start..self.around(stride.end - 1).end;
            let longest = greatest(&self.held[stride.clone()]);
            let shortest = least(&self.held[around]);
            if stutters_against(longest, shortest) {
                for index in stride.clone() {
                    if stutters_against(self.held[index], shortest) {
                        self.judge_one(index);
                    } else {
                        self.in_event = false;
                    }
                }
            } else {
                self.in_event = false;
            }
            self.judged = stride.end;
        }
    }

    fn around(&self, index: usize) -> std::ops::Range<usize> {
        index.saturating_sub(HALF_WINDOW)..(index + HALF_WINDOW + 1).min(self.held.len())
    }

    #[inline(never)]
    fn judge_one(&mut self, index: usize) {
        let t = self.held[index];
        let around = &self.held[self.around(index)];
        // It can only stutter against the median where it does against half of the frames.
        let against = around.iter().filter(|other| stutters_against(t, **other)).count();
        let mut stutters = false;
        if against >= around.len().div_ceil(2) {
            self.window.clear();
            self.window.extend_from_slice(around);
            let median = median(&mut self.window);
            stutters = stutters_against(t, median);
            if stutters {
                self.frames += 1;
                self.events += usize::from(!self.in_event);
                self.excess_ms += t - median;
            }
        }
        self.in_event = stutters;
    }
}

fn median(window: &mut [f64]) -> f64 {
    let middle = window.len() / 2;
    let is_even = window.len().is_multiple_of(2);
    let (below, upper, _) = window.select_nth_unstable_by(middle, f64::total_cmp);
    if is_even {
        let lower = below.iter().copied().fold(f64::NEG_INFINITY, f64::max);
        f64::midpoint(lower, *upper)
    } else {
        *upper
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
            frames in prop::collection::vec(prop_oneof![0.5..60.0f64, Just(3.0), Just(9.0)], 1..300),
            piece in 1..100_usize
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
            let mut in_pieces = StutterCount::default();
            frames.chunks(piece).for_each(|piece| in_pieces.see(piece));
            prop_assert_eq!(in_pieces.summary(frames.iter().sum()), stutters(&frames));
        }
    }
}
