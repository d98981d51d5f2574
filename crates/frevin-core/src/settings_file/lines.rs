//! Settings files made of lines: INI, and names with values.

use std::collections::BTreeSet;
use std::ops::Range;

use crate::setting::{FilePart, WinName};

/// One line of a file, by where it stands in the text.
struct Line {
    /// The line with its end.
    all: Range<usize>,
    /// Where its end begins.
    end: usize,
    what: What,
}

enum What {
    Blank,
    Comment,
    Section(WinName),
    /// A name, and where its value stands.
    Key {
        name: WinName,
        value: Range<usize>,
    },
    Other,
}

#[derive(Clone, Copy, PartialEq)]
enum Dialect {
    Ini,
    Keys,
}

fn scan(text: &str, dialect: Dialect) -> Vec<Line> {
    let mut lines = Vec::new();
    let mut start = 0;
    for line in text.split_inclusive('\n') {
        let all = start..start + line.len();
        let content = line.strip_suffix('\n').unwrap_or(line);
        let content = content.strip_suffix('\r').unwrap_or(content);
        let what = match dialect {
            Dialect::Ini => ini_line(content, start),
            Dialect::Keys => key_line(content, start),
        };
        lines.push(Line { end: start + content.len(), what, all: all.clone() });
        start = all.end;
    }
    lines
}

/// Where `inner`, a part of the content that begins at `start`, stands in the text.
fn place_of(content: &str, start: usize, inner: &str) -> Range<usize> {
    let at = start + (inner.as_ptr() as usize - content.as_ptr() as usize);
    at..at + inner.len()
}

fn is_comment(trimmed: &str) -> bool {
    trimmed.starts_with([';', '#']) || trimmed.starts_with("//")
}

/// A value without the blanks around it and without the comment behind it.
///
/// A comment begins with its sign after a blank; what is in quotes holds none.
fn value_in<'a>(rest: &'a str, signs: &[&str]) -> &'a str {
    let value = rest.trim_start();
    let mut in_quotes = false;
    let mut after_blank = true;
    for (at, character) in value.char_indices() {
        if character == '"' {
            in_quotes = !in_quotes;
        }
        if !in_quotes && after_blank && signs.iter().any(|sign| value[at..].starts_with(sign)) {
            return value[..at].trim_end();
        }
        after_blank = character.is_whitespace();
    }
    value.trim_end()
}

fn ini_line(content: &str, start: usize) -> What {
    let trimmed = content.trim();
    if trimmed.is_empty() {
        return What::Blank;
    }
    if is_comment(trimmed) {
        return What::Comment;
    }
    if let Some(rest) = trimmed.strip_prefix('[') {
        return rest.split_once(']').map_or(What::Other, |(name, _)| What::Section(name.into()));
    }
    let Some((name, rest)) = content.split_once('=') else { return What::Other };
    let value = place_of(content, start, value_in(rest, &[";", "#"]));
    match name.trim() {
        "" => What::Other,
        name => What::Key { name: name.into(), value },
    }
}

fn key_line(content: &str, start: usize) -> What {
    let trimmed = content.trim();
    if trimmed.is_empty() {
        return What::Blank;
    }
    if is_comment(trimmed) {
        return What::Comment;
    }
    let (name, rest) = match trimmed.strip_prefix('"').and_then(|rest| rest.split_once('"')) {
        Some(quoted) => quoted,
        None => {
            let at = trimmed.find(|c: char| c.is_whitespace() || c == '=' || c == ':');
            trimmed.split_at(at.unwrap_or(trimmed.len()))
        }
    };
    let signed = rest.trim_start();
    let separated = signed.strip_prefix(['=', ':']);
    if name.is_empty() || (separated.is_none() && signed.is_empty()) {
        return What::Other;
    }
    let value = value_in(separated.unwrap_or(rest), &["//", "#", ";"]);
    // Quotes belong to how the file is written, as long as they embrace all of the value.
    let inner = value.strip_prefix('"').and_then(|value| value.strip_suffix('"'));
    let value = inner.filter(|inner| !inner.contains('"')).unwrap_or(value);
    What::Key { name: name.into(), value: place_of(content, start, value) }
}

