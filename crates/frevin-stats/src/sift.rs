//! Sifting: which of many on-off factors move a figure, from few measurements.
//!
//! Each row of a design switches about half of the factors on. All of them are estimated at once, each from all
//! rows, by a regression under a prior that most effects are none (`chain`). The rule looks after every fourth row and
//! stops when each factor is either sure to help or to hurt, or sure not to matter. While somebody plays, pairs of short
//! segments take the place of rows (`pairs`).

mod chain;
mod design;
mod effects;
mod found;
mod hadamard;
mod matrix;
mod pairs;
mod session;

pub use chain::Posterior;
pub use design::{Factors, FactorsError, Rows};
pub use effects::{Effect, Interaction};
pub use found::Found;
pub use pairs::{
    PairNeighbours, PairRule, PairSifting, SiftedPair, SimulatedSift, SmallestEffect,
    simulated_sift,
};
pub use session::{Due, SiftRule, Sifting};

/// The spread of effects that matter, as the prior has it: 3.5 %.
const EFFECT_SPREAD: f64 = 0.035;
/// Degrees of freedom of what is known of the variance beforehand.
const PRIOR_DEGREES: f64 = 8.0;
/// An effect worth having.
const WORTH_HAVING: f64 = 0.02;
/// The standard deviation of a row where no earlier sift tells it: 1 %.
pub const USUAL_ROW_SPREAD: f64 = 0.01;
/// No more rows than this.
pub const MOST_ROWS: usize = 64;
/// No more columns than this.
pub const MOST_COLUMNS: usize = 60;
/// No look before this many rows, and one after every [`LOOK_EVERY`] from then on.
pub const FIRST_LOOK: usize = 8;
/// Rows from look to look.
pub const LOOK_EVERY: usize = 4;

#[cfg(test)]
mod tests;
