//! A rule that tells something wrong.

use std::collections::{BTreeMap, BTreeSet};

use include_dir::{Dir, include_dir};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};

use crate::document::{BadDocument, Problem};
use crate::expression::{Expression, ExpressionError, Template};
use crate::facts::{Facts, facts_needed};
use crate::setting::Address;
use crate::tweak::TweakId;

static RULES: Dir<'_> = include_dir!("$CARGO_MANIFEST_DIR/../../findings");

/// Whether what a rule tells is plainly wrong, or only worth knowing.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum FindingKind {
    /// Hardly anybody wants it so.
    #[default]
    Wrong,
    /// It costs something, and an owner may want it so.
    WorthKnowing,
}

/// A setting of each of several things.
#[derive(Debug, Clone, PartialEq)]
pub(super) struct ReadEach {
    things: Expression,
    name: String,
    address: Template,
}

/// A rule that tells something wrong.
#[derive(Debug, Clone, PartialEq)]
pub struct FindingRule {
    pub(super) id: String,
    pub(super) title: String,
    pub(super) why: String,
    pub(super) worth: u8,
    pub(super) tweak: Option<TweakId>,
    pub(super) set: BTreeMap<String, Template>,
    pub(super) by_hand: Option<String>,
    pub(super) kind: FindingKind,
    pub(super) reads: BTreeMap<String, Template>,
    pub(super) reads_each: BTreeMap<String, ReadEach>,
    pub(super) lists: BTreeMap<String, Address>,
    each: Option<(Expression, String)>,
    pub(super) when: Expression,
    pub(super) evidence: Template,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct Document {
    id: String,
    title: String,
    why: String,
    worth: u8,
    tweak: Option<TweakId>,
    #[serde(default)]
    set: BTreeMap<String, String>,
    by_hand: Option<String>,
    #[serde(default)]
    kind: FindingKind,
    #[serde(default)]
    reads: BTreeMap<String, String>,
    #[serde(default)]
    reads_each: BTreeMap<String, ReadEachDocument>,
    #[serde(default)]
    lists: BTreeMap<String, Address>,
    for_each: Option<String>,
    #[serde(rename = "as")]
    each_name: Option<String>,
    when: String,
    evidence: String,
}

#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
struct ReadEachDocument {
    for_each: String,
    #[serde(rename = "as")]
    name: String,
    address: String,
}

impl ReadEach {
    /// The settings, on a PC that `variables` speak of.
    pub(super) fn addresses(&self, variables: &Value) -> Result<Vec<Address>, ExpressionError> {
        let Value::Array(things) = self.things.evaluate(variables)? else {
            return Err(self.things.wrong_type(&json!(null), "a list of things"));
        };
        let of = |thing: Value| {
            let mut variables = variables.clone();
            variables[&self.name] = thing;
            filled(&self.address, &variables)
        };
        things.into_iter().map(of).collect()
    }
}

/// The address that a template comes to.
pub(super) fn filled(template: &Template, variables: &Value) -> Result<Address, ExpressionError> {
    let text = template.fill(variables)?;
    text.parse().map_err(|error| ExpressionError::BadAddress {
        expression: template.source().to_owned(),
        address: text,
        reason: format!("{error}"),
    })
}

impl FindingRule {
    /// Reads a rule. `name` is how the reader knows the text, for messages.
    ///
    /// # Errors
    /// Where it is none.
    pub fn parse(name: &str, text: &str) -> Result<Self, BadDocument> {
        let document: Document =
            toml::from_str(text).map_err(|error| BadDocument::from_toml(name, text, &error))?;
        let bad = |message: String| BadDocument::new(name, text, vec![Problem::overall(message)]);
        let expression =
            |source: &str| Expression::parse(source).map_err(|error| bad(error.to_string()));
        let each = match (&document.for_each, document.each_name) {
            (None, None) => None,
            (Some(things), Some(thing)) => Some((expression(things)?, thing)),
            _ => return Err(bad("`for_each` and `as` come together".to_owned())),
        };
        if document.tweak.is_none() && document.by_hand.is_none() {
            return Err(bad("a finding says what mends it: `tweak` or `by_hand`".to_owned()));
        }
        if document.tweak.is_none() && !document.set.is_empty() {
            return Err(bad("`set` chooses something of a `tweak`".to_owned()));
        }
        let template = |source: &str| Template::parse(source).map_err(bad);
        let reads = document.reads.into_iter();
        let reads_each = document.reads_each.into_iter().map(|(name, read)| {
            let things = expression(&read.for_each)?;
            let address = template(&read.address)?;
            Ok((name, ReadEach { things, name: read.name, address }))
        });
        Ok(Self {
            kind: document.kind,
            reads_each: reads_each.collect::<Result<_, BadDocument>>()?,
            reads: reads
                .map(|(name, address)| Ok((name, template(&address)?)))
                .collect::<Result<_, BadDocument>>()?,
            when: expression(&document.when)?,
            evidence: Template::parse(&document.evidence).map_err(bad)?,
            id: document.id,
            title: document.title,
            why: document.why,
            worth: document.worth.clamp(1, 100),
            tweak: document.tweak,
            set: document
                .set
                .into_iter()
                .map(|(name, value)| Ok((name, template(&value)?)))
                .collect::<Result<_, BadDocument>>()?,
            by_hand: document.by_hand,
            lists: document.lists,
            each,
        })
    }

    /// The facts that it gives no answer without, as [`Facts::unknown`] names them.
    pub(crate) fn facts_needed(&self) -> BTreeSet<String> {
        let each = self.each.as_ref().map(|(things, name)| (name.as_str(), things));
        let things = each.into_iter().flat_map(|(_, things)| facts_needed(things, None));
        things.chain(facts_needed(&self.when, each)).collect()
    }

    /// Its name.
    pub(crate) fn id(&self) -> &str {
        &self.id
    }

    /// Why a PC with these facts gives no answer.
    pub(super) fn untold(&self, facts: &Facts) -> Option<String> {
        let Some((things, name)) = &self.each else { return facts.untold(&self.when) };
        facts
            .untold(things)
            .or_else(|| facts.untold(&self.when))
            .or_else(|| facts.untold_of_each(&self.when, (name, things)))
    }

    /// The variables for each thing that the rule looks at.
    pub(super) fn instances(&self, variables: &Value) -> Result<Vec<Value>, ExpressionError> {
        let Some((things, name)) = &self.each else { return Ok(vec![variables.clone()]) };
        let Value::Array(things) = things.evaluate(variables)? else {
            return Err(things.wrong_type(&json!(null), "a list of things"));
        };
        let with = |thing: Value| {
            let mut variables = variables.clone();
            variables[name] = thing;
            variables
        };
        Ok(things.into_iter().map(with).collect())
    }
}

/// Every rule that comes with Frevin.
///
/// # Errors
/// None in a program that passed its tests: every rule is read in them.
pub fn rules() -> Result<Vec<FindingRule>, BadDocument> {
    RULES
        .files()
        .filter_map(|file| Some((file.path().to_str()?, file.contents_utf8()?)))
        .map(|(name, text)| FindingRule::parse(name, text))
        .collect()
}