/// Where the value of the one key that `is_meant` stands; the lines are told their section.
fn find(
    lines: &[Line],
    is_meant: impl Fn(&WinName, &WinName) -> bool,
) -> Result<Option<usize>, String> {
    let mut found: Option<usize> = None;
    for (index, (section, line)) in with_sections(lines).enumerate() {
        if let What::Key { name, .. } = &line.what
            && is_meant(section, name)
            && let Some(first) = found.replace(index)
        {
            let (first, second) = (first + 1, index + 1);
            return Err(format!("the file has it twice, on lines {first} and {second}"));
        }
    }
    Ok(found)
}

/// Each line with the section that it is in.
fn with_sections(lines: &[Line]) -> impl Iterator<Item = (&WinName, &Line)> {
    static NONE: std::sync::LazyLock<WinName> = std::sync::LazyLock::new(|| WinName::new(""));
    let mut section: &WinName = &NONE;
    lines.iter().map(move |line| {
        if let What::Section(name) = &line.what {
            section = name;
        }
        (section, line)
    })
}

fn value_at<'a>(text: &'a str, lines: &[Line], index: usize) -> &'a str {
    match &lines[index].what {
        What::Key { value, .. } => &text[value.clone()],
        _ => "",
    }
}

pub(super) fn read_ini<'a>(
    text: &'a str,
    section: &WinName,
    key: &WinName,
) -> Result<Option<&'a str>, String> {
    let lines = scan(text, Dialect::Ini);
    let index = find(&lines, |of, name| of == section && name == key)?;
    Ok(index.map(|index| value_at(text, &lines, index)))
}

pub(super) fn read_key<'a>(text: &'a str, key: &WinName) -> Result<Option<&'a str>, String> {
    let lines = scan(text, Dialect::Keys);
    let index = find(&lines, |_, name| name == key)?;
    Ok(index.map(|index| value_at(text, &lines, index)))
}

pub(super) fn write_ini(
    text: &str,
    section: &WinName,
    key: &WinName,
    value: Option<&str>,
) -> Result<String, String> {
    let lines = scan(text, Dialect::Ini);
    let index = find(&lines, |of, name| of == section && name == key)?;
    match (index, value) {
        (Some(index), Some(value)) => Ok(replaced(text, &lines[index], value)),
        (Some(index), None) => Ok(without_line(text, &lines, index)),
        (None, None) => Ok(text.to_owned()),
        (None, Some(value)) => {
            let last = with_sections(&lines).enumerate().filter(|(_, (of, line))| {
                *of == section && !matches!(line.what, What::Blank | What::Comment)
            });
            let after = last.last().map(|(index, _)| index);
            if after.is_none() && !section.as_str().is_empty() {
                return Err(format!("the file has no section [{section}]"));
            }
            let model = after.map(|index| &text[lines[index].all.start..lines[index].end]);
            let is_spaced = model.is_some_and(|line| line.contains(" = "));
            let sign = if is_spaced { " = " } else { "=" };
            Ok(with_line(text, &lines, after, &format!("{key}{sign}{value}")))
        }
    }
}

pub(super) fn write_key(text: &str, key: &WinName, value: Option<&str>) -> Result<String, String> {
    let lines = scan(text, Dialect::Keys);
    match (find(&lines, |_, name| name == key)?, value) {
        (Some(index), Some(value)) => Ok(replaced(text, &lines[index], value)),
        (Some(index), None) => Ok(without_line(text, &lines, index)),
        (None, None) => Ok(text.to_owned()),
        (None, Some(value)) => {
            let is_key = |line: &Line| matches!(line.what, What::Key { .. });
            let after = lines.iter().rposition(is_key);
            let line = after.and_then(|index| like(text, &lines[index], key, value));
            let line = line.unwrap_or_else(|| format!("{key}={value}"));
            Ok(with_line(text, &lines, after, &line))
        }
    }
}

