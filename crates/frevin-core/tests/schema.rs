//! The JSON schemas name just what the readers take: they are held against each other.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::collections::BTreeSet;

use frevin_core::profile::Profile;
use frevin_core::tweak::{Catalogue, Tweak};
use serde_json::Value;

const PROFILE: &str = include_str!("../../../docs/schema/profile.schema.json");
const TWEAK: &str = include_str!("../../../docs/schema/tweak.schema.json");
const FOREIGN: &str = "foreign_key_of_nobody";

/// The names in a message like "unknown field `x`, expected one of `a`, `b`".
fn expected_names(message: &str) -> BTreeSet<String> {
    let (_, names) = message.split_once("expected").unwrap_or_else(|| panic!("{message}"));
    names.split('`').skip(1).step_by(2).map(str::to_owned).collect()
}

fn properties(schema: &Value) -> BTreeSet<String> {
    assert_eq!(schema["additionalProperties"], false);
    let properties = schema["properties"].as_object().unwrap();
    let required = schema["required"].as_array().unwrap();
    assert!(required.iter().all(|name| properties.contains_key(name.as_str().unwrap())));
    properties.keys().cloned().collect()
}

#[test]
fn the_profile_schema_names_what_the_reader_takes() {
    let schema: Value = serde_json::from_str(PROFILE).unwrap();
    let catalogue = Catalogue::built_in().unwrap();
    let head = "format = 1\nname = \"x\"\npurpose = \"p\"\n";
    let taken = |text: &str| {
        let bad = Profile::parse("p.toml", &format!("{head}{text}"), &catalogue).unwrap_err();
        expected_names(&bad.problems[0].message)
    };
    assert_eq!(properties(&schema), taken(&format!("{FOREIGN} = 1")));
    let entry = &schema["properties"]["tweaks"]["items"];
    assert_eq!(properties(entry), taken(&format!("[[tweaks]]\n{FOREIGN} = 1")));
}

#[test]
fn the_tweak_schema_names_what_the_reader_takes() {
    let schema: Value = serde_json::from_str(TWEAK).unwrap();
    let taken = |text: &str| {
        let bad = Tweak::parse("t.toml", text).unwrap_err();
        expected_names(&bad.problems[0].message)
    };
    let part = |path: &str| schema.pointer(path).unwrap_or_else(|| panic!("{path}"));
    assert_eq!(properties(&schema), taken(&format!("{FOREIGN} = 1")));
    for (pointer, table) in [
        ("/properties/settings/items", "[[settings]]"),
        ("/properties/conditions/items", "[[conditions]]"),
        ("/properties/sources/items", "[[sources]]"),
        ("/properties/builds", "[builds]"),
        ("/properties/manual", "[manual]"),
        ("/properties/parameters/additionalProperties", "[parameters.x]"),
        (
            "/properties/parameters/additionalProperties/properties/choices/items",
            "[[parameters.x.choices]]",
        ),
    ] {
        let names = taken(&format!("{table}\n{FOREIGN} = 1"));
        assert_eq!(properties(part(pointer)), names, "{pointer}");
    }
    for (pointer, line) in [
        ("/properties/standing/enum", format!("standing = \"{FOREIGN}\"")),
        ("/properties/risk/enum", format!("risk = \"{FOREIGN}\"")),
        ("/properties/takes_effect/enum", format!("takes_effect = \"{FOREIGN}\"")),
        (
            "/properties/parameters/additionalProperties/properties/type/enum",
            format!("[parameters.x]\ntype = \"{FOREIGN}\""),
        ),
    ] {
        let choices = part(pointer).as_array().unwrap();
        let choices: BTreeSet<_> = choices.iter().map(|c| c.as_str().unwrap().to_owned()).collect();
        assert_eq!(choices, taken(&line), "{pointer}");
    }
}
