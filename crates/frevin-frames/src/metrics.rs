//! The figures of a run, each by its definition.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::cap::CapCount;
use super::conditions::{DetectedConditions, Seconds};
use super::stutter::{StutterCount, StutterSummary};
use crate::series::FrameSeries;
use crate::stream::blocks::FrameBlocks;
use crate::stream::lanes::{greatest, on_lanes, sum, sum_of_steps};
use crate::stream::ranks::{Counts, GATHERED, at_ranks, longer_than, top_and_bin};

/// Version of the figures: one more with each figure that is added, taken away or defined anew.
/// Whoever keeps figures of another version counts them again from the frames.
pub const FIGURES_VERSION: u32 = 2;

/// The figures of a run of `N` frame times `t` in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
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
    pub low_0_1_percent_fps: f64,
    /// `1000 k / sum` of the `k = max(1, floor(N / 100))` longest frames.
    pub slowest_1_percent_average_fps: f64,
    /// `1000 k / sum` of the `k = max(1, floor(N / 1000))` longest frames.
    pub slowest_0_1_percent_average_fps: f64,
    /// `1000 / t` of the frame at which, counted from the slowest, frames hold 1 % of the time.
    pub time_weighted_low_1_percent_fps: f64,
    /// The longest frame in milliseconds.
    pub longest_frame_ms: f64,
    /// Standard deviation of the frame times in milliseconds, over `N - 1`; 0 for one frame.
    pub standard_deviation_ms: f64,
    /// Pacing: the mean of `|t[i] - t[i-1]|` in milliseconds; 0 for one frame. Guards verdicts.
    pub pacing_ms: f64,
    /// [`Self::pacing_ms`] divided by the mean of `t`; for reading.
    pub pacing_share: f64,
    /// Stutters.
    pub stutter: StutterSummary,
}

/// The figures of a run.
pub fn metrics(series: &FrameSeries) -> Metrics {
    tally(series).0
}

/// The figures of a run, and what its frames show of the conditions that it was recorded under.
pub fn tally(series: &FrameSeries) -> (Metrics, DetectedConditions) {
    let mut tally = FrameTally::default();
    tally.see(series.frame_ms());
    let Ok(result) = tally.finish(series);
    result
}

/// Goes through the frames of a run as they come, and then some times over for what only the whole tells.
/// It holds little, however long the run is.
#[derive(Default)]
pub struct FrameTally {
    moments: Moments,
    stutters: StutterCount,
    seconds: Seconds,
    counts: Counts,
}

/// Shorter runs are sorted.
const SORTED: usize = 1 << 16;

impl FrameTally {
    /// Sees the next frames of the run, each finite and above zero, in milliseconds.
    pub fn see(&mut self, frame_ms: &[f64]) {
        // A piece that stays in the core's own memory is gone through several times.
        for piece in frame_ms.chunks(1 << 12) {
            let tally = PieceTally::of(piece, &mut self.counts);
            self.join(piece, tally);
        }
    }

    /// Sees the next frames of the run, whose figures were made before. They are not counted: what counted
    /// them is added at the end.
    pub(crate) fn join(&mut self, frame_ms: &[f64], tally: PieceTally) {
        self.moments.join(tally.moments);
        on_lanes(
            #[inline(always)]
            || {
                self.stutters.see(frame_ms);
                self.seconds.see(frame_ms);
            },
        );
    }

    /// Adds how many of the frames that were joined are how long.
    pub(crate) fn add(&mut self, counts: &Counts) {
        self.counts.add(counts);
    }

    /// How many frames were seen.
    pub(crate) fn frames(&self) -> usize {
        self.moments.frames
    }

    /// How long they take, in milliseconds.
    pub(crate) fn total_ms(&self) -> f64 {
        self.moments.total_ms
    }

