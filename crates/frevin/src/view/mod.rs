//! Views: text made of plain data. Nothing is computed here that a report does not hold.
//!
//! Colour only repeats what words say already, so that everything reads without it.

mod page;
mod plots;
mod words;

pub(crate) use page::{Page, Table, bad, dim, good, strong, warn};
pub(crate) use plots::{Histogram, LongestFrames, frame_line, interval_bar, range_line};
pub(crate) use words::{bytes, count, fps, percent, settings_wait, short, shown, shown_at, when};
