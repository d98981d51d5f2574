//! Trials in play: one state switched on and off in short segments while somebody plays, frames recorded without a
//! break.
//!
//! Frames become [`Segment`]s ([`Sitting`]), segments become pairs, and pairs a verdict ([`judge`]). The statistics are
//! those of [`frevin_stats::in_play`].

mod design;
mod frame_cap;
mod judging;
mod segments;
mod suitable;

pub use design::{InPlay, LEAD_IN_S, MOST_PLAY_S, PlaySource, Settling};
pub use frame_cap::looks_capped;
pub use judging::{Judged, PlayedSitting, Unjudged, judge};
pub(crate) use judging::{PlayedPair, are_too_many, pairs_of};
pub use segments::{Segment, SegmentFrames, Sitting};
pub use suitable::{NotInPlay, settling, why_not};
