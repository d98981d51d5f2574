//! Error rates of the whole test, by simulation with a fixed seed.

use rand::SeedableRng as _;
use rand_distr::{Distribution as _, Gamma, Normal, Poisson};
use rand_pcg::Pcg64;

use super::*;

const STUTTERS: GuardLimits = GuardLimits { veto: 1.25, doubt: 1.5 };
const PACING: GuardLimits = GuardLimits { veto: 1.10, doubt: 1.2 };

fn test() -> SequentialTest {
    let primaries = [(0.01, None), (0.03, None)];
    SequentialTest::new(PairLimit::default(), &primaries, &[STUTTERS, PACING])
}

/// A true difference: in average FPS, in 1% low, in the rate of stutters and in pacing, as factors.
#[derive(Debug, Clone, Copy)]
struct Truth(f64, f64, f64, f64);

/// Percent of better, worse, same and undecided, and mean pairs.
fn simulated(truth: Truth, trials: u32, seed: u64) -> [f64; 5] {
    let Truth(average, low, stutters, pacing) = truth;
    let mut rng = Pcg64::seed_from_u64(seed);
    let normal = |mean: f64, sd: f64| Normal::new(mean.ln(), sd).unwrap();
    let (average, low) = (normal(average, 0.011), normal(low, 0.033));
    let pacing = normal(pacing, 0.11);
    // Mean 1, coefficient of variation 0.3.
    let between_visits = Gamma::new(1.0 / 0.09, 0.09).unwrap();
    let fresh = test();
    let mut counts = [0_u32; 4];
    let mut pairs = 0;
    for _ in 0..trials {
        let mut test = fresh.clone();
        while !test.is_finished() {
            let mut of_visit = |times: f64| {
                let rate = 6.0 * between_visits.sample(&mut rng) * times;
                (Poisson::new(rate).unwrap().sample(&mut rng) + 0.5).ln()
            };
            let stutter = of_visit(stutters) - of_visit(1.0);
            let primaries = [average.sample(&mut rng), low.sample(&mut rng)];
            test.push(&primaries, &[stutter, pacing.sample(&mut rng)]);
        }
        pairs += test.pairs();
        counts[match test.verdict() {
            Verdict::Better => 0,
            Verdict::Worse => 1,
            Verdict::Same => 2,
            Verdict::Undecided => 3,
        }] += 1;
    }
    let percent = counts.map(|count| 100.0 * f64::from(count) / f64::from(trials));
    [percent[0], percent[1], percent[2], percent[3], pairs as f64 / f64::from(trials)]
}

#[test]
fn the_reference_table_with_guards_is_reproduced() {
    for (truth, expected) in [
        (Truth(1.00, 1.00, 1.0, 1.0), [2.0, 3.8, 38.0, 56.1, 11.3]),
        (Truth(1.02, 1.05, 1.0, 1.0), [95.9, 1.5, 0.0, 2.6, 8.2]),
        (Truth(1.05, 1.10, 1.0, 1.0), [96.5, 1.4, 0.0, 2.1, 5.9]),
        (Truth(1.05, 1.10, 1.5, 1.0), [54.8, 22.3, 0.0, 22.8, 8.7]),
        (Truth(1.05, 1.10, 2.0, 1.0), [11.8, 68.1, 0.0, 20.1, 9.1]),
        (Truth(1.05, 1.10, 3.0, 1.0), [0.2, 98.9, 0.0, 0.9, 7.1]),
        (Truth(1.12, 1.12, 3.0, 1.0), [0.2, 98.8, 0.0, 0.9, 7.1]),
        (Truth(1.00, 1.00, 3.0, 1.0), [0.0, 99.0, 0.0, 1.0, 7.1]),
        (Truth(1.05, 1.10, 1.0, 1.2), [4.9, 95.0, 0.0, 0.0, 6.9]),
        (Truth(0.97, 0.95, 1.0, 1.0), [0.0, 100.0, 0.0, 0.0, 5.1]),
    ] {
        let found = simulated(truth, 100_000, 23);
        for (found, expected) in found[..4].iter().zip(&expected) {
            assert!((found - expected).abs() <= 1.0, "{truth:?}: {found} %, not {expected} %");
        }
        assert!((found[4] - expected[4]).abs() <= 0.1, "{truth:?}: {} pairs", found[4]);
    }
}

#[test]
fn a_veto_ends_the_test_and_stands() {
    let mut test = test();
    for _ in 0..4 {
        test.push(&[0.05, 0.05], &[3.0_f64.ln(), 0.0]);
    }
    assert!(test.is_finished());
    assert_eq!((test.verdict(), test.pairs()), (Verdict::Worse, 4));
    for _ in 0..8 {
        test.push(&[0.05, 0.05], &[-3.0, 0.0]);
    }
    assert_eq!((test.verdict(), test.pairs()), (Verdict::Worse, 4));
    assert_eq!(test.guards()[0].vetoed_after_pairs(), Some(4));
}

#[test]
fn better_waits_for_a_guard_to_be_quiet_and_is_open_where_it_never_is() {
    // Three times the stutters on average, scattered so much that no veto is certain.
    let scattered = [3.2, -1.0, 3.2, -1.0];
    let mut test = test();
    for difference in scattered {
        test.push(&[0.05, 0.05], &[difference, 0.0]);
    }
    assert_eq!(test.guards()[0].state(), GuardState::Waiting);
    assert!(!test.is_finished() && test.verdict() == Verdict::Undecided);
    let mut quiet = test.clone();
    quiet.push(&[0.05, 0.05], &[-5.0, 0.0]);
    assert_eq!((quiet.verdict(), quiet.pairs()), (Verdict::Better, 5));
    for _ in 0..2 {
        for difference in scattered {
            test.push(&[0.05, 0.05], &[difference, 0.0]);
        }
    }
    assert!(test.is_finished() && test.pairs() == 12);
    assert_eq!(test.verdict(), Verdict::Undecided);
}

#[test]
fn pairs_without_spread_decide_by_the_sign() {
    let mut test = test();
    for _ in 0..4 {
        test.push(&[0.0, 0.0], &[0.0, 0.0]);
    }
    assert_eq!(test.verdict(), Verdict::Same);
}