    /// The figures of the run whose frames were all seen, and are the given ones; and what they show of
    /// the conditions that it was recorded under.
    ///
    /// # Errors
    /// Where a block cannot be had.
    pub fn finish<B: FrameBlocks>(
        self,
        blocks: &B,
    ) -> Result<(Metrics, DetectedConditions), B::Error> {
        let (by_length, cap) = if self.frames() <= SORTED {
            let mut frames = Vec::with_capacity(self.frames());
            blocks.each_block(&mut |block| frames.extend_from_slice(block))?;
            let by_length = ByLength::sorted(&mut frames);
            let mut cap = CapCount::new(by_length.median_ms);
            frames.iter().for_each(|frame_ms| cap.see(*frame_ms, 1));
            (by_length, cap)
        } else {
            let by_length = ByLength::counted(blocks, &self.counts, GATHERED)?;
            let mut cap = CapCount::new(by_length.median_ms);
            self.counts.about().for_each(|(frame_ms, count)| cap.see(frame_ms, count));
            (by_length, cap)
        };
        let (phases, pauses) = self.seconds.phases_and_pauses(by_length.median_ms);
        let shown = DetectedConditions { frame_cap: cap.cap(), phases, pauses };
        Ok((together(self.moments, self.stutters, &by_length), shown))
    }
}

fn together(moments: Moments, stutters: StutterCount, by_length: &ByLength) -> Metrics {
    let count = moments.frames as f64;
    let mean_ms = moments.total_ms / count;
    let per_frame_gap = |sum: f64| if moments.frames > 1 { sum / (count - 1.0) } else { 0.0 };
    Metrics {
        frames: moments.frames,
        seconds: moments.total_ms / 1000.0,
        average_fps: 1000.0 / mean_ms,
        median_fps: 1000.0 / by_length.median_ms,
        low_1_percent_fps: 1000.0 / by_length.quantile_99_ms,
        low_0_1_percent_fps: 1000.0 / by_length.quantile_999_ms,
        slowest_1_percent_average_fps: by_length.slowest_average_fps(moments.frames / 100),
        slowest_0_1_percent_average_fps: by_length.slowest_average_fps(moments.frames / 1000),
        time_weighted_low_1_percent_fps: by_length.time_weighted_low_fps(0.01 * moments.total_ms),
        longest_frame_ms: moments.longest_ms,
        standard_deviation_ms: per_frame_gap(moments.squares).sqrt(),
        pacing_ms: per_frame_gap(moments.steps_ms),
        pacing_share: per_frame_gap(moments.steps_ms) / mean_ms,
        stutter: stutters.summary(moments.total_ms),
    }
}

/// Figures of some frames of a run that can be made before those of the frames that come before them are.
#[derive(Default)]
pub(crate) struct PieceTally {
    moments: Moments,
}

impl PieceTally {
    /// The figures of the next frames, which are counted beside others.
    pub(crate) fn of(frame_ms: &[f64], counts: &mut Counts) -> Self {
        let mut moments = Moments::default();
        on_lanes(
            #[inline(always)]
            || {
                // Sums of short pieces are added up, so that no digits are lost in long runs.
                const PIECE: usize = 1024;
                for piece in frame_ms.chunks(PIECE) {
                    moments.join(Moments::of(piece));
                    counts.see(piece);
                }
            },
        );
        Self { moments }
    }
}

/// What follows from the sums over a run.
#[derive(Default)]
struct Moments {
    frames: usize,
    total_ms: f64,
    /// Squared distances from the mean.
    squares: f64,
    /// Changes from frame to frame.
    steps_ms: f64,
    longest_ms: f64,
    first_ms: Option<f64>,
    last_ms: Option<f64>,
}

impl Moments {
    #[inline(always)]
    fn of(frames: &[f64]) -> Self {
        let total_ms = sum(frames, |t| t);
        let mean_ms = total_ms / frames.len() as f64;
        Self {
            frames: frames.len(),
            total_ms,
            squares: sum(frames, |t| (t - mean_ms) * (t - mean_ms)),
            steps_ms: sum_of_steps(frames),
            longest_ms: greatest(frames),
            first_ms: frames.first().copied(),
            last_ms: frames.last().copied(),
        }
    }

