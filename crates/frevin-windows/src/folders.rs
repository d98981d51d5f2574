//! Folders that Windows knows.

use std::collections::BTreeMap;
use std::path::PathBuf;
use std::ptr::null_mut;

use frevin_core::setting::{CleanPlace, Place};
use windows::Win32::System::Com::CoTaskMemFree;
use windows::core::PWSTR;
use windows_sys::Win32::UI::Shell::{
    FOLDERID_CommonStartup, FOLDERID_Documents, FOLDERID_LocalAppData, FOLDERID_LocalAppDataLow,
    FOLDERID_ProgramData, FOLDERID_ProgramFiles, FOLDERID_ProgramFilesX86, FOLDERID_RoamingAppData,
    FOLDERID_SavedGames, FOLDERID_Startup, FOLDERID_Windows, KF_FLAG_DEFAULT, SHGetKnownFolderPath,
};
use windows_sys::core::GUID;

use super::system::user_sid;
use super::wide::text_at;
use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::startup::StartupFolders;

fn known(folder: &GUID) -> Option<PathBuf> {
    let flags = KF_FLAG_DEFAULT.cast_unsigned();
    let this_user = null_mut();
    let mut path = null_mut();
    // SAFETY: the identifier and the place for the answer live for the call; the text that is given is freed below.
    let answer = unsafe { SHGetKnownFolderPath(folder, flags, this_user, &raw mut path) };
    // SAFETY: Windows gave a text of its own making, or none.
    let text = unsafe { text_at(PWSTR(path)) };
    // SAFETY: as above; it is freed once, where there was an error too ("SHGetKnownFolderPath function").
    unsafe { CoTaskMemFree(Some(path.cast())) };
    (answer >= 0 && !text.is_empty()).then(|| PathBuf::from(text))
}

/// Where programs keep their settings files.
pub(crate) fn places() -> BTreeMap<Place, PathBuf> {
    let folder = |place: Place| {
        known(match place {
            Place::Documents => &FOLDERID_Documents,
            Place::SavedGames => &FOLDERID_SavedGames,
            Place::LocalAppData => &FOLDERID_LocalAppData,
            Place::LocalLowAppData => &FOLDERID_LocalAppDataLow,
            Place::RoamingAppData => &FOLDERID_RoamingAppData,
            Place::ProgramData => &FOLDERID_ProgramData,
            Place::ProgramFiles => &FOLDERID_ProgramFiles,
            Place::ProgramFilesX86 => &FOLDERID_ProgramFilesX86,
        })
    };
    Place::ALL.into_iter().filter_map(|place| Some((place, folder(place)?))).collect()
}

/// The places that can be cleaned. Windows' own folders, never one that an environment variable
/// names: whoever sets those chooses what is moved.
pub(crate) fn clean_places() -> BTreeMap<CleanPlace, PathBuf> {
    let local = known(&FOLDERID_LocalAppData);
    let windows = known(&FOLDERID_Windows);
    let data = known(&FOLDERID_ProgramData);
    let below = |root: &Option<PathBuf>, path: &str| root.as_ref().map(|root| root.join(path));
    let folder = |place: CleanPlace| match place {
        CleanPlace::UserTemp => below(&local, "Temp"),
        CleanPlace::WindowsTemp => below(&windows, "Temp"),
        CleanPlace::ShaderCache => below(&local, "D3DSCache"),
        CleanPlace::Thumbnails => below(&local, r"Microsoft\Windows\Explorer"),
        CleanPlace::ErrorReports => below(&data, r"Microsoft\Windows\WER"),
        CleanPlace::CrashDumps => below(&local, "CrashDumps"),
        CleanPlace::UpdateDownloads => below(&windows, r"SoftwareDistribution\Download"),
        CleanPlace::DeliveryCache => below(
            &windows,
            r"ServiceProfiles\NetworkService\AppData\Local\Microsoft\Windows\DeliveryOptimization\Cache",
        ),
        CleanPlace::ServicingLogs => below(&windows, r"Logs\CBS"),
        CleanPlace::RecycleBin => {
            let drive = windows.as_deref().and_then(|windows| windows.ancestors().last());
            drive.and_then(|drive| Some(drive.join("$Recycle.Bin").join(user_sid()?)))
        }
    };
    CleanPlace::ALL.into_iter().filter_map(|place| Some((place, folder(place)?))).collect()
}

/// The folders whose files start when somebody signs in.
pub(crate) struct Startup;

impl StartupFolders for Startup {
    fn files(&self, of_everybody: bool) -> Result<Vec<String>, OsError> {
        let folder = known(match of_everybody {
            true => &FOLDERID_CommonStartup,
            false => &FOLDERID_Startup,
        });
        let Some(folder) = folder.filter(|folder| folder.is_dir()) else { return Ok(Vec::new()) };
        let entries = fs_err::read_dir(folder).map_err(|error| OsError::Said(error.to_string()))?;
        let mut names = Vec::new();
        for entry in entries {
            let entry = entry.map_err(|error| OsError::Said(error.to_string()))?;
            names.extend(entry.file_name().into_string());
        }
        names.sort();
        Ok(names)
    }
}

/// The folder that Windows is in.
pub(crate) fn windows_folder() -> Option<PathBuf> {
    known(&FOLDERID_Windows)
}
