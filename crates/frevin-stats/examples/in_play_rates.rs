//! What trials in play say of the average frame rate, by simulation, and after how many minutes, for content and
//! effects of several sizes.
//!
//! ```text
//! cargo run --release -p frevin-stats --example in_play_rates -- [TRIALS [SEED]]
//! ```
//! Without a seed another one is taken each time; it is printed, so that a table can be printed again.
#![allow(clippy::print_stdout, reason = "its tables are its output")]

use std::time::{SystemTime, UNIX_EPOCH};

use frevin_stats::Decision;
use frevin_stats::in_play::{ContentKind, simulated_figure, simulated_trial};
use rand::SeedableRng as _;
use rand_pcg::Pcg64;

fn main() {
    let mut arguments = std::env::args().skip(1);
    let trials: usize = arguments.next().and_then(|text| text.parse().ok()).unwrap_or(2000);
    let seed: u64 = arguments.next().and_then(|text| text.parse().ok()).unwrap_or_else(|| {
        SystemTime::now().duration_since(UNIX_EPOCH).map_or(0, |since| since.as_secs())
    });
    println!("{trials} trials a row, seed {seed}\n");
    println!("| sd, margin | true effect | better | worse | same | undecided | pairs |");
    println!("|---|---|---|---|---|---|---|");
    for (sd, margin) in [(0.02, 0.01), (0.09, 0.03)] {
        for effect in [0.0, 0.01, 0.02, 0.03, 0.05, 0.10] {
            let mut rng = Pcg64::seed_from_u64(seed);
            alone(sd, margin, effect, 10 * trials, &mut rng);
        }
    }
    println!();
    println!(
        "| content | true effect | better | worse | same | undecided | any false | minutes, mean / 90th |"
    );
    println!("|---|---|---|---|---|---|---|---|");
    let kind = |deviation, memory_s| ContentKind { deviation, memory_s, ..ContentKind::PLAY };
    for content in [kind(0.15, 30.0), kind(0.10, 60.0), kind(0.20, 10.0), kind(0.006, 20.0)] {
        for effect in [0.0, 0.01, 0.03, 0.05, 0.10] {
            let mut rng = Pcg64::seed_from_u64(seed);
            row(content, effect, trials, &mut rng);
        }
    }
}

/// Of one figure alone whose pairs differ independently.
fn alone(sd: f64, margin: f64, effect: f64, trials: usize, rng: &mut Pcg64) {
    let mut counts = [0_usize; 4];
    let mut pairs = 0;
    for _ in 0..trials {
        let (decision, after) = simulated_figure(effect, sd, margin, rng);
        counts[place(decision)] += 1;
        pairs += after;
    }
    let [better, worse, same, undecided] = counts.map(|count| 100.0 * count as f64 / trials as f64);
    println!(
        "| {:.0} %, {:.0} % | {:.0} % | {better:.1} | {worse:.1} | {same:.1} | {undecided:.1} | {:.1} |",
        100.0 * sd,
        100.0 * margin,
        100.0 * effect,
        pairs as f64 / trials as f64,
    );
}

fn place(decision: Decision) -> usize {
    match decision {
        Decision::Better => 0,
        Decision::Worse => 1,
        Decision::Same => 2,
        Decision::Undecided => 3,
    }
}

/// Of the average frame rate, as the study's table.
fn row(content: ContentKind, effect: f64, trials: usize, rng: &mut Pcg64) {
    let mut counts = [0_usize; 4];
    let mut any_false = 0;
    let mut minutes = Vec::new();
    for _ in 0..trials {
        let trial = simulated_trial(content, effect, rng);
        let [average, slow] = trial.test.primaries();
        let is_false = |decision: Decision| match decision {
            Decision::Better => effect <= 0.0,
            Decision::Worse => true,
            Decision::Same | Decision::Undecided => false,
        };
        any_false += usize::from(is_false(average.decision()) || is_false(slow.decision()));
        counts[place(average.decision())] += 1;
        minutes.push(trial.minutes_to_decision[0]);
    }
    minutes.sort_by(f64::total_cmp);
    let percent = |count: usize| 100.0 * count as f64 / trials as f64;
    let [better, worse, same, undecided] = counts.map(percent);
    println!(
        "| {:.1} %, {} s | {:.0} % | {better:.1} | {worse:.1} | {same:.1} | {undecided:.1} | {:.1} | {:.1} / {:.1} |",
        100.0 * content.deviation,
        content.memory_s,
        100.0 * effect,
        percent(any_false),
        minutes.iter().sum::<f64>() / trials as f64,
        minutes[trials * 9 / 10],
    );
}
