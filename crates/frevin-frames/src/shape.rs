//! The shape of a recording: frame times over time without a lost spike, and how they are distributed.
use schemars::JsonSchema;
use serde::Serialize;

/// A stretch of time, with its shortest and its longest frame: however many frames there are, no spike is lost.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct Stretch {
    /// When it begins, in seconds.
    pub from_s: f64,
    /// When it ends, in seconds.
    pub to_s: f64,
    /// Its shortest frame, in milliseconds.
    pub shortest_ms: f64,
    /// Its longest frame, in milliseconds.
    pub longest_ms: f64,
}

/// Frames of about one length.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct LengthBin {
    /// From this length on, in milliseconds.
    pub from_ms: f64,
    /// Up to this one, in milliseconds.
    pub to_ms: f64,
    /// The share of frames that are of such a length.
    pub share: f64,
    /// The share of frames that are no longer than `to_ms`.
    pub share_up_to: f64,
}

/// The shape of a recording.
#[derive(Debug, Clone, PartialEq, Default, JsonSchema, Serialize)]
pub struct FrameShape {
    /// How many frames there are.
    pub frames: u64,
    /// Frame times over time.
    pub stretches: Vec<Stretch>,
    /// Frame times by length: the bins that hold any, and those between.
    pub bins: Vec<LengthBin>,
}

/// Each bin is so much longer than the one before.
const BIN_RATIO: f64 = 1.02;
/// The shortest frame that has a bin of its own, in milliseconds; shorter ones are in the first.
const SHORTEST_MS: f64 = 0.25;
/// Bins up to 1.6 seconds; longer frames are in the last.
const BINS: usize = 443;

/// Takes frames in, and gives their shape: in one pass, and in as much memory as the figure needs.
#[derive(Debug, Clone)]
pub struct ShapeOf {
    stretch_ms: f64,
    at_ms: f64,
    frames: u64,
    stretches: Vec<(f64, f64)>,
    bins: Vec<u64>,
}

impl ShapeOf {
    /// Of frames of so long together, in so many stretches at most.
    pub fn new(total_ms: f64, most_stretches: usize) -> Self {
        let stretch_ms = (total_ms / most_stretches.max(1) as f64).max(f64::MIN_POSITIVE);
        Self { stretch_ms, at_ms: 0.0, frames: 0, stretches: Vec::new(), bins: vec![0; BINS] }
    }

    /// Takes the next frames, in milliseconds. A frame belongs to every stretch that it is shown in.
    pub fn see(&mut self, frame_ms: &[f64]) {
        for &length_ms in frame_ms {
            let place = |ms: f64| (ms / self.stretch_ms) as usize;
            let (first, last) = (place(self.at_ms), place(self.at_ms + length_ms));
            self.at_ms += length_ms;
            self.frames += 1;
            if self.stretches.len() <= last {
                self.stretches.resize(last + 1, (f64::INFINITY, f64::NEG_INFINITY));
            }
            for (shortest, longest) in &mut self.stretches[first..=last] {
                *shortest = shortest.min(length_ms);
                *longest = longest.max(length_ms);
            }
            let bin = (length_ms / SHORTEST_MS).ln() / BIN_RATIO.ln();
            self.bins[(bin.max(0.0) as usize).min(BINS - 1)] += 1;
        }
    }

    /// The shape of all of them.
    pub fn finish(self) -> FrameShape {
        let stretch_s = self.stretch_ms / 1000.0;
        let end_s = self.at_ms / 1000.0;
        let stretches = self.stretches.iter().enumerate().map(|(at, (shortest_ms, longest_ms))| {
            let from_s = at as f64 * stretch_s;
            Stretch {
                from_s,
                to_s: (from_s + stretch_s).min(end_s).max(from_s),
                shortest_ms: *shortest_ms,
                longest_ms: *longest_ms,
            }
        });
        let all = self.frames.max(1) as f64;
        let held = |(_, count): &(usize, &u64)| **count > 0;
        let first = self.bins.iter().enumerate().find(held).map_or(0, |(at, _)| at);
        let last = self.bins.iter().enumerate().rfind(held).map_or(0, |(at, _)| at);
        let edge = |at: usize| SHORTEST_MS * BIN_RATIO.powi(at as i32);
        let mut up_to = 0;
        let bins = (first..=last).filter(|_| self.frames > 0).map(|at| {
            up_to += self.bins[at];
            LengthBin {
                from_ms: edge(at),
                to_ms: edge(at + 1),
                share: self.bins[at] as f64 / all,
                share_up_to: up_to as f64 / all,
            }
        });
        FrameShape { frames: self.frames, stretches: stretches.collect(), bins: bins.collect() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn shape(frame_ms: &[f64], stretches: usize) -> FrameShape {
        let mut of = ShapeOf::new(frame_ms.iter().sum(), stretches);
        frame_ms.chunks(7).for_each(|chunk| of.see(chunk));
        of.finish()
    }

    #[test]
    fn one_long_frame_among_many_is_seen_where_it_was() {
        let mut frames = vec![10.0; 20_000];
        frames[12_000] = 90.0;
        let shape = shape(&frames, 400);
        assert!(shape.stretches.len() <= 401);
        let spikes: Vec<&Stretch> =
            shape.stretches.iter().filter(|one| one.longest_ms > 50.0).collect();
        assert!((1..=2).contains(&spikes.len()) && spikes[0].longest_ms == 90.0);
        assert!((119.5..=120.5).contains(&spikes[0].from_s), "{spikes:?}");
        assert_eq!(shape.frames, 20_000);
    }

    #[test]
    fn nothing_has_no_shape() {
        assert_eq!(shape(&[], 10), FrameShape::default());
    }

    proptest! {
        #[test]
        fn no_frame_is_lost_in_either_view(frames in prop::collection::vec(0.3_f64..1500.0, 1..400)) {
            let shape = shape(&frames, 37);
            let longest = frames.iter().copied().fold(0.0, f64::max);
            let shown = shape.stretches.iter().map(|one| one.longest_ms).fold(0.0, f64::max);
            prop_assert_eq!(longest, shown);
            prop_assert!(shape.stretches.iter().all(|one| one.shortest_ms <= one.longest_ms));
            let all: f64 = shape.bins.iter().map(|bin| bin.share).sum();
            prop_assert!((all - 1.0).abs() < 1e-9);
            prop_assert!((shape.bins.last().unwrap().share_up_to - 1.0).abs() < 1e-9);
            for frame in &frames {
                let holds = |bin: &LengthBin| bin.from_ms <= frame * 1.000001 && *frame <= bin.to_ms * 1.000001;
                prop_assert!(shape.bins.iter().any(holds), "{frame}");
            }
        }
    }
}
