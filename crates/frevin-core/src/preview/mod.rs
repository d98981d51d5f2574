//! Previews: what a set of tweaks would change on this PC now, step by step.
//!
//! A [`Plan`] is computed once from what the PC holds, shown, and then carried out as it is. What
//! the PC holds comes in through [`Readings`], so that nothing here touches a PC.

mod drift;
mod order;
mod plan;
mod readings;
mod switch;
mod undo;
mod way_back;

pub use drift::{Drifted, back_to_ours, drift};
pub use order::in_writing_order;
pub use plan::{
    Action, Conflict, Denied, LeftOut, Plan, PlanError, Reason, Refusal, Step, Wish, plan,
};
pub use readings::Readings;
pub use switch::switch;
pub use undo::{Undoing, undoing};
pub use way_back::{BackStep, Changed, OnOthers, WayBack, way_back};
