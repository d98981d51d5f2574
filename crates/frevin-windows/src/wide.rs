//! Texts as Windows takes and gives them: UTF-16, ended by a zero.

use windows::core::{PCWSTR, PWSTR};

use frevin_pc::windows::os_error::OsError;

/// A text for Windows. It lives as long as this value.
pub(crate) struct Wide(Vec<u16>);

impl Wide {
    pub(crate) fn new(text: &str) -> Self {
        Self(text.encode_utf16().chain([0]).collect())
    }

    pub(crate) fn as_ptr(&self) -> PCWSTR {
        PCWSTR(self.0.as_ptr())
    }
}

/// The text of a buffer, up to its first zero.
pub(crate) fn text(units: &[u16]) -> String {
    let length = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
    String::from_utf16_lossy(&units[..length])
}

/// A text that Windows owns.
///
/// # Safety
/// `pointer` is null, or points to UTF-16 ended by a zero that stays for the length of the call.
pub(crate) unsafe fn text_at(pointer: PWSTR) -> String {
    if pointer.is_null() {
        return String::new();
    }
    // Ill-formed UTF-16 is shown as far as it can be: nothing that is there reads as empty.
    // SAFETY: as the caller promises.
    String::from_utf16_lossy(unsafe { pointer.as_wide() })
}

/// The texts at a pointer, one after the other, ended by an empty one.
///
/// # Safety
/// `pointer` is null, or points to such texts that stay for the length of the call.
pub(crate) unsafe fn texts_at(pointer: PWSTR) -> Vec<String> {
    let mut texts = Vec::new();
    let mut here = pointer.0;
    while !here.is_null() {
        let text = PWSTR(here);
        // SAFETY: `here` is at the beginning of a text or at the last zero, as the caller promises.
        let units = unsafe { text.as_wide() };
        if units.is_empty() {
            break;
        }
        texts.push(String::from_utf16_lossy(units));
        // SAFETY: the text and its zero lie before the next text.
        here = unsafe { here.add(units.len() + 1) };
    }
    texts
}

/// The error of a call that gave one.
pub(crate) fn failed(call: &'static str) -> impl Fn(windows::core::Error) -> OsError {
    move |error| OsError::code(call, error.code().0.cast_unsigned())
}
