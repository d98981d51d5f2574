//! Visits compared: every metric's finding, the guards' vetoes, and the verdict.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use frevin_stats::{
    Decision, GuardSequence, GuardState, History, Interval, Loss, PairLimit, SequentialTest,
    Verdict, median,
};

use super::figures::VisitFigures;
use super::metrics::{Guard, Judge, Primary};

/// What difference is worth having, as a share of A.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(default)]
pub struct Margins {
    /// In average FPS.
    pub average_fps: f64,
    /// In 1% low.
    pub low_1_percent_fps: f64,
    /// In the median ping.
    pub ping_median: f64,
    /// In the 95th percentile of the ping.
    pub ping_percentile_95: f64,
    /// In the median latency.
    pub latency_median: f64,
    /// In the 95th percentile of the latency.
    pub latency_percentile_95: f64,
}

impl Default for Margins {
    fn default() -> Self {
        Self {
            average_fps: 0.01,
            low_1_percent_fps: 0.03,
            ping_median: 0.05,
            ping_percentile_95: 0.10,
            latency_median: 0.02,
            latency_percentile_95: 0.05,
        }
    }
}

impl Margins {
    pub(super) fn of(self, primary: Primary) -> f64 {
        match primary {
            Primary::AverageFps => self.average_fps,
            Primary::Low1PercentFps => self.low_1_percent_fps,
            Primary::PingMedian => self.ping_median,
            Primary::PingPercentile95 => self.ping_percentile_95,
            Primary::LatencyMedian => self.latency_median,
            Primary::LatencyPercentile95 => self.latency_percentile_95,
        }
    }
}

/// How much pairs differed by chance in earlier trials of the same PC, scene and judge: of its first primary metric,
/// and of its second.
#[derive(Debug, Clone, Copy, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Histories {
    /// Of the first.
    pub first: Option<History>,
    /// Of the second.
    pub second: Option<History>,
}

/// A finding about one primary metric.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct MetricFinding {
    /// The metric.
    pub primary: Primary,
    /// The medians over the visits.
    #[serde(flatten)]
    pub measured: Measured,
    /// By how much B differs, where there were pairs enough to say: 0.05 is 5 % more.
    pub difference: Option<Interval>,
    /// The difference worth having, as a share of A.
    pub margin: f64,
    /// What is known.
    pub decision: Decision,
    /// After how many pairs it became known.
    pub decided_after_pairs: Option<usize>,
}

/// What the visits to both states come to, in the unit of the metric.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(untagged)]
pub enum Measured {
    /// Frames a second.
    Fps {
        /// Of A; nothing where there is no pair.
        a_fps: Option<f64>,
        /// Of B.
        b_fps: Option<f64>,
    },
    /// Milliseconds.
    Ms {
        /// Of A; nothing where there is no pair.
        a_ms: Option<f64>,
        /// Of B.
        b_ms: Option<f64>,
    },
}

/// What was lost of the probes of all visits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct LossFinding {
    /// In A.
    pub a: Loss,
    /// In B.
    pub b: Loss,
    /// Whether it vetoes: B loses more, and ping is what is judged.
    pub vetoes: bool,
}

/// What was found of one guard.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
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

/// What is paired.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PairsOf {
    /// A visit of each state.
    Visits,
    /// A segment of play in each.
    Segments,
}

/// Two states of a PC, compared.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Comparison {
    /// The answer.
    pub verdict: Verdict,
    /// What its pairs are of.
    pub pairs_are_of: PairsOf,
    /// Pairs that it rests on.
    pub pairs: usize,
    /// Pairs that were made after the verdict and are not looked at.
    pub pairs_after_verdict: usize,
    /// The most pairs that the rule takes.
    pub pair_limit: usize,
    /// Whether more pairs can no longer change the answer.
    pub is_finished: bool,
    /// What was found of each primary metric.
    pub findings: Vec<MetricFinding>,
    /// What was found of each guard.
    pub guards: Vec<GuardFinding>,
    /// What was lost, where an address was asked.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub loss: Option<LossFinding>,
}