    /// Those of the frames that come next are joined to these.
    fn join(&mut self, next: Self) {
        if self.frames == 0 {
            *self = next;
            return;
        }
        if next.frames == 0 {
            return;
        }
        // Chan, Golub and LeVeque (1983): the squares of two parts around their common mean.
        let (before, count) = (self.frames as f64, next.frames as f64);
        let apart = next.total_ms / count - self.total_ms / before;
        self.squares += next.squares + apart * apart * before * count / (before + count);
        self.frames += next.frames;
        self.total_ms += next.total_ms;
        if let (Some(last), Some(first)) = (self.last_ms, next.first_ms) {
            self.steps_ms += (first - last).abs();
        }
        self.steps_ms += next.steps_ms;
        self.longest_ms = self.longest_ms.max(next.longest_ms);
        self.last_ms = next.last_ms;
    }
}

/// What follows from the order of frames by length.
#[derive(Debug, PartialEq)]
struct ByLength {
    median_ms: f64,
    quantile_99_ms: f64,
    quantile_999_ms: f64,
    /// The longest frames, longest first: one in a hundred, and one more where there is one.
    longest_ms: Vec<f64>,
}

impl ByLength {
    fn sorted(frame_ms: &mut [f64]) -> Self {
        frame_ms.sort_unstable_by(f64::total_cmp);
        let ascending = &*frame_ms;
        let held = (ascending.len() / 100).max(1) + 1;
        Self {
            median_ms: quantile(ascending, 0.5),
            quantile_99_ms: quantile(ascending, 0.99),
            quantile_999_ms: quantile(ascending, 0.999),
            longest_ms: ascending.iter().rev().take(held).copied().collect(),
        }
    }

    fn counted<B: FrameBlocks>(
        blocks: &B,
        counts: &Counts,
        gathered: u64,
    ) -> Result<Self, B::Error> {
        let frames = counts.frames() as usize;
        let held = ((frames / 100).max(1) + 1).min(frames);
        let of_median = neighbours(frames, 0.5);
        // Both quantiles lie among the longest hundredth, or one frame below it.
        let top_rank = (frames - held) as u64 - u64::from(held < frames);
        if let Some((mut longest_ms, [below, above])) =
            top_and_bin(blocks, counts, top_rank, of_median, gathered)?
        {
            let quantile = |p: f64| {
                let [below, above] =
                    neighbours(frames, p).map(|rank| longest_ms[frames - 1 - rank as usize]);
                between(frames, p, below, above)
            };
            let (quantile_99_ms, quantile_999_ms) = (quantile(0.99), quantile(0.999));
            longest_ms.truncate(held);
            let median_ms = between(frames, 0.5, below, above);
            return Ok(Self { median_ms, quantile_99_ms, quantile_999_ms, longest_ms });
        }
        let mut ranks = Vec::new();
        for p in [0.5, 0.99, 0.999] {
            ranks.extend(neighbours(frames, p));
        }
        ranks.push((frames - held) as u64);
        let found = at_ranks(blocks, counts, &ranks, gathered)?;
        let shortest_held_ms = found[6];
        let mut longest_ms = longer_than(blocks, shortest_held_ms)?;
        // Frames of just that length may be many: as many of them as are wanted.
        longest_ms.resize(held, shortest_held_ms);
        Ok(Self {
            median_ms: between(frames, 0.5, found[0], found[1]),
            quantile_99_ms: between(frames, 0.99, found[2], found[3]),
            quantile_999_ms: between(frames, 0.999, found[4], found[5]),
            longest_ms,
        })
    }

    /// `1000 k / sum` of the `k` longest frames, of one where `k` is none.
    fn slowest_average_fps(&self, k: usize) -> f64 {
        let slowest = &self.longest_ms[..k.max(1)];
        1000.0 * slowest.len() as f64 / slowest.iter().sum::<f64>()
    }

