//! Files of a PC that are settings, or that can be set aside.
//!
//! The same for every PC whose files Frevin can reach: only where the places lie differs. Nothing
//! here follows a link, and nothing leaves the place that an address names.

mod below;
mod quarantine;
mod text;

pub(crate) use below::files_below;
pub use below::is_link;
pub(crate) use quarantine::Quarantine;
pub(crate) use text::TextFiles;
