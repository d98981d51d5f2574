//! Schemas made from the types that commands print: by the tests only, since what makes them out of some
//! four hundred types would be a twentieth of the program.

use std::collections::BTreeMap;

use schemars::generate::SchemaSettings;
use schemars::{JsonSchema, Schema, SchemaGenerator};
use serde_json::{Value, json};

use crate::commands;
use crate::failure::FailureTold;

/// The file that holds the types; the others refer to it.
pub(super) const TYPES: &str = "types.json";
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