    /// The longest hundredth of the frames and one more hold at least a hundredth of the time.
    fn time_weighted_low_fps(&self, enough_ms: f64) -> f64 {
        let mut held_ms = 0.0;
        let reaches = self.longest_ms.iter().find(|t| {
            held_ms += **t;
            held_ms >= enough_ms
        });
        reaches.or(self.longest_ms.last()).map_or(f64::NAN, |t| 1000.0 / t)
    }
}

/// A quantile of type 7 of values in ascending order, of which there is at least one.
pub(crate) fn quantile(ascending: &[f64], p: f64) -> f64 {
    let [below, above] = neighbours(ascending.len(), p);
    between(ascending.len(), p, ascending[below as usize], ascending[above as usize])
}

/// The ranks on both sides of a quantile of type 7 of Hyndman and Fan (1996): `h = (N - 1) p`.
fn neighbours(frames: usize, p: f64) -> [u64; 2] {
    let h = (frames - 1) as f64 * p;
    [h.floor() as u64, h.ceil() as u64]
}

/// That quantile, linear between the frames at the two ranks.
fn between(frames: usize, p: f64, below_ms: f64, above_ms: f64) -> f64 {
    let h = (frames - 1) as f64 * p;
    below_ms + (h - h.floor()) * (above_ms - below_ms)
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
        close(m.low_0_1_percent_fps, 1000.0 / 199.801);
        close(m.slowest_1_percent_average_fps, 1000.0 / 199.5);
        close(m.slowest_0_1_percent_average_fps, 1000.0 / 200.0);
        // 1 % of 20100 ms is 201 ms: 200 + 199 reaches it.
        close(m.time_weighted_low_1_percent_fps, 1000.0 / 199.0);
        close(m.longest_frame_ms, 200.0);
        close(m.standard_deviation_ms, (200.0 * 201.0 / 12.0_f64).sqrt());
        close(m.pacing_ms, 1.0);
        close(m.pacing_share, 1.0 / 100.5);
    }

    #[test]
    fn the_average_is_not_the_mean_of_rates() {
        close(of(vec![5.0, 15.0]).average_fps, 100.0);
    }

    #[test]
    fn one_frame_is_a_run() {
        let m = of(vec![20.0]);
        close(m.average_fps, 50.0);
        close(m.low_0_1_percent_fps, 50.0);
        assert_eq!((m.standard_deviation_ms, m.pacing_ms, m.stutter.events), (0.0, 0.0, 0));
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
        fn figures_are_the_same_whether_runs_are_sorted_or_counted(
            frames in prop::collection::vec(prop_oneof![1.0..50.0f64, Just(16.7)], 1..3000),
            gathered in prop_oneof![0..50_u64, Just(GATHERED)],
        ) {
            let series = FrameSeries::new(frames).unwrap();
            let mut counts = Counts::default();
            counts.see(series.frame_ms());
            let Ok(counted) = ByLength::counted(&series, &counts, gathered);
            prop_assert_eq!(counted, ByLength::sorted(&mut series.frame_ms().to_vec()));
        }

        #[test]
        fn lows_are_ordered_and_scale_with_time(
            frames in prop::collection::vec(1.0..50.0f64, 1..400), factor in 0.5..2.0f64
        ) {
            let m = of(frames.clone());
            let slack = 1.0 + 1e-9;
            prop_assert!(m.low_0_1_percent_fps <= m.low_1_percent_fps * slack);
            prop_assert!(m.low_1_percent_fps <= m.median_fps * slack);
            prop_assert!(1000.0 / m.longest_frame_ms <= m.low_0_1_percent_fps * slack);
            let scaled = of(frames.iter().map(|t| t * factor).collect());
            close(scaled.average_fps * factor, m.average_fps);
            close(scaled.low_1_percent_fps * factor, m.low_1_percent_fps);
        }
    }
}
