//! Windows' own anti-virus.

use windows::Win32::System::Com::SAFEARRAY;
use windows::Win32::System::Ole::{
    SafeArrayCreateVector, SafeArrayDestroy, SafeArrayGetElement, SafeArrayGetLBound,
    SafeArrayGetUBound, SafeArrayPutElement,
};
use windows::Win32::System::Variant::{VARENUM, VARIANT, VT_ARRAY, VT_BSTR};
use windows::core::BSTR;

use super::wide::failed;
use super::wmi::{Namespace, Object};
use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::protections::ProtectionsApi;

/// The preferences of Windows' own anti-virus.
pub(crate) struct AntiVirus;

const NAMESPACE: &str = r"ROOT\Microsoft\Windows\Defender";
const CLASS: &str = "MSFT_MpPreference";

fn preferences() -> Result<(Namespace, Option<Object>), OsError> {
    let namespace = Namespace::connect(NAMESPACE)?;
    let preferences = namespace.first("SELECT * FROM MSFT_MpPreference")?;
    Ok((namespace, preferences))
}

fn call(method: &str, parameters: &[(&str, VARIANT)]) -> Result<(), OsError> {
    let answer = Namespace::connect(NAMESPACE)?.call(CLASS, CLASS, method, parameters)?;
    match answer.number("ReturnValue")? {
        None | Some(0) => Ok(()),
        Some(code) => Err(OsError::code("MSFT_MpPreference", code)),
    }
}

/// A value that holds texts.
fn texts(texts: &[String]) -> Result<VARIANT, OsError> {
    let length = u32::try_from(texts.len()).unwrap_or(u32::MAX);
    // SAFETY: an array of texts of that length; whoever owns the value below frees it.
    let array = unsafe { SafeArrayCreateVector(VT_BSTR, 0, length) };
    if array.is_null() {
        return Err(OsError::Said("there is no memory".to_owned()));
    }
    for (index, text) in (0_i32..).zip(texts) {
        let text = BSTR::from(text);
        // SAFETY: the index is below the length, and the array copies the text.
        let put = unsafe { SafeArrayPutElement(array, &raw const index, text.as_ptr().cast()) };
        if let Err(error) = put {
            // SAFETY: nobody else has the array yet.
            let _ = unsafe { SafeArrayDestroy(array) };
            return Err(failed("SafeArrayPutElement")(error));
        }
    }
    let mut value = VARIANT::default();
    // SAFETY: a new value is empty; type and array belong together, and the value frees the array.
    unsafe {
        let content = &mut *value.Anonymous.Anonymous;
        content.vt = VARENUM(VT_ARRAY.0 | VT_BSTR.0);
        content.Anonymous.parray = array;
    }
    Ok(value)
}

/// The texts that a value holds.
fn texts_of(value: &VARIANT) -> Result<Vec<String>, OsError> {
    if value.vt() != VARENUM(VT_ARRAY.0 | VT_BSTR.0) {
        return Err(OsError::Said("the anti-virus answers something unusual".to_owned()));
    }
    // SAFETY: the value is an array of texts, as was looked at above, and lives for the call.
    let array: *const SAFEARRAY = unsafe { value.Anonymous.Anonymous.Anonymous.parray };
    // SAFETY: as above.
    let first = unsafe { SafeArrayGetLBound(array, 1) }.map_err(failed("SafeArrayGetLBound"))?;
    // SAFETY: as above.
    let last = unsafe { SafeArrayGetUBound(array, 1) }.map_err(failed("SafeArrayGetUBound"))?;
    let mut found = Vec::new();
    for index in first..=last {
        let mut text = BSTR::new();
        let place = (&raw mut text).cast();
        // SAFETY: the index is inside, and a copy of the text is given to a place of its own.
        unsafe { SafeArrayGetElement(array, &raw const index, place) }
            .map_err(failed("SafeArrayGetElement"))?;
        found.push(text.to_string());
    }
    Ok(found)
}

impl ProtectionsApi for AntiVirus {
    fn number(&self, preference: &str) -> Result<Option<u32>, OsError> {
        match preferences()? {
            (_, Some(preferences)) => preferences.number(preference),
            (_, None) => Ok(None),
        }
    }

    fn set_number(&self, preference: &str, number: u32) -> Result<(), OsError> {
        // Those that are flags are so named.
        let value = match preference.starts_with("Disable") {
            true => VARIANT::from(number != 0),
            false => VARIANT::from(number.cast_signed()),
        };
        call("Set", &[(preference, value)])
    }

    fn exclusions(&self) -> Result<Option<Vec<String>>, OsError> {
        let (_, Some(preferences)) = preferences()? else { return Ok(None) };
        let Some(value) = preferences.get("ExclusionPath")? else { return Ok(Some(Vec::new())) };
        let folders = texts_of(&value)?;
        // To others than administrators it answers with a sentence instead of folders.
        if folders.iter().any(|folder| folder.starts_with("N/A")) {
            return Err(OsError::code("MSFT_MpPreference", 5));
        }
        Ok(Some(folders))
    }

    fn change_exclusions(&self, add: &[String], remove: &[String]) -> Result<(), OsError> {
        if !add.is_empty() {
            call("Add", &[("ExclusionPath", texts(add)?)])?;
        }
        if !remove.is_empty() {
            call("Remove", &[("ExclusionPath", texts(remove)?)])?;
        }
        Ok(())
    }
}
