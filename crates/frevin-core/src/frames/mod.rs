//! Frame times: reading logs of them and computing what is worth knowing about a run.
//!
//! [`read_log`] turns the bytes of a log, whatever its dialect, into a [`FrameSeries`]; [`metrics`] computes
//! every figure of a run from it, each by the definition in its documentation.

mod cap;
mod log;
mod metrics;
mod series;
mod stutter;

pub use cap::{FrameCap, frame_cap};
pub use log::{Holds, LogError, LogOptions, LogReading, RejectedRow, TimeUnit, read_log};
pub use metrics::{Metrics, metrics};
pub use series::{FrameSeries, FrameSeriesError};
pub use stutter::{StutterSummary, stutters};
