//! Figures: what a report draws, as plain data. Text, pages and drawings are views of them.

use frevin_frames::FrameShape;
use schemars::JsonSchema;
use serde::Serialize;

use crate::sift::{Found, FoundTweak, SiftDesign};
use crate::trial::{Arm, Trial};
use crate::tweak::TweakUse;
use crate::verdict::{Comparison, Decision, Primary};

/// All figures of a report; each may be empty.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize)]
pub struct Figures {
    /// Differences with their intervals.
    pub intervals: Vec<IntervalRow>,
    /// Frame times of states, or of what was recorded.
    pub frames: Vec<FramesOf>,
    /// Pairs in the order in which they were made.
    pub pairs: Vec<PairPoint>,
    /// Segments of play in the order in which they were played.
    pub segments: Vec<SegmentPoint>,
}

/// A difference with its interval, against what is worth having.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct IntervalRow {
    /// What differs.
    pub subject: IntervalSubject,
    /// The lower end of the interval, in percent.
    pub low_percent: f64,
    /// The estimate.
    pub estimate_percent: f64,
    /// The upper end.
    pub high_percent: f64,
    /// The difference worth having.
    pub margin_percent: f64,
    /// What is known of it.
    pub known: Known,
    /// How sure that is, in percent, where a chance says it.
    pub sure_percent: Option<f64>,
}

/// What an interval is of.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum IntervalSubject {
    /// A figure, between two states.
    Figure(Primary),
    /// What a tweak does to average FPS.
    Tweak(TweakUse),
}

/// What is known of a difference.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Known {
    /// Better.
    Better,
    /// Worse.
    Worse,
    /// No difference worth having.
    Same,
    /// Not yet, or not at all.
    Undecided,
}

/// The frame times of a state.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct FramesOf {
    /// Which of two it is; nothing where there is one.
    pub arm: Option<Arm>,
    /// How its frames came.
    pub shape: FrameShape,
}

/// A pair of visits.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct PairPoint {
    /// Its number, from 1.
    pub pair: usize,
    /// The state that was visited first.
    pub first: Arm,
    /// Average FPS of A.
    pub a_fps: f64,
    /// Average FPS of B.
    pub b_fps: f64,
}

/// A segment of play.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct SegmentPoint {
    /// The sitting, from 1.
    pub sitting: usize,
    /// When it began, in seconds of play over all sittings.
    pub at_s: f64,
    /// The state.
    pub arm: Arm,
    /// Average FPS; nothing where it does not count.
    pub fps: Option<f64>,
}

impl IntervalRow {
    /// The rows of a comparison, where there were pairs enough to say.
    pub fn of_comparison(comparison: &Comparison) -> Vec<Self> {
        let row = |finding: &crate::verdict::MetricFinding| {
            let difference = finding.difference?;
            Some(Self {
                subject: IntervalSubject::Figure(finding.primary),
                low_percent: 100.0 * difference.low,
                estimate_percent: 100.0 * difference.estimate,
                high_percent: 100.0 * difference.high,
                margin_percent: 100.0 * finding.margin,
                known: match finding.decision {
                    Decision::Better => Known::Better,
                    Decision::Worse => Known::Worse,
                    Decision::Same => Known::Same,
                    Decision::Undecided => Known::Undecided,
                },
                sure_percent: None,
            })
        };
        comparison.findings.iter().filter_map(row).collect()
    }

    /// The rows of what a sift of this design has found, the most helpful first.
    pub fn of_tweaks(found: Vec<FoundTweak>, design: &SiftDesign) -> Vec<Self> {
        let margin_percent = match &design.in_play {
            None => 2.0 * design.judge.scale(),
            Some(in_play) => 100.0 * in_play.smallest_effect.share(),
        };
        let mut rows: Vec<Self> =
            found.into_iter().map(|found| Self::of_tweak(found, margin_percent)).collect();
        rows.sort_by(|a, b| b.estimate_percent.total_cmp(&a.estimate_percent));
        let [judged, _] = design.judge.primaries();
        if judged.is_less_better() {
            rows.reverse();
        }
        rows
    }

    fn of_tweak(found: FoundTweak, margin_percent: f64) -> Self {
        let (known, sure) = match found.found {
            Found::Helps => (Known::Better, found.probability),
            Found::Hurts => (Known::Worse, found.probability),
            Found::NoEffect => (Known::Same, 1.0 - found.probability_worth_having),
            Found::Unclear => (Known::Undecided, found.probability),
        };
        Self {
            subject: IntervalSubject::Tweak(found.used),
            low_percent: found.low_percent,
            estimate_percent: found.effect_percent,
            high_percent: found.high_percent,
            margin_percent,
            known,
            sure_percent: Some(100.0 * sure),
        }
    }
}

/// The pairs of a trial that were made, where frames were measured.
pub fn pair_points(trial: &Trial) -> Vec<PairPoint> {
    let pairs = trial.pairs().iter().enumerate();
    let point = |(at, pair): (usize, &crate::trial::DonePair)| {
        Some(PairPoint {
            pair: at + 1,
            first: pair.first,
            a_fps: pair.a.figures.frames?.ln_average_fps.exp(),
            b_fps: pair.b.figures.frames?.ln_average_fps.exp(),
        })
    };
    pairs.filter_map(point).collect()
}

