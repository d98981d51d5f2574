//! Frames that are gone through a block at a time, so that a run may be longer than memory.

use std::convert::Infallible;

use crate::series::FrameSeries;

/// The frame times of a run, in milliseconds and in order, that can be gone through as often as is
/// needed. There is at least one; each is finite and above zero, as in a [`FrameSeries`].
pub trait FrameBlocks {
    /// Why they could not be had.
    type Error;

    /// Shows every frame once, in blocks of any length.
    ///
    /// # Errors
    /// Where a block cannot be had; some have been shown by then.
    fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> Result<(), Self::Error>;
}

impl FrameBlocks for FrameSeries {
    type Error = Infallible;

    fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> Result<(), Infallible> {
        see(self.frame_ms());
        Ok(())
    }
}
