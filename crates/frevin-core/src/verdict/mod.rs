//! Verdicts: is state B of the PC different from state A, and is it worth having?
//!
//! The unit is a [`Visit`], never a frame: frames of one run are alike in ways that have nothing
//! to do with the settings, so a test over frames calls no change a change most of the time. A
//! visit of A and a visit of B make a pair; a [`Rule`] says after each pair whether enough is
//! known. Its bounds are those of a group-sequential t-test whose error over all looks together
//! is at most 5 %.

mod comparison;
mod rule;
mod sequence;

pub use comparison::{
    Comparison, Finding, Guard, GuardFinding, Margins, Primary, Verdict, Visit, VisitError, compare,
};
pub use rule::{History, LARGEST_PAIR_COUNTS, PairLimit, Rule};
pub use sequence::{Decision, Interval, Look, Sequence, Sequences};
