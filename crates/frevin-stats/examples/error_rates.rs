//! Error rates of the sequential test, by simulation: how often it is wrong, and how many pairs it takes.
//!
//! ```text
//! cargo run --release -p frevin-stats --example error_rates -- [TRIALS [SEED]]
//! ```
//! Without a seed another one is taken each time; it is printed, so that a table can be printed again.
#![allow(clippy::unwrap_used, reason = "distributions with the parameters below exist")]
#![allow(clippy::print_stdout, reason = "its tables are its output")]

use std::time::{SystemTime, UNIX_EPOCH};

use frevin_stats::{GuardLimits, PairLimit, SequentialTest, Verdict};
use rand::SeedableRng as _;
use rand_distr::{Distribution as _, Gamma, Normal, Poisson};
use rand_pcg::Pcg64;

const STUTTERS: GuardLimits = GuardLimits { veto: 1.25, doubt: 1.5 };
const PACING: GuardLimits = GuardLimits { veto: 1.10, doubt: 1.2 };
/// What pairs differ by for no reason, in logarithms: average FPS, 1% low, pacing.
const AVERAGE_SD: f64 = 0.011;
const LOW_SD: f64 = 0.033;
const PACING_SD: f64 = 0.11;
/// Stutters of a visit, and their spread from visit to visit as a share.
const STUTTERS_A_VISIT: f64 = 6.0;
const STUTTER_SPREAD: f64 = 0.3;

/// What came of many trials of the same truth.
#[derive(Default)]
struct Tally {
    better: u32,
    worse: u32,
    same: u32,
    undecided: u32,
    pairs: usize,
}

impl Tally {
    fn take(&mut self, test: &SequentialTest) {
        self.pairs += test.pairs();
        *match test.verdict() {
            Verdict::Better => &mut self.better,
            Verdict::Worse => &mut self.worse,
            Verdict::Same => &mut self.same,
            Verdict::Undecided => &mut self.undecided,
        } += 1;
    }

    fn print(&self, truth: &str) {
        let trials = f64::from(self.better + self.worse + self.same + self.undecided);
        let percent = |count: u32| 100.0 * f64::from(count) / trials;
        let pairs = self.pairs as f64 / trials;
        println!(
            "| {truth} | {:.1} | {:.1} | {:.1} | {:.1} | {pairs:.1} |",
            percent(self.better),
            percent(self.worse),
            percent(self.same),
            percent(self.undecided),
        );
    }
}

fn head(title: &str) {
    println!("\n{title}\n");
    println!("| true | better | worse | same | undecided | pairs |");
    println!("|---|---|---|---|---|---|");
}

/// One metric, its pairs independent and normal, without guards.
fn one_metric(effect: f64, trials: u32, rng: &mut Pcg64) -> Tally {
    let difference = Normal::new(effect.ln_1p(), AVERAGE_SD).unwrap();
    let fresh = SequentialTest::new(PairLimit::default(), &[(0.01, None)], &[]);
    let mut tally = Tally::default();
    for _ in 0..trials {
        let mut test = fresh.clone();
        while !test.is_finished() {
            test.push(&[difference.sample(rng)], &[]);
        }
        tally.take(&test);
    }
    tally
}

/// True factors of B: of average FPS, 1% low, the rate of stutters and pacing.
struct Truth(f64, f64, f64, f64);

/// Both primaries and both guards.
fn whole_test(truth: &Truth, trials: u32, rng: &mut Pcg64) -> Tally {
    let Truth(average, low, stutters, pacing) = truth;
    let normal = |factor: &f64, sd: f64| Normal::new(factor.ln(), sd).unwrap();
    let (average, low) = (normal(average, AVERAGE_SD), normal(low, LOW_SD));
    let pacing = normal(pacing, PACING_SD);
    let variance = STUTTER_SPREAD * STUTTER_SPREAD;
    let between_visits = Gamma::new(1.0 / variance, variance).unwrap();
    let primaries = [(0.01, None), (0.03, None)];
    let fresh = SequentialTest::new(PairLimit::default(), &primaries, &[STUTTERS, PACING]);
    let mut tally = Tally::default();
    for _ in 0..trials {
        let mut test = fresh.clone();
        while !test.is_finished() {
            let mut of_visit = |times: f64| {
                let rate = STUTTERS_A_VISIT * between_visits.sample(rng) * times;
                (Poisson::new(rate).unwrap().sample(rng) + 0.5).ln()
            };
            let stutter = of_visit(*stutters) - of_visit(1.0);
            let primaries = [average.sample(rng), low.sample(rng)];
            test.push(&primaries, &[stutter, pacing.sample(rng)]);
        }
        tally.take(&test);
    }
    tally
}

fn main() {
    let mut arguments = std::env::args().skip(1).map(|text| text.parse::<u64>());
    let mut next = || arguments.next().and_then(Result::ok);
    let trials = next().and_then(|trials| u32::try_from(trials).ok()).unwrap_or(100_000);
    let seed = next().unwrap_or_else(|| {
        let now = SystemTime::now().duration_since(UNIX_EPOCH).unwrap_or_default();
        now.as_secs()
    });
    println!("{trials} trials a row, seed {seed}, at most 12 pairs, no history; in percent");
    let mut rng = Pcg64::seed_from_u64(seed);

    head("One metric, pairs that differ by 1.1 % for no reason:");
    for (name, effect) in [
        ("0", 0.0),
        ("+0.5 %", 0.005),
        ("+1 %", 0.01),
        ("+2 %", 0.02),
        ("+3 %", 0.03),
        ("+5 %", 0.05),
    ] {
        one_metric(effect, trials, &mut rng).print(name);
    }

    head("Average FPS / 1% low, stutters (r) and pacing (j) as factors:");
    for (name, truth) in [
        ("none", Truth(1.00, 1.00, 1.0, 1.0)),
        ("+2 / +5 %", Truth(1.02, 1.05, 1.0, 1.0)),
        ("+5 / +10 %", Truth(1.05, 1.10, 1.0, 1.0)),
        ("+5 / +10 %, r 1.5", Truth(1.05, 1.10, 1.5, 1.0)),
        ("+5 / +10 %, r 2", Truth(1.05, 1.10, 2.0, 1.0)),
        ("+5 / +10 %, r 3", Truth(1.05, 1.10, 3.0, 1.0)),
        ("+12 / +12 %, r 3", Truth(1.12, 1.12, 3.0, 1.0)),
        ("none, r 3", Truth(1.00, 1.00, 3.0, 1.0)),
        ("+5 / +10 %, j 1.2", Truth(1.05, 1.10, 1.0, 1.2)),
        ("-3 / -5 %", Truth(0.97, 0.95, 1.0, 1.0)),
    ] {
        whole_test(&truth, trials, &mut rng).print(name);
    }
}
