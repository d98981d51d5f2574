//! What a person does by hand on a rehearsal PC: in its firmware, in the program of its graphics driver, with
//! its plug.
//!
//! A shipped PC says, for each finding that no tweak mends there, what it is like once somebody has mended
//! it. So the loop of looking, mending and looking again can be learnt to its end.

use std::collections::BTreeMap;

use frevin_core::facts::{Facts, tell};
use frevin_core::setting::Address;
use serde::Deserialize;

use super::folder::Folder;
use crate::contract::PcError;

pub(super) const BY_HAND: &str = "by-hand.toml";
const FACTS: &str = "facts.toml";

/// What a PC is like once a finding was mended by hand.
#[derive(Debug, Clone, Default, PartialEq, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Mend {
    /// Facts that are otherwise then, as an owner tells them.
    #[serde(default)]
    facts: toml::Table,
    /// Settings that are otherwise then, each with its state in words.
    #[serde(default)]
    pub settings: BTreeMap<Address, String>,
}

impl Mend {
    /// The facts as they are then.
    pub(super) fn told(&self, facts: &Facts) -> Result<Facts, String> {
        let told = serde_json::to_value(&self.facts).map_err(|error| error.to_string())?;
        let told = tell(facts, &told)?;
        match told.unheard.first() {
            None => Ok(told.facts),
            Some(path) => Err(format!("{path} is no fact of this PC")),
        }
    }
}

/// What is mended by hand on a PC, by the finding that it is against. A PC of an earlier version has none.
pub(super) fn mends(folder: &Folder) -> Result<BTreeMap<String, Mend>, PcError> {
    if !folder.path(BY_HAND).exists() {
        return Ok(BTreeMap::new());
    }
    folder.read_toml(BY_HAND)
}

/// The facts of a PC, those that earlier versions wrote included.
pub(super) fn read_facts(folder: &Folder) -> Result<Facts, PcError> {
    let mut table: toml::Table = folder.read_toml(FACTS)?;
    if let Some(windows) = table.get_mut("windows").and_then(toml::Value::as_table_mut) {
        // It was a fact that editions differ in, and is none: see `catalogue/`.
        windows.remove("obeys_policies");
    }
    // By way of its text: read from values, facts need a second copy of all the code that reads them.
    toml::from_str(&table.to_string()).map_err(|error| folder.broken(FACTS, error.to_string()))
}

/// Writes the facts of a PC.
pub(super) fn write_facts(folder: &Folder, facts: &Facts) -> Result<(), PcError> {
    let text = toml::to_string(facts).map_err(|error| folder.broken(FACTS, error.to_string()))?;
    folder.write_text(FACTS, &text)
}
