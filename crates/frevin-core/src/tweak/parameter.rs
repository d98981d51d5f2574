//! Parameters: what can be chosen about a tweak, by meaning and never by magic number.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;

use crate::document::nearest;

/// Arguments by the name of their parameter.
pub type Arguments = BTreeMap<String, Argument>;

/// What was chosen for a parameter.
///
/// Its kind is kept with it, so that a stored argument is the one that was chosen; what
/// expressions and documents see is [`Argument::value`].
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Argument {
    /// Yes or no.
    Flag(bool),
    /// A whole number in the parameter's unit.
    Whole(i64),
    /// One of the named choices.
    Choice(String),
    /// Any of the named choices.
    Subset(BTreeSet<String>),
    /// A text of the owner's.
    Text(String),
    /// Names of the owner's, in order.
    Names(Vec<String>),
}

impl Argument {
    /// The bare value, as expressions see it and documents write it.
    pub fn value(&self) -> Value {
        match self {
            Self::Flag(flag) => json!(flag),
            Self::Whole(number) => json!(number),
            Self::Choice(text) | Self::Text(text) => json!(text),
            Self::Subset(names) => json!(names),
            Self::Names(names) => json!(names),
        }
    }
}

impl fmt::Display for Argument {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Flag(true) => f.write_str("yes"),
            Self::Flag(false) => f.write_str("no"),
            Self::Whole(number) => number.fmt(f),
            Self::Choice(name) | Self::Text(name) => f.write_str(name),
            Self::Names(names) if names.is_empty() => f.write_str("none"),
            Self::Names(names) => f.write_str(&names.join(", ")),
            Self::Subset(names) if names.is_empty() => f.write_str("none"),
            Self::Subset(names) => {
                f.write_str(&names.iter().map(String::as_str).collect::<Vec<_>>().join(", "))
            }
        }
    }
}

/// One thing that can be chosen about a tweak.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct Parameter {
    /// What it means.
    pub meaning: String,
    /// What it takes.
    #[serde(flatten)]
    pub kind: ParameterKind,
    /// What it is where nothing is chosen; nothing where it has to be chosen.
    #[serde(serialize_with = "bare")]
    #[schemars(with = "Option<serde_json::Value>")]
    pub default: Option<Argument>,
}

fn bare<S: serde::Serializer>(argument: &Option<Argument>, to: S) -> Result<S::Ok, S::Error> {
    argument.as_ref().map(Argument::value).serialize(to)
}

/// What a parameter takes.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "type", rename_all = "kebab-case")]
pub enum ParameterKind {
    /// Yes or no.
    Flag,
    /// A whole number.
    Whole {
        /// The least it may be.
        minimum: i64,
        /// The most it may be.
        maximum: i64,
        /// The unit it counts in.
        unit: String,
    },
    /// One of several.
    Choice {
        /// What can be chosen.
        choices: Vec<Choice>,
    },
    /// Any of several, none included.
    Subset {
        /// What can be chosen.
        choices: Vec<Choice>,
    },
    /// A text that the owner knows.
    Text {
        /// One like it.
        example: String,
    },
    /// Names of things that the owner has, in order.
    Names {
        /// One like them.
        example: String,
    },
}

/// How long a text of the owner's may be, in characters.
const LONGEST_TEXT: usize = 400;
/// How many names of the owner's there may be.
const MOST_NAMES: usize = 200;

/// One of several things that can be chosen.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Choice {
    /// Its name, which people write.
    pub name: String,
    /// What it means.
    pub meaning: String,
    /// What expressions see instead of its name, where a setting needs a number or a GUID.
    pub value: Option<Value>,
    /// Whether expressions see nothing (`null`) instead of its name: the setting is to be absent.
    #[serde(default)]
    pub absent: bool,
}

impl Choice {
    fn seen(&self) -> Value {
        match &self.value {
            _ if self.absent => Value::Null,
            Some(value) => value.clone(),
            None => json!(self.name),
        }
    }
}

impl Parameter {
    /// What expressions see for an argument: the value of a choice where it has one.
    pub(super) fn meant_by(&self, argument: &Argument) -> Value {
        match (&self.kind, argument) {
            (ParameterKind::Choice { choices }, Argument::Choice(name)) => choices
                .iter()
                .find(|choice| choice.name == *name)
                .map_or_else(|| json!(name), Choice::seen),
            _ => argument.value(),
        }
    }

