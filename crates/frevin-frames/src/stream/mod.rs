//! Runs longer than memory: frames in blocks, exact ranks by counting, sums over lanes.
//!
//! Nothing here has to be read to add a figure: a run of ordinary length is one block.

pub(crate) mod blocks;
pub(crate) mod lanes;
pub(crate) mod ranks;
