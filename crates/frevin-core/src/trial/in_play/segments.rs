//! Frames of a sitting -> segments.

use frevin_frames::{FrameSeries, metrics};
use frevin_stats::median;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::super::design::Arm;
use super::frame_cap::looks_capped;

/// A segment of play in one state.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Segment {
    /// The state.
    pub arm: Arm,
    /// When it began, in seconds from the beginning of its sitting.
    pub begin_s: f64,
    /// When it ended.
    pub end_s: f64,
    /// What its frames come to; nothing where too few of them are play.
    pub frames: Option<SegmentFrames>,
    /// Whether the minute up to its end looks to be capped.
    pub looks_capped: bool,
    /// Stutters right after the switch, which are not judged.
    pub stutters_while_settling: u32,
}

/// What the frames of a segment come to that are play.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct SegmentFrames {
    /// How many there are.
    pub frames: u32,
    /// The logarithm of their mean, in milliseconds.
    pub ln_mean_ms: f64,
    /// The logarithm of what one in a hundred takes longer than, in milliseconds.
    pub ln_slow_ms: f64,
    /// Stutters.
    pub stutters: u32,
    /// The logarithm of the mean step from frame to frame, in milliseconds.
    pub ln_pacing_ms: f64,
    /// The logarithm of the first half's mean, less that of the second.
    pub ln_halves: f64,
}

/// How long a bin of frames is, in milliseconds.
const BIN_MS: f64 = 500.0;
/// What play is like is told by the bins of so long before a pair, in milliseconds, ...
const BEFORE_MS: f64 = 60_000.0;
/// ... where there are so many; else by so many of the first.
const ENOUGH_BINS: usize = 20;
const FIRST_BINS: usize = 40;
/// A bin whose mean differs from that by more than this factor is a menu, loading or a pause.
const UNLIKE: f64 = 1.6;
/// A segment needs so many frames of play.
const ENOUGH_FRAMES: usize = 100;

/// The frames of a sitting, as they come.
#[derive(Debug, Clone, Default)]
pub struct Sitting {
    /// When each frame began, in milliseconds from the beginning of the sitting, and how long it took.
    frames: Vec<(f64, f64)>,
}

impl Sitting {
    /// Takes frames that follow those so far: when each began, in milliseconds from the beginning of the sitting, and
    /// how long it took.
    pub fn take(&mut self, frames: impl IntoIterator<Item = (f64, f64)>) {
        self.frames.extend(frames);
    }

    /// How much was played, in seconds.
    pub fn played_s(&self) -> f64 {
        self.frames.last().map_or(0.0, |(begin, length)| (begin + length) / 1000.0)
    }

    fn between(&self, begin_ms: f64, end_ms: f64) -> &[(f64, f64)] {
        let at = |ms: f64| self.frames.partition_point(|(begin, _)| *begin < ms);
        let (first, last) = (at(begin_ms), at(end_ms));
        self.frames.get(first..last).unwrap_or_default()
    }

    /// The logarithms of the means of the whole bins between two moments, with the moments at which they begin.
    fn bins(&self, begin_ms: f64, end_ms: f64) -> Vec<(f64, f64)> {
        let first = (begin_ms / BIN_MS).ceil() as u64;
        let last = (end_ms / BIN_MS).floor() as u64;
        let begins = (first..last).map(|bin| bin as f64 * BIN_MS);
        begins
            .filter_map(|begin| Some((begin, ln_mean(self.between(begin, begin + BIN_MS))?)))
            .collect()
    }

    /// What play was like before a moment, as the logarithm of a frame's length in milliseconds.
    fn reference(&self, before_ms: f64) -> Option<f64> {
        let middle = |bins: Vec<(f64, f64)>| median(bins.into_iter().map(|(_, mean)| mean));
        let before = self.bins((before_ms - BEFORE_MS).max(0.0), before_ms);
        if before.len() >= ENOUGH_BINS {
            return middle(before);
        }
        middle(self.bins(0.0, FIRST_BINS as f64 * BIN_MS))
    }

    /// The segment that was played in a state between two moments, in seconds; frames of its first `settling_s` are not
    /// judged. `pair_begin_s` is when its pair began.
    pub fn segment(
        &self,
        arm: Arm,
        (begin_s, end_s): (f64, f64),
        settling_s: f64,
        pair_begin_s: f64,
    ) -> Segment {
        let (judged_ms, end_ms) = ((begin_s + settling_s) * 1000.0, end_s * 1000.0);
        let lengths = |frames: &[(f64, f64)]| -> Vec<f64> {
            frames.iter().map(|(_, length)| *length).collect()
        };
        let settling = lengths(self.between(begin_s * 1000.0, judged_ms));
        let last_minute = lengths(self.between(end_ms - BEFORE_MS, end_ms));
        Segment {
            arm,
            begin_s,
            end_s,
            frames: self.of_play(judged_ms, end_ms, pair_begin_s * 1000.0),
            looks_capped: looks_capped(&last_minute),
            stutters_while_settling: FrameSeries::new(settling)
                .map_or(0, |series| as_count(metrics(&series).stutter.events)),
        }
    }