/// The segments of a trial in play.
pub fn segment_points(trial: &Trial) -> Vec<SegmentPoint> {
    let mut points = Vec::new();
    let mut before_s = 0.0;
    for (at, sitting) in trial.sittings().iter().enumerate() {
        points.extend(sitting.segments.iter().map(|segment| SegmentPoint {
            sitting: at + 1,
            at_s: before_s + segment.begin_s,
            arm: segment.arm,
            fps: segment.frames.map(|frames| 1000.0 / frames.ln_mean_ms.exp()),
        }));
        before_s += sitting.segments.last().map_or(0.0, |last| last.end_s);
    }
    points
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::sift::Effect;
    use crate::trial::in_play::{InPlay, PlaySource, Segment, SegmentFrames, Settling};
    use crate::trial::{Design, Event};
    use crate::verdict::{FrameFigures, VisitFigures};
    use crate::visits::VisitId;

    fn found(id: &str, found: Found, percent: f64) -> FoundTweak {
        FoundTweak {
            used: TweakUse::plain(id.parse().unwrap()),
            found,
            effect_percent: percent,
            low_percent: percent - 1.0,
            high_percent: percent + 1.0,
            probability: 0.99,
            probability_worth_having: 0.005,
            on_low_1_percent: None,
            on_stutters: None,
            least_squares: None::<Effect>,
        }
    }

    #[test]
    fn a_tweak_is_sure_by_its_sign_or_by_mattering_little() {
        let row = |of: Found| IntervalRow::of_tweak(found("a/b", of, 3.0), 2.0);
        for (of, known, sure) in [
            (Found::Helps, Known::Better, 99.0),
            (Found::Hurts, Known::Worse, 99.0),
            (Found::NoEffect, Known::Same, 99.5),
            (Found::Unclear, Known::Undecided, 99.0),
        ] {
            let row = row(of);
            assert_eq!((row.known, row.margin_percent), (known, 2.0));
            assert!((row.sure_percent.unwrap() - sure).abs() < 1e-9);
            assert!((row.low_percent, row.high_percent) == (2.0, 4.0));
        }
    }

    fn design(in_play: Option<InPlay>) -> Design {
        let mut design = crate::trial::sample_design();
        design.in_play = in_play;
        design
    }

    #[test]
    fn pairs_are_points_with_the_state_that_came_first() {
        let mut trial = Trial::replay(design(None), &[]);
        for visit in 0..6 {
            let (pair, arm) = trial.due();
            let frames = FrameFigures {
                ln_average_fps: if arm == Arm::A { 80.0_f64.ln() } else { 90.0_f64.ln() },
                ln_low_1_percent_fps: 4.0,
                stutter_events: 1,
                ln_pacing_ms: 0.0,
            };
            let levels = vec![VisitFigures { frames: Some(frames), ..VisitFigures::default() }];
            let visits = vec![VisitId(visit)];
            trial.take(&Event::Visited { pair, arm, visits, levels, doubts: Vec::new() });
        }
        let points = pair_points(&trial);
        assert_eq!(points.iter().map(|point| point.pair).collect::<Vec<_>>(), [1, 2, 3]);
        for (point, pair) in points.iter().zip(trial.pairs()) {
            assert_eq!(point.first, pair.first);
            assert!((point.a_fps - 80.0).abs() < 1e-9 && (point.b_fps - 90.0).abs() < 1e-9);
        }
        assert!(segment_points(&trial).is_empty());
        let intervals = IntervalRow::of_comparison(&trial.comparison());
        assert!(intervals.iter().all(|row| row.low_percent <= row.estimate_percent));
    }

    #[test]
    fn segments_of_sittings_follow_each_other_on_one_axis() {
        let in_play = InPlay {
            settling: Settling::Tested,
            loop_s: None,
            source: PlaySource::Scene,
            sitting_s: None,
            process: crate::playing::ProcessHolds::default(),
            windows_build: None,
            graphics_driver: None,
        };
        let mut trial = Trial::replay(design(Some(in_play)), &[]);
        let segment = |begin_s: f64, counts: bool| Segment {
            arm: Arm::B,
            begin_s,
            end_s: begin_s + 6.0,
            frames: counts.then_some(SegmentFrames {
                frames: 400,
                ln_mean_ms: 10.0_f64.ln(),
                ln_slow_ms: 15.0_f64.ln(),
                stutters: 0,
                ln_pacing_ms: 0.0,
                ln_halves: 0.0,
            }),
            looks_capped: false,
            stutters_while_settling: 0,
        };
        for (sitting, counts) in [(0, true), (1, false)] {
            let segments = vec![segment(30.0, true), segment(36.0, counts)];
            trial.take(&Event::Played { sitting, doubled: 0, segments });
        }
        let points = segment_points(&trial);
        let at: Vec<f64> = points.iter().map(|point| point.at_s).collect();
        assert_eq!(at, [30.0, 36.0, 72.0, 78.0]);
        assert_eq!(points.iter().map(|point| point.sitting).collect::<Vec<_>>(), [1, 1, 2, 2]);
        assert!((points[0].fps.unwrap() - 100.0).abs() < 1e-9 && points[3].fps.is_none());
    }
}
