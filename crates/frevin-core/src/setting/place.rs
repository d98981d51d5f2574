//! Places of a PC where programs keep files, and paths that stay inside of them.
//!
//! A path of a tweak begins with the name of a place and goes down from there. What could lead out
//! of the place, or to another file than the one a reader sees, is not a path at all.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;
use unicode_normalization::UnicodeNormalization as _;
use unicode_security::MixedScript as _;

use super::name::WinName;
use crate::plain_text::is_hidden;

/// A folder of Windows' own in which programs keep files of the owner's.
///
/// Each is a known folder of Windows ("KNOWNFOLDERID" in the Windows documentation), so that it is
/// found wherever the owner has moved it.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum Place {
    /// `FOLDERID_Documents`.
    Documents,
    /// `FOLDERID_SavedGames`.
    SavedGames,
    /// `FOLDERID_LocalAppData`.
    LocalAppData,
    /// `FOLDERID_LocalAppDataLow`.
    LocalLowAppData,
    /// `FOLDERID_RoamingAppData`.
    RoamingAppData,
    /// `FOLDERID_ProgramData`.
    ProgramData,
    /// `FOLDERID_ProgramFiles`.
    ProgramFiles,
    /// `FOLDERID_ProgramFilesX86`.
    ProgramFilesX86,
}

impl Place {
    /// Every place.
    pub const ALL: [Self; 8] = [
        Self::Documents,
        Self::SavedGames,
        Self::LocalAppData,
        Self::LocalLowAppData,
        Self::RoamingAppData,
        Self::ProgramData,
        Self::ProgramFiles,
        Self::ProgramFilesX86,
    ];

    /// The name that paths begin with.
    pub fn name(self) -> &'static str {
        match self {
            Self::Documents => "documents",
            Self::SavedGames => "saved-games",
            Self::LocalAppData => "local-app-data",
            Self::LocalLowAppData => "local-low-app-data",
            Self::RoamingAppData => "roaming-app-data",
            Self::ProgramData => "program-data",
            Self::ProgramFiles => "program-files",
            Self::ProgramFilesX86 => "program-files-x86",
        }
    }
}

impl fmt::Display for Place {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// A file below a place: `documents/Gorsehollow Riders/options.ini`.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct PlacePath {
    place: Place,
    names: Vec<WinName>,
}

/// Why a text is not a path below a place.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum PlaceError {
    #[error("`{0}` is not a place; a path begins with one of {places}", places = Place::ALL.map(Place::name).join(", "))]
    UnknownPlace(String),
    #[error("a path goes on below its place, to a file")]
    NoFile,
    #[error("a path goes down twelve folders at the most")]
    TooDeep,
    #[error("`{name}` cannot be part of a path: {reason}")]
    BadName { name: String, reason: &'static str },
}

/// Names that mean devices in every folder, with or without an ending ("Naming Files, Paths, and
/// Namespaces" in the Windows documentation).
const DEVICES: [&str; 28] = [
    "CON", "PRN", "AUX", "NUL", "CONIN$", "CONOUT$", "COM0", "COM1", "COM2", "COM3", "COM4",
    "COM5", "COM6", "COM7", "COM8", "COM9", "LPT0", "LPT1", "LPT2", "LPT3", "LPT4", "LPT5", "LPT6",
    "LPT7", "LPT8", "LPT9", "CLOCK$", "KEYBD$",
];

const MAX_DEPTH: usize = 13;
/// The length that Windows' file systems allow a name.
const MAX_NAME_UNITS: usize = 255;

impl PlacePath {
    /// Where the path begins.
    pub fn place(&self) -> Place {
        self.place
    }

    /// The names below the place, from the outermost folder to the file.
    pub fn names(&self) -> &[WinName] {
        &self.names
    }

    /// The file's own name.
    pub fn file_name(&self) -> &WinName {
        // A path is only ever made with a name in it.
        &self.names[self.names.len() - 1]
    }

    /// What follows the last dot of the file's name, in lower case; empty where there is none.
    pub fn ending(&self) -> String {
        let name = self.file_name().as_str();
        name.rsplit_once('.').map_or_else(String::new, |(_, ending)| ending.to_lowercase())
    }

    /// The text that is the same for every spelling of it.
    pub(super) fn identity(&self) -> String {
        let names: Vec<_> = self.names.iter().map(WinName::folded).collect();
        format!("{}/{}", self.place, names.join("/"))
    }
}

impl fmt::Display for PlacePath {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}", self.place)?;
        self.names.iter().try_for_each(|name| write!(f, "/{name}"))
    }
}