    fn of_play(&self, begin_ms: f64, end_ms: f64, pair_begin_ms: f64) -> Option<SegmentFrames> {
        let reference = self.reference(pair_begin_ms)?;
        let whole = (end_ms / BIN_MS).floor() - (begin_ms / BIN_MS).ceil();
        let play: Vec<f64> = self
            .bins(begin_ms, end_ms)
            .into_iter()
            .filter(|(_, mean)| (mean - reference).abs() <= UNLIKE.ln())
            .map(|(begin, _)| begin)
            .collect();
        if (2 * play.len()) as f64 <= whole - 1.0 + f64::EPSILON {
            return None;
        }
        let frames: Vec<f64> = play
            .iter()
            .flat_map(|begin| self.between(*begin, begin + BIN_MS))
            .map(|(_, length)| *length)
            .collect();
        if frames.len() < ENOUGH_FRAMES {
            return None;
        }
        let middle = f64::midpoint(begin_ms, end_ms);
        let half = |is_first: bool| {
            let of_half: Vec<f64> = play
                .iter()
                .filter(|begin| (**begin < middle) == is_first)
                .flat_map(|begin| self.between(*begin, begin + BIN_MS))
                .map(|(_, length)| *length)
                .collect();
            mean(&of_half).map(f64::ln)
        };
        let ln_halves = half(true).zip(half(false)).map_or(0.0, |(first, second)| first - second);
        let series = FrameSeries::new(frames).ok()?;
        let of = metrics(&series);
        Some(SegmentFrames {
            frames: as_count(of.frames),
            ln_mean_ms: mean(series.frame_ms())?.ln(),
            ln_slow_ms: (1000.0 / of.low_1_percent_fps).ln(),
            stutters: as_count(of.stutter.events),
            ln_pacing_ms: of.pacing_ms.max(f64::MIN_POSITIVE).ln(),
            ln_halves,
        })
    }
}

fn as_count(count: usize) -> u32 {
    u32::try_from(count).unwrap_or(u32::MAX)
}

fn mean(values: &[f64]) -> Option<f64> {
    (!values.is_empty()).then(|| values.iter().sum::<f64>() / values.len() as f64)
}

fn ln_mean(frames: &[(f64, f64)]) -> Option<f64> {
    let lengths: Vec<f64> = frames.iter().map(|(_, length)| *length).collect();
    mean(&lengths).map(f64::ln)
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Frames of a length that hangs on when they begin, for so many seconds.
    fn played(seconds: f64, length_ms: impl Fn(f64) -> f64) -> Sitting {
        let (mut sitting, mut now) = (Sitting::default(), 0.0);
        while now < seconds * 1000.0 {
            let length = length_ms(now / 1000.0);
            sitting.take([(now, length)]);
            now += length;
        }
        sitting
    }

    #[test]
    fn a_segment_is_judged_after_it_has_settled() {
        // Longer right after the switch at 60 s.
        let sitting = played(80.0, |s| if (60.0..62.0).contains(&s) { 14.0 } else { 10.0 });
        let segment = sitting.segment(Arm::B, (60.0, 66.0), 2.0, 60.0);
        let frames = segment.frames.unwrap();
        assert!((frames.ln_mean_ms.exp() - 10.0).abs() < 1e-9);
        assert_eq!((frames.frames, frames.stutters), (400, 0));
        let unsettled = sitting.segment(Arm::B, (60.0, 66.0), 1.0, 60.0).frames.unwrap();
        assert!(unsettled.ln_halves > 0.05, "it begins otherwise than it ends");
        assert!((sitting.played_s() - 80.0).abs() < 0.1);
    }

    #[test]
    fn menus_are_left_out_and_a_segment_of_menus_is_none() {
        let menu = |from: f64, to: f64| {
            let sitting = played(80.0, |s| if (from..to).contains(&s) { 4.0 } else { 10.0 });
            sitting.segment(Arm::A, (60.0, 66.0), 2.0, 60.0).frames
        };
        let short = menu(63.0, 64.5).unwrap();
        assert!((short.ln_mean_ms.exp() - 10.0).abs() < 1e-6, "{short:?}");
        assert_eq!(menu(62.0, 65.0), None);
        // A long pause has few frames.
        let paused = played(80.0, |s| if s > 62.0 { 5000.0 } else { 10.0 });
        assert_eq!(paused.segment(Arm::A, (60.0, 66.0), 2.0, 60.0).frames, None);
    }

    #[test]
    fn a_minute_at_a_cap_is_told() {
        let steps = [0.0, 0.31, 0.12, 0.4, 0.22, 0.05];
        let capped =
            played(70.0, |s| 10.0 + if ((s * 100.0) as u64).is_multiple_of(5) { 3.0 } else { 0.0 });
        assert!(capped.segment(Arm::A, (60.0, 66.0), 2.0, 60.0).looks_capped);
        let free =
            played(70.0, |s| 10.0 * (1.0 + steps[(s * 97.0) as usize % steps.len()] + s / 200.0));
        assert!(!free.segment(Arm::A, (60.0, 66.0), 2.0, 60.0).looks_capped);
    }
}
