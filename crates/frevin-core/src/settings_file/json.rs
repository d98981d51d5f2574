//! Settings files in JSON, with the comments and trailing commas that games allow themselves.

use std::ops::Range;

use jsonc_parser::ast::{Object, Value};
use jsonc_parser::common::Ranged as _;
use jsonc_parser::{CollectOptions, ParseOptions, parse_to_ast};

use crate::setting::FilePart;

fn parse(text: &str) -> Result<Option<Value<'_>>, String> {
    let options = ParseOptions {
        allow_comments: true,
        allow_trailing_commas: true,
        allow_loose_object_property_names: false,
        allow_missing_commas: false,
        allow_single_quoted_strings: false,
        allow_hexadecimal_numbers: false,
        allow_unary_plus_numbers: false,
    };
    let parsed = parse_to_ast(text, &CollectOptions::default(), &options);
    Ok(parsed.map_err(|error| format!("the file is not JSON: {error}"))?.value)
}

/// The index of the one member of that name.
fn member(object: &Object<'_>, name: &str) -> Result<Option<usize>, String> {
    let mut named = object.properties.iter().enumerate().filter(|(_, p)| p.name.as_str() == name);
    match (named.next(), named.next()) {
        (_, Some(_)) => Err(format!("the file has `{name}` twice")),
        (first, None) => Ok(first.map(|(index, _)| index)),
    }
}

/// The object that holds the last of `names`; nothing where the document is empty.
fn parent<'a, 'b>(root: &'b Value<'a>, names: &[String]) -> Result<&'b Object<'a>, String> {
    let mut value = root;
    let way = &names[..names.len().saturating_sub(1)];
    for (depth, name) in way.iter().enumerate() {
        let missing = || format!("the file has no object /{}", way[..=depth].join("/"));
        let object = value.as_object().ok_or_else(missing)?;
        let index = member(object, name)?.ok_or_else(missing)?;
        value = &object.properties[index].value;
    }
    value.as_object().ok_or_else(|| format!("the file has no object /{}", way.join("/")))
}

pub(super) fn read<'a>(text: &'a str, names: &[String]) -> Result<Option<&'a str>, String> {
    let root = parse(text)?.ok_or("the file is empty")?;
    let Some(name) = names.last() else { return Ok(None) };
    let object = parent(&root, names)?;
    let Some(index) = member(object, name)? else { return Ok(None) };
    let value = &object.properties[index].value;
    let range = value.range();
    let is_scalar = !matches!(value, Value::Object(_) | Value::Array(_));
    if !is_scalar {
        return Err("it holds more than one value".to_owned());
    }
    Ok(Some(&text[range.start..range.end]))
}

pub(super) fn write(text: &str, names: &[String], value: Option<&str>) -> Result<String, String> {
    let root = parse(text)?.ok_or("the file is empty")?;
    let name = names.last().ok_or("a member has a name")?;
    if let Some(value) = value {
        let scalar: Result<serde_json::Value, _> = serde_json::from_str(value);
        if !scalar.is_ok_and(|scalar| !scalar.is_object() && !scalar.is_array()) {
            return Err(format!("{value} is not a JSON number, text, true, false or null"));
        }
    }
    let object = parent(&root, names)?;
    Ok(match (member(object, name)?, value) {
        (Some(index), Some(value)) => {
            let place = object.properties[index].value.range();
            [&text[..place.start], value, &text[place.end..]].concat()
        }
        (Some(index), None) => without_member(text, object, index),
        (None, None) => text.to_owned(),
        (None, Some(value)) => with_member(text, object, name, value),
    })
}

/// The text with a member more at the end of an object, after the blanks that the member before
/// it has.
fn with_member(text: &str, object: &Object<'_>, name: &str, value: &str) -> String {
    let name = serde_json::Value::from(name).to_string();
    let Some(last) = object.properties.last() else {
        let at = object.range.start + 1;
        return [&text[..at], &format!("{name}: {value}"), &text[at..]].concat();
    };
    let start = last.range.start;
    let blanks = text[..start].trim_end_matches([' ', '\t', '\r', '\n']).len()..start;
    let (before, behind) = text.split_at(last.range.end);
    [before, ",", &text[blanks], &name, ": ", value, behind].concat()
}

/// The text without a member and the comma that set it apart.
fn without_member(text: &str, object: &Object<'_>, index: usize) -> String {
    let own = &object.properties[index].range;
    let before = index.checked_sub(1).map(|before| object.properties[before].range.end);
    let behind = object.properties.get(index + 1).map(|behind| behind.range.start);
    let alone = own.start..own.end;
    let (member, comma_apart) = match (before, behind) {
        (Some(before), _) if is_comma_only(&text[before..own.start]) => (before..own.end, None),
        (None, Some(behind)) if is_comma_only(&text[own.end..behind]) => (own.start..behind, None),
        // Somebody has put a comment there since: it stays.
        (Some(before), _) => (alone, comma(text, before..own.start)),
        (None, Some(behind)) => (alone, comma(text, own.end..behind)),
        (None, None) => {
            let rest = own.end..object.range.end;
            let is_trailing = text[rest.clone()].trim_start().starts_with(',');
            (alone, is_trailing.then(|| comma(text, rest)).flatten())
        }
    };
    let mut gone: Vec<Range<usize>> = comma_apart.into_iter().collect();
    gone.push(member);
    gone.sort_by_key(|range| range.start);
    let mut kept = String::new();
    let mut from = 0;
    for range in gone {
        kept.push_str(&text[from..range.start]);
        from = range.end;
    }
    kept + &text[from..]
}

fn is_comma_only(between: &str) -> bool {
    between.trim() == ","
}

/// Where the comma stands between two members, among comments.
fn comma(text: &str, between: Range<usize>) -> Option<Range<usize>> {
    let mut rest = &text[between.clone()];
    while !rest.is_empty() {
        rest = rest.trim_start();
        let comment = if rest.starts_with("//") {
            rest.find('\n').unwrap_or(rest.len())
        } else if rest.starts_with("/*") {
            rest.find("*/").map_or(rest.len(), |at| at + 2)
        } else {
            let at = between.end - rest.len();
            return rest.starts_with(',').then_some(at..at + 1);
        };
        rest = &rest[comment..];
    }
    None
}

pub(super) fn parts(text: &str) -> Vec<FilePart> {
    let mut found = Vec::new();
    if let Ok(Some(Value::Object(root))) = parse(text) {
        collect(&root, &mut Vec::new(), &mut found);
    }
    found
}

fn collect(object: &Object<'_>, way: &mut Vec<String>, found: &mut Vec<FilePart>) {
    for property in &object.properties {
        let name = property.name.as_str();
        if !matches!(member(object, name), Ok(Some(_))) {
            continue;
        }
        way.push(name.to_owned());
        match &property.value {
            Value::Object(inner) => collect(inner, way, found),
            Value::Array(_) => {}
            _ => found.push(FilePart::Member(way.clone())),
        }
        way.pop();
    }
}
