//! Frame caps, seen in the frame times themselves.

use serde::Serialize;

use super::series::FrameSeries;

/// A cap that a run looks to have been under: a limiter, or a display that is waited for.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
pub struct FrameCap {
    /// The frame time that frames were held to, in milliseconds.
    pub frame_ms: f64,
    /// The same as frames a second.
    pub fps: f64,
    /// The share of frames that took just that long.
    pub share: f64,
}

/// Fewer frames say nothing.
const FEWEST_FRAMES: usize = 120;
/// How near to the middle frame a frame is "just that long", as a share of it.
const NEAR: f64 = 0.005;
/// How many frames have to be.
const LEAST_SHARE: f64 = 0.5;
/// A frame shorter than this share of the middle one would have broken the cap.
const BROKEN: f64 = 0.98;
/// How many frames may: a limiter lets a short one follow a long one.
const MOST_BROKEN: f64 = 0.05;

/// The cap that a run looks to have been under, if it does.
///
/// Frames that a game makes as fast as it can differ by several percent on both sides of the middle
/// one. Under a cap more than half of them are within half a percent of it, and hardly any are
/// shorter. A game that was steadier than that without a cap would be taken for capped: nothing in the
/// frame times tells the two apart.
pub fn frame_cap(series: &FrameSeries) -> Option<FrameCap> {
    let frames = series.frame_ms();
    if frames.len() < FEWEST_FRAMES {
        return None;
    }
    let mut sorted = frames.to_vec();
    sorted.sort_by(f64::total_cmp);
    let middle = sorted[sorted.len() / 2];
    let share = |is_so: &dyn Fn(f64) -> bool| {
        frames.iter().filter(|frame| is_so(**frame)).count() as f64 / frames.len() as f64
    };
    let near = share(&|frame| (frame / middle - 1.0).abs() <= NEAR);
    let broken = share(&|frame| frame < BROKEN * middle);
    let is_capped = near >= LEAST_SHARE && broken <= MOST_BROKEN;
    is_capped.then_some(FrameCap { frame_ms: middle, fps: 1000.0 / middle, share: near })
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng as _;
    use rand_distr::{Distribution as _, Normal};

    /// Frames around `middle_ms` that differ by `spread`, none shorter than `cap_ms` by more than a
    /// limiter's own jitter.
    fn frames(middle_ms: f64, spread: f64, cap_ms: f64) -> FrameSeries {
        let mut chance = rand_pcg::Pcg64Mcg::seed_from_u64(5);
        let natural = Normal::new(middle_ms, middle_ms * spread).unwrap();
        let jitter = Normal::new(0.0, cap_ms * 0.001).unwrap();
        let frame = |_| {
            let frame: f64 = natural.sample(&mut chance);
            if frame < cap_ms { cap_ms + jitter.sample(&mut chance) } else { frame }
        };
        FrameSeries::new((0..4000).map(frame).collect()).unwrap()
    }

    #[test]
    fn a_cap_is_seen_where_most_frames_meet_it_and_not_elsewhere() {
        let capped = frame_cap(&frames(12.0, 0.06, 1000.0 / 60.0)).unwrap();
        assert!((capped.fps - 60.0).abs() < 0.1 && capped.share > 0.9, "{capped:?}");
        let partly = frame_cap(&frames(16.0, 0.06, 1000.0 / 60.0)).unwrap();
        assert!((partly.fps - 60.0).abs() < 0.2, "{partly:?}");
        for (spread, cap_ms) in [(0.06, 1.0), (0.03, 1.0), (0.01, 1.0), (0.06, 11.0)] {
            assert_eq!(frame_cap(&frames(12.0, spread, cap_ms)), None, "{spread} {cap_ms}");
        }
        assert_eq!(frame_cap(&FrameSeries::new(vec![16.7; 100]).unwrap()), None, "too few");
    }
}
