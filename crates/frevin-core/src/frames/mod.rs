//! Frame times: reading logs of them and computing what is worth knowing about a run.
//!
//! [`read_log`] turns the bytes of a log, whatever its dialect, into a [`FrameSeries`]; [`metrics`] computes
//! every figure of a run from it, each by the definition in its documentation.

mod blocks;
mod cap;
mod conditions;
mod lanes;
mod log;
mod metrics;
pub mod presents;
mod ranks;
mod series;
mod stutter;

pub use blocks::FrameBlocks;
pub use cap::FrameCap;
pub use conditions::{Pause, Phase, RunConditions, ShownConditions};
pub use log::{
    Holds, LogError, LogOptions, LogReading, RejectedRow, TimeUnit, read_log, read_log_bytes,
};
pub use metrics::{FrameTally, Metrics, metrics, tally};
pub use series::{FrameSeries, FrameSeriesError};
pub use stutter::{StutterSummary, stutters};
