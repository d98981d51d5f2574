//! Logs longer than memory: pieces that end where rows end, read on every core, joined in order.

pub(super) mod join;
pub(super) mod source;
