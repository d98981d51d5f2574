//! Statistics: group-sequential tests with guards, medians, times of probes.
//!
//! Numbers in, numbers out: nothing here knows of settings, runs or a PC. No input or output, no
//! clock, and no randomness that is not seeded.
#![forbid(unsafe_code)]

mod guard;
pub mod in_play;
mod loss;
mod median;
pub mod pool;
mod portable;
pub mod probes;
mod rule;
mod sequence;
pub mod sift;
mod verdict;

pub use guard::{GuardLimits, GuardSequence, GuardState};
pub use loss::Loss;
pub use median::{median, median_of_sorted};
pub use portable::{normal_below, normal_gain};
pub use rule::{History, LARGEST_PAIR_COUNTS, PairLimit, Rule};
pub use sequence::{Decision, Interval, Look, Sequence, Sequences};
pub use verdict::{SequentialTest, Verdict};