/// Compares pairs of visits, A first, in the order in which they were made.
///
/// The rule looks after each pair as it would have while they were being made, and stops at its
/// verdict: pairs that were made after it are counted and not looked at. So the answer is the same
/// whether pairs are compared as they come or all at the end.
pub fn compare(
    judge: Judge,
    pairs: &[(VisitFigures, VisitFigures)],
    limit: PairLimit,
    margins: Margins,
    histories: &Histories,
) -> Comparison {
    let metrics = judge.primaries();
    let histories = [histories.first, histories.second];
    let primaries: Vec<_> =
        metrics.iter().map(|primary| margins.of(*primary)).zip(histories).collect();
    let guards = judge.guards_over(pairs);
    let limits: Vec<_> = guards.iter().map(|guard| guard.limits()).collect();
    let mut test = SequentialTest::new(limit, &primaries, &limits);
    for (a, b) in pairs {
        let of_primaries = metrics.iter().filter_map(|one| Some(one.gain(b)? - one.gain(a)?));
        let of_guards = guards.iter().filter_map(|guard| Some(guard.ln(b)? - guard.ln(a)?));
        let (of_primaries, of_guards): (Vec<_>, Vec<_>) =
            (of_primaries.collect(), of_guards.collect());
        // A visit that has not what is judged was none.
        if of_primaries.len() == metrics.len() {
            test.push(&of_primaries, &of_guards);
        }
    }
    let taken = &pairs[..test.pairs()];
    let findings = metrics.into_iter().enumerate().map(|(index, primary)| {
        let interval = test.primaries().look(index).map(|look| look.interval());
        MetricFinding {
            primary,
            measured: measured(primary, taken),
            difference: interval
                .map(|gain| if primary.is_less_better() { inverse(gain) } else { gain }),
            margin: margins.of(primary),
            decision: test.primaries().decision(index),
            decided_after_pairs: test.primaries().decided_after_pairs(index),
        }
    });
    let findings = findings.collect();
    let guards = guards.into_iter().zip(test.guards()).map(guard_finding);
    let loss = loss(judge, taken);
    let is_vetoed = test.is_finished() && loss.is_some_and(|loss| loss.vetoes);
    Comparison {
        verdict: if is_vetoed { Verdict::Worse } else { test.verdict() },
        pairs_are_of: PairsOf::Visits,
        pairs: taken.len(),
        pairs_after_verdict: pairs.len() - taken.len(),
        pair_limit: limit.pairs(),
        is_finished: test.is_finished(),
        findings,
        guards: guards.collect(),
        loss,
    }
}

fn measured(primary: Primary, pairs: &[(VisitFigures, VisitFigures)]) -> Measured {
    let of = |side: fn(&(VisitFigures, VisitFigures)) -> &VisitFigures| {
        median(pairs.iter().filter_map(|pair| primary.gain(side(pair))))
    };
    let (a, b) = (of(|(a, _)| a), of(|(_, b)| b));
    match primary {
        Primary::AverageFps | Primary::Low1PercentFps => {
            Measured::Fps { a_fps: a.map(f64::exp), b_fps: b.map(f64::exp) }
        }
        // The millisecond that was added is taken away again.
        Primary::PingMedian | Primary::PingPercentile95 => {
            let ms = |gain: f64| (-gain).exp() - 1.0;
            Measured::Ms { a_ms: a.map(ms), b_ms: b.map(ms) }
        }
        Primary::LatencyMedian | Primary::LatencyPercentile95 => {
            let ms = |gain: f64| (-gain).exp();
            Measured::Ms { a_ms: a.map(ms), b_ms: b.map(ms) }
        }
    }
}

/// By how much B differs where its inverse gains so much.
fn inverse(gain: Interval) -> Interval {
    let of = |share: f64| 1.0 / (1.0 + share) - 1.0;
    Interval { low: of(gain.high), estimate: of(gain.estimate), high: of(gain.low) }
}

