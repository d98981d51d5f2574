//! How the bytes of a settings file are characters, without loss either way.

/// A settings file as text, and how to make bytes of it again.
#[derive(Debug, Clone)]
pub(super) struct Decoded {
    pub(super) text: String,
    encoding: Encoding,
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Encoding {
    Utf8 {
        has_mark: bool,
    },
    Utf16 {
        is_little_endian: bool,
    },
    /// Eight bits a character, of a code page that the file does not tell: characters beyond ASCII
    /// are carried along as they are, and none can be written.
    EightBit,
}

const UTF8_MARK: &[u8] = &[0xEF, 0xBB, 0xBF];

impl Decoded {
    pub(super) fn of(bytes: &[u8]) -> Result<Self, String> {
        let utf16 = |rest: &[u8], is_little_endian| {
            let text = utf16_text(rest, is_little_endian)?;
            Ok(Self { text, encoding: Encoding::Utf16 { is_little_endian } })
        };
        match bytes {
            [0xFF, 0xFE, rest @ ..] => return utf16(rest, true),
            [0xFE, 0xFF, rest @ ..] => return utf16(rest, false),
            _ if bytes.contains(&0) => return Err("the file is not text".to_owned()),
            _ => {}
        }
        let rest = bytes.strip_prefix(UTF8_MARK);
        match std::str::from_utf8(rest.unwrap_or(bytes)) {
            Ok(text) => {
                let encoding = Encoding::Utf8 { has_mark: rest.is_some() };
                Ok(Self { text: text.to_owned(), encoding })
            }
            Err(_) => {
                let text = bytes.iter().map(|byte| char::from(*byte)).collect();
                Ok(Self { text, encoding: Encoding::EightBit })
            }
        }
    }

    pub(super) fn with_text(&self, text: String) -> Self {
        Self { text, encoding: self.encoding }
    }

    pub(super) fn to_bytes(&self) -> Result<Vec<u8>, String> {
        Ok(match self.encoding {
            Encoding::Utf8 { has_mark } => {
                let mark = if has_mark { UTF8_MARK } else { &[] };
                [mark, self.text.as_bytes()].concat()
            }
            Encoding::Utf16 { is_little_endian } => {
                let bytes = |unit: u16| {
                    if is_little_endian { unit.to_le_bytes() } else { unit.to_be_bytes() }
                };
                std::iter::once(0xFEFF).chain(self.text.encode_utf16()).flat_map(bytes).collect()
            }
            Encoding::EightBit => self
                .text
                .chars()
                .map(|c| u8::try_from(u32::from(c)))
                .collect::<Result<_, _>>()
                .map_err(|_| "the file's encoding has no such character".to_owned())?,
        })
    }
}

fn utf16_text(bytes: &[u8], is_little_endian: bool) -> Result<String, String> {
    let (pairs, rest) = bytes.as_chunks::<2>();
    let units: Vec<u16> =
        pairs
            .iter()
            .map(|pair| {
                if is_little_endian { u16::from_le_bytes(*pair) } else { u16::from_be_bytes(*pair) }
            })
            .collect();
    let text = String::from_utf16(&units).ok().filter(|_| rest.is_empty());
    text.ok_or_else(|| "the file begins as UTF-16 and is not".to_owned())
}
