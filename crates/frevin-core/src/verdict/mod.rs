//! Verdicts: is state B of the PC different from state A, and is it worth having?
//!
//! The unit is a visit ([`VisitFigures`]), never a frame: frames of one run are alike in ways that have nothing
//! to do with the settings, so a test over frames calls no change a change most of the time. A
//! visit of A and a visit of B make a pair, whose differences [`frevin_stats::SequentialTest`]
//! takes one by one until enough is known.

mod comparison;
mod figures;
mod metrics;

pub use comparison::{
    Comparison, GuardFinding, Histories, LossFinding, Margins, Measured, MetricFinding, PairsOf,
    compare,
};
pub use figures::{FrameFigures, LatencyOfVisit, PingFigures, VisitError, VisitFigures};
pub use frevin_stats::{
    Decision, GuardState, History, Interval, LARGEST_PAIR_COUNTS, Loss, PairLimit, Verdict,
};
pub use metrics::{Guard, Judge, Primary};
