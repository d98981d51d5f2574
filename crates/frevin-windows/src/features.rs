//! Optional features of Windows, through the servicing interface ("DISM API functions" in the
//! Windows documentation).

use super::library::function;
use super::wide::{Wide, text_at};
use frevin_pc::windows::installed::FeaturesApi;
use frevin_pc::windows::os_error::OsError;

/// The features of the Windows that runs.
pub(crate) struct OptionalFeatures;

type Text = *const u16;

/// What stands for the Windows that runs, `DISM_ONLINE_IMAGE`.
const ONLINE: &str = "DISM_{53BFAE52-B167-4E2F-A258-0A37B57FF845}";

/// `DismFeature`, packed as the interface is.
#[repr(C, packed(4))]
struct Feature {
    name: windows::core::PWSTR,
    state: u32,
}

/// `DismPackageFeatureState`: on, or on after the next restart.
const INSTALLED: u32 = 4;
const INSTALL_PENDING: u32 = 5;
/// `DISMAPI_S_RELOAD_IMAGE_SESSION_REQUIRED` and `ERROR_SUCCESS_REBOOT_REQUIRED` are successes.
const SUCCESSES: [u32; 3] = [0, 1, 3010];

fn checked(call: &'static str, answer: i32) -> Result<(), OsError> {
    let code = answer.cast_unsigned();
    if SUCCESSES.contains(&code) { Ok(()) } else { Err(OsError::code(call, code)) }
}

/// A session over the Windows that runs.
struct Session(u32);

impl Session {
    fn open() -> Result<Self, OsError> {
        let begin = function!("dismapi.dll", fn DismInitialize(u32, Text, Text) -> i32)?;
        let open = function!("dismapi.dll", fn DismOpenSession(Text, Text, Text, *mut u32) -> i32)?;
        let none = core::ptr::null();
        const ERRORS_ONLY: u32 = 0;
        // SAFETY: no files for logs and drafts are named: Windows takes its own. Beginning it twice
        // is answered and does no harm.
        let begun = unsafe { begin(ERRORS_ONLY, none, none) };
        /// `DISMAPI_E_DISMAPI_ALREADY_INITIALIZED`.
        const BEGUN_ALREADY: u32 = 0xC004_0001;
        if begun.cast_unsigned() != BEGUN_ALREADY {
            checked("DismInitialize", begun)?;
        }
        let online = Wide::new(ONLINE);
        let mut session = 0;
        // SAFETY: the text lives for the call, and a number is written to a place of its own.
        let answer = unsafe { open(online.as_ptr().0, none, none, &raw mut session) };
        checked("DismOpenSession", answer)?;
        if session == 0 {
            return Err(OsError::NotOffered { call: "DismOpenSession" });
        }
        Ok(Self(session))
    }

    /// Every feature, with its state.
    fn features(&self) -> Result<Vec<(String, u32)>, OsError> {
        let list = function!(
            "dismapi.dll",
            fn DismGetFeatures(u32, Text, u32, *mut *mut Feature, *mut u32) -> i32
        )?;
        let delete = function!("dismapi.dll", fn DismDelete(*mut core::ffi::c_void) -> i32)?;
        const OF_ALL_PACKAGES: u32 = 0;
        let mut features: *mut Feature = core::ptr::null_mut();
        let mut count = 0;
        // SAFETY: a list and its length are written to places of their own.
        let answer = unsafe {
            list(self.0, core::ptr::null(), OF_ALL_PACKAGES, &raw mut features, &raw mut count)
        };
        checked("DismGetFeatures", answer)?;
        let mut found = Vec::new();
        for index in 0..count as usize {
            // SAFETY: the list holds as many features as it counts; each is read as it lies.
            let feature = unsafe { features.add(index).read_unaligned() };
            // SAFETY: its name belongs to the list.
            found.push((unsafe { text_at(feature.name) }, feature.state));
        }
        if !features.is_null() {
            // SAFETY: the list is freed once, after all of it was copied.
            unsafe { delete(features.cast()) };
        }
        Ok(found)
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        if let Ok(close) = function!("dismapi.dll", fn DismCloseSession(u32) -> i32) {
            // SAFETY: the session is open and is closed once.
            let _ = unsafe { close(self.0) };
        }
    }
}

impl FeaturesApi for OptionalFeatures {
    fn is_enabled(&self, feature: &str) -> Result<Option<bool>, OsError> {
        let features = Session::open()?.features()?;
        let found = features.iter().find(|(name, _)| name.eq_ignore_ascii_case(feature));
        Ok(found.map(|(_, state)| [INSTALLED, INSTALL_PENDING].contains(state)))
    }

    fn set_enabled(&self, feature: &str, enabled: bool) -> Result<(), OsError> {
        type Handle = *const core::ffi::c_void;
        let session = Session::open()?;
        let name = Wide::new(feature);
        let (none, nobody) = (core::ptr::null(), core::ptr::null());
        if enabled {
            let enable = function!(
                "dismapi.dll",
                fn DismEnableFeature(
                    u32, Text, Text, u32, i32, *const Text, u32, i32, Handle, Handle, Handle
                ) -> i32
            )?;
            const NO_NETWORK: i32 = 1;
            const ALL_THAT_IT_NEEDS: i32 = 0;
            // SAFETY: the text lives for the call; no package, no source and no callback is given.
            let answer = unsafe {
                enable(
                    session.0,
                    name.as_ptr().0,
                    none,
                    0,
                    NO_NETWORK,
                    core::ptr::null(),
                    0,
                    ALL_THAT_IT_NEEDS,
                    nobody,
                    nobody,
                    nobody,
                )
            };
            return checked("DismEnableFeature", answer);
        }
        let disable = function!(
            "dismapi.dll",
            fn DismDisableFeature(u32, Text, Text, i32, Handle, Handle, Handle) -> i32
        )?;
        const KEEP_ITS_FILES: i32 = 0;
        // SAFETY: as above.
        let answer = unsafe {
            disable(session.0, name.as_ptr().0, none, KEEP_ITS_FILES, nobody, nobody, nobody)
        };
        checked("DismDisableFeature", answer)
    }

    fn names(&self) -> Result<Vec<String>, OsError> {
        Ok(Session::open()?.features()?.into_iter().map(|(name, _)| name).collect())
    }
}
