//! Profiles: versioned lists of tweaks with parameters, for a purpose.
//!
//! A [`Profile`] is read from a TOML document; a [`Revision`] is one saved version of it, named
//! `name@3` or by the beginning of its hash ([`RevisionName`]).

mod difference;
mod document;
mod edit;
mod fit;
mod inherit;
mod lint;
mod playing;
mod privacy;
mod ready_made;
mod revision;

pub use crate::ids::{NameError, ProfileName, SceneName};
pub use difference::{WantedBy, WishDifference, wish_differences};
pub use document::{Base, Entry, Profile, Without, starting_document};
pub use edit::{EditError, with_entry, without_tweak};
pub use fit::{ByHand, Fitting, fit};
pub use inherit::{NoBase, stand_alone};
pub use lint::{Against, Remark, RemarkKind, remarks};
pub use playing::{Playing, PurgeFormulas, USUAL_OTHERS_S, size_mib};
pub use privacy::without_private;
pub use ready_made::{ReadyMade, ready_made};
pub use revision::{ContentHash, Revision, RevisionName, RevisionNameError, Version};
