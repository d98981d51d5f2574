//! Trials in play of content that is simulated segment by segment, as the project's study did.

use rand_pcg::Pcg64;

use super::content::{Content, ContentKind};
use super::pairs::{SegmentFigures, State, pair_of_segments};
use super::sign_test::SignPair;
use super::test::{ALL, InPlayLimit, InPlayPrimary, InPlayTest};
use crate::portable::{coin, normal};
use crate::sequence::Decision;

/// Moments that are not judged after a switch, and moments that are.
const SETTLING_MOMENTS: usize = 20;
const JUDGED_MOMENTS: usize = 40;
/// How much a segment's mean and its slow frames are off by chance, and how much slower slow frames are.
const MEAN_NOISE: f64 = 0.01;
const SLOW_NOISE: f64 = 0.035;
const SLOW_FRAMES: f64 = 0.2;
/// Pairs that forty minutes have room for after the lead-in, and the seconds of both.
const MOST_PAIRS: usize = 196;
const LEAD_IN_S: f64 = 30.0;
const SEGMENT_S: f64 = 6.0;

/// What came of a simulated trial.
#[derive(Debug)]
pub struct SimulatedTrial {
    /// The test at its end.
    pub test: InPlayTest,
    /// How long it took, in minutes.
    pub minutes: f64,
    /// After how many minutes each figure was decided, or the time was out.
    pub minutes_to_decision: [f64; 2],
    /// Pairs that were played.
    pub pairs_played: usize,
}

fn segment(
    content: &mut Content,
    rng: &mut Pcg64,
    state: State,
    effect: f64,
) -> Option<SegmentFigures> {
    for _ in 0..SETTLING_MOMENTS {
        content.next(rng);
    }
    let judged: Vec<f64> = (0..JUDGED_MOMENTS)
        .map(|_| content.next(rng))
        .filter(|moment| !moment.is_menu)
        .map(|moment| moment.factor)
        .collect();
    let mean = judged.iter().sum::<f64>() / judged.len() as f64;
    let frame_time = libm::log(mean) + MEAN_NOISE * normal(rng);
    let slow = frame_time + SLOW_FRAMES + SLOW_NOISE * normal(rng);
    let gain = if state == State::B { effect.ln_1p() } else { 0.0 };
    (2 * judged.len() >= JUDGED_MOMENTS).then_some(SegmentFigures {
        state,
        primaries: [gain - frame_time, gain - slow],
        stutters: 0,
        pacing: 0.0,
    })
}

/// A trial of a tweak that makes frames come faster by a share `effect`, with margins of 1 % and 3 %.
pub fn simulated_trial(kind: ContentKind, effect: f64, rng: &mut Pcg64) -> SimulatedTrial {
    let mut content = Content::new(kind, rng);
    for _ in 0..(LEAD_IN_S / super::content::MOMENT_S) as usize {
        content.next(rng);
    }
    let mut test = InPlayTest::new(InPlayLimit::SHORT_SEGMENTS, [0.01, 0.03]);
    let mut played: Vec<Option<SegmentFigures>> = Vec::new();
    let mut pairs_played = 0;
    let mut minutes_to_decision = [None; 2];
    while pairs_played < MOST_PAIRS && !test.is_finished() {
        let order = if coin(rng) { [State::A, State::B] } else { [State::B, State::A] };
        played.extend(order.map(|state| segment(&mut content, rng, state, effect)));
        pairs_played += 1;
        // A pair is taken when the segment after it is known.
        if pairs_played >= 2 {
            take(&mut test, &played, 2 * (pairs_played - 2));
            for (minutes, primary) in minutes_to_decision.iter_mut().zip(test.primaries()) {
                if primary.decision() != Decision::Undecided && minutes.is_none() {
                    *minutes = Some(minutes_of(2 * pairs_played - 1));
                }
            }
        }
    }
    if !test.is_finished() {
        take(&mut test, &played, 2 * (pairs_played - 1));
        test.time_is_out();
    }
    // The verdict came with the first segment of the pair that was played last.
    let segments = 2 * pairs_played - usize::from(pairs_played < MOST_PAIRS);
    let minutes = minutes_of(segments);
    let minutes_to_decision = minutes_to_decision.map(|decided| decided.unwrap_or(minutes));
    SimulatedTrial { test, minutes, minutes_to_decision, pairs_played }
}

fn minutes_of(segments: usize) -> f64 {
    (LEAD_IN_S + SEGMENT_S * segments as f64) / 60.0
}

fn take(test: &mut InPlayTest, played: &[Option<SegmentFigures>], first: usize) {
    let at = |index: usize| played.get(index).copied().flatten();
    let (Some(a), Some(b)) = (at(first), at(first + 1)) else { return };
    let before = first.checked_sub(1).and_then(at);
    let neighbours = before.as_ref().zip(at(first + 2)).map(|(before, after)| (*before, after));
    let neighbours = neighbours.as_ref().map(|(before, after)| (before, after));
    if let Some(pair) = pair_of_segments(&a, &b, neighbours) {
        test.push(&pair);
    }
}

/// What is decided of one figure alone, and after how many pairs, where pairs differ independently and normally with this
/// standard deviation.
pub fn simulated_figure(effect: f64, sd: f64, margin: f64, rng: &mut Pcg64) -> (Decision, usize) {
    let limit = InPlayLimit::SHORT_SEGMENTS;
    let mut primary = InPlayPrimary::new(margin);
    loop {
        let difference = effect.ln_1p() + sd * normal(rng);
        primary.push(SignPair { difference, gain: 1.0 });
        let pairs = primary.pairs().pairs();
        let decision = if limit.is_look(pairs) { primary.look(limit, ALL) } else { None };
        match decision {
            Some(decision) => return (decision, pairs),
            None if pairs == limit.pairs() => return (Decision::Undecided, pairs),
            None => {}
        }
    }
}
