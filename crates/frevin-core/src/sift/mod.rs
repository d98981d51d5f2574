//! Sifts: which of many tweaks matter on a PC, found from configurations that switch about half of them on.
//!
//! As with trials, a [`SiftDesign`] is frozen when a sift begins, what has happened since is a list of [`SiftEvent`]s,
//! and a [`Sift`] is those replayed: [`Sift::next`] says what to do on a PC that is like it is. Rows, looks and the end are
//! those of [`frevin_stats::sift`]. At the end a trial compares what helped with the PC as it was.

mod columns;
mod design;
mod event;
mod in_play;
mod machine;

pub use columns::{Candidate, Columns, NotBeside, columns, independent};
pub use design::{Configuration, Pinging, SiftDesign, SiftId, SiftedTweak};
pub use event::{RowFigures, SiftAction, SiftEvent};
pub use frevin_stats::sift::{
    Due, Effect, FIRST_LOOK, Factors, FactorsError, Found, Interaction, LOOK_EVERY, MOST_COLUMNS,
    MOST_ROWS, PairSifting, Posterior, SiftRule, Sifting, SmallestEffect, USUAL_ROW_SPREAD,
};
pub use in_play::{PlayedSift, SiftInPlay};
pub use machine::{FoundTweak, SeenBySift, Sift, SiftProgress, ToCome, TogetherFound};
