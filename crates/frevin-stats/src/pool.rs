//! Effects of several PCs pooled: their mean, how far PCs differ, and what to expect of the next one.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use statrs::distribution::{ContinuousCDF as _, StudentsT};

/// Fewer PCs are listed and not pooled.
pub const FEWEST_POOLED: usize = 3;

/// The effect that one PC has shown, in natural logarithms.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct PcEffect {
    /// ln of the ratio.
    pub estimate: f64,
    /// Its standard error.
    pub standard_error: f64,
}

/// Effects of several PCs together, in natural logarithms.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct Pooled {
    /// How many PCs.
    pub pcs: usize,
    /// The mean over PCs.
    pub mean: f64,
    /// Its standard error.
    pub standard_error: f64,
    /// The 95 % interval of the mean (Hartung and Knapp, 2001).
    pub interval: (f64, f64),
    /// Where the effect on the next PC is expected with about 95 %.
    pub prediction: (f64, f64),
    /// The standard deviation between PCs, beside the errors of each (Paule and Mandel, 1982).
    pub between_pcs: f64,
    /// PCs whose estimate is below 0.
    pub below_zero: usize,
}

/// Pools the effects of PCs; nothing of fewer than three, and nothing where one has no finite effect or no error
/// above zero.
pub fn pool(effects: &[PcEffect]) -> Option<Pooled> {
    let is_sound = |one: &PcEffect| {
        one.estimate.is_finite() && one.standard_error.is_finite() && one.standard_error > 0.0
    };
    if effects.len() < FEWEST_POOLED || !effects.iter().all(is_sound) {
        return None;
    }
    let degrees = effects.len() as f64 - 1.0;
    let variance = between_variance(effects, degrees);
    let (mean, weights, spread) = weighted(effects, variance);
    let inflation = (spread / degrees).max(1.0);
    let standard_error = (inflation / weights).sqrt();
    let t = |degrees: f64| Some(StudentsT::new(0.0, 1.0, degrees).ok()?.inverse_cdf(0.975));
    let reach = t(degrees)? * standard_error;
    // With three PCs one degree of freedom is left for the next.
    let next = t(degrees - 1.0)? * (variance + standard_error * standard_error).sqrt();
    Some(Pooled {
        pcs: effects.len(),
        mean,
        standard_error,
        interval: (mean - reach, mean + reach),
        prediction: (mean - next, mean + next),
        between_pcs: variance.sqrt(),
        below_zero: effects.iter().filter(|one| one.estimate < 0.0).count(),
    })
}

/// The weighted mean, the sum of the weights, and the weighted squares around the mean, `Q`.
fn weighted(effects: &[PcEffect], variance: f64) -> (f64, f64, f64) {
    let weight = |one: &PcEffect| 1.0 / (one.standard_error * one.standard_error + variance);
    let weights: f64 = effects.iter().map(weight).sum();
    let mean = effects.iter().map(|one| weight(one) * one.estimate).sum::<f64>() / weights;
    let spread =
        effects.iter().map(|one| weight(one) * (one.estimate - mean) * (one.estimate - mean)).sum();
    (mean, weights, spread)
}

/// The variance between PCs at which `Q` is what it should be; 0 where it is less without any.
fn between_variance(effects: &[PcEffect], degrees: f64) -> f64 {
    let excess = |variance: f64| weighted(effects, variance).2 - degrees;
    if excess(0.0) <= 0.0 {
        return 0.0;
    }
    // Q falls as the variance rises: an upper end is found by doubling, and the root between by halving.
    let mut high = 1e-6;
    while excess(high) > 0.0 {
        high *= 2.0;
    }
    let mut low = 0.0;
    // Each halving gains a bit; twice as many as a number has are enough for any scale.
    for _ in 0..128 {
        let middle = low + (high - low) / 2.0;
        if excess(middle) > 0.0 {
            low = middle;
        } else {
            high = middle;
        }
    }
    low + (high - low) / 2.0
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::SeedableRng as _;
    use rand_distr::{Distribution as _, Normal};

    fn pooled(estimates: &[f64], errors: &[f64]) -> Pooled {
        let effects: Vec<_> = estimates
            .iter()
            .zip(errors)
            .map(|(estimate, error)| PcEffect { estimate: *estimate, standard_error: *error })
            .collect();
        pool(&effects).unwrap()
    }

    fn close(given: f64, expected: f64) {
        assert!((given - expected).abs() < 1e-6, "{given} is not {expected}");
    }

    #[test]
    fn the_reference_figures_are_reproduced() {
        let six = pooled(
            &[0.021, 0.034, -0.002, 0.015, 0.041, 0.008],
            &[0.004, 0.006, 0.005, 0.003, 0.009, 0.006],
        );
        close(six.mean, 0.018_726_3);
        close(six.between_pcs.powi(2), 0.000_211_79);
        close(six.standard_error, 0.006_372_0);
        close(six.interval.0, 0.002_346_6);
        close(six.interval.1, 0.035_106_0);
        close(six.prediction.0, -0.025_382_7);
        close(six.prediction.1, 0.062_835_3);
        assert_eq!((six.pcs, six.below_zero), (6, 1));
        let alike = pooled(&[0.012, 0.010, 0.014, 0.009], &[0.006; 4]);
        assert_eq!(alike.between_pcs, 0.0);
        close(alike.mean, 0.011_25);
        close(alike.standard_error, 0.003);
        close(alike.interval.0, 0.001_702_7);
        close(alike.interval.1, 0.020_797_3);
        close(alike.prediction.0, -0.001_658_0);
        close(alike.prediction.1, 0.024_158_0);
    }

    #[test]
    fn few_pcs_and_unsound_effects_are_not_pooled() {
        let one = PcEffect { estimate: 0.01, standard_error: 0.01 };
        assert_eq!(pool(&[one, one]), None);
        for bad in [0.0, f64::NAN, f64::INFINITY] {
            assert_eq!(pool(&[one, one, PcEffect { standard_error: bad, ..one }]), None);
        }
        assert!(pool(&[one, one, one]).is_some());
    }

    /// Eight PCs that differ by 1.2 %: the interval covers in 94.8 %, the prediction in 93.2 %.
    #[test]
    fn the_next_pc_lies_where_it_is_expected_to() {
        let mut rng = rand_pcg::Pcg64::seed_from_u64(3);
        let (truth, between) = (0.02, 0.012);
        let of_pcs = Normal::new(truth, between).unwrap();
        let (mut mean_covered, mut next_covered, times) = (0, 0, 2000);
        for _ in 0..times {
            let effects: Vec<PcEffect> = (0..8)
                .map(|pc| {
                    let error = 0.003 + 0.006 * f64::from(pc) / 7.0;
                    let own: f64 = of_pcs.sample(&mut rng);
                    let estimate = Normal::new(own, error).unwrap().sample(&mut rng);
                    PcEffect { estimate, standard_error: error }
                })
                .collect();
            let pooled = pool(&effects).unwrap();
            let inside = |(low, high): (f64, f64), value: f64| low <= value && value <= high;
            mean_covered += u32::from(inside(pooled.interval, truth));
            next_covered += u32::from(inside(pooled.prediction, of_pcs.sample(&mut rng)));
        }
        let share = |count: u32| f64::from(count) / f64::from(times);
        assert!((share(mean_covered) - 0.948).abs() < 0.02, "{}", share(mean_covered));
        assert!((share(next_covered) - 0.932).abs() < 0.02, "{}", share(next_covered));
    }
}
