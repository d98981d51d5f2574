//! Tweaks: named, documented changes of one or more settings, with parameters.
//!
//! A definition is a TOML file of the catalogue ([`Catalogue`]). Read and checked once, a
//! [`Tweak`] answers two questions: does it fit this PC, and which settings does it want there.

mod catalogue;
mod definition;
mod parameter;
mod reading;
mod suspects;
mod target;
mod usage;
mod whereabouts;

pub use catalogue::{Catalogue, CatalogueError};
pub use definition::{
    BuildRange, Condition, Danger, Manual, Risk, SettingSpec, SettingsPage, Source, Standing,
    Tweak, TweakId, TweakIdError, Wanted,
};
pub use parameter::{Argument, Arguments, Choice, Parameter, ParameterKind, check_argument};
pub use suspects::speaks_of_symptom;
pub(crate) use target::bytes_of;
pub use target::state_from_words;
pub(crate) use target::written;
pub use usage::TweakUse;
pub use whereabouts::{ComputedAddress, Whereabouts};
