//! Figures: what a report draws, as plain data. Text, pages and drawings are views of them.

use frevin_frames::FrameShape;
use serde::Serialize;

use crate::sift::{Found, FoundTweak, Sift};
use crate::trial::{Arm, Trial};
use crate::tweak::TweakUse;
use crate::verdict::{Comparison, Decision, Primary};

/// All figures of a report; each may be empty.
#[derive(Debug, Clone, Default, PartialEq, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum IntervalSubject {
    /// A figure, between two states.
    Figure(Primary),
    /// What a tweak does to average FPS.
    Tweak(TweakUse),
}

/// What is known of a difference.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Serialize)]
pub struct FramesOf {
    /// Which of two it is; nothing where there is one.
    pub arm: Option<Arm>,
    /// How its frames came.
    pub shape: FrameShape,
}

/// A pair of visits.
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
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
#[derive(Debug, Clone, Copy, PartialEq, Serialize)]
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

    /// The rows of a sift, the most helpful first.
    pub fn of_sift(sift: &Sift) -> Vec<Self> {
        let margin_percent = match &sift.design().in_play {
            None => 2.0,
            Some(in_play) => 100.0 * in_play.smallest_effect.share(),
        };
        let mut rows: Vec<Self> =
            sift.found().into_iter().map(|found| Self::of_tweak(found, margin_percent)).collect();
        rows.sort_by(|a, b| b.estimate_percent.total_cmp(&a.estimate_percent));
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
