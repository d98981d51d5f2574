//! Profiles: versioned lists of tweaks with parameters, for a purpose.
//!
//! A [`Profile`] is read from a TOML document; a [`Revision`] is one saved version of it, named
//! `name@3` or by the beginning of its hash ([`RevisionName`]).

mod document;
mod fit;
mod revision;

pub use document::{Entry, Profile, ProfileName, ProfileNameError, SceneName, starting_document};
pub use fit::{ByHand, Fitting, Remark, RemarkKind, fit, remarks};
pub use revision::{ContentHash, Revision, RevisionName, RevisionNameError, Version};
