//! How a trial in play is played: how long segments are, in which order they come, where frames come from.

use std::path::PathBuf;

use frevin_stats::in_play::InPlayLimit;
use rand::{RngExt as _, SeedableRng as _};
use rand_pcg::Pcg64;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::super::design::Arm;
use crate::playing::ProcessHolds;

/// Where the frames of play come from.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "source")]
pub enum PlaySource {
    /// A scene: a rehearsal PC plays it, or its owner has said how it is recorded.
    Scene,
    /// A program that runs, traced.
    Program {
        /// The name of its file.
        file: String,
    },
    /// A log to which another program adds rows while it records.
    GrowingLog {
        /// The file.
        file: PathBuf,
    },
    /// Frevin's own workload.
    TestLoop,
}

/// How soon what is tried is felt.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "known")]
pub enum Settling {
    /// The definitions say so.
    Declared {
        /// The slowest of them, in seconds.
        felt_within_s: f64,
    },
    /// Some definition does not say: the trial looks whether segments begin otherwise than they end.
    Tested,
}

/// How a trial in play is played.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct InPlay {
    /// How soon what is tried is felt.
    pub settling: Settling,
    /// After how many seconds a benchmark repeats, where one is played.
    pub loop_s: Option<f64>,
    /// Where frames come from.
    #[serde(flatten)]
    pub source: PlaySource,
    /// The most play of one sitting, in seconds; nothing: until the verdict, or the game ends.
    pub sitting_s: Option<f64>,
    /// What is tried of the process that is played, where that is tried and no setting.
    #[serde(default, skip_serializing_if = "ProcessHolds::is_empty")]
    pub process: ProcessHolds,
    /// The build of Windows when it began.
    pub windows_build: Option<u32>,
    /// The version of the graphics card's driver when it began.
    pub graphics_driver: Option<String>,
}

/// Frames before a sitting's first segment, in seconds.
pub const LEAD_IN_S: f64 = 30.0;
/// The most play of a trial over all sittings, in seconds.
pub const MOST_PLAY_S: f64 = 40.0 * 60.0;
/// What is felt at once takes no longer than this to be discarded, in seconds.
const SHORTEST_SETTLING_S: f64 = 2.0;
/// The shortest stretch that is judged, in seconds.
const SHORTEST_JUDGED_S: f64 = 4.0;
/// A segment of a repeating benchmark is about so long, in seconds.
const LOOP_SEGMENT_S: f64 = 8.0;

impl InPlay {
    /// How long after a switch frames are not judged, in seconds, where the settling test has doubled it so many times.
    pub fn settling_s(&self, doubled: u32) -> f64 {
        let declared = match self.settling {
            Settling::Declared { felt_within_s } => 4.0 * felt_within_s,
            Settling::Tested => 0.0,
        };
        declared.max(SHORTEST_SETTLING_S) * f64::from(1_u32 << doubled)
    }

    /// How long a segment is, its settling among it, in seconds.
    pub fn segment_s(&self, doubled: u32) -> f64 {
        let settling = self.settling_s(doubled);
        match self.loop_s {
            Some(period) => period / self.segments_a_loop(period, settling) as f64,
            None => settling + SHORTEST_JUDGED_S.max(if settling > 2.0 { settling } else { 0.0 }),
        }
    }

    /// Into how many segments a loop is divided.
    fn segments_a_loop(&self, period: f64, settling: f64) -> usize {
        ((period / (settling + LOOP_SEGMENT_S)).floor() as usize).max(1)
    }

    /// Whether a loop is too short to be divided into a segment that settles and is judged.
    pub fn loop_is_too_short(&self) -> bool {
        let shortest = self.settling_s(0) + SHORTEST_JUDGED_S;
        self.loop_s.is_some_and(|period| period < shortest)
    }

    /// The most pairs.
    pub fn limit(&self, doubled: u32) -> InPlayLimit {
        if self.loop_s.is_some() || self.segment_s(doubled) >= 10.0 {
            InPlayLimit::LONG_SEGMENTS
        } else {
            InPlayLimit::SHORT_SEGMENTS
        }
    }

    /// The two segments of each pair of a sitting, by their places: neighbours, or the same place of two loops.
    pub fn partner(&self, segment: usize, doubled: u32) -> (usize, usize) {
        match self.loop_s {
            None => (segment / 2 * 2, segment / 2 * 2 + 1),
            Some(period) => {
                let a_loop = self.segments_a_loop(period, self.settling_s(doubled));
                let (pass, place) = (segment / a_loop, segment % a_loop);
                let first = pass / 2 * 2 * a_loop + place;
                (first, first + a_loop)
            }
        }
    }

