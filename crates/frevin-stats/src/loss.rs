//! Losses: whether more is lost in one state than in another.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use statrs::distribution::{DiscreteCDF as _, Hypergeometric};

/// Probes that were sent, and those of them that were lost.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Loss {
    /// Sent.
    pub sent: u64,
    /// Lost.
    pub lost: u64,
}

/// A rise of the share that is lost by no more than this does not matter.
const RISE_THAT_MATTERS: f64 = 0.01;
/// The chance of taking no rise for one.
const ERROR: f64 = 0.01;

impl Loss {
    /// The share that was lost; 0 of nothing.
    pub fn share(self) -> f64 {
        if self.sent == 0 { 0.0 } else { self.lost as f64 / self.sent as f64 }
    }

    /// Both together.
    #[must_use]
    pub fn and(self, other: Self) -> Self {
        Self { sent: self.sent + other.sent, lost: self.lost + other.lost }
    }

    /// Whether more is lost in `other`: by more than one in a hundred, and significantly so by Fisher's
    /// exact test at 1 %, one-sided.
    pub fn rises_to(self, other: Self) -> bool {
        if other.share() - self.share() <= RISE_THAT_MATTERS {
            return false;
        }
        let both = self.and(other);
        // Of all probes, those that were lost fell among the other's as if drawn by lot.
        let Ok(lot) = Hypergeometric::new(both.sent, both.lost, other.sent) else { return false };
        other.lost > 0 && lot.sf(other.lost - 1) < ERROR
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_rise_has_to_matter_and_to_be_no_chance() {
        let of = |sent, lost| Loss { sent, lost };
        // P(X >= 9) with 9 of 1000 lost, all in one half, is 0.0019; with 6 it is 0.0155.
        assert!(of(500, 0).rises_to(of(500, 9)));
        assert!(!of(500, 0).rises_to(of(500, 6)));
        assert!(!of(100_000, 0).rises_to(of(100_000, 900)), "less than one in a hundred");
        assert!(!of(500, 9).rises_to(of(500, 0)));
        assert!(!of(0, 0).rises_to(of(0, 0)));
    }
}
