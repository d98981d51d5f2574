//! Frame times: reading logs of them and computing what is worth knowing about a run.
//!
//! [`read_log`] turns the bytes of a log, whatever its dialect, into a [`FrameSeries`]; [`metrics`] computes
//! every figure of a run from it, each by the definition in its documentation. The crate does no
//! input or output of its own and knows nothing of settings or PCs.
#![forbid(unsafe_code)]

mod cap;
mod conditions;
mod layout;
mod log;
mod metrics;
pub mod presents;
mod series;
mod shape;
mod stream;
mod stutter;

pub use cap::FrameCap;
pub use conditions::{DetectedConditions, Pause, Phase, RunConditions};
pub use layout::{BadLayout, FrameLayout, lay_out, little_endian};
pub use log::{
    ColumnKind, KeepFrames, LatencyFigures, Levels, LogError, LogOptions, LogReading, LogReadings,
    LogSource, RejectedRow, TimeUnit, read_log, read_log_bytes,
};
pub use metrics::{FIGURES_VERSION, FrameTally, Metrics, metrics, tally};
pub use series::{FrameSeries, FrameSeriesError};
pub use shape::{FrameShape, LengthBin, ShapeOf, Stretch};
pub use stream::blocks::FrameBlocks;
pub use stutter::{StutterSummary, stutters};
