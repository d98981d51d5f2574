//! Chance and functions that give the same bits on every platform: only operations that IEEE 754 rounds, and a
//! library written in them.

use rand::Rng as _;
use rand_pcg::Pcg64;

/// A number from 0 up to but not 1.
pub(crate) fn uniform(rng: &mut Pcg64) -> f64 {
    const STEP: f64 = 1.0 / (1_u64 << 53) as f64;
    (rng.next_u64() >> 11) as f64 * STEP
}

/// A number below `end`, which is above 0: by rejection, so that each is as likely.
pub(crate) fn below(rng: &mut Pcg64, end: usize) -> usize {
    let end = end as u64;
    let whole = u64::MAX - u64::MAX % end;
    loop {
        let drawn = rng.next_u64();
        if drawn < whole {
            return (drawn % end) as usize;
        }
    }
}

pub(crate) fn coin(rng: &mut Pcg64) -> bool {
    rng.next_u64() >> 63 == 1
}

/// Puts things into a random order (Fisher and Yates).
pub(crate) fn shuffle<T>(rng: &mut Pcg64, things: &mut [T]) {
    for last in (1..things.len()).rev() {
        things.swap(last, below(rng, last + 1));
    }
}

/// A standard normal number (Marsaglia's polar method; the second of each two is not used).
pub(crate) fn normal(rng: &mut Pcg64) -> f64 {
    loop {
        let (x, y) = (2.0 * uniform(rng) - 1.0, 2.0 * uniform(rng) - 1.0);
        let square = x * x + y * y;
        if square > 0.0 && square < 1.0 {
            return x * (-2.0 * libm::log(square) / square).sqrt();
        }
    }
}

/// A chi-square number of `degrees`, at least 2 (Marsaglia and Tsang, 2000).
pub(crate) fn chi_square(rng: &mut Pcg64, degrees: f64) -> f64 {
    let d = degrees / 2.0 - 1.0 / 3.0;
    let c = 1.0 / (9.0 * d).sqrt();
    loop {
        let x = normal(rng);
        let base = 1.0 + c * x;
        let v = base * base * base;
        if v > 0.0 && libm::log(1.0 - uniform(rng)) < 0.5 * x * x + d - d * v + d * libm::log(v) {
            return 2.0 * d * v;
        }
    }
}

/// The standard normal distribution function.
pub fn normal_below(z: f64) -> f64 {
    0.5 * libm::erfc(-z * core::f64::consts::FRAC_1_SQRT_2)
}

/// The mean of what is above zero of a normal distribution, all below counted as 0: `m Φ(m/s) + s φ(m/s)`.
pub fn normal_gain(mean: f64, spread: f64) -> f64 {
    if spread <= 0.0 {
        return mean.max(0.0);
    }
    let z = mean / spread;
    let density = libm::exp(-0.5 * z * z) / (2.0 * core::f64::consts::PI).sqrt();
    mean * normal_below(z) + spread * density
}

/// `1 / (1 + exp(-x))`.
pub(crate) fn logistic(x: f64) -> f64 {
    1.0 / (1.0 + libm::exp(-x))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng as _;

    #[test]
    fn a_normal_gain_is_the_mean_of_what_is_above_zero() {
        let mut rng = Pcg64::seed_from_u64(2);
        for (mean, spread) in [(0.0, 1.0), (0.5, 1.0), (-1.0, 0.7), (2.0, 0.1)] {
            let draws = 100_000;
            let drawn =
                (0..draws).map(|_| (mean + spread * normal(&mut rng)).max(0.0)).sum::<f64>();
            let gain = normal_gain(mean, spread);
            assert!((drawn / f64::from(draws) - gain).abs() < 0.01, "{mean} {spread}: {gain}");
        }
        assert_eq!((normal_gain(0.3, 0.0), normal_gain(-0.3, 0.0)), (0.3, 0.0));
    }

    #[test]
    fn draws_have_the_moments_of_their_distributions() {
        let mut rng = Pcg64::seed_from_u64(1);
        let draws = 200_000;
        let mean = |draw: &mut dyn FnMut() -> f64| {
            (0..draws).map(|_| draw()).sum::<f64>() / f64::from(draws)
        };
        assert!(mean(&mut || normal(&mut rng)).abs() < 0.01);
        assert!((mean(&mut || normal(&mut rng).powi(2)) - 1.0).abs() < 0.02);
        assert!((mean(&mut || chi_square(&mut rng, 14.0)) - 14.0).abs() < 0.06);
        assert!((mean(&mut || chi_square(&mut rng, 14.0).powi(2)) - 224.0).abs() < 2.0);
        assert!((mean(&mut || below(&mut rng, 5) as f64) - 2.0).abs() < 0.02);
        assert!((mean(&mut || f64::from(u8::from(coin(&mut rng)))) - 0.5).abs() < 0.01);
    }

    #[test]
    fn the_normal_distribution_is_the_known_one() {
        assert_eq!(normal_below(0.0), 0.5);
        assert!((normal_below(1.959_963_984_540_054) - 0.975).abs() < 1e-15);
        assert!((normal_below(-8.0) - 6.220_960_574_271_785e-16).abs() < 1e-28);
        assert!(
            (logistic(0.0) - 0.5).abs() < 1e-15
                && logistic(-800.0) == 0.0
                && logistic(800.0) == 1.0
        );
    }
}
