//! Identifiers and names, each a type of its own, so that none is taken for another.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// An identifier that no other PC has.
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct PcId(String);

/// One start of a PC: another value after every restart.
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct BootId(String);

/// One start of what a setting waits for: of the PC, a sign-in, a program, a service, a device.
/// Two are the same start where they are equal; no order and no time is in them.
#[derive(Debug, Clone, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct StartId(String);

/// The number of an operation in its ledger: what was done to a PC or recorded on it, in the order
/// in which it was done. The only order there is; times are for people.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct OperationId(pub i64);

/// Digest of the states that Frevin's layers hold on a PC: equal where the same settings hold the
/// same states.
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct StateDigest(String);

macro_rules! opaque {
    ($($name:ident),*) => {$(
        impl $name {
            /// As it was told or stored.
            pub fn new(text: impl Into<String>) -> Self {
                Self(text.into())
            }

            /// As text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
    )*};
}

opaque!(PcId, BootId, StartId, StateDigest);

/// A text that is not a name.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not a name: write lower-case letters, digits and hyphens, at most 60")]
pub struct NameError(String);

fn check_name(text: &str) -> Result<String, NameError> {
    let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
    let is_name = !text.is_empty()
        && text.len() <= 60
        && text.chars().all(good)
        && !text.starts_with('-')
        && !is_reserved_on_windows(text);
    if is_name { Ok(text.to_owned()) } else { Err(NameError(text.to_owned())) }
}

/// Names that Windows takes for devices, whatever follows them in a file name.
fn is_reserved_on_windows(text: &str) -> bool {
    matches!(text, "con" | "prn" | "aux" | "nul")
        || (text.len() == 4
            && (text.starts_with("com") || text.starts_with("lpt"))
            && text.ends_with(|c: char| c.is_ascii_digit()))
}

macro_rules! name {
    ($($(#[$doc:meta])* $name:ident),*) => {$(
        $(#[$doc])*
        /// Lower-case letters, digits and hyphens, so that it can name a file too.
        #[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize)]
        #[serde(try_from = "String", into = "String")]
        pub struct $name(String);

        impl $name {
            /// The name as text.
            pub fn as_str(&self) -> &str {
                &self.0
            }
        }

        impl FromStr for $name {
            type Err = NameError;

            fn from_str(text: &str) -> Result<Self, Self::Err> {
                check_name(text).map(Self)
            }
        }

        impl TryFrom<String> for $name {
            type Error = NameError;

            fn try_from(text: String) -> Result<Self, Self::Error> {
                text.parse()
            }
        }

        impl From<$name> for String {
            fn from(name: $name) -> Self {
                name.0
            }
        }

        impl fmt::Display for $name {
            fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
                f.pad(&self.0)
            }
        }
    )*};
}

name!(
    /// A profile's name.
    ProfileName,
    /// A scene's name: what is measured.
    SceneName,
    /// The name that an owner gives to a state of the PC, as a label of visits.
    StateName
);

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn names_can_name_files_on_windows() {
        for good in ["evening", "a", "2-b", "comet", "com"] {
            assert_eq!(good.parse::<ProfileName>().map(String::from), Ok(good.to_owned()));
        }
        for bad in ["", "-a", "Evening", "a b", "a/b", "con", "com1", &"x".repeat(61)] {
            assert!(bad.parse::<StateName>().is_err(), "{bad}");
        }
    }
}
