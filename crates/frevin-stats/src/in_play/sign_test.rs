//! The sign-flip test with clipped scores.

use crate::median::median;
use crate::sequence::Interval;

/// One pair's difference of logarithms, and how much of an effect shows in it.
#[derive(Debug, Clone, Copy, PartialEq)]
pub struct SignPair {
    /// B less A, of logarithms, as far as neighbours did not take the content's trend out of it.
    pub difference: f64,
    /// What an effect of 1 adds to the difference: 2/3, 1 or 4/3.
    pub gain: f64,
}

/// Pairs whose differences, less an effect that is supposed, have signs by coins alone.
#[derive(Debug, Clone, Default)]
pub struct SignTest {
    pairs: Vec<SignPair>,
}

/// Differences beyond so many robust standard deviations count as if they were there.
const CLIPPED_BEYOND: f64 = 1.5;
/// The standard deviation of a normal distribution whose absolute values have a median of 1.
const NORMAL_FROM_MEDIAN: f64 = 1.4826;
/// No effect is looked for beyond this, in logarithms.
const FARTHEST: f64 = 1.0;
/// Intervals are known to this, in logarithms.
const PRECISION: f64 = 1e-12;

impl SignTest {
    /// Takes one more pair.
    pub fn push(&mut self, pair: SignPair) {
        self.pairs.push(pair);
    }

    /// The first so many of its pairs.
    pub fn first(&self, pairs: usize) -> Self {
        Self { pairs: self.pairs.iter().take(pairs).copied().collect() }
    }

    /// How many pairs were taken.
    pub fn pairs(&self) -> usize {
        self.pairs.len()
    }

    /// What is left of each difference where the effect is `effect`.
    fn residuals(&self, effect: f64) -> Vec<f64> {
        self.pairs.iter().map(|pair| pair.difference - pair.gain * effect).collect()
    }

    /// How far the pairs speak for more than `effect`, in standard deviations of what coins do; negative where they
    /// speak for less. Large differences are clipped, so that one fight does not decide. 0 where nothing is left.
    pub fn score(&self, effect: f64) -> f64 {
        let residuals = self.residuals(effect);
        let spread = median(residuals.iter().map(|e| e.abs())).unwrap_or(0.0);
        let limit = CLIPPED_BEYOND * NORMAL_FROM_MEDIAN * spread;
        standardised(residuals.into_iter().map(|e| e.clamp(-limit, limit)))
    }

    /// The same without clipping: an effect that a few pairs carry shows in it.
    pub fn score_unclipped(&self, effect: f64) -> f64 {
        standardised(self.residuals(effect).into_iter())
    }

    /// The middle difference, whose gain is taken for 1; 0 without pairs.
    pub fn median_difference(&self) -> f64 {
        median(self.pairs.iter().map(|pair| pair.difference)).unwrap_or(0.0)
    }

    /// The mean difference over its gain, and its standard error; nothing of fewer than two pairs.
    pub fn mean(&self) -> Option<(f64, f64)> {
        let n = self.pairs.len() as f64;
        let gains: f64 = self.pairs.iter().map(|pair| pair.gain).sum();
        let mean = self.pairs.iter().map(|pair| pair.difference).sum::<f64>() / gains;
        let squares: f64 = self.residuals(mean).iter().map(|e| e * e).sum();
        (self.pairs.len() > 1).then(|| (mean, (squares / (n - 1.0) / n).sqrt()))
    }

    /// The effect that the pairs speak neither above nor below: the root of [`Self::score`].
    pub fn estimate(&self) -> f64 {
        let centre = median(self.pairs.iter().map(|pair| pair.difference / pair.gain))
            .unwrap_or(0.0)
            .clamp(-FARTHEST, FARTHEST);
        self.crossing(centre, 0.0)
    }

    /// The effects that the pairs do not speak against by more than `quantile`, as shares of A.
    pub fn interval(&self, quantile: f64) -> Interval {
        let estimate = self.estimate();
        Interval {
            low: self.crossing(estimate, quantile).exp_m1(),
            estimate: estimate.exp_m1(),
            high: self.crossing(estimate, -quantile).exp_m1(),
        }
    }

