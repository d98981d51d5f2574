//! The error rates of the test in play, by simulation with fixed seeds.

use rand::SeedableRng as _;
use rand_pcg::Pcg64;

use super::*;
use crate::in_play::content::ContentKind;
use crate::in_play::simulated::{simulated_figure, simulated_trial};

/// What came of one figure in many trials, in percent, and mean pairs.
fn of_one_figure(effect: f64, sd: f64, margin: f64, trials: u32, seed: u64) -> [f64; 5] {
    let mut rng = Pcg64::seed_from_u64(seed);
    let mut counts = [0.0; 5];
    for _ in 0..trials {
        let (decision, pairs) = simulated_figure(effect, sd, margin, &mut rng);
        let index = match decision {
            Decision::Better => 0,
            Decision::Worse => 1,
            Decision::Same => 2,
            Decision::Undecided => 3,
        };
        counts[index] += 100.0;
        counts[4] += pairs as f64;
    }
    counts.map(|count| count / f64::from(trials))
}

/// Rows of the reference table for independent normal differences; the example `in_play_rates` prints all, at the
/// table's own number of trials.
#[test]
fn the_table_of_independent_differences_is_reproduced() {
    for (sd, margin, effect, expected) in [
        (0.02, 0.01, 0.01, [98.1, 0.0, 1.9, 0.0, 44.6]),
        (0.02, 0.01, 0.03, [100.0, 0.0, 0.0, 0.0, 15.9]),
        (0.09, 0.03, 0.02, [67.4, 0.0, 25.7, 7.0, 107.2]),
        (0.09, 0.03, 0.05, [100.0, 0.0, 0.0, 0.0, 40.2]),
    ] {
        let found = of_one_figure(effect, sd, margin, 1_000, 5);
        for (index, (found, expected)) in found.into_iter().zip(expected).enumerate() {
            let allowed = if index == 4 { 3.0 } else { 3.5 };
            assert!((found - expected).abs() <= allowed, "{sd} {effect}: {found}, not {expected}");
        }
    }
}

/// Free play, simulated: hardly ever wrong where there is nothing, and found where there is much.
#[test]
fn in_play_nothing_is_found_where_nothing_is_and_much_is_found() {
    let mut rng = Pcg64::seed_from_u64(23);
    let mut trials = |effect: f64, number: usize| -> Vec<_> {
        (0..number).map(|_| simulated_trial(ContentKind::PLAY, effect, &mut rng)).collect()
    };
    let nothing = trials(0.0, 120);
    let is_wrong = |test: &InPlayTest| {
        test.primaries().iter().any(|primary| primary.decision().is_difference())
    };
    let wrong = nothing.iter().filter(|trial| is_wrong(&trial.test)).count();
    assert!(wrong <= 10, "{wrong} of 120 were wrong; 3.4 % are expected");
    let kept: usize = nothing.iter().map(|trial| trial.test.pairs()).sum();
    let played: usize = nothing.iter().map(|trial| trial.pairs_played).sum();
    let share = kept as f64 / played as f64;
    assert!((share - 0.86).abs() < 0.02, "{share} of the pairs were kept");
    let much = trials(0.05, 60);
    assert!(much.iter().all(|trial| trial.test.verdict() == Verdict::Better));
    let minutes = much.iter().map(|trial| trial.minutes_to_decision[0]).sum::<f64>() / 60.0;
    assert!((minutes - 7.7).abs() < 1.5, "{minutes} minutes");
}

fn pair(primaries: [f64; 2], stutters: [u32; 2], pacing: f64) -> InPlayPair {
    let primaries = primaries.map(|difference| SignPair { difference, gain: 1.0 });
    InPlayPair { primaries, stutters, pacing }
}

/// A test over so many pairs that differ a little from each other.
fn after(pairs: usize, of: impl Fn(f64) -> InPlayPair) -> InPlayTest {
    let mut test = InPlayTest::new(InPlayLimit::SHORT_SEGMENTS, [0.01, 0.03]);
    for index in 0..pairs {
        test.push(&of(if index % 2 == 0 { 0.001 } else { -0.001 }));
    }
    test
}

#[test]
fn a_veto_of_a_guard_is_worse_with_its_reason() {
    let stutters = after(12, |off| pair([0.05 + off, 0.05 + off], [0, 2], 0.0));
    assert_eq!((stutters.verdict(), stutters.veto()), (Verdict::Worse, Some(InPlayVeto::Stutters)));
    let pacing = after(12, |off| pair([0.05 + off, 0.05 + off], [1, 1], 0.2 + off));
    assert_eq!((pacing.verdict(), pacing.veto()), (Verdict::Worse, Some(InPlayVeto::Pacing)));
    let quiet = after(12, |off| pair([0.05 + off, 0.05 + off], [1, 1], 0.05 + off));
    assert_eq!((quiet.verdict(), quiet.veto()), (Verdict::Better, None));
}

#[test]
fn a_loss_is_worse_nothing_is_the_same_and_time_out_is_undecided() {
    let worse = after(12, |off| pair([0.0 + off, -0.08 + off], [0, 0], 0.0));
    assert_eq!(worse.verdict(), Verdict::Worse);
    let same = after(12, |off| pair([off, off], [0, 0], 0.0));
    assert_eq!(same.verdict(), Verdict::Same);
    assert_eq!(same.primaries()[0].decided_after_pairs(), Some(12));
    let mut early = after(11, |off| pair([0.05 + off, 0.05 + off], [0, 0], 0.0));
    assert!(!early.is_finished());
    early.time_is_out();
    assert_eq!((early.is_finished(), early.verdict()), (true, Verdict::Undecided));
}

#[test]
fn what_only_a_few_pairs_carry_is_told() {
    let mut test = InPlayTest::new(InPlayLimit::SHORT_SEGMENTS, [0.01, 0.03]);
    for index in 0..64 {
        let off = if index % 2 == 0 { 0.004 } else { -0.004 };
        let effect = if index % 5 == 0 { 0.1 } else { 0.0 };
        test.push(&pair([effect + off, off], [0, 0], 0.0));
    }
    assert!(test.primaries()[0].is_uneven());
    assert!(!test.primaries()[1].is_uneven());
    assert_ne!(
        test.primaries()[0].decision(),
        Decision::Same,
        "the unclipped score speaks against it"
    );
}