/// A line for `key` written as another one is: the same blanks, signs and quotes.
fn like(text: &str, model: &Line, key: &WinName, value: &str) -> Option<String> {
    let What::Key { name, value: place } = &model.what else { return None };
    let before = &text[model.all.start..place.start];
    let (lead, between) = before.split_once(name.as_str())?;
    // Behind the value only quotes are of the line's form; a comment is of that line alone.
    let quote = if text[place.end..model.end].starts_with('"') { "\"" } else { "" };
    Some(format!("{lead}{key}{between}{value}{quote}"))
}

fn replaced(text: &str, line: &Line, value: &str) -> String {
    match &line.what {
        What::Key { value: place, .. } => {
            [&text[..place.start], value, &text[place.end..]].concat()
        }
        _ => text.to_owned(),
    }
}

/// The line end of the file: that of its first line that has one.
fn line_end(text: &str) -> &'static str {
    match text.find('\n') {
        Some(at) if !text[..at].ends_with('\r') => "\n",
        _ => "\r\n",
    }
}

/// The text with a line more, after the line of that index or before all.
fn with_line(text: &str, lines: &[Line], after: Option<usize>, line: &str) -> String {
    let at = after.map_or(0, |index| lines[index].all.end);
    let is_ended = after.is_none_or(|index| lines[index].end < lines[index].all.end);
    let (before, behind) = text.split_at(at);
    if !is_ended {
        return [before, line_end(text), line].concat();
    }
    if text.is_empty() {
        return line.to_owned();
    }
    let end = match after {
        Some(index) => &text[lines[index].end..lines[index].all.end],
        None => line_end(text),
    };
    [before, line, end, behind].concat()
}

/// The text without a line. The last line of a file that does not end in a line end takes the one
/// before it along.
fn without_line(text: &str, lines: &[Line], index: usize) -> String {
    let line = &lines[index];
    let start = match index.checked_sub(1) {
        Some(before) if line.end == line.all.end => lines[before].end,
        _ => line.all.start,
    };
    [&text[..start], &text[line.all.end..]].concat()
}

pub(super) fn has_section(text: &str, section: &WinName) -> bool {
    let is_it = |line: &Line| matches!(&line.what, What::Section(name) if name == section);
    scan(text, Dialect::Ini).iter().any(is_it)
}

/// The text with a section more, at its end.
pub(super) fn with_section(text: &str, section: &WinName) -> String {
    let lines = scan(text, Dialect::Ini);
    with_line(text, &lines, lines.len().checked_sub(1), &format!("[{section}]"))
}

/// The text without an empty section; nothing where it holds something or is there twice.
pub(super) fn without_section(text: &str, section: &WinName) -> Option<String> {
    let lines = scan(text, Dialect::Ini);
    let mut header = None;
    for (index, (of, line)) in with_sections(&lines).enumerate() {
        match line.what {
            _ if of != section => {}
            What::Section(_) if header.is_none() => header = Some(index),
            What::Blank => {}
            _ => return None,
        }
    }
    Some(header.map_or_else(|| text.to_owned(), |index| without_line(text, &lines, index)))
}

pub(super) fn ini_parts(text: &str) -> Vec<FilePart> {
    let lines = scan(text, Dialect::Ini);
    let part = |(section, line): (&WinName, &Line)| match &line.what {
        What::Section(name) => Some(FilePart::Section(name.clone())),
        What::Key { name, .. } => {
            Some(FilePart::IniKey { section: section.clone(), key: name.clone() })
        }
        _ => None,
    };
    once_each(with_sections(&lines).filter_map(part))
}

pub(super) fn key_parts(text: &str) -> Vec<FilePart> {
    let lines = scan(text, Dialect::Keys);
    once_each(lines.iter().filter_map(|line| match &line.what {
        What::Key { name, .. } => Some(FilePart::Key(name.clone())),
        _ => None,
    }))
}

fn once_each(parts: impl Iterator<Item = FilePart>) -> Vec<FilePart> {
    let mut seen = BTreeSet::new();
    parts.filter(|part| seen.insert(part.clone())).collect()
}
