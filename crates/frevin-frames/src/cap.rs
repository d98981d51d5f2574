//! Frame caps and vertical synchronisation, seen in the frame times themselves.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// A cap that a run looks to have been under.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct FrameCap {
    /// The frame time that frames were held to, in milliseconds.
    pub frame_ms: f64,
    /// The same as frames a second.
    pub fps: f64,
    /// The share of frames that took just that long or, where the display was waited for, a whole
    /// number of times that long.
    pub share: f64,
    /// Whether frames waited for a display: those that missed one of its pictures took two or more.
    pub waits_for_display: bool,
}

/// Fewer frames say nothing.
const FEWEST_FRAMES: u64 = 120;
/// How near to the middle frame a frame is "just that long", as a share of it.
const NEAR: f64 = 0.005;
/// How many frames have to be.
const LEAST_SHARE: f64 = 0.5;
/// A frame shorter than this share of the middle one would have broken the cap.
const BROKEN: f64 = 0.98;
/// How many frames may: a limiter lets a short one follow a long one.
const MOST_BROKEN: f64 = 0.05;
/// How near to a whole number of a display's pictures a frame that waited for it ends, as a share of
/// one picture.
const NEAR_PICTURE: f64 = 0.03;
/// How many frames have to, in all …
const LEAST_ON_PICTURES: f64 = 0.85;
/// … and how many for two pictures or more: without them nothing tells it from a limiter.
const LEAST_LATE: f64 = 0.005;
/// Pictures that a late frame may have waited for; more of them prove nothing.
const LATE_PICTURES: [f64; 3] = [2.0, 3.0, 4.0];
/// How many pictures the middle frame may have waited for.
const PICTURES_OF_MIDDLE: [f64; 3] = [1.0, 2.0, 3.0];

/// Counts the frames that meet a cap.
pub(super) struct CapCount {
    middle_ms: f64,
    frames: u64,
    near: u64,
    broken: u64,
    /// For each length that a picture may have: frames of one picture, and of more.
    on_pictures: [(u64, u64); PICTURES_OF_MIDDLE.len()],
}

impl CapCount {
    /// For a run whose middle frame takes this long.
    pub(super) fn new(middle_ms: f64) -> Self {
        Self { middle_ms, frames: 0, near: 0, broken: 0, on_pictures: Default::default() }
    }

    /// Sees so many frames of one length.
    pub(super) fn see(&mut self, frame_ms: f64, count: u64) {
        self.frames += count;
        let of_middle = frame_ms / self.middle_ms;
        let counted = |is_so: bool| if is_so { count } else { 0 };
        self.near += counted((of_middle - 1.0).abs() <= NEAR);
        self.broken += counted(of_middle < BROKEN);
        for (pictures, (one, more)) in PICTURES_OF_MIDDLE.iter().zip(&mut self.on_pictures) {
            let waited = of_middle * pictures;
            let is_near = |whole: f64| (waited - whole).abs() <= NEAR_PICTURE;
            *one += counted(is_near(1.0));
            *more += counted(LATE_PICTURES.into_iter().any(is_near));
        }
    }

    /// The cap that the run looks to have been under, if it does.
    ///
    /// Frames that a game makes as fast as it can differ by several percent on both sides of the
    /// middle one. Under a limiter more than half of them are within half a percent of it, and hardly
    /// any are shorter; where the display is waited for nearly all are near one picture of it, or two,
    /// or three. A game that was steadier than that without a cap would be taken for capped: nothing in
    /// the frame times tells the two apart.
    pub(super) fn cap(&self) -> Option<FrameCap> {
        if self.frames < FEWEST_FRAMES {
            return None;
        }
        let share = |count: u64| count as f64 / self.frames as f64;
        let cap = |frame_ms: f64, share, waits_for_display| FrameCap {
            frame_ms,
            fps: 1000.0 / frame_ms,
            share,
            waits_for_display,
        };
        for (pictures, (one, more)) in PICTURES_OF_MIDDLE.iter().zip(self.on_pictures) {
            let both = share(one) >= LEAST_LATE && share(more) >= LEAST_LATE;
            if both && share(one + more) >= LEAST_ON_PICTURES {
                return Some(cap(self.middle_ms / pictures, share(one + more), true));
            }
        }
        let is_capped = share(self.near) >= LEAST_SHARE && share(self.broken) <= MOST_BROKEN;
        is_capped.then(|| cap(self.middle_ms, share(self.near), false))
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{FrameSeries, metrics};
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

    fn frame_cap(series: &FrameSeries) -> Option<FrameCap> {
        let mut count = CapCount::new(1000.0 / metrics(series).median_fps);
        series.frame_ms().iter().for_each(|frame_ms| count.see(*frame_ms, 1));
        count.cap()
    }

    #[test]
    fn a_display_that_is_waited_for_shows_in_frames_of_two_pictures() {
        let mut chance = rand_pcg::Pcg64Mcg::seed_from_u64(7);
        for (late_every, natural_ms) in [(40, 7.0), (3, 9.0)] {
            let jitter = Normal::new(0.0, 0.05).unwrap();
            let frame = |index: usize| {
                let natural: f64 =
                    if index.is_multiple_of(late_every) { natural_ms * 1.5 } else { 5.0 };
                let picture_ms = 1000.0 / 144.0;
                (natural / picture_ms).ceil() * picture_ms + jitter.sample(&mut chance)
            };
            let series = FrameSeries::new((0..5000).map(frame).collect()).unwrap();
            let cap = frame_cap(&series).unwrap();
            assert!(cap.waits_for_display && (cap.fps - 144.0).abs() < 1.0, "{cap:?}");
        }
    }

    #[test]
    fn a_cap_is_seen_where_most_frames_meet_it_and_not_elsewhere() {
        let capped = frame_cap(&frames(12.0, 0.06, 1000.0 / 60.0)).unwrap();
        assert!((capped.fps - 60.0).abs() < 0.1 && capped.share > 0.9, "{capped:?}");
        assert!(!capped.waits_for_display);
        let partly = frame_cap(&frames(16.0, 0.06, 1000.0 / 60.0)).unwrap();
        assert!((partly.fps - 60.0).abs() < 0.2, "{partly:?}");
        for (spread, cap_ms) in [(0.06, 1.0), (0.03, 1.0), (0.01, 1.0), (0.06, 11.0)] {
            assert_eq!(frame_cap(&frames(12.0, spread, cap_ms)), None, "{spread} {cap_ms}");
        }
        assert_eq!(frame_cap(&FrameSeries::new(vec![16.7; 100]).unwrap()), None, "too few");
    }
}
