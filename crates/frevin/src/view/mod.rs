//! Views: text made of plain data. Nothing is computed here that a report does not hold.
//!
//! Colour only repeats what words say already, so that everything reads without it.

pub(crate) mod applied;
pub(crate) mod asked;
pub(crate) mod cautions;
pub(crate) mod environment;
pub(crate) mod evidence;
mod inspected;
pub(crate) mod loaded;
mod page;
pub(crate) mod plan;
pub(crate) mod play;
mod plots;
pub(crate) mod report;
pub(crate) mod restarted;
pub(crate) mod rolled_back;
pub(crate) mod saved;
pub(crate) mod sift;
mod terminal;
pub(crate) mod trial;
pub(crate) mod tune;
pub(crate) mod verdict;
pub(crate) mod visits;
mod words;

pub(crate) use page::{
    Page, Table, bad, dim, good, in_lines, in_lines_beside, labelled, strong, warn, written,
};
pub(crate) use plots::{frame_line, interval_bar, range_line, rows_by_length};
pub(crate) use terminal::{for_terminal, json_for_terminal};
pub(crate) use words::{
    bytes, count, duration, fps, moments_awaited, named_among, percent, short, show_waiting, shown,
    shown_at, when,
};
