//! Under what a run was recorded, as far as it bears on comparing it with others.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::cap::FrameCap;
use super::log::LogReadings;
use super::metrics::quantile;
use super::stream::lanes::sum;

/// A frame that takes longer than this, and far longer than the others, is a pause.
const PAUSE_MS: f64 = 1000.0;
/// How many times longer than the middle frame.
const PAUSE_TIMES_MEDIAN: f64 = 20.0;
/// Frames are looked at a second at a time.
const STRETCH_MS: f64 = 1000.0;
/// A second is unlike the rest where its mean frame takes more than this many times as long as in
/// the middle one of them, or less than one part of as many.
const UNLIKE_TIMES: f64 = 1.6;
/// Fewer seconds are no phase.
const SHORTEST_PHASE_S: usize = 3;
/// As many seconds that are like the rest may lie within a phase.
const LONGEST_GAP_S: usize = 1;
/// More are counted and not listed.
const LISTED: usize = 20;

/// Under what a run was recorded. What nobody has said is nothing.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(default)]
pub struct RunConditions {
    /// Detected in the frames themselves. (Ledgers until the third schema call it `shown`.)
    #[serde(alias = "shown")]
    pub detected: DetectedConditions,
    /// Whether the PC ran on its battery.
    pub on_battery: Option<bool>,
    /// Whether a video was being recorded.
    pub while_recording: Option<bool>,
    /// Which version of the game was played.
    pub game_version: Option<String>,
    /// Whether the frames are of the PC that the recorder ran on, where a simulated one was meant.
    pub is_of_host: bool,
    /// What its log told beside its frames.
    pub readings: LogReadings,
    /// The graphics card that drew it.
    pub graphics_card: Option<String>,
}

/// Conditions that show in the frames of a run.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(default)]
pub struct DetectedConditions {
    /// The cap that frames look to have been held to.
    pub frame_cap: Option<FrameCap>,
    /// Stretches unlike the rest, as a menu or a loading screen makes them: the first 20.
    pub phases: Vec<Phase>,
    /// Frames of a pause, in seconds from the beginning of the run: the first 20.
    pub pauses: Vec<Pause>,
}

/// A stretch of a run whose frames are unlike the rest.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Phase {
    /// When it began, in seconds from the beginning of the run.
    pub from_s: f64,
    /// How long it took, in seconds.
    pub seconds: f64,
    /// Its mean frame in milliseconds.
    pub mean_ms: f64,
}

/// A frame so long that nothing was played.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Pause {
    /// When it began, in seconds from the beginning of the run.
    pub from_s: f64,
    /// How long it took, in seconds.
    pub seconds: f64,
}

/// A second of a run.
struct Second {
    from_ms: f64,
    to_ms: f64,
    mean_ms: f64,
}

/// A run second by second. A frame that may be a pause is a second of its own.
#[derive(Default)]
pub(super) struct Seconds {
    at_ms: f64,
    from_ms: f64,
    frames: u32,
    seconds: Vec<Second>,
}

impl Seconds {
    /// Sees the next frames: sixteen at once where no second ends among them.
    #[inline(always)]
    pub(super) fn see(&mut self, block: &[f64]) {
        const AT_ONCE: usize = 16;
        // What sums lose when they are added in another order is far less.
        const MARGIN_MS: f64 = 1e-6;
        let (full, rest) = block.as_chunks::<AT_ONCE>();
        for frames in full {
            let together_ms = sum(frames, |frame_ms| frame_ms);
            // A frame that may be a pause takes as long as a second does.
            if self.at_ms + together_ms - self.from_ms < STRETCH_MS - MARGIN_MS {
                self.at_ms += together_ms;
                self.frames += AT_ONCE as u32;
            } else {
                self.see_each(frames);
            }
        }
        self.see_each(rest);
    }

    fn see_each(&mut self, frames: &[f64]) {
        for frame_ms in frames {
            if *frame_ms >= PAUSE_MS {
                self.end();
            }
            self.frames += 1;
            self.at_ms += frame_ms;
            if self.at_ms - self.from_ms >= STRETCH_MS {
                self.end();
            }
        }
    }

    fn end(&mut self) {
        if self.frames > 0 {
            let mean_ms = (self.at_ms - self.from_ms) / f64::from(self.frames);
            self.seconds.push(Second { from_ms: self.from_ms, to_ms: self.at_ms, mean_ms });
        }
        (self.frames, self.from_ms) = (0, self.at_ms);
    }

