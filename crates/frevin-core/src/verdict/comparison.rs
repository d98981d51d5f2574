//! Visits compared: every metric's finding, the guards' vetoes, and the verdict.

use serde::{Deserialize, Serialize};

use frevin_stats::{
    Decision, GuardSequence, GuardState, History, Interval, PairLimit, SequentialTest, Verdict,
    median,
};

use super::figures::{Guard, Primary, VisitFigures};

/// What difference is worth having, as a share of A.
#[derive(Debug, Clone, Copy, PartialEq, Serialize, Deserialize)]
pub struct Margins {
    /// In average FPS.
    pub average_fps: f64,
    /// In 1% low.
    pub low_1_percent_fps: f64,
}

impl Default for Margins {
    fn default() -> Self {
        Self { average_fps: 0.01, low_1_percent_fps: 0.03 }
    }
}

impl Margins {
    fn of(self, primary: Primary) -> f64 {
        match primary {
            Primary::AverageFps => self.average_fps,
            Primary::Low1PercentFps => self.low_1_percent_fps,
        }
    }
}

/// How much pairs differed by chance in earlier trials of the same PC and scene, by metric.
#[derive(Debug, Clone, Copy, Default, PartialEq, Serialize, Deserialize)]
pub struct Histories {
    /// Of average FPS.
    pub average_fps: Option<History>,
    /// Of 1% low.
    pub low_1_percent_fps: Option<History>,
}

impl Histories {
    fn of(&self, primary: Primary) -> Option<History> {
        match primary {
            Primary::AverageFps => self.average_fps,
            Primary::Low1PercentFps => self.low_1_percent_fps,
        }
    }
}

/// A finding about one primary metric.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct MetricFinding {
    /// The metric.
    pub primary: Primary,
    /// The median over A's visits, in FPS.
    pub a_fps: f64,
    /// The median over B's visits, in FPS.
    pub b_fps: f64,
    /// By how much B differs, where there were pairs enough to say.
    pub difference: Option<Interval>,
    /// The difference worth having, as a share of A.
    pub margin: f64,
    /// What is known.
    pub decision: Decision,
    /// After how many pairs it became known.
    pub decided_after_pairs: Option<usize>,
}

/// What was found of one guard.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct GuardFinding {
    /// The guard.
    pub guard: Guard,
    /// By how much B differs, where there were pairs enough to say. More is worse.
    pub difference: Option<Interval>,
    /// What it says.
    pub state: GuardState,
    /// After how many pairs it vetoed.
    pub vetoed_after_pairs: Option<usize>,
}

/// Two states of a PC, compared.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
pub struct Comparison {
    /// The answer.
    pub verdict: Verdict,
    /// Pairs of visits that it rests on.
    pub pairs: usize,
    /// Pairs that were made after the verdict and are not looked at.
    pub pairs_after_verdict: usize,
    /// The most pairs that the rule takes.
    pub pair_limit: PairLimit,
    /// Whether more pairs can no longer change the answer.
    pub is_finished: bool,
    /// What was found of each primary metric.
    pub findings: Vec<MetricFinding>,
    /// What was found of each guard.
    pub guards: Vec<GuardFinding>,
}

/// Compares pairs of visits, A first, in the order in which they were made.
///
/// The rule looks after each pair as it would have while they were being made, and stops at its
/// verdict: pairs that were made after it are counted and not looked at. So the answer is the same
/// whether pairs are compared as they come or all at the end.
pub fn compare(
    pairs: &[(VisitFigures, VisitFigures)],
    limit: PairLimit,
    margins: Margins,
    histories: &Histories,
) -> Comparison {
    let primaries = Primary::ALL.map(|primary| (margins.of(primary), histories.of(primary)));
    let guards = Guard::over(pairs);
    let limits: Vec<_> = guards.iter().map(|guard| guard.limits()).collect();
    let mut test = SequentialTest::new(limit, &primaries, &limits);
    for (a, b) in pairs {
        let of_guards = guards.iter().filter_map(|guard| Some(guard.ln(b)? - guard.ln(a)?));
        test.push(
            &Primary::ALL.map(|primary| primary.ln(b) - primary.ln(a)),
            &of_guards.collect::<Vec<_>>(),
        );
    }
    let taken = &pairs[..test.pairs()];
    let fps = |primary: Primary, of: fn(&(VisitFigures, VisitFigures)) -> &VisitFigures| {
        median(taken.iter().map(|pair| primary.ln(of(pair)))).unwrap_or(f64::NAN).exp()
    };
    let findings = Primary::ALL.into_iter().enumerate().map(|(index, primary)| MetricFinding {
        primary,
        a_fps: fps(primary, |(a, _)| a),
        b_fps: fps(primary, |(_, b)| b),
        difference: test.primaries().look(index).map(|look| look.interval()),
        margin: margins.of(primary),
        decision: test.primaries().decision(index),
        decided_after_pairs: test.primaries().decided_after_pairs(index),
    });
    let findings = findings.collect();
    let guards = guards.into_iter().zip(test.guards()).map(guard_finding);
    Comparison {
        verdict: test.verdict(),
        pairs: taken.len(),
        pairs_after_verdict: pairs.len() - taken.len(),
        pair_limit: limit,
        is_finished: test.is_finished(),
        findings,
        guards: guards.collect(),
    }
}

