//! Edits of a profile's document that leave all else of it as its author wrote it: comments, order, spacing.

use toml_edit::{Array, ArrayOfTables, DocumentMut, InlineTable, Item, Table, TomlError, Value};

use super::document::{Entry, as_toml};
use crate::tweak::TweakId;

/// The document with a use of a tweak added behind its others. What the entry says of where it stands is not looked at.
///
/// # Errors
/// Where the document is not TOML, or its `tweaks` are something else than a list of tables.
pub fn with_entry(document: &str, entry: &Entry) -> Result<String, EditError> {
    let mut document: DocumentMut = document.parse()?;
    let mut table = Table::new();
    table.insert("use", toml_edit::value(entry.tweak.to_string()));
    if !entry.arguments.is_empty() {
        let mut chosen = InlineTable::new();
        for (name, argument) in &entry.arguments {
            chosen.insert(name, as_toml(argument).parse::<Value>()?);
        }
        table.insert("with", toml_edit::value(chosen));
    }
    if let Some(when) = &entry.when {
        table.insert("when", toml_edit::value(when.source()));
    }
    if let Some(note) = &entry.note {
        table.insert("note", toml_edit::value(note.as_str()));
    }
    let listed = document.entry("tweaks").or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
    listed.as_array_of_tables_mut().ok_or(EditError::Shape("tweaks"))?.push(table);
    Ok(document.to_string())
}

/// The document with every use of a tweak taken out, and with the tweak named among those it does `without` where a
/// profile that it builds on has it.
///
/// # Errors
/// As for [`with_entry`], and where `without` is no list.
pub fn without_tweak(
    document: &str,
    tweak: &TweakId,
    is_inherited: bool,
) -> Result<String, EditError> {
    let mut document: DocumentMut = document.parse()?;
    if let Some(listed) = document.get_mut("tweaks") {
        let listed = listed.as_array_of_tables_mut().ok_or(EditError::Shape("tweaks"))?;
        listed.retain(|entry| {
            entry.get("use").and_then(Item::as_str) != Some(tweak.to_string().as_str())
        });
    }
    if is_inherited {
        let without = document.entry("without").or_insert(toml_edit::value(Array::new()));
        let without = without.as_array_mut().ok_or(EditError::Shape("without"))?;
        if !without.iter().any(|one| one.as_str() == Some(tweak.to_string().as_str())) {
            without.push(tweak.to_string());
        }
    }
    Ok(document.to_string())
}

/// Why a document was not edited.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// It cannot be read.
    #[error("the document cannot be read: {0}")]
    NotToml(#[from] TomlError),
    /// One of its keys is written in a way that cannot be added to.
    #[error("`{0}` is not written as a list in its usual form")]
    Shape(&'static str),
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::tweak::Argument;

    const DOCUMENT: &str = r#"# Mine.
format = 1
name = "evening" # short
purpose = "Quiet"
builds_on = ["careful"]

# The pointer.
[[tweaks]]
use = "looks/menu-delay"
with = { delay_ms = 0 }

[playing]
timer_ms = 0.5
"#;

    fn entry(tweak: &str) -> Entry {
        let tweak: TweakId = tweak.parse().unwrap();
        let arguments = [("plan".to_owned(), Argument::Text("a \"b\"".to_owned()))].into();
        let note = Some("as measured".to_owned());
        Entry { tweak, arguments, when: None, note, span: 0..0 }
    }

    #[test]
    fn an_entry_comes_behind_the_others_and_all_else_stays() {
        let added = with_entry(DOCUMENT, &entry("power/active-plan")).unwrap();
        let new = "\n[[tweaks]]\nuse = \"power/active-plan\"\nwith = { plan = 'a \"b\"' }\nnote = \"as measured\"\n";
        let at = DOCUMENT.find("\n[playing]").unwrap();
        assert_eq!(added, format!("{}{new}{}", &DOCUMENT[..at], &DOCUMENT[at..]));
        let first = with_entry("format = 1\n", &entry("power/active-plan")).unwrap();
        assert_eq!(first, format!("format = 1\n{new}"));
    }

    #[test]
    fn a_tweak_goes_with_every_use_and_out_of_what_is_built_on() {
        let tweak: TweakId = "looks/menu-delay".parse().unwrap();
        let twice = with_entry(DOCUMENT, &entry("looks/menu-delay")).unwrap();
        let gone = without_tweak(&twice, &tweak, false).unwrap();
        assert!(!gone.contains("menu-delay") && gone.contains("timer_ms = 0.5"), "{gone}");
        let inherited = without_tweak(DOCUMENT, &tweak, true).unwrap();
        assert!(inherited.contains("without = [\"looks/menu-delay\"]\n"), "{inherited}");
        assert_eq!(without_tweak(&inherited, &tweak, true).unwrap(), inherited);
    }

    #[test]
    fn a_list_in_another_form_is_refused() {
        let document = "tweaks = [{ use = 'a/b' }]\nwithout = 'x'\n";
        let error = with_entry(document, &entry("power/active-plan")).unwrap_err();
        assert_eq!(error.to_string(), "`tweaks` is not written as a list in its usual form");
        let error = with_entry("format = ", &entry("power/active-plan")).unwrap_err();
        assert!(matches!(error, EditError::NotToml(_)), "{error}");
    }
}
