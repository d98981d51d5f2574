//! Settings files of games and programs: bytes in, one thing changed, bytes out.
//!
//! Everything else in the file stays as it is to the byte: order, comments, blank lines, the
//! encoding, the line ends, and how a value was written, since what a key holds is kept as the
//! very characters that stand in the file. A write that could not be taken back to the byte is
//! refused before it is made.

mod encoding;
mod json;
mod lines;

use crate::setting::{FilePart, State, Value};
use encoding::Decoded;

/// What came of an edit.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum Edit {
    /// The new bytes of the file; the same as before where it held the state already.
    Bytes(Vec<u8>),
    /// A section that should have gone holds something, and stays.
    NotEmpty,
}

/// What `part` of a settings file holds.
///
/// What cannot be read for certain is [`State::Unreadable`]: a file that is not of the format, a
/// name that is there twice.
pub fn read(bytes: &[u8], part: &FilePart) -> State {
    if *part == FilePart::Whole {
        return whole(bytes);
    }
    match Decoded::of(bytes).and_then(|decoded| read_text(&decoded.text, part)) {
        Ok(Some(value)) => value.into(),
        Ok(None) => State::Absent,
        Err(reason) => State::Unreadable(reason),
    }
}

/// The file with `part` holding `state`.
///
/// # Errors
/// A sentence that says why it cannot be written: the state is none that the part can hold, the
/// file cannot be read for certain, or the old bytes could not be had back.
pub fn write(bytes: &[u8], part: &FilePart, state: &State) -> Result<Edit, String> {
    let decoded = Decoded::of(bytes)?;
    let before = read_text(&decoded.text, part)?;
    if State::from_option(before.clone()) == *state {
        return Ok(Edit::Bytes(bytes.to_vec()));
    }
    let Some(text) = edited(&decoded.text, part, state)? else { return Ok(Edit::NotEmpty) };
    let edit = decoded.with_text(text);
    let new_bytes = edit.to_bytes()?;
    let reread = Decoded::of(&new_bytes)?;
    if State::from_option(read_text(&reread.text, part)?) != *state {
        return Err("the file would not be read as it was meant".to_owned());
    }
    // What is taken out is what was put in before: it is the way back already.
    if *state != State::Absent {
        let back = edited(&reread.text, part, &State::from_option(before))?;
        let back = back.map(|text| reread.with_text(text).to_bytes()).transpose()?;
        if back.as_deref() != Some(bytes) {
            return Err("the file could not be put back to the byte".to_owned());
        }
    }
    Ok(Edit::Bytes(new_bytes))
}

/// Every part that a file of this ending can be read by, in the order in which they stand there.
/// A file that cannot be read for certain has none.
pub fn parts(bytes: &[u8], ending: &str) -> Vec<FilePart> {
    let Ok(decoded) = Decoded::of(bytes) else { return Vec::new() };
    match ending {
        "ini" => lines::ini_parts(&decoded.text),
        "json" | "jsonc" => json::parts(&decoded.text),
        _ => lines::key_parts(&decoded.text),
    }
}

fn whole(bytes: &[u8]) -> State {
    let digest = blake3::hash(bytes).to_hex().to_string();
    Value::File { bytes: bytes.len() as u64, digest }.into()
}

fn read_text(text: &str, part: &FilePart) -> Result<Option<Value>, String> {
    Ok(match part {
        FilePart::Whole => None,
        FilePart::Section(section) => lines::has_section(text, section).then_some(Value::Key),
        FilePart::IniKey { section, key } => {
            lines::read_ini(text, section, key)?.map(|text| Value::Written(text.to_owned()))
        }
        FilePart::Key(name) => {
            lines::read_key(text, name)?.map(|text| Value::Written(text.to_owned()))
        }
        FilePart::Member(names) => {
            json::read(text, names)?.map(|text| Value::Written(text.to_owned()))
        }
    })
}

/// The text with the part holding the state; nothing where a section is not empty.
fn edited(text: &str, part: &FilePart, state: &State) -> Result<Option<String>, String> {
    let value = match (part, state) {
        (FilePart::Section(section), State::Value(Value::Key)) => {
            return Ok(Some(lines::with_section(text, section)));
        }
        (FilePart::Section(section), State::Absent) => {
            return Ok(lines::without_section(text, section));
        }
        (FilePart::Section(_) | FilePart::Whole, other) => {
            return Err(format!("it cannot hold {other}"));
        }
        (_, State::Absent) => None,
        (_, State::Value(Value::Written(value))) => Some(value.as_str()),
        (_, other) => return Err(format!("it cannot hold {other}")),
    };
    if value.is_some_and(|value| value.contains(|c: char| c.is_control() && c != '\t')) {
        return Err("a value in a settings file is on one line".to_owned());
    }
    match part {
        FilePart::IniKey { section, key } => lines::write_ini(text, section, key, value),
        FilePart::Key(name) => lines::write_key(text, name, value),
        FilePart::Member(names) => json::write(text, names, value),
        FilePart::Section(_) | FilePart::Whole => Err("it is no single value".to_owned()),
    }
    .map(Some)
}

#[cfg(test)]
mod tests;
