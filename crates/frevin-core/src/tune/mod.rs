//! An evening: what the minutes that there are can find out of many candidates, and in which order.
//!
//! A candidate is worth asking about where the answer may change what is kept. [`plan`] gives a budget to those of
//! which most is expected; carrying it out is a sift with a trial at its end.

mod belief;
mod evening;
mod plan;
mod play;

pub use belief::{Belief, belief};
#[cfg(test)]
pub(crate) use evening::sample_evening;
pub use evening::{AskedInRuns, Evening, EveningPart, Goal, Mended, PlayedFirst};
pub use plan::{
    EveningCosts, EveningPlan, EveningQuestion, NoEvening, TuneCandidate, plan, plan_proof,
};
pub use play::{PlayCosts, PlayPlan, plan_play};
