//! How fast and how surely something in a network stats.

use crate::median_of_sorted;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// Normal quantile of a 95 % interval.
const Z_95: f64 = 1.959_963_984_540_054;
/// A server that loses more of what it is asked is behind all that lose less, however fast it is.
const TOLERATED_LOSS: f64 = 0.02;

/// Statistics of probes that were sent one after another.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct ProbeStats {
    /// Probes that were sent.
    pub sent: u32,
    /// How many of them were answered in time.
    pub answered: u32,
    /// How many were answered in time with a refusal: something is there, and wants no connection.
    #[serde(default)]
    pub refused: u32,
    /// Times of what was answered; nothing where nothing was.
    pub times: Option<ResponseTimes>,
}

/// Times from a probe to its answer, in milliseconds.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize, Deserialize)]
pub struct ResponseTimes {
    /// The mean.
    pub average_ms: f64,
    /// The median.
    pub median_ms: f64,
    /// A 95 % interval of the median, by the ranks that a binomial distribution gives: it supposes
    /// nothing about how the times are distributed. The shortest and the longest where they are few.
    pub median_from_ms: f64,
    /// Its upper end.
    pub median_to_ms: f64,
    /// The 95th percentile, the quantile of type 7 of Hyndman and Fan; nothing where an earlier Frevin did
    /// not keep it.
    #[serde(default)]
    pub percentile_95_ms: Option<f64>,
    /// Spread: the standard deviation, over `n - 1`; 0 for one.
    pub spread_ms: f64,
    /// The shortest.
    pub shortest_ms: f64,
    /// The longest.
    pub longest_ms: f64,
}

impl ProbeStats {
    /// The same, of which so many were refusals.
    #[must_use]
    pub fn with_refused(self, refused: u32) -> Self {
        Self { refused, ..self }
    }

    /// What probes came to, each with its time in milliseconds or nothing where it was lost.
    pub fn of(probes: &[Option<f64>]) -> Self {
        let mut ms: Vec<f64> = probes.iter().copied().flatten().collect();
        ms.sort_by(f64::total_cmp);
        let count = |length: usize| u32::try_from(length).unwrap_or(u32::MAX);
        Self { sent: count(probes.len()), answered: count(ms.len()), refused: 0, times: times(&ms) }
    }

    /// The share of probes that were lost.
    pub fn loss(&self) -> f64 {
        if self.sent == 0 { 0.0 } else { 1.0 - f64::from(self.answered) / f64::from(self.sent) }
    }

    /// The order in which servers with these answers are to be preferred: first those that lose little, then
    /// by their medians. What answers nothing comes last.
    pub fn is_better_than(&self, other: &Self) -> std::cmp::Ordering {
        let key = |stats: &Self| {
            let median_ms = stats.times.map_or(f64::INFINITY, |times| times.median_ms);
            let loss = if stats.loss() <= TOLERATED_LOSS { 0.0 } else { stats.loss() };
            (loss, median_ms)
        };
        let (own, others) = (key(self), key(other));
        own.0.total_cmp(&others.0).then(own.1.total_cmp(&others.1))
    }

    /// Whether the measurement leaves open which of two is faster: their intervals overlap, and neither
    /// loses much.
    pub fn is_as_good_as(&self, other: &Self) -> bool {
        let (Some(own), Some(others)) = (self.times, other.times) else { return false };
        let is_sure = |stats: &Self| stats.loss() <= TOLERATED_LOSS;
        is_sure(self) == is_sure(other)
            && own.median_from_ms <= others.median_to_ms
            && others.median_from_ms <= own.median_to_ms
    }
}

