//! Revisions: saved versions of a profile, immutable, named by number or by hash.

use std::fmt;
use std::str::FromStr;

use jiff::Timestamp;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use crate::ids::{NameError, ProfileName};

/// The BLAKE3 hash of a text, in 64 hexadecimal digits.
#[derive(Debug, Clone, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct ContentHash(String);

impl ContentHash {
    /// The hash of a profile document, byte for byte.
    pub fn of(document: &str) -> Self {
        Self(blake3::hash(document.as_bytes()).to_hex().to_string())
    }

    /// A hash as it was stored.
    pub fn from_stored(digits: String) -> Self {
        Self(digits)
    }

    /// All digits.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The first digits, enough to tell revisions of one ledger apart.
    pub fn short(&self) -> &str {
        self.0.get(..10).unwrap_or(&self.0)
    }
}

/// One saved version of a profile.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Revision {
    /// The profile.
    pub profile: ProfileName,
    /// Its number among the profile's revisions, from 1.
    pub number: u32,
    /// The hash of its document.
    pub hash: ContentHash,
    /// The number of the revision that it follows.
    pub parent: Option<u32>,
    /// What its author said of it.
    pub message: String,
    /// When it was saved.
    pub saved_at: Timestamp,
    /// The document, byte for byte.
    pub document: String,
    /// What it came to when it was saved, where it builds on others.
    pub stands_alone: Option<String>,
}

impl Revision {
    /// The document of all that it holds, whatever it builds on.
    pub fn whole(&self) -> &str {
        self.stands_alone.as_deref().unwrap_or(&self.document)
    }

    /// The name that says which revision this is: `evening@3`.
    pub fn name(&self) -> RevisionName {
        RevisionName { profile: self.profile.clone(), version: Version::Number(self.number) }
    }
}

/// How a person names a revision: `evening`, `evening@3` or `evening@9f86d0`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RevisionName {
    /// The profile.
    pub profile: ProfileName,
    /// Which of its revisions.
    pub version: Version,
}

/// Which revision of a profile is meant.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Version {
    /// The latest.
    Latest,
    /// The one with this number.
    Number(u32),
    /// The one whose hash begins like this.
    HashPrefix(String),
}

/// A text that does not name a revision.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RevisionNameError {
    /// The profile's name is none.
    #[error(transparent)]
    Profile(#[from] NameError),
    /// What follows `@` is neither a number nor the beginning of a hash.
    #[error("after `@` comes a revision's number, or the first 4 or more digits of its hash")]
    Version,
}

impl FromStr for RevisionName {
    type Err = RevisionNameError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let Some((profile, version)) = text.split_once('@') else {
            return Ok(Self { profile: text.parse()?, version: Version::Latest });
        };
        let is_hash = (4..=64).contains(&version.len())
            && version.chars().all(|c| c.is_ascii_digit() || ('a'..='f').contains(&c));
        let version = match version.parse::<u32>() {
            // No profile has so many revisions that a number of eight digits is not a hash.
            Ok(number) if version.len() < 8 && number > 0 => Version::Number(number),
            _ if is_hash => Version::HashPrefix(version.to_owned()),
            _ => return Err(RevisionNameError::Version),
        };
        Ok(Self { profile: profile.parse()?, version })
    }
}

impl fmt::Display for RevisionName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match &self.version {
            Version::Latest => self.profile.fmt(f),
            Version::Number(number) => write!(f, "{}@{number}", self.profile),
            Version::HashPrefix(prefix) => write!(f, "{}@{prefix}", self.profile),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn revisions_are_named_by_number_or_hash() {
        let version = |text: &str| text.parse::<RevisionName>().map(|name| name.version);
        assert_eq!(version("evening"), Ok(Version::Latest));
        assert_eq!(version("evening@12"), Ok(Version::Number(12)));
        assert_eq!(version("evening@12345678"), Ok(Version::HashPrefix("12345678".into())));
        assert_eq!(version("evening@9f86d0"), Ok(Version::HashPrefix("9f86d0".into())));
        for bad in ["evening@", "evening@0", "evening@xyz1", "evening@9F86", "evening@abc"] {
            assert_eq!(version(bad), Err(RevisionNameError::Version), "{bad}");
        }
        assert!(version("Evening@1").is_err());
    }
}
