//! Segments of play -> pairs of segments.

use super::sign_test::SignPair;

/// Which of two states a segment was played in.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum State {
    /// The PC as it was.
    A,
    /// The PC with what is tried.
    B,
}

/// What a segment's frames come to, after those that came right after the switch.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SegmentFigures {
    /// The state that it was played in.
    pub state: State,
    /// What is tested, as logarithms, each the larger the better: of the mean frame rate, of the slow frames' rate.
    pub primaries: [f64; 2],
    /// Stutters.
    pub stutters: u32,
    /// The logarithm of the mean step from frame time to frame time, in milliseconds.
    pub pacing: f64,
}

/// Two neighbouring segments, one in each state.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct InPlayPair {
    /// The pair of each figure that is tested.
    pub primaries: [SignPair; 2],
    /// Stutters in A and in B.
    pub stutters: [u32; 2],
    /// By how much B's steps are larger than A's, as a difference of logarithms.
    pub pacing: f64,
}

/// The share of the slope between the outer neighbours that is taken out of a pair.
const DETREND: f64 = 1.0 / 3.0;

/// The pair of two segments, with the segments before and after them where both are valid and no gap is between; without
/// them nothing of a trend is taken out. Nothing where both are of one state.
pub fn pair_of_segments(
    first: &SegmentFigures,
    second: &SegmentFigures,
    neighbours: Option<(&SegmentFigures, &SegmentFigures)>,
) -> Option<InPlayPair> {
    let sign = match (first.state, second.state) {
        (State::A, State::B) => 1.0,
        (State::B, State::A) => -1.0,
        (State::A, State::A) | (State::B, State::B) => return None,
    };
    let share = |state: State| if state == State::B { 1.0 } else { 0.0 };
    let gain = neighbours.map_or(1.0, |(before, after)| {
        1.0 - DETREND * sign * (share(after.state) - share(before.state))
    });
    let primary = |index: usize| {
        let slope = neighbours
            .map_or(0.0, |(before, after)| after.primaries[index] - before.primaries[index]);
        let step = second.primaries[index] - first.primaries[index];
        SignPair { difference: sign * (step - DETREND * slope), gain }
    };
    let (of_a, of_b) = if sign > 0.0 { (first, second) } else { (second, first) };
    Some(InPlayPair {
        primaries: [primary(0), primary(1)],
        stutters: [of_a.stutters, of_b.stutters],
        pacing: of_b.pacing - of_a.pacing,
    })
}

#[cfg(test)]
mod tests {
    use super::*;

    fn segment(state: State, value: f64) -> SegmentFigures {
        SegmentFigures { state, primaries: [value, 2.0 * value], stutters: 1, pacing: value }
    }

    #[test]
    fn a_constant_effect_shows_by_its_gain_whatever_the_order_and_the_trend() {
        use State::{A, B};
        for (order, gain) in [
            ([A, A, B, A], 1.0),
            ([A, A, B, B], 2.0 / 3.0),
            ([B, A, B, A], 4.0 / 3.0),
            ([A, B, A, A], 1.0),
            ([A, B, A, B], 4.0 / 3.0),
            ([B, B, A, A], 2.0 / 3.0),
        ] {
            let effect = 0.05;
            let played: Vec<SegmentFigures> = order
                .iter()
                .zip(0_u8..)
                .map(|(state, at)| {
                    let trend = 0.3 * f64::from(at);
                    segment(*state, trend + if *state == B { effect } else { 0.0 })
                })
                .collect();
            let neighbours = Some((&played[0], &played[3]));
            let pair = pair_of_segments(&played[1], &played[2], neighbours).unwrap();
            assert!((pair.primaries[0].gain - gain).abs() < 1e-12, "{order:?}: {pair:?}");
            assert!((pair.primaries[0].difference - gain * effect).abs() < 1e-12, "{order:?}");
            assert!((pair.primaries[1].difference - 2.0 * gain * effect).abs() < 1e-12);
        }
    }

    #[test]
    fn without_neighbours_nothing_is_taken_out() {
        let (a, b) = (segment(State::A, 1.0), segment(State::B, 1.5));
        let pair = pair_of_segments(&b, &a, None).unwrap();
        assert_eq!(pair.primaries[0], SignPair { difference: 0.5, gain: 1.0 });
        assert_eq!(pair.pacing, 0.5);
        assert_eq!(pair_of_segments(&a, &a, None), None);
    }
}
