//! Names that Windows compares without regard to case.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::cmp::Ordering;
use std::fmt;
use std::hash::{Hash, Hasher};

/// A name as it was spelled, equal to every other spelling of it that Windows takes as the same.
///
/// Registry keys, registry values and services keep their spelling but are looked up without
/// regard to case, by mapping each character to one upper-case character. Characters whose
/// upper case is longer than one character stay as they are, as in Windows' own table.
#[derive(Debug, Clone, JsonSchema, Serialize, Deserialize)]
#[serde(from = "String", into = "String")]
pub struct WinName {
    spelled: String,
    folded: String,
}

impl WinName {
    /// A name in the given spelling.
    pub fn new(spelled: impl Into<String>) -> Self {
        let spelled = spelled.into();
        let folded = spelled.chars().map(fold).collect();
        Self { spelled, folded }
    }

    /// The name as it was spelled.
    pub fn as_str(&self) -> &str {
        &self.spelled
    }

    /// The one spelling shared by all equal names: for look-up, not for show.
    pub fn folded(&self) -> &str {
        &self.folded
    }

    /// Whether the name starts with `prefix` in any spelling.
    pub fn starts_with(&self, prefix: &Self) -> bool {
        self.folded.starts_with(&prefix.folded)
    }
}

fn fold(character: char) -> char {
    let mut upper = character.to_uppercase();
    match (upper.next(), upper.next()) {
        (Some(single), None) => single,
        _ => character,
    }
}

impl PartialEq for WinName {
    fn eq(&self, other: &Self) -> bool {
        self.folded == other.folded
    }
}

impl Eq for WinName {}

impl Hash for WinName {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.folded.hash(state);
    }
}

impl PartialOrd for WinName {
    fn partial_cmp(&self, other: &Self) -> Option<Ordering> {
        Some(self.cmp(other))
    }
}

impl Ord for WinName {
    fn cmp(&self, other: &Self) -> Ordering {
        self.folded.cmp(&other.folded)
    }
}

impl fmt::Display for WinName {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.spelled)
    }
}

impl From<String> for WinName {
    fn from(spelled: String) -> Self {
        Self::new(spelled)
    }
}

impl From<&str> for WinName {
    fn from(spelled: &str) -> Self {
        Self::new(spelled)
    }
}

impl From<WinName> for String {
    fn from(name: WinName) -> Self {
        name.spelled
    }
}
