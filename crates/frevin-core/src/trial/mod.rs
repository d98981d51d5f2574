//! Trials: two states of a PC visited in turns until a verdict, and the PC brought to the one that it
//! says.
//!
//! A [`Design`] is frozen when a trial begins. What has happened since is a list of [`Event`]s, and a
//! [`Trial`] is those replayed. What to do next is a pure function of both and of what the PC is like
//! ([`Trial::next`]): a trial that was interrupted anywhere goes on where it was.

mod design;
mod doubts;
mod duration;
mod ending;
mod event;
mod history;
pub mod in_play;
mod machine;

#[cfg(test)]
pub(crate) use design::sample_design;
pub use design::{Arm, ArmDesign, Design, KeepPolicy, Place, Question, TrialId};
pub use doubts::{Circumstances, doubts};
pub use duration::{Expected, Pace, Schedule, limit_within};
pub use ending::{Ending, Reason, ending};
pub use event::{Action, Doubt, Event};
pub use history::{EarlierTrial, histories};
pub use machine::{DonePair, DoneVisit, Progress, Seen, Trial};
