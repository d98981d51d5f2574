//! The bytes of a log as UTF-8.

use std::borrow::Cow;

use encoding_rs::{UTF_16BE, UTF_16LE};

use super::LogError;

pub(super) fn as_utf8(bytes: &[u8]) -> Result<Cow<'_, [u8]>, LogError> {
    let utf16 = |encoding: &'static encoding_rs::Encoding, rest| {
        let (text, has_errors) = encoding.decode_without_bom_handling(rest);
        if has_errors {
            return Err(LogError::NotText { offset: 0 });
        }
        Ok(Cow::Owned(text.into_owned().into_bytes()))
    };
    match bytes {
        [0xFF, 0xFE, rest @ ..] => utf16(UTF_16LE, rest),
        [0xFE, 0xFF, rest @ ..] => utf16(UTF_16BE, rest),
        _ => {
            let bytes = bytes.strip_prefix(b"\xEF\xBB\xBF").unwrap_or(bytes);
            match std::str::from_utf8(bytes) {
                Ok(_) => Ok(Cow::Borrowed(bytes)),
                Err(error) => Err(LogError::NotText { offset: error.valid_up_to() }),
            }
        }
    }
}
