//! Registry text in, operations on keys and values out.

use encoding_rs::{UTF_8, UTF_16BE, UTF_16LE, WINDOWS_1252};
use schemars::JsonSchema;
use serde::Serialize;
use thiserror::Error;

use crate::setting::{KeyPath, RegistryData, RegistryType, WinName};

/// The versions of the format.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryTextVersion {
    /// `REGEDIT4`: eight bits a character, in the bytes of texts too.
    Four,
    /// `Windows Registry Editor Version 5.00`.
    Five,
}

/// A registry text that was read.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct RegistryText {
    /// The version that its first line says.
    pub version: RegistryTextVersion,
    /// What it does, in its order.
    pub entries: Vec<Entry>,
    /// Lines that do nothing.
    pub problems: Vec<LineProblem>,
}

/// One thing that a registry text does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Entry {
    /// The line that it begins on, counted from 1.
    pub line: usize,
    /// What it does.
    pub operation: Operation,
}

/// What a registry text does to a key or a value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Operation {
    /// Makes a key, if it is not there.
    MakeKey(KeyPath),
    /// Deletes a key with all that is in it.
    DeleteKey(KeyPath),
    /// Sets a value.
    SetValue(KeyPath, WinName, RegistryData),
    /// Deletes a value.
    DeleteValue(KeyPath, WinName),
}

/// A line that does nothing, and why.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct LineProblem {
    /// The line, counted from 1.
    pub line: usize,
    /// What is wrong with it.
    pub message: String,
}

/// Why bytes are no registry text at all.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum RegistryTextError {
    /// The first line is not that of the format.
    #[error(
        "it is not registry text: its first line is neither `Windows Registry Editor Version 5.00` \
         nor `REGEDIT4`"
    )]
    NoHeading,
    /// It is not text.
    #[error("it is not text in any encoding that registry text comes in")]
    NotText,
}

/// Reads registry text of either version: in UTF-16 with its mark, in UTF-8, or in the code page of
/// western Windows.
///
/// # Errors
/// [`RegistryTextError`] where it is none. Lines that are none are told in
/// [`RegistryText::problems`].
pub fn read(bytes: &[u8]) -> Result<RegistryText, RegistryTextError> {
    let text = decode(bytes).ok_or(RegistryTextError::NotText)?;
    let mut reader =
        Reader { rest: &text, line: 1, key: None, found: Vec::new(), problems: Vec::new() };
    let version = loop {
        let line = reader.take_line().ok_or(RegistryTextError::NoHeading)?;
        match line.trim() {
            "" => {}
            "REGEDIT4" => break RegistryTextVersion::Four,
            "Windows Registry Editor Version 5.00" => break RegistryTextVersion::Five,
            _ => return Err(RegistryTextError::NoHeading),
        }
    };
    while !reader.rest.is_empty() {
        reader.entry(version);
    }
    Ok(RegistryText { version, entries: reader.found, problems: reader.problems })
}

/// The text of a file, in whichever encoding Windows' own programs write it; nothing where it is none.
pub fn decode(bytes: &[u8]) -> Option<String> {
    let (text, has_errors) = match bytes {
        [0xFF, 0xFE, rest @ ..] => UTF_16LE.decode_without_bom_handling(rest),
        [0xFE, 0xFF, rest @ ..] => UTF_16BE.decode_without_bom_handling(rest),
        [0xEF, 0xBB, 0xBF, rest @ ..] => UTF_8.decode_without_bom_handling(rest),
        _ => match std::str::from_utf8(bytes) {
            Ok(text) => (text.into(), false),
            Err(_) => WINDOWS_1252.decode_without_bom_handling(bytes),
        },
    };
    (!has_errors && !text.contains('\0')).then(|| text.into_owned())
}

struct Reader<'a> {
    rest: &'a str,
    /// The line that `rest` begins on.
    line: usize,
    /// The key that values belong to; none after a key that cannot be one.
    key: Option<KeyPath>,
    found: Vec<Entry>,
    problems: Vec<LineProblem>,
}

