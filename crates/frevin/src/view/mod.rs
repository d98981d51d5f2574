//! Views: text made of plain data. Nothing is computed here that a report does not hold.
//!
//! Colour only repeats what words say already, so that everything reads without it.

mod page;
mod plots;
mod words;

pub(crate) use page::{Page, Table, bad, dim, good, strong, warn};
pub(crate) use plots::{frame_line, histogram, interval_bar};
pub(crate) use words::{bytes, count, fps, percent, settings_wait, short, shown, shown_at, when};