    /// Every argument worth trying on this parameter: all choices, both flags, both ends.
    pub fn samples(&self) -> Vec<Argument> {
        match &self.kind {
            ParameterKind::Flag => vec![Argument::Flag(false), Argument::Flag(true)],
            ParameterKind::Whole { minimum, maximum, .. } => {
                vec![Argument::Whole(*minimum), Argument::Whole(*maximum)]
            }
            ParameterKind::Choice { choices } => {
                choices.iter().map(|choice| Argument::Choice(choice.name.clone())).collect()
            }
            ParameterKind::Subset { choices } => {
                let all = choices.iter().map(|choice| choice.name.clone()).collect();
                vec![Argument::Subset(BTreeSet::new()), Argument::Subset(all)]
            }
            ParameterKind::Text { .. } | ParameterKind::Names { .. } => {
                self.example().into_iter().collect()
            }
        }
    }

    /// An argument to try it with: something that an owner might write, where that is a text or names; else
    /// its default, or the first that it takes.
    pub fn sample(&self) -> Option<Argument> {
        let first = || self.samples().into_iter().next();
        self.example().or_else(|| self.default.clone()).or_else(first)
    }

    /// Something that an owner might write, where that is a text or names.
    fn example(&self) -> Option<Argument> {
        match &self.kind {
            ParameterKind::Text { example } => Some(Argument::Text(example.clone())),
            ParameterKind::Names { example } => Some(Argument::Names(vec![example.clone()])),
            _ => None,
        }
    }

    /// What it takes, in a few words.
    pub fn range(&self) -> String {
        let names = |choices: &[Choice]| {
            choices.iter().map(|choice| choice.name.as_str()).collect::<Vec<_>>().join(", ")
        };
        match &self.kind {
            ParameterKind::Flag => "true or false".to_owned(),
            ParameterKind::Whole { minimum, maximum, unit } => {
                format!("{minimum} to {maximum} {unit}")
            }
            ParameterKind::Choice { choices } => format!("one of {}", names(choices)),
            ParameterKind::Subset { choices } => format!("a list of any of {}", names(choices)),
            ParameterKind::Text { example } => format!("a text like \"{example}\""),
            ParameterKind::Names { example } => format!("a list of names like \"{example}\""),
        }
    }
}

/// Checks a value that somebody wrote for a parameter.
///
/// # Errors
/// A sentence that says what is wrong and what the parameter takes.
pub fn check_argument(
    name: &str,
    parameter: &Parameter,
    written: &toml::Value,
) -> Result<Argument, String> {
    let wrong = || format!("`{name}` takes {}, not {written}", parameter.range());
    match (&parameter.kind, written) {
        (ParameterKind::Flag, toml::Value::Boolean(flag)) => Ok(Argument::Flag(*flag)),
        (ParameterKind::Whole { minimum, maximum, .. }, toml::Value::Integer(number)) => {
            let in_range = (minimum..=maximum).contains(&number);
            if in_range { Ok(Argument::Whole(*number)) } else { Err(wrong()) }
        }
        (ParameterKind::Choice { choices }, toml::Value::String(word)) => {
            known_choice(choices, word).map(Argument::Choice).ok_or_else(|| {
                let known = choices.iter().map(|choice| choice.name.as_str());
                match nearest(word, known) {
                    Some(near) => format!("{}; did you mean \"{near}\"?", wrong()),
                    None => wrong(),
                }
            })
        }
        (ParameterKind::Subset { choices }, toml::Value::Array(words)) => words
            .iter()
            .map(|word| {
                word.as_str().and_then(|word| known_choice(choices, word)).ok_or_else(wrong)
            })
            .collect::<Result<_, _>>()
            .map(Argument::Subset),
        (ParameterKind::Text { .. }, toml::Value::String(text)) if is_text(text) => {
            Ok(Argument::Text(text.clone()))
        }
        (ParameterKind::Names { .. }, toml::Value::Array(names)) if names.len() <= MOST_NAMES => {
            let name = |name: &toml::Value| {
                name.as_str().filter(|name| is_text(name) && !name.is_empty()).map(str::to_owned)
            };
            let names: Option<Vec<_>> = names.iter().map(name).collect();
            names.map(Argument::Names).ok_or_else(wrong)
        }
        _ => Err(wrong()),
    }
}

fn is_text(text: &str) -> bool {
    text.chars().count() <= LONGEST_TEXT && !text.chars().any(char::is_control)
}

fn known_choice(choices: &[Choice], word: &str) -> Option<String> {
    choices.iter().any(|choice| choice.name == word).then(|| word.to_owned())
}
