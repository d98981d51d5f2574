//! What a look finds of one column.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::chain::Posterior;

/// What was found of one column.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Found {
    /// It raises the figure.
    Helps,
    /// It lowers it.
    Hurts,
    /// No effect worth having.
    NoEffect,
    /// Neither was sure at the end.
    Unclear,
}

impl Found {
    /// Whether there is an effect.
    pub fn is_flagged(self) -> bool {
        match self {
            Self::Helps | Self::Hurts => true,
            Self::NoEffect | Self::Unclear => false,
        }
    }
}

/// From when on a column is sure.
#[derive(Debug, Clone, Copy)]
pub(super) struct Limits {
    /// There is an effect from this chance of its sign on, however small it is.
    pub(super) flagged_above: f64,
    /// There is none worth having below this chance of it.
    pub(super) cleared_below: f64,
}

impl Limits {
    pub(super) fn found(self, one: &Posterior) -> Found {
        if one.above_zero > self.flagged_above {
            Found::Helps
        } else if one.below_zero > self.flagged_above {
            Found::Hurts
        } else if one.worth_having < self.cleared_below {
            Found::NoEffect
        } else {
            Found::Unclear
        }
    }
}
