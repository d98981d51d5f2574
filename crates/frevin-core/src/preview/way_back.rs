//! From layers that are taken out and what the PC holds to the steps of a rollback.
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::order::rank_on;
use super::readings::Readings;
use crate::layers::{Layers, Move, Selection};
use crate::setting::{Address, State};

/// What to do about a setting that somebody else has changed since.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum OnOthers {
    /// Stop and tell: nothing is written.
    Stop,
    /// Leave what others wrote, and let go of the setting.
    Keep,
    /// Overwrite it.
    Force,
}

/// One setting of a rollback.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum BackStep {
    /// The PC is written.
    Write {
        /// The setting.
        address: Address,
        /// What it holds now.
        before: State,
        /// What it holds after.
        after: State,
    },
    /// Another layer lies on top: the PC does not move.
    Beneath {
        /// The setting.
        address: Address,
        /// What it goes on holding.
        state: State,
    },
    /// The PC holds already what it should go back to.
    AlreadySo {
        /// The setting.
        address: Address,
        /// What it holds.
        state: State,
    },
    /// Somebody else has changed it, and that is kept.
    Kept {
        /// The setting.
        address: Address,
        /// What others made it hold.
        state: State,
    },
}

/// A setting that is neither what Frevin left nor what it should go back to.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Changed {
    /// What Frevin left, and what it should go back to.
    #[serde(flatten)]
    pub expected: Move,
    /// What it holds.
    pub actual: State,
}

/// What a rollback does, step by step: shown first, then carried out as it is.
#[must_use = "a way back changes nothing until it is taken"]
#[derive(Debug, Clone, PartialEq, Eq, Default, JsonSchema, Serialize)]
pub struct WayBack {
    /// The steps in the order in which they are carried out.
    pub steps: Vec<BackStep>,
    /// Settings that others changed; with any of them, nothing is carried out.
    pub changed_by_others: Vec<Changed>,
}

/// Plans the way back that takes the selected layers out. `layers` themselves do not change.
///
/// Later writes are undone first, except where the kinds need another order: values go before the
/// keys that hold them, and a service may start again before it is started.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn way_back<R: Readings>(
    selection: &Selection,
    on_others: OnOthers,
    readings: &R,
    layers: &Layers,
) -> Result<WayBack, R::Error> {
    let mut way = WayBack::default();
    let mut ranked = Vec::new();
    for step in layers.clone().take_out(selection) {
        let Move { address, from, to } = step.clone();
        let rank = rank_on(readings, &address, &to)?;
        let actual = readings.state(&address)?;
        let untouched = actual == from;
        let back_step = if from == to && untouched {
            BackStep::Beneath { address, state: actual }
        } else if actual == to {
            BackStep::AlreadySo { address, state: actual }
        } else if untouched || on_others == OnOthers::Force {
            BackStep::Write { address, before: actual, after: to }
        } else if on_others == OnOthers::Keep {
            BackStep::Kept { address, state: actual }
        } else {
            way.changed_by_others.push(Changed { expected: step, actual });
            continue;
        };
        ranked.push((rank, back_step));
    }
    ranked.sort_by_key(|(rank, _)| *rank);
    way.steps = ranked.into_iter().map(|(_, step)| step).collect();
    Ok(way)
}

#[cfg(test)]
mod tests;
