//! Schemas: what the commands print with `--json`, made from the types that they print.

use std::collections::BTreeMap;
use std::path::Path;

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde_json::{Value, json};

use crate::commands;
use crate::failure::{Failure, FailureTold};

/// The file that holds the types; the others refer to it.
const TYPES: &str = "types.json";
const DIALECT: &str = "https://json-schema.org/draft/2020-12/schema";

/// The schemas of what commands print, by the words of the command.
pub(crate) struct Schemas {
    generator: SchemaGenerator,
    by_command: BTreeMap<&'static str, Vec<Schema>>,
}

impl Schemas {
    /// All of them.
    pub(crate) fn all() -> Self {
        let generator = SchemaSettings::draft2020_12().for_serialize().into_generator();
        let mut all = Self { generator, by_command: BTreeMap::new() };
        commands::schemas(&mut all);
        all
    }

    /// Says that a command may print a `T`.
    pub(crate) fn prints<T: JsonSchema>(&mut self, command: &'static str) -> &mut Self {
        let schema = self.generator.subschema_for::<T>();
        self.by_command.entry(command).or_default().push(schema);
        self
    }

    /// The commands that are described.
    #[cfg(test)]
    pub(crate) fn commands(&self) -> impl Iterator<Item = &'static str> {
        self.by_command.keys().copied()
    }

    /// Each document with the name of its file.
    pub(crate) fn documents(mut self) -> BTreeMap<String, Value> {
        let failure = self.generator.subschema_for::<FailureTold>();
        let mut documents: BTreeMap<String, Value> = self
            .by_command
            .into_iter()
            .map(|(command, any_of)| {
                let title = format!("What `frevin {command} --json` prints");
                (format!("{}.json", command.replace(' ', "-")), document(&title, any_of))
            })
            .collect();
        let title = "What any command prints with --json where it fails: its exit code is the one that stands in it";
        documents.insert("failure.json".to_owned(), document(title, vec![failure]));
        let types = json!({
            "$schema": DIALECT,
            "title": "What the schemas of commands refer to",
            "$defs": self.generator.take_definitions(true),
        });
        documents.insert(TYPES.to_owned(), types);
        documents
    }
}

/// A document that says: one of these.
fn document(title: &str, any_of: Vec<Schema>) -> Value {
    let mut refers: Vec<Value> = any_of
        .into_iter()
        .map(|schema| match schema.get("$ref").and_then(Value::as_str) {
            Some(of) => json!({ "$ref": format!("{TYPES}{of}") }),
            None => schema.into(),
        })
        .collect();
    let mut document = match (refers.pop(), refers.is_empty()) {
        (Some(only), true) => only,
        (last, _) => {
            refers.extend(last);
            json!({ "anyOf": refers })
        }
    };
    document["$schema"] = DIALECT.into();
    document["title"] = title.into();
    document
}

/// Writes every document into a folder, which is made. Gives back how many.
pub(crate) fn write(folder: &Path) -> Result<usize, Failure> {
    fs_err::create_dir_all(folder)?;
    let documents = Schemas::all().documents();
    for (file, document) in &documents {
        fs_err::write(folder.join(file), format!("{document:#}\n"))?;
    }
    Ok(documents.len())
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Every `$ref` of a document.
    fn references(of: &Value, found: &mut Vec<String>) {
        match of {
            Value::Object(members) => {
                found.extend(members.get("$ref").and_then(Value::as_str).map(str::to_owned));
                members.values().for_each(|member| references(member, found));
            }
            Value::Array(items) => items.iter().for_each(|item| references(item, found)),
            _ => {}
        }
    }

    #[test]
    fn what_a_schema_refers_to_is_there_and_every_type_is_referred_to() {
        let documents = Schemas::all().documents();
        let types = &documents[TYPES];
        let mut all = Vec::new();
        for (file, document) in &documents {
            let mut found = Vec::new();
            references(document, &mut found);
            for reference in &found {
                let (in_file, pointer) = reference.split_once('#').unwrap();
                assert_eq!(in_file, if file == TYPES { "" } else { TYPES }, "{file}: {reference}");
                assert!(types.pointer(pointer).is_some(), "{file}: {reference}");
                all.push(pointer.to_owned());
            }
        }
        for name in types["$defs"].as_object().unwrap().keys() {
            assert!(all.contains(&format!("/$defs/{name}")), "nothing prints {name}");
        }
    }
}
