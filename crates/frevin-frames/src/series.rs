//! A run's frame times.

use thiserror::Error;

/// The frame times of one run in the order in which they were shown: at least one, each finite
/// and above zero, in milliseconds.
#[derive(Debug, Clone, PartialEq)]
pub struct FrameSeries {
    frame_ms: Vec<f64>,
}

/// Why numbers are not a run's frame times.
#[derive(Debug, Clone, Copy, PartialEq, Error)]
pub enum FrameSeriesError {
    /// There are none.
    #[error("a run needs at least one frame")]
    Empty,
    /// One of them is no time that a frame can take.
    #[error("frame {index} takes {frame_ms} ms, which no frame does")]
    Impossible {
        /// Its place in the run, from 0.
        index: usize,
        /// What stands there.
        frame_ms: f64,
    },
}

impl FrameSeries {
    /// A run of these frame times.
    ///
    /// # Errors
    /// Where there are none, or one is not finite and above zero.
    pub fn new(frame_ms: Vec<f64>) -> Result<Self, FrameSeriesError> {
        if frame_ms.is_empty() {
            return Err(FrameSeriesError::Empty);
        }
        // Most runs are sound: a stretch is looked at as a whole before each of its frames is.
        const STRETCH: usize = 1024;
        for (stretch, frames) in frame_ms.chunks(STRETCH).enumerate() {
            if frames.iter().fold(true, |sound, t| sound & is_frame_time(*t)) {
                continue;
            }
            if let Some(at) = frames.iter().position(|t| !is_frame_time(*t)) {
                let (index, frame_ms) = (stretch * STRETCH + at, frames[at]);
                return Err(FrameSeriesError::Impossible { index, frame_ms });
            }
        }
        Ok(Self { frame_ms })
    }

    /// The frame times in milliseconds, in order.
    pub fn frame_ms(&self) -> &[f64] {
        &self.frame_ms
    }

    /// The frame times in milliseconds, in order, for good.
    pub fn into_frame_ms(self) -> Vec<f64> {
        self.frame_ms
    }

    /// How long the run lasted, in milliseconds.
    pub fn total_ms(&self) -> f64 {
        self.frame_ms.iter().sum()
    }
}

/// Whether a number can be a frame time in milliseconds.
pub(super) fn is_frame_time(ms: f64) -> bool {
    // Nothing is above the greatest number but what is infinite, and NaN compares with nothing.
    (ms > 0.0) & (ms <= f64::MAX)
}