fn guard_finding((guard, sequence): (Guard, &GuardSequence)) -> GuardFinding {
    GuardFinding {
        guard,
        difference: sequence.look().map(|look| look.interval()),
        state: sequence.state(),
        vetoed_after_pairs: sequence.vetoed_after_pairs(),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use frevin_frames::{FrameSeries, metrics};

    /// A visit whose runs average `fps`, each a little off, with so many stutters a run.
    fn visit(fps: f64, stutters: usize) -> VisitFigures {
        let run = |offset: f64| {
            let t = 1000.0 / (fps * (1.0 + offset));
            let mut frames: Vec<f64> =
                (0..2000).map(|i| t * if i % 3 == 0 { 1.05 } else { 0.975 }).collect();
            for index in 0..stutters {
                frames[100 + index * 60] = 5.0 * t;
            }
            metrics(&FrameSeries::new(frames).unwrap())
        };
        VisitFigures::of(&[run(-0.002), run(0.0), run(0.003)]).unwrap()
    }

    fn compared(b_fps: f64, b_stutters: usize, pairs: usize) -> Comparison {
        let wobble = |index: usize| 1.0 + [0.0, 0.004, -0.003, 0.001][index % 4];
        let pairs: Vec<_> = (0..pairs)
            .map(|i| (visit(100.0 * wobble(i), 2), visit(b_fps * wobble(i + 1), b_stutters)))
            .collect();
        compare(&pairs, PairLimit::default(), Margins::default(), &Histories::default())
    }

    #[test]
    fn clear_differences_and_clear_sameness_are_seen() {
        let better = compared(105.0, 2, 5);
        assert_eq!(better.verdict, Verdict::Better);
        let difference = better.findings[0].difference.unwrap();
        assert!((difference.estimate - 0.05).abs() < 0.005, "{difference:?}");
        assert!(difference.low < difference.estimate && difference.estimate < difference.high);
        assert_eq!(compared(95.0, 2, 5).verdict, Verdict::Worse);
        let same = compared(100.0, 2, 8);
        assert_eq!(same.verdict, Verdict::Same);
        assert!(same.is_finished);
    }

    #[test]
    fn too_few_pairs_decide_nothing_and_show_no_interval() {
        let early = compared(130.0, 2, 3);
        assert_eq!(early.verdict, Verdict::Undecided);
        assert_eq!(early.findings[0].difference, None);
        assert!(!early.is_finished);
        assert_eq!(compared(130.0, 2, 0).verdict, Verdict::Undecided);
    }

    #[test]
    fn a_guard_vetoes_what_the_average_calls_better() {
        let stuttering = compared(106.0, 9, 6);
        assert_eq!(stuttering.findings[0].decision, Decision::Better);
        assert_eq!(stuttering.guards[0].state, GuardState::Vetoes);
        assert_eq!((stuttering.verdict, stuttering.pairs), (Verdict::Worse, 4));
        assert_eq!(stuttering.pairs_after_verdict, 2);
        assert!(stuttering.is_finished);
    }

    #[test]
    fn a_visit_needs_runs() {
        assert_eq!(VisitFigures::of(&[]), Err(crate::verdict::VisitError));
    }
}
