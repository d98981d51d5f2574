//! What trials in play say of the average frame rate, and sifts in play of each of many tweaks, by simulation, and after
//! how much play.
//!
//! ```text
//! cargo run --release -p frevin-stats --example in_play_rates -- [TRIALS [SEED]]
//! ```
//! Without a seed another one is taken each time; it is printed, so that a table can be printed again.
#![allow(clippy::print_stdout, reason = "its tables are its output")]

use std::time::{SystemTime, UNIX_EPOCH};

use frevin_stats::Decision;
use frevin_stats::in_play::{ContentKind, simulated_figure, simulated_trial};
use frevin_stats::sift::{Found, PairRule, SmallestEffect, simulated_sift};
use rand::{Rng as _, SeedableRng as _};
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
        "| tweaks, sd, smallest effect | pairs, mean / 90th | all that matter right | any false | not sorted |"
    );
    println!("|---|---|---|---|---|");
    for (columns, deviation, smallest, matters) in [
        (10, 0.07, SmallestEffect::FivePercent, true),
        (20, 0.07, SmallestEffect::FivePercent, true),
        (20, 0.07, SmallestEffect::FivePercent, false),
        (20, 0.03, SmallestEffect::ThreePercent, true),
        (20, 0.03, SmallestEffect::ThreePercent, false),
    ] {
        let mut rng = Pcg64::seed_from_u64(seed);
        sifts(columns, (deviation, smallest), matters, trials, &mut rng);
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

/// Of sifts whose pairs differ independently.
fn sifts(
    columns: usize,
    (deviation, smallest_effect): (f64, SmallestEffect),
    matters: bool,
    sifts: usize,
    rng: &mut Pcg64,
) {
    let ranges = match smallest_effect {
        SmallestEffect::FivePercent => ((0.03, 0.10), (0.02, 0.08)),
        SmallestEffect::ThreePercent | SmallestEffect::TwoPercent => ((0.02, 0.06), (0.01, 0.05)),
    };
    let (mut pairs, mut right, mut wrong, mut unsorted) = (Vec::new(), 0, 0, 0);
    for _ in 0..sifts {
        let rule = PairRule { seed: rng.next_u64(), smallest_effect };
        let Ok(sift) = simulated_sift(columns, ranges, matters, (deviation, rule), rng) else {
            return;
        };
        let found = sift.sifting.found();
        let of_all = || sift.effects.iter().zip(&found);
        let is_right = |(effect, found): (&f64, &Found)| match found {
            Found::Helps => *effect > 0.0,
            Found::Hurts => *effect < 0.0,
            Found::NoEffect | Found::Unclear => false,
        };
        let large = of_all().filter(|(effect, _)| effect.abs() >= smallest_effect.share());
        right += usize::from(large.into_iter().all(is_right));
        wrong += usize::from(of_all().any(|(effect, found)| *effect == 0.0 && found.is_flagged()));
        unsorted += usize::from(!sift.sifting.is_finished());
        pairs.push(sift.sifting.pairs());
    }
    pairs.sort_unstable();
    let percent = |count: usize| 100.0 * count as f64 / sifts as f64;
    println!(
        "| {columns}, {:.0} %, {:.0} %{} | {:.1} / {} | {:.1} | {:.1} | {:.1} |",
        100.0 * deviation,
        100.0 * smallest_effect.share(),
        if matters { "" } else { ", nothing matters" },
        pairs.iter().sum::<usize>() as f64 / sifts as f64,
        pairs[sifts * 9 / 10],
        percent(right),
        percent(wrong),
        percent(unsorted),
    );
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