fn times(ascending_ms: &[f64]) -> Option<ResponseTimes> {
    let (shortest_ms, longest_ms) = (*ascending_ms.first()?, *ascending_ms.last()?);
    let count = ascending_ms.len() as f64;
    let average_ms = ascending_ms.iter().sum::<f64>() / count;
    let squares: f64 = ascending_ms.iter().map(|ms| (ms - average_ms).powi(2)).sum();
    let median_ms = median_of_sorted(ascending_ms)?;
    let half = Z_95 * count.sqrt() / 2.0;
    let last = ascending_ms.len() - 1;
    let below = (count / 2.0 - half).floor().max(0.0) as usize;
    let above = ((count / 2.0 + half).ceil() as usize).min(last);
    Some(ResponseTimes {
        average_ms,
        median_ms,
        median_from_ms: ascending_ms[below],
        median_to_ms: ascending_ms[above],
        percentile_95_ms: Some(quantile_of_sorted(ascending_ms, 0.95)),
        spread_ms: if count > 1.0 { (squares / (count - 1.0)).sqrt() } else { 0.0 },
        shortest_ms,
        longest_ms,
    })
}

/// The quantile of type 7 of Hyndman and Fan: at h = (n-1)p, linear between neighbours.
fn quantile_of_sorted(ascending: &[f64], p: f64) -> f64 {
    let h = (ascending.len() - 1) as f64 * p;
    let (below, share) = (h.floor() as usize, h.fract());
    let above = (below + 1).min(ascending.len() - 1);
    ascending[below] + share * (ascending[above] - ascending[below])
}

#[cfg(test)]
mod tests {
    use super::*;
    use rand::{RngExt as _, SeedableRng as _};

    fn steady(ms: f64, lost: usize) -> ProbeStats {
        let mut probes: Vec<Option<f64>> =
            (0..100_u32).map(|i| Some(ms + f64::from(i % 10) / 10.0)).collect();
        probes[..lost].fill(None);
        ProbeStats::of(&probes)
    }

    #[test]
    fn times_follow_their_definitions() {
        let stats = ProbeStats::of(&[Some(4.0), None, Some(1.0), Some(2.0), Some(3.0)]);
        assert_eq!((stats.sent, stats.answered), (5, 4));
        assert!((stats.loss() - 0.2).abs() < 1e-12);
        let times = stats.times.unwrap();
        assert_eq!((times.average_ms, times.median_ms), (2.5, 2.5));
        assert!((times.percentile_95_ms.unwrap() - 3.85).abs() < 1e-12);
        assert!((times.spread_ms - (5.0_f64 / 3.0).sqrt()).abs() < 1e-12);
        assert_eq!((times.median_from_ms, times.median_to_ms), (1.0, 4.0));
        assert_eq!(ProbeStats::of(&[None, None]).times, None);
    }

    #[test]
    fn the_interval_holds_the_median_about_as_often_as_it_says() {
        let mut chance = rand_pcg::Pcg64Mcg::seed_from_u64(3);
        let mut held = 0;
        for _ in 0..2000 {
            // The median of an exponential distribution is ln 2.
            let probes: Vec<_> =
                (0..40).map(|_| Some(-f64::ln(1.0 - chance.random::<f64>()))).collect();
            let times = ProbeStats::of(&probes).times.unwrap();
            let median = std::f64::consts::LN_2;
            held += u32::from((times.median_from_ms..=times.median_to_ms).contains(&median));
        }
        assert!((1880..=1980).contains(&held), "{held} of 2000");
    }

    #[test]
    fn fast_and_sure_comes_before_fast_and_before_sure() {
        let (fast, slow, leaky, dead) =
            (steady(5.0, 1), steady(20.0, 0), steady(4.0, 30), steady(1.0, 100));
        let mut servers = [dead, leaky, slow, fast];
        servers.sort_by(ProbeStats::is_better_than);
        assert_eq!(servers, [fast, slow, leaky, dead]);
        assert!(fast.is_as_good_as(&steady(5.1, 0)) && !fast.is_as_good_as(&slow));
        assert!(!fast.is_as_good_as(&leaky) && !dead.is_as_good_as(&dead));
    }
}
