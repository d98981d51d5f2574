//! Error rates of sifts, by simulation: how many configurations they take, what they find, and how often they are wrong.
//!
//! ```text
//! cargo run --release -p frevin-stats --example sift_rates -- [SIFTS [SEED]]
//! ```
//! Without a seed another one is taken each time; it is printed, so that a table can be printed again.
#![allow(clippy::unwrap_used, reason = "distributions with the parameters below exist")]
#![allow(clippy::print_stdout, reason = "its table is its output")]

use std::time::{SystemTime, UNIX_EPOCH};

use frevin_stats::sift::{Due, Factors, Found, MOST_ROWS, SiftRule, Sifting, USUAL_ROW_SPREAD};
use rand::seq::SliceRandom as _;
use rand::{RngExt as _, SeedableRng as _};
use rand_distr::{ChiSquared, Distribution as _, StandardNormal};
use rand_pcg::Pcg64;

/// The time of a row, in minutes.
const ROW_MINUTES: f64 = 4.5;
/// What each start of the PC adds by chance, where it drifts.
const BOOT_SD: f64 = 0.004;

/// How a PC changes while it is sifted.
#[derive(Clone, Copy, Default)]
struct Drift {
    /// A random walk, per square root of a minute.
    walk: f64,
    /// A line, per minute: the spread of its slope.
    line: f64,
    /// Slowing down as it warms through.
    soak: f64,
}

/// What is simulated.
struct Case {
    title: &'static str,
    factors: Factors,
    matters: bool,
    drift: Option<Drift>,
    /// How much louder the PC is than its history says.
    noise: f64,
}

#[derive(Default)]
struct Tally {
    measurements: Vec<usize>,
    right: u32,
    wrong: u32,
}

/// Up to four losses of 2 to 6 % and up to four gains of 1 to 5 %.
fn effects(columns: usize, rng: &mut Pcg64) -> Vec<f64> {
    let mut effects = vec![0.0; columns];
    let mut places: Vec<usize> = (0..columns).collect();
    places.shuffle(rng);
    let mut places = places.into_iter();
    for (sign, low, high) in [(-1.0, 0.02, 0.06), (1.0, 0.01, 0.05)] {
        let count = rng.random_range(0..=4);
        for place in places.by_ref().take(count) {
            effects[place] = sign * rng.random_range(low..high);
        }
    }
    effects
}

fn sift(case: &Case, truth: &[f64], rng: &mut Pcg64) -> Sifting {
    let sd = USUAL_ROW_SPREAD;
    let boot = case.drift.map_or(0.0, |_| BOOT_SD);
    let expected = sd * sd + boot * boot;
    let known = expected * ChiSquared::new(8.0).unwrap().sample(rng) / 8.0;
    let rule = SiftRule { seed: rng.random(), row_variance: known, most_rows: MOST_ROWS };
    let mut sifting = Sifting::new(case.factors.clone(), rule);
    let drift = case.drift.unwrap_or_default();
    let normal = |rng: &mut Pcg64| -> f64 { StandardNormal.sample(rng) };
    let slope = drift.line * normal(rng);
    let (mut walk, mut minutes) = (0.0, 0.0);
    while let Due::Row(row) | Due::Again(row) = sifting.due() {
        let on = sifting.row(row).unwrap();
        let sum: f64 = on.iter().zip(truth).filter(|(on, _)| **on).map(|(_, e)| e).sum();
        walk += drift.walk * ROW_MINUTES.sqrt() * normal(rng);
        minutes += ROW_MINUTES;
        let soak = -drift.soak * (1.0 - (-minutes / 10.0_f64).exp());
        let chance = case.noise * sd * normal(rng) + boot * normal(rng);
        sifting.push(sum + chance + walk + slope * minutes + soak);
    }
    sifting
}

fn simulate(case: &Case, sifts: u32, rng: &mut Pcg64) -> Tally {
    let columns = case.factors.columns();
    let mut tally = Tally::default();
    for _ in 0..sifts {
        let truth = if case.matters { effects(columns, rng) } else { vec![0.0; columns] };
        let sifting = sift(case, &truth, rng);
        tally.measurements.push(sifting.measurements());
        let found = sifting.found();
        let is_right = |(effect, found): (&f64, &Found)| match found {
            Found::Helps => *effect > 0.0,
            Found::Hurts => *effect < 0.0,
            Found::NoEffect | Found::Unclear => false,
        };
        let mut large = truth.iter().zip(&found).filter(|(effect, _)| effect.abs() >= 0.02);
        tally.right += u32::from(large.all(is_right));
        let is_flagged = |found: &Found| matches!(found, Found::Helps | Found::Hurts);
        let mut zero = truth.iter().zip(&found).filter(|(effect, _)| **effect == 0.0);
        tally.wrong += u32::from(zero.any(|(_, found)| is_flagged(found)));
    }
    tally.measurements.sort_unstable();
    tally
}

fn cases() -> Vec<Case> {
    let plain = |title, columns| Case {
        title,
        factors: Factors::independent(columns).unwrap(),
        matters: true,
        drift: None,
        noise: 1.0,
    };
    let drift = |title, walk, line, soak| Case {
        drift: Some(Drift { walk, line, soak }),
        ..plain(title, 20)
    };
    let groups = vec![vec![0, 1, 2], vec![3, 4, 5]];
    vec![
        plain("10", 10),
        plain("20", 20),
        plain("40", 40),
        Case { matters: false, ..plain("20, nothing matters", 20) },
        drift("20, drift", 0.001, 0.000_2, 0.01),
        drift("20, strong drift", 0.002_5, 0.000_6, 0.025),
        Case { noise: 2.0, ..plain("20, noise twice the history's", 20) },
        Case {
            factors: Factors::new(20, groups, vec![(6, 7), (8, 9)]).unwrap(),
            ..plain("20, two exclusive triples, two needs", 20)
        },
    ]
}

fn main() {
    let mut given = std::env::args().skip(1).map(|text| text.parse::<u64>());
    let sifts = given.next().and_then(Result::ok).unwrap_or(2000);
    let seed = given.next().and_then(Result::ok).unwrap_or_else(|| {
        SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
    });
    println!("{sifts} sifts a row, seed {seed}\n");
    println!(
        "| tweaks | configurations | nine of ten within | all effects of 2 % right | any false |"
    );
    println!("|---|---|---|---|---|");
    for case in cases() {
        let mut rng = Pcg64::seed_from_u64(seed);
        let tally = simulate(&case, u32::try_from(sifts).unwrap_or(u32::MAX), &mut rng);
        let share = |count: u32| 100.0 * f64::from(count) / sifts as f64;
        let mean = tally.measurements.iter().sum::<usize>() as f64 / sifts as f64;
        let ninth = tally.measurements[tally.measurements.len() * 9 / 10];
        let right =
            if case.matters { format!("{:.0} %", share(tally.right)) } else { "-".to_owned() };
        println!(
            "| {} | {mean:.1} | {ninth} | {right} | {:.1} % |",
            case.title,
            share(tally.wrong)
        );
    }
}
