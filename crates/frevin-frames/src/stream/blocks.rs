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

    /// All blocks, where they lie in memory.
    fn in_memory(&self) -> Option<Vec<&[f64]>> {
        None
    }
}

impl FrameBlocks for FrameSeries {
    type Error = Infallible;

    fn each_block(&self, see: &mut dyn FnMut(&[f64])) -> Result<(), Infallible> {
        see(self.frame_ms());
        Ok(())
    }

    fn in_memory(&self) -> Option<Vec<&[f64]>> {
        // Parts of it, so that several cores may have some.
        const PART: usize = 1 << 16;
        Some(self.frame_ms().chunks(PART).collect())
    }
}