fn loss(judge: Judge, pairs: &[(VisitFigures, VisitFigures)]) -> Option<LossFinding> {
    let mut finding = LossFinding { a: Loss::default(), b: Loss::default(), vetoes: false };
    for (a, b) in pairs {
        finding.a = finding.a.and(a.ping?.loss);
        finding.b = finding.b.and(b.ping?.loss);
    }
    if pairs.is_empty() {
        return None;
    }
    finding.vetoes = judge == Judge::Ping && finding.a.rises_to(finding.b);
    Some(finding)
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
        compare(
            Judge::FrameRate,
            &pairs,
            PairLimit::default(),
            Margins::default(),
            &Histories::default(),
        )
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

    /// Pings of so many milliseconds, of which so many of 200 are lost.
    fn pinged(ms: f64, lost: usize) -> VisitFigures {
        let mut probes: Vec<Option<f64>> = (0..200).map(|_| Some(ms)).collect();
        probes[..lost].fill(None);
        VisitFigures::default().with_pings(&[frevin_stats::probes::ProbeStats::of(&probes)])
    }

    #[test]
    fn a_shorter_ping_is_better_and_lost_answers_veto() {
        let wobble = [0.0, 0.3, -0.2, 0.1];
        let pairs = |b_ms: f64, b_lost: usize| -> Vec<_> {
            wobble.iter().map(|w| (pinged(40.0 + w, 0), pinged(b_ms - w, b_lost))).collect()
        };
        let judged = |pairs: &[_]| {
            let (limit, histories) = (PairLimit::default(), Histories::default());
            compare(Judge::Ping, pairs, limit, Margins::default(), &histories)
        };
        let better = judged(&pairs(30.0, 0));
        assert_eq!(better.verdict, Verdict::Better);
        assert!(better.guards.is_empty(), "no game was played");
        let difference = better.findings[0].difference.unwrap();
        // (30 + 1) / (40 + 1) - 1
        assert!((difference.estimate + 0.244).abs() < 0.01, "{difference:?}");
        assert!(difference.low < difference.estimate && difference.estimate < difference.high);
        let Measured::Ms { a_ms: Some(a_ms), b_ms: Some(b_ms) } = better.findings[0].measured
        else {
            panic!()
        };
        assert!((a_ms - 40.0).abs() < 0.2 && (b_ms - 30.0).abs() < 0.2);
        assert_eq!(judged(&pairs(50.0, 0)).verdict, Verdict::Worse);
        let lossy = judged(&pairs(30.0, 9));
        assert!(lossy.loss.unwrap().vetoes);
        assert_eq!(lossy.verdict, Verdict::Worse);
    }

    #[test]
    fn a_shorter_latency_is_better_and_a_longer_one_vetoes_a_higher_rate() {
        let wobble = [0.0, 0.03, -0.02, 0.01];
        let side = |fps: f64, ms: f64| {
            let of = frevin_frames::LatencyFigures {
                column: "latency".to_owned(),
                frames: 100,
                median_ms: ms,
                percentile_95_ms: 1.5 * ms,
            };
            visit(fps, 2).with_latencies(&[Some(&of)])
        };
        let judged = |judge: Judge, b_fps: f64, b_ms: f64| {
            let pairs: Vec<_> = wobble
                .iter()
                .map(|w| (side(100.0 - w, 40.0 + w), side(b_fps + w, b_ms - w)))
                .collect();
            let (limit, histories) = (PairLimit::default(), Histories::default());
            compare(judge, &pairs, limit, Margins::default(), &histories)
        };
        let better = judged(Judge::Latency, 100.0, 36.0);
        assert_eq!(better.verdict, Verdict::Better);
        let Measured::Ms { a_ms: Some(a_ms), b_ms: Some(b_ms) } = better.findings[0].measured
        else {
            panic!()
        };
        assert!((a_ms - 40.0).abs() < 0.1 && (b_ms - 36.0).abs() < 0.1);
        assert!((better.findings[0].difference.unwrap().estimate + 0.1).abs() < 0.01);
        assert_eq!(judged(Judge::Latency, 100.0, 44.0).verdict, Verdict::Worse);
        // Faster to answer, and at the cost of a fifth of the frames.
        let slower = judged(Judge::Latency, 80.0, 36.0);
        assert_eq!((slower.verdict, slower.guards[0].state), (Verdict::Worse, GuardState::Vetoes));
        let lagging = judged(Judge::FrameRate, 110.0, 44.0);
        assert_eq!(lagging.verdict, Verdict::Worse);
        assert_eq!(lagging.guards.last().unwrap().guard, Guard::Latency);
    }

    #[test]
    fn a_visit_needs_runs() {
        assert_eq!(VisitFigures::of(&[]), Err(crate::verdict::VisitError));
    }
}
