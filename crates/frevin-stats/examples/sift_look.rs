//! The time that a look of a sift takes: 40 tweaks after 64 configurations, all looks before it included.
//!
//! ```text
//! cargo run --release -p frevin-stats --example sift_look
//! ```
#![allow(clippy::unwrap_used, reason = "forty columns can be sifted")]
#![allow(clippy::print_stdout, reason = "the time is its output")]

use std::time::Instant;

use frevin_stats::sift::{Due, Factors, MOST_ROWS, SiftRule, Sifting};

fn main() {
    const ROUNDS: u64 = 10;
    let factors = Factors::independent(40).unwrap();
    let (mut slowest, mut all) = (0.0_f64, 0.0);
    for seed in 0..ROUNDS {
        // Noise of ten times what is expected is never clear, so that every look there may be is made.
        let rule = SiftRule { seed, row_variance: 1e-4, most_rows: MOST_ROWS };
        let mut sifting = Sifting::new(factors.clone(), rule);
        let mut figure = 0.37_f64;
        while let Due::Row(_) | Due::Again(_) = sifting.due() {
            figure = 3.7 * figure * (1.0 - figure);
            let begun = Instant::now();
            sifting.push(4.5 + figure / 4.0);
            let took = begun.elapsed().as_secs_f64();
            slowest = slowest.max(took);
            all += took;
        }
    }
    println!(
        "the slowest look took {:.1} ms, all looks of a sift together {:.1} ms",
        1000.0 * slowest,
        1000.0 * all / ROUNDS as f64
    );
}
