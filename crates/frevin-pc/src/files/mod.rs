//! Files of a PC that are settings, or that can be set aside.
//!
//! The same for every PC whose files Frevin can reach: only where the places lie differs. Nothing
//! here follows a link, and nothing leaves the place that an address names: folders are opened one from
//! another, and what is done is done from the open folder.

mod below;
mod folder;
mod quarantine;
mod text;
mod try_out;

pub(crate) use below::files_below;
pub use below::is_link;
pub(crate) use folder::{FolderPath, OpenFolder};
pub use folder::{MoveNew, link_and_remove};
pub(crate) use quarantine::Quarantine;
pub(crate) use text::TextFiles;
pub(crate) use try_out::try_out;
