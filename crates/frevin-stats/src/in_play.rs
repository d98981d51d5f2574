//! Verdicts in ordinary play: a tweak is switched on and off in short segments, in an order that coins decide.
//!
//! What happens in a game moves its frames far more than a tweak does, so nothing is assumed of it: a pair's
//! difference would have the other sign had its coin fallen otherwise, and that is all that the test rests on
//! (section 2b of the project's study of verdicts in play).

mod content;
mod pairs;
mod sign_test;
mod simulated;
mod test;

pub use content::{Content, ContentKind, MOMENT_S, Moment};
pub use pairs::{InPlayPair, SegmentFigures, State, pair_of_segments};
pub use sign_test::{SignPair, SignTest};
pub use simulated::{SimulatedTrial, simulated_figure, simulated_trial};
pub use test::{InPlayLimit, InPlayPrimary, InPlayTest, InPlayVeto};