    /// The number of a segment's pair in its sitting, in the order in which their first segments are played.
    pub(crate) fn pair_number(&self, segment: usize, doubled: u32) -> usize {
        let (first, _) = self.partner(segment, doubled);
        match self.loop_s {
            None => first / 2,
            Some(period) => {
                let a_loop = self.segments_a_loop(period, self.settling_s(doubled));
                first / (2 * a_loop) * a_loop + first % a_loop
            }
        }
    }

    /// The state of a segment of a sitting: an independent coin for every pair says which of the two comes first.
    pub fn arm(&self, seed: u64, sitting: usize, segment: usize, doubled: u32) -> Arm {
        let (first, _) = self.partner(segment, doubled);
        // A stream for each sitting, and within it a coin for each place: whichever is asked for first.
        let stream = (sitting as u64) << 32 | first as u64;
        let mut coins = Pcg64::seed_from_u64(seed ^ stream.wrapping_mul(0x9e37_79b9_7f4a_7c15));
        let first_arm = if coins.random::<bool>() { Arm::A } else { Arm::B };
        if segment == first { first_arm } else { first_arm.other() }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn played(settling: Settling, loop_s: Option<f64>) -> InPlay {
        InPlay {
            settling,
            loop_s,
            source: PlaySource::Scene,
            sitting_s: None,
            process: ProcessHolds::default(),
            windows_build: None,
            graphics_driver: None,
        }
    }

    #[test]
    fn segments_are_as_long_as_what_is_tried_needs() {
        let declared = |felt_within_s| played(Settling::Declared { felt_within_s }, None);
        for (felt_within_s, settling_s, segment_s, pairs) in [
            (0.0, 2.0, 6.0, 160),
            (0.5, 2.0, 6.0, 160),
            (1.0, 4.0, 8.0, 160),
            (1.25, 5.0, 10.0, 96),
        ] {
            let design = declared(felt_within_s);
            assert_eq!(design.settling_s(0), settling_s);
            assert_eq!(design.segment_s(0), segment_s);
            assert_eq!(design.limit(0).pairs(), pairs);
        }
        let tested = played(Settling::Tested, None);
        assert_eq!([0, 1, 2].map(|doubled| tested.segment_s(doubled)), [6.0, 8.0, 16.0]);
    }

    #[test]
    fn a_loop_is_divided_and_its_places_are_paired() {
        let design = played(Settling::Tested, Some(60.0));
        assert_eq!(design.segment_s(0), 10.0);
        assert_eq!(design.limit(0).pairs(), 96);
        assert_eq!(design.partner(0, 0), (0, 6));
        assert_eq!(design.partner(8, 0), (2, 8));
        assert_eq!(design.partner(12, 0), (12, 18));
        assert_eq!([0, 5, 6, 11, 12, 23].map(|at| design.pair_number(at, 0)), [0, 5, 0, 5, 6, 11]);
        let neighbours = played(Settling::Tested, None);
        assert_eq!([0, 1, 2, 7].map(|at| neighbours.pair_number(at, 0)), [0, 0, 1, 3]);
        assert!(!design.loop_is_too_short());
        assert!(played(Settling::Tested, Some(5.9)).loop_is_too_short());
        assert_eq!(played(Settling::Tested, Some(6.5)).segment_s(0), 6.5);
    }

    #[test]
    fn every_pair_has_both_states_and_a_coin_of_its_own() {
        let design = played(Settling::Tested, None);
        let firsts: Vec<Arm> = (0..400).map(|pair| design.arm(7, 0, 2 * pair, 0)).collect();
        for (pair, first) in firsts.iter().enumerate() {
            assert_eq!(design.arm(7, 0, 2 * pair + 1, 0), first.other());
        }
        let of_a = firsts.iter().filter(|arm| **arm == Arm::A).count();
        assert!((160..=240).contains(&of_a), "{of_a}");
        let changes = firsts.windows(2).filter(|two| two[0] != two[1]).count();
        assert!((160..=240).contains(&changes), "{changes}");
        let others: Vec<Arm> = (0..400).map(|pair| design.arm(7, 1, 2 * pair, 0)).collect();
        assert_ne!(firsts, others, "another sitting, other coins");
    }
}
