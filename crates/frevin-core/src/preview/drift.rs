//! Drift: settings that are no longer what Frevin left them at.
use schemars::JsonSchema;
use serde::Serialize;

use super::order::in_writing_order;
use super::readings::Readings;
use super::way_back::BackStep;
use crate::layers::{Layer, Layers};
use crate::setting::{Address, State};

/// A setting that is no longer what Frevin left it at.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Drifted {
    /// The setting.
    pub address: Address,
    /// What Frevin left, and for which tweak of which change.
    pub left: Layer,
    /// What it held before Frevin first touched it.
    pub original: State,
    /// What it holds now.
    pub actual: State,
}

/// Every setting under `layers` that does not hold what its top layer says.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn drift<R: Readings>(readings: &R, layers: &Layers) -> Result<Vec<Drifted>, R::Error> {
    let mut drifted = Vec::new();
    for (address, stack) in layers.iter() {
        let Some(top) = stack.layers.last() else { continue };
        let actual = readings.state(address)?;
        if actual != top.state {
            drifted.push(Drifted {
                address: address.clone(),
                left: top.clone(),
                original: stack.original.clone(),
                actual,
            });
        }
    }
    Ok(drifted)
}

/// The steps that put drifted settings back to what Frevin left them at.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn back_to_ours<R: Readings>(
    drifted: &[Drifted],
    readings: &R,
) -> Result<Vec<BackStep>, R::Error> {
    let wanted = drifted.iter().map(|d| (d.address.clone(), d.left.state.clone())).collect();
    let ordered = in_writing_order(wanted, readings)?;
    let write = |(address, after): (Address, State)| {
        let before = drifted.iter().find(|d| d.address == address)?.actual.clone();
        Some(BackStep::Write { address, before, after })
    };
    Ok(ordered.into_iter().filter_map(write).collect())
}
