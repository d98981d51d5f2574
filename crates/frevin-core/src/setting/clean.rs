//! Places whose files can be set aside.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

use super::error::AddressError;

/// A place that fills up with files that nobody misses.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum CleanPlace {
    /// Temporary files of the owner's programs.
    UserTemp,
    /// Temporary files of Windows and its services.
    WindowsTemp,
    /// Compiled shaders; games build them anew, so that the next run is a warm-up.
    ShaderCache,
    /// Small pictures of files.
    Thumbnails,
    /// Reports of errors that were sent or wait to be.
    ErrorReports,
    /// Memory of programs that crashed.
    CrashDumps,
    /// Updates that have been downloaded.
    UpdateDownloads,
    /// Updates kept for other PCs.
    DeliveryCache,
    /// Logs of Windows' own servicing.
    ServicingLogs,
    /// What the owner has thrown away.
    RecycleBin,
}

impl CleanPlace {
    /// Every place.
    pub const ALL: [Self; 10] = [
        Self::UserTemp,
        Self::WindowsTemp,
        Self::ShaderCache,
        Self::Thumbnails,
        Self::ErrorReports,
        Self::CrashDumps,
        Self::UpdateDownloads,
        Self::DeliveryCache,
        Self::ServicingLogs,
        Self::RecycleBin,
    ];

    /// The name in addresses.
    pub fn name(self) -> &'static str {
        match self {
            Self::UserTemp => "user-temp",
            Self::WindowsTemp => "windows-temp",
            Self::ShaderCache => "shader-cache",
            Self::Thumbnails => "thumbnails",
            Self::ErrorReports => "error-reports",
            Self::CrashDumps => "crash-dumps",
            Self::UpdateDownloads => "update-downloads",
            Self::DeliveryCache => "delivery-cache",
            Self::ServicingLogs => "servicing-logs",
            Self::RecycleBin => "recycle-bin",
        }
    }
}

impl fmt::Display for CleanPlace {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(self.name())
    }
}

/// What of a cleaning place is meant: `clean:user-temp#quarantine` or `clean:user-temp#files`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct CleanSetting {
    /// The place.
    pub place: CleanPlace,
    /// Which of the two.
    pub part: CleanPart,
}

/// What of a cleaning place is meant.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum CleanPart {
    /// Whether files of the place are in quarantine, from where they can come back.
    Quarantine,
    /// The files in the place: read, and never written.
    Files,
}

impl fmt::Display for CleanSetting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let part = match self.part {
            CleanPart::Quarantine => "quarantine",
            CleanPart::Files => "files",
        };
        write!(f, "clean:{}#{part}", self.place)
    }
}

impl FromStr for CleanSetting {
    type Err = AddressError;

    /// Parses what follows the kind and its colon.
    fn from_str(rest: &str) -> Result<Self, Self::Err> {
        let (place, part) = rest.split_once('#').ok_or(AddressError::CleanPart)?;
        let known = CleanPlace::ALL.into_iter().find(|known| known.name() == place);
        let place = known.ok_or_else(|| AddressError::UnknownCleanPlace {
            place: place.to_owned(),
            places: CleanPlace::ALL.map(CleanPlace::name).to_vec(),
        })?;
        let part = match part {
            "quarantine" => CleanPart::Quarantine,
            "files" => CleanPart::Files,
            _ => return Err(AddressError::CleanPart),
        };
        Ok(Self { place, part })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::Address;

    #[test]
    fn places_are_named_and_nothing_else_is_one() {
        for place in CleanPlace::ALL {
            for part in ["quarantine", "files"] {
                let text = format!("clean:{place}#{part}");
                assert_eq!(text.parse::<Address>().unwrap().to_string(), text);
            }
        }
        for bad in ["clean:documents#files", "clean:user-temp", "clean:../user-temp#files"] {
            assert!(bad.parse::<Address>().is_err(), "{bad}");
        }
    }
}