impl<'a> Reader<'a> {
    /// The next line, without its end.
    fn take_line(&mut self) -> Option<&'a str> {
        if self.rest.is_empty() {
            return None;
        }
        let end = self.rest.find(['\r', '\n']).unwrap_or(self.rest.len());
        let line = &self.rest[..end];
        self.advance(end);
        self.skip_line_end();
        Some(line)
    }

    fn skip_line_end(&mut self) {
        let length = match self.rest.as_bytes() {
            [b'\r', b'\n', ..] => 2,
            [b'\r' | b'\n', ..] => 1,
            _ => return,
        };
        self.rest = &self.rest[length..];
        self.line += 1;
    }

    /// Goes on by so many bytes, and counts the lines among them.
    fn advance(&mut self, bytes: usize) {
        let (passed, rest) = self.rest.split_at(bytes);
        let ends = passed.matches('\n').count() + passed.matches('\r').count()
            - passed.matches("\r\n").count();
        self.line += ends;
        self.rest = rest;
    }

    fn skip_blanks(&mut self) {
        self.rest = self.rest.trim_start_matches([' ', '\t']);
    }

    fn entry(&mut self, version: RegistryTextVersion) {
        self.skip_blanks();
        let line = self.line;
        let outcome = match self.rest.as_bytes().first() {
            None => return,
            Some(b'\r' | b'\n') => return self.skip_line_end(),
            Some(b';') => {
                self.take_line();
                return;
            }
            Some(b'[') => self.key_line(),
            Some(b'"' | b'@') => self.value(version),
            Some(_) => {
                self.take_line();
                Err("it is neither a key, a value nor a comment".to_owned())
            }
        };
        match outcome {
            Ok(Some(operation)) => self.found.push(Entry { line, operation }),
            Ok(None) => {}
            Err(message) => self.problems.push(LineProblem { line, message }),
        }
    }

    fn key_line(&mut self) -> Result<Option<Operation>, String> {
        self.key = None;
        let line = self.take_line().unwrap_or_default();
        let (path, _) = line[1..].rsplit_once(']').ok_or("the key has no `]` at its end")?;
        let (is_deleted, path) = match path.strip_prefix('-') {
            Some(path) => (true, path),
            None => (false, path),
        };
        let key: KeyPath =
            path.trim_end_matches('\\').parse().map_err(|error| format!("{error}"))?;
        if is_deleted {
            return Ok(Some(Operation::DeleteKey(key)));
        }
        self.key = Some(key.clone());
        Ok(Some(Operation::MakeKey(key)))
    }

    /// A value, which may go over several lines. Whatever is wrong with it, reading goes on after
    /// its end.
    fn value(&mut self, version: RegistryTextVersion) -> Result<Option<Operation>, String> {
        let outcome = self.name_and_data(version);
        // A comment may follow; anything else is not understood, and then the value is not either.
        let behind = self.take_rest_of_line();
        let (name, data) = outcome?;
        if !behind.is_empty() && !behind.starts_with(';') {
            return Err(format!("`{}` after the value is not understood", shortened(behind)));
        }
        // The key's own line has told what is wrong with it.
        let Some(key) = self.key.clone() else { return Ok(None) };
        Ok(Some(match data {
            Some(data) => Operation::SetValue(key, name, data),
            None => Operation::DeleteValue(key, name),
        }))
    }

    fn take_rest_of_line(&mut self) -> &'a str {
        if self.rest.is_empty() {
            return "";
        }
        self.take_line().unwrap_or_default().trim()
    }

    fn name_and_data(
        &mut self,
        version: RegistryTextVersion,
    ) -> Result<(WinName, Option<RegistryData>), String> {
        let name = if self.rest.starts_with('@') {
            self.advance(1);
            String::new()
        } else {
            self.quoted()?
        };
        self.skip_blanks();
        if !self.rest.starts_with('=') {
            return Err("a value has `=` after its name".to_owned());
        }
        self.advance(1);
        self.skip_blanks();
        Ok((WinName::new(name), self.data(version)?))
    }

    fn data(&mut self, version: RegistryTextVersion) -> Result<Option<RegistryData>, String> {
        if self.rest.starts_with('-') {
            self.advance(1);
            return Ok(None);
        }
        if self.rest.starts_with('"') {
            return Ok(Some(RegistryData::string(&self.quoted()?)));
        }
        if let Some(rest) = strip_prefix_any_case(self.rest, "dword:") {
            self.rest = rest;
            let digits = self.take_while(|c| c.is_ascii_hexdigit());
            let number = u32::from_str_radix(digits, 16);
            let number = number.map_err(|_| "a dword is one to eight hexadecimal digits")?;
            return Ok(Some(RegistryData::dword(number)));
        }
        let rest = strip_prefix_any_case(self.rest, "hex");
        self.rest = rest.ok_or("the data is neither a text, dword:, hex: nor `-`")?;
        let type_number = if self.rest.starts_with('(') {
            self.advance(1);
            let digits = self.take_while(|c| c.is_ascii_hexdigit());
            let number = u32::from_str_radix(digits, 16);
            let number = number.map_err(|_| "hex( has a type number in hexadecimal digits")?;
            if !self.rest.starts_with(')') {
                return Err("hex( has no `)`".to_owned());
            }
            self.advance(1);
            number
        } else {
            RegistryType::Binary.number()
        };
        if !self.rest.starts_with(':') {
            return Err("hex has `:` before its bytes".to_owned());
        }
        self.advance(1);
        let bytes = self.bytes()?;
        Ok(Some(RegistryData { type_number, bytes: widened(version, type_number, bytes) }))
    }

    /// Pairs of digits with commas between them; a backslash goes on in the next line.
    fn bytes(&mut self) -> Result<Vec<u8>, String> {
        let mut bytes = Vec::new();
        loop {
            self.skip_blanks();
            if self.rest.starts_with('\\') {
                self.advance(1);
                let rest = self.take_rest_of_line();
                if !rest.is_empty() && !rest.starts_with(';') {
                    return Err("a backslash is the last of its line".to_owned());
                }
                continue;
            }
            let digits = self.take_while(|c| c.is_ascii_hexdigit());
            match (digits.len(), u8::from_str_radix(digits, 16)) {
                (0, _) => {}
                (1 | 2, Ok(byte)) => bytes.push(byte),
                _ => return Err(format!("`{}` is not a byte", shortened(digits))),
            }
            self.skip_blanks();
            if self.rest.starts_with(',') {
                self.advance(1);
            } else if !self.rest.starts_with('\\') {
                return Ok(bytes);
            }
        }
    }

    /// A text in quotes, in which a backslash stands before a backslash or a quote. It may hold
    /// line ends.
    fn quoted(&mut self) -> Result<String, String> {
        let mut text = String::new();
        let mut characters = self.rest.char_indices().skip(1);
        while let Some((at, character)) = characters.next() {
            match character {
                '"' => {
                    self.advance(at + 1);
                    return Ok(text);
                }
                '\\' => match characters.next() {
                    Some((_, escaped @ ('\\' | '"'))) => text.push(escaped),
                    Some((_, other)) => text.extend(['\\', other]),
                    None => break,
                },
                other => text.push(other),
            }
        }
        Err("a text has no quote at its end".to_owned())
    }

    fn take_while(&mut self, is_taken: impl Fn(char) -> bool) -> &'a str {
        let end = self.rest.find(|c| !is_taken(c)).unwrap_or(self.rest.len());
        let (taken, rest) = self.rest.split_at(end);
        self.rest = rest;
        taken
    }
}

fn strip_prefix_any_case<'a>(text: &'a str, prefix: &str) -> Option<&'a str> {
    let start = text.get(..prefix.len())?;
    start.eq_ignore_ascii_case(prefix).then(|| &text[prefix.len()..])
}

/// In the older version the bytes of texts have eight bits a character; the registry has sixteen.
fn widened(version: RegistryTextVersion, type_number: u32, bytes: Vec<u8>) -> Vec<u8> {
    let texts = [RegistryType::String, RegistryType::ExpandString, RegistryType::MultiString];
    let is_text = texts.iter().any(|text| text.number() == type_number);
    if version == RegistryTextVersion::Five || !is_text {
        return bytes;
    }
    let (text, _) = WINDOWS_1252.decode_without_bom_handling(&bytes);
    text.encode_utf16().flat_map(u16::to_le_bytes).collect()
}

fn shortened(text: &str) -> String {
    let mut short: String = text.chars().take(20).collect();
    if short.len() < text.len() {
        short.push('…');
    }
    short
}
