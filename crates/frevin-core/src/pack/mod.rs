//! Strangers' packs of registry text and scripts: what of them the catalogue knows, and what is left.
//!
//! Practitioners pass registry files and scripts around. What a file sets and the catalogue has a tweak for is
//! named; the rest is kept as plain settings, graded expert, with what is to be said against it.

mod parts;
mod recognise;
mod writing;

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

use crate::facts::Facts;
use crate::registry_text::{LineProblem, Operation, RegistryText};
use crate::script_text::ScriptText;
use crate::setting::{Address, State, Value, protection};
use crate::tweak::{Arguments, Catalogue, Standing, TweakId};

pub use parts::kept_in_registry;
pub use writing::{PackDocuments, documents};

/// A file of a pack.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PackFile {
    /// Its name, without folders.
    pub name: String,
    /// What it does.
    pub content: PackContent,
}

/// What a file of a pack does.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PackContent {
    /// It is registry text.
    Registry(RegistryText),
    /// It is a script.
    Script(ScriptText),
}

/// What a pack wants: the state of each setting, and where it says so.
type WantedStates = BTreeMap<Address, (State, String)>;

/// What a pack comes to.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize)]
pub struct Pack {
    /// Tweaks of the catalogue that it does, choices included.
    pub recognised: Vec<Recognised>,
    /// Settings that no tweak of the catalogue stands for.
    pub plain: Vec<PlainSetting>,
    /// Lines that nothing is made of, and why.
    pub unusable: Vec<Unusable>,
}

/// A tweak of the catalogue that a pack does.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Recognised {
    /// The tweak.
    pub tweak: TweakId,
    /// Its title.
    pub title: String,
    /// How well founded it is.
    pub standing: Standing,
    /// What is chosen of it.
    pub arguments: Arguments,
    /// Where the pack does it: file and line.
    pub lines: Vec<String>,
}

/// A setting of a pack that no tweak of the catalogue stands for.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct PlainSetting {
    /// The setting.
    pub address: Address,
    /// What it shall hold.
    pub state: State,
    /// Where the pack sets it: file and line.
    pub line: String,
    /// What is to be said against it.
    pub remarks: Vec<String>,
    /// Why it is protected, if it is.
    pub protected: Option<&'static str>,
}

/// A line of a pack that nothing is made of.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Unusable {
    /// Where it is: file and line.
    pub line: String,
    /// Why nothing is made of it.
    pub reason: String,
}

/// Reads what a pack does, on a PC with these facts.
pub fn read(files: &[PackFile], catalogue: &Catalogue, facts: &Facts) -> Pack {
    let mut pack = Pack::default();
    let mut wanted = WantedStates::new();
    for PackFile { name, content } in files {
        let place = |line: usize| format!("{name}:{line}");
        let problems = match content {
            PackContent::Registry(text) => &text.problems,
            PackContent::Script(text) => &text.problems,
        };
        pack.unusable.extend(problems.iter().map(|LineProblem { line, message }| Unusable {
            line: place(*line),
            reason: message.clone(),
        }));
        match content {
            PackContent::Registry(text) => registry(text, place, &mut wanted, &mut pack.unusable),
            PackContent::Script(text) => {
                wanted.extend(text.settings.iter().map(|setting| {
                    (setting.address.clone(), (setting.state.clone(), place(setting.line)))
                }));
            }
        }
    }
    let mut wanted = parts::take_apart(wanted);
    pack.recognised = recognise::recognise(&mut wanted, catalogue, facts);
    let known = recognise::Known::of(catalogue);
    pack.plain = wanted
        .into_iter()
        .map(|(address, (state, line))| PlainSetting {
            remarks: known.remarks(&address, &state),
            protected: protection(&address).map(|protection| protection.reason),
            address,
            state,
            line,
        })
        .collect();
    pack
}

/// What registry text wants. A deleted key, and one that is made and left empty, are nothing to be used.
fn registry(
    text: &RegistryText,
    place: impl Fn(usize) -> String,
    wanted: &mut WantedStates,
    unusable: &mut Vec<Unusable>,
) {
    for (index, entry) in text.entries.iter().enumerate() {
        let line = place(entry.line);
        match &entry.operation {
            Operation::SetValue(key, name, data) => {
                let address = Address::RegistryValue(key.clone(), name.clone());
                wanted.insert(address, (Value::Registry(data.clone()).into(), line));
            }
            Operation::DeleteValue(key, name) => {
                let address = Address::RegistryValue(key.clone(), name.clone());
                wanted.insert(address, (State::Absent, line));
            }
            Operation::DeleteKey(key) => {
                let reason = format!(
                    "it deletes {key} with all that is in it; Frevin takes away values one by one, \
                         so that each comes back"
                );
                unusable.push(Unusable { line, reason });
            }
            Operation::MakeKey(key) => {
                let next = text.entries.get(index + 1).map(|next| &next.operation);
                let is_filled = matches!(
                    next,
                    Some(Operation::SetValue(own, _, _) | Operation::DeleteValue(own, _)) if own == key
                );
                if !is_filled {
                    let reason = format!("it makes the key {key} and puts nothing into it");
                    unusable.push(Unusable { line, reason });
                }
            }
        }
    }
}

#[cfg(test)]
mod tests;
