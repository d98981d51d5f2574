//! Texts as Windows takes and gives them: UTF-16, ended by a zero.

use windows::core::{PCWSTR, PWSTR};

use crate::windows::os_error::OsError;

/// A text for Windows. It lives as long as this value.
pub(super) struct Wide(Vec<u16>);

impl Wide {
    pub(super) fn new(text: &str) -> Self {
        Self(text.encode_utf16().chain([0]).collect())
    }

    pub(super) fn as_ptr(&self) -> PCWSTR {
        PCWSTR(self.0.as_ptr())
    }
}

/// The text of a buffer, up to its first zero.
pub(super) fn text(units: &[u16]) -> String {
    let length = units.iter().position(|unit| *unit == 0).unwrap_or(units.len());
    String::from_utf16_lossy(&units[..length])
}

/// A text that Windows owns.
///
/// # Safety
/// `pointer` is null, or points to UTF-16 ended by a zero that stays for the length of the call.
pub(super) unsafe fn text_at(pointer: PWSTR) -> String {
    if pointer.is_null() {
        return String::new();
    }
    // SAFETY: as the caller promises.
    unsafe { pointer.to_string() }.unwrap_or_default()
}

/// The texts at a pointer, one after the other, ended by an empty one.
///
/// # Safety
/// `pointer` is null, or points to such texts that stay for the length of the call.
pub(super) unsafe fn texts_at(pointer: PWSTR) -> Vec<String> {
    let mut texts = Vec::new();
    let mut here = pointer.0;
    while !here.is_null() {
        // SAFETY: `here` is at the beginning of a text or at the last zero, as the caller promises.
        let text = unsafe { PWSTR(here).to_string() }.unwrap_or_default();
        if text.is_empty() {
            break;
        }
        // SAFETY: the text and its zero lie before the next text.
        here = unsafe { here.add(text.encode_utf16().count() + 1) };
        texts.push(text);
    }
    texts
}

/// The error of a call that gave one.
pub(super) fn failed(call: &'static str) -> impl Fn(windows::core::Error) -> OsError {
    move |error| OsError::code(call, error.code().0.cast_unsigned())
}