    /// The phases and pauses of a run whose middle frame takes this long.
    pub(super) fn phases_and_pauses(mut self, median_ms: f64) -> (Vec<Phase>, Vec<Pause>) {
        self.end();
        let pause_ms = PAUSE_MS.max(PAUSE_TIMES_MEDIAN * median_ms);
        let (pauses, played): (Vec<Second>, Vec<Second>) =
            self.seconds.into_iter().partition(|second| second.mean_ms >= pause_ms);
        let pause = |second: &Second| Pause {
            from_s: second.from_ms / 1000.0,
            seconds: (second.to_ms - second.from_ms) / 1000.0,
        };
        (phases(&played), pauses.iter().take(LISTED).map(pause).collect())
    }
}

fn phases(seconds: &[Second]) -> Vec<Phase> {
    let mut means: Vec<f64> = seconds.iter().map(|second| second.mean_ms).collect();
    if means.len() < 2 * SHORTEST_PHASE_S {
        return Vec::new();
    }
    means.sort_by(f64::total_cmp);
    let typical_ms = quantile(&means, 0.5);
    let is_unlike = |second: &Second| {
        let times = second.mean_ms / typical_ms;
        !(1.0 / UNLIKE_TIMES..=UNLIKE_TIMES).contains(&times)
    };
    let mut phases = Vec::new();
    let mut index = 0;
    while index < seconds.len() && phases.len() < LISTED {
        if !is_unlike(&seconds[index]) {
            index += 1;
            continue;
        }
        let first = index;
        let mut last = index;
        while index < seconds.len() && index - last <= LONGEST_GAP_S {
            if is_unlike(&seconds[index]) {
                last = index;
            }
            index += 1;
        }
        let of_phase = &seconds[first..=last];
        if of_phase.len() >= SHORTEST_PHASE_S {
            let mut means: Vec<f64> = of_phase.iter().map(|second| second.mean_ms).collect();
            means.sort_by(f64::total_cmp);
            let (from_ms, to_ms) = (of_phase[0].from_ms, seconds[last].to_ms);
            phases.push(Phase {
                from_s: from_ms / 1000.0,
                seconds: (to_ms - from_ms) / 1000.0,
                mean_ms: quantile(&means, 0.5),
            });
        }
        index = last + 1;
    }
    phases
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::{FrameSeries, tally};

    fn shown(frame_ms: Vec<f64>) -> DetectedConditions {
        tally(&FrameSeries::new(frame_ms).unwrap()).1
    }

    /// Frames around `middle_ms` for so many seconds, no two alike.
    fn playing(middle_ms: f64, seconds: f64) -> Vec<f64> {
        let count = (seconds * 1000.0 / middle_ms) as usize;
        (0..count).map(|i| middle_ms * (0.8 + 0.4 * ((i * 37 % 101) as f64 / 100.0))).collect()
    }

    #[test]
    fn a_menu_and_a_loading_screen_are_seen_and_play_is_not() {
        let run = [playing(4.0, 6.0), playing(10.0, 30.0), playing(40.0, 5.0), playing(10.0, 20.0)];
        let found = shown(run.concat()).phases;
        assert_eq!(found.len(), 2, "{found:?}");
        assert!(found[0].from_s < 0.1 && (found[0].seconds - 6.0).abs() < 1.1, "{found:?}");
        assert!((found[1].from_s - 36.0).abs() < 1.1 && (found[1].seconds - 5.0).abs() < 1.1);
        assert!((found[1].mean_ms - 40.0).abs() < 2.0);
        assert_eq!(shown(playing(10.0, 60.0)), DetectedConditions::default());
        assert_eq!(shown([playing(10.0, 30.0), playing(5.0, 2.0)].concat()).phases, []);
    }

    #[test]
    fn a_pause_is_told_from_a_stutter() {
        let mut run = playing(10.0, 20.0);
        let middle = run.len() / 2;
        run[middle] = 4000.0;
        run[middle + 500] = 300.0;
        let found = shown(run).pauses;
        assert_eq!(found.len(), 1);
        assert!((found[0].from_s - 10.0).abs() < 0.2 && found[0].seconds == 4.0, "{found:?}");
    }
}