impl FromStr for PlacePath {
    type Err = PlaceError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut pieces = text.split(['/', '\\']);
        let first = pieces.next().unwrap_or_default();
        let place = Place::ALL.into_iter().find(|place| place.name() == first);
        let place = place.ok_or_else(|| PlaceError::UnknownPlace(first.to_owned()))?;
        let names: Vec<WinName> = pieces
            .map(|name| match bad_name(name) {
                Some(reason) => Err(PlaceError::BadName { name: name.to_owned(), reason }),
                None => Ok(WinName::new(name)),
            })
            .collect::<Result<_, _>>()?;
        match names.len() {
            0 => Err(PlaceError::NoFile),
            MAX_DEPTH.. => Err(PlaceError::TooDeep),
            _ => Ok(Self { place, names }),
        }
    }
}

/// Why a name cannot be one of a path, if it cannot.
fn bad_name(name: &str) -> Option<&'static str> {
    let plain: String = name.nfkc().collect();
    let stem = plain.split('.').next().unwrap_or_default().trim_end().to_uppercase();
    if name.is_empty() || plain.chars().all(|c| c == '.' || c == ' ') {
        return Some("it leads nowhere, or up");
    }
    if name.encode_utf16().count() > MAX_NAME_UNITS {
        return Some("it is longer than a name can be");
    }
    if plain.contains(['<', '>', ':', '"', '/', '\\', '|', '?', '*']) {
        return Some("it holds, or seems to hold, a character that separates or stands for others");
    }
    // Signs that look like a separator and are not made equal to it by normalising.
    if name.contains([
        '\u{2044}', '\u{2215}', '\u{29f5}', '\u{29f8}', '\u{29f9}', '\u{2571}', '\u{2572}',
        '\u{a789}', '\u{2236}',
    ]) {
        return Some("it holds a character that looks like one that separates");
    }
    if name.chars().any(is_hidden) {
        return Some("it holds a character that is not shown");
    }
    if plain.ends_with(['.', ' ']) || plain.starts_with(' ') {
        return Some("Windows takes spaces and dots off its end, so that it would be another");
    }
    if DEVICES.contains(&stem.as_str()) {
        return Some("Windows keeps it for a device");
    }
    let is_short = name.rsplit_once('~').is_some_and(|(_, rest)| {
        let digits = rest.split('.').next().unwrap_or_default();
        !digits.is_empty() && digits.chars().all(|c| c.is_ascii_digit())
    });
    if is_short {
        return Some("it looks like a short name that stands for another");
    }
    let mut words = name.split(|c: char| !c.is_alphanumeric());
    if words.any(|word| !word.is_single_script()) {
        return Some("it mixes alphabets within a word, so that it may not be what it looks like");
    }
    None
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn paths_go_down_from_a_place_and_compare_as_windows_does() {
        let path: PlacePath = "documents/Gorsehollow Riders/Options.INI".parse().unwrap();
        assert_eq!(path.to_string(), "documents/Gorsehollow Riders/Options.INI");
        assert_eq!(path.ending(), "ini");
        assert_eq!(path, r"documents\GORSEHOLLOW riders\options.ini".parse().unwrap());
        assert!("saved-games/Мои игры/настройки.ini".parse::<PlacePath>().is_ok());
    }

    #[test]
    fn what_leads_elsewhere_or_only_looks_like_a_name_is_refused() {
        for bad in [
            "documents",
            "desktop/a.ini",
            "documents/",
            "documents/../a.ini",
            "documents/./a.ini",
            "documents/.. /a.ini",
            "documents/\u{ff0e}\u{ff0e}/a.ini",
            "documents/\u{2025}/a.ini",
            "documents/a\u{2215}b.ini",
            "documents/a\u{ff0f}b.ini",
            "documents/a.ini:stream",
            "documents/a\u{ff1a}b.ini",
            "documents/C:/a.ini",
            "documents//server/a.ini",
            "documents/nul.ini",
            "documents/Com1",
            "documents/LPT\u{b9}.txt",
            "documents/aux .ini",
            "documents/PROGRA~1/a.ini",
            "documents/a.ini.",
            "documents/a.ini ",
            "documents/a\u{202e}ini.b",
            "documents/a\u{200b}.ini",
            "documents/Gorseh\u{43e}llow/a.ini",
            "documents/a\0.ini",
        ] {
            assert!(bad.parse::<PlacePath>().is_err(), "{bad:?}");
        }
        let deep = format!("documents/{}a.ini", "x/".repeat(40));
        assert_eq!(deep.parse::<PlacePath>(), Err(PlaceError::TooDeep));
    }

    proptest! {
        #[test]
        fn a_path_that_is_taken_has_no_way_up_and_reads_as_it_is_shown(
            rest in r"[./\\ ~:a-zA-Z0-9\PC]{0,40}",
        ) {
            if let Ok(path) = format!("documents/{rest}").parse::<PlacePath>() {
                let goes_down = |name: &WinName| {
                    let name = name.as_str();
                    !name.contains(['/', '\\', ':']) && name.chars().any(|c| c != '.')
                };
                prop_assert!(path.names().iter().all(goes_down));
                prop_assert_eq!(path.to_string().parse::<PlacePath>(), Ok(path));
            }
        }
    }
}