    /// Where the score crosses a level, the nearest to `from`: sought outwards in small steps, since the clipped score
    /// need not fall all the way, then by bisection. The farthest effect where it does not cross.
    fn crossing(&self, from: f64, level: f64) -> f64 {
        /// So many steps to the farthest effect; near `from` they are smaller.
        const STEPS: usize = 400;
        let is_above = |effect: f64| self.score(effect) > level;
        let outwards = if is_above(from) { 1.0 } else { -1.0 };
        let reach = FARTHEST - outwards * from;
        let mut inner = from;
        for step in 1..=STEPS {
            // Steps that grow: as fine near the estimate as intervals of many pairs are narrow.
            let share = step as f64 / STEPS as f64;
            let outer = from + outwards * reach * share * share * share;
            if is_above(outer) != is_above(from) {
                return self.bisected(inner, outer, level);
            }
            inner = outer;
        }
        outwards * FARTHEST
    }

    fn bisected(&self, mut inner: f64, mut outer: f64, level: f64) -> f64 {
        let side = self.score(inner) > level;
        while (outer - inner).abs() > PRECISION {
            let middle = f64::midpoint(inner, outer);
            if (self.score(middle) > level) == side { inner = middle } else { outer = middle }
        }
        f64::midpoint(inner, outer)
    }
}

/// The sum of independent values over its standard deviation where only their signs are by chance; 0 where all are 0.
fn standardised(values: impl Iterator<Item = f64>) -> f64 {
    let (sum, squares) =
        values.fold((0.0, 0.0), |(sum, squares), value| (sum + value, squares + value * value));
    if squares == 0.0 { 0.0 } else { sum / squares.sqrt() }
}

#[cfg(test)]
mod tests {
    use super::*;

    const THIRDS: [f64; 4] = [2.0 / 3.0, 1.0, 4.0 / 3.0, 1.0];

    fn near(value: f64, expected: f64) {
        assert!((value - expected).abs() <= 1e-6, "{value}, not {expected}");
    }

    fn of(differences: &[f64], gains: &[f64]) -> SignTest {
        let mut test = SignTest::default();
        for (index, difference) in differences.iter().enumerate() {
            let gain = gains.get(index).copied().unwrap_or(1.0);
            test.push(SignPair { difference: *difference, gain });
        }
        test
    }

    /// The first vector of the study: equal gains, one pair far out.
    #[test]
    fn the_first_vector_is_reproduced() {
        let test = of(
            &[
                0.031, -0.042, 0.085, 0.012, 0.057, -0.013, 0.044, 0.390, 0.021, -0.008, 0.066,
                0.029,
            ],
            &[],
        );
        near(test.score(0.0), 2.182_747);
        near(test.score(1.01_f64.ln()), 1.625_705);
        near(test.score(-1.01_f64.ln()), 2.548_453);
        near(test.score_unclipped(0.0), 1.614_480);
        near(test.estimate(), 0.032_400);
        let interval = test.interval(2.5);
        near(interval.low.ln_1p(), -0.008_226);
        near(interval.high.ln_1p(), 0.166_834);
    }

    /// The second: gains of 2/3, 1 and 4/3.
    #[test]
    fn the_second_vector_is_reproduced() {
        let [low, one, high, _] = THIRDS;
        let gains =
            [one, high, one, low, one, one, high, one, low, one, high, one, low, one, one, high];
        let test = of(
            &[
                0.080, -0.061, 0.102, 0.044, -0.150, 0.071, 0.033, 0.095, -0.024, 0.058, 0.127,
                -0.310, 0.049, 0.011, 0.066, 0.088,
            ],
            &gains,
        );
        near(test.score(0.0), 1.271_101);
        near(test.score(1.01_f64.ln()), 0.959_885);
        near(test.score(-1.01_f64.ln()), 1.519_035);
        near(test.score_unclipped(0.0), 0.638_548);
        near(test.estimate(), 0.043_833);
        let interval = test.interval(2.5);
        near(interval.low.ln_1p(), -0.069_370);
        near(interval.high.ln_1p(), 0.081_114);
    }

    #[test]
    fn where_nothing_is_left_nothing_is_said() {
        assert_eq!(of(&[0.0; 12], &[]).score(0.0), 0.0);
        near(of(&[0.0; 12], &[]).estimate(), 0.0);
        assert_eq!(SignTest::default().score(0.0), 0.0);
        assert_eq!(of(&[0.1], &[]).mean(), None);
        let (mean, error) = of(&[0.1, 0.3], &[]).mean().unwrap();
        near(mean, 0.2);
        near(error, 0.1);
    }
}
