//! What a tweak is, once its definition has been read.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value, json};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

use super::parameter::{Arguments, Parameter};
use super::target::Target;
use super::whereabouts::Whereabouts;
use crate::expression::{Expression, ExpressionError, Template};
use crate::facts::{Facts, facts_needed};
use crate::setting::{Address, State, TakesEffect};

/// A tweak's name: `area/name`, in lower-case letters, digits and hyphens.
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(try_from = "String", into = "String")]
pub struct TweakId(String);

impl TweakId {
    /// The name as text.
    pub fn as_str(&self) -> &str {
        &self.0
    }

    /// The part before the slash.
    pub fn area(&self) -> &str {
        self.0.split_once('/').map_or("", |(area, _)| area)
    }
}

/// A text that is not a tweak's name.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error("`{0}` is not a tweak's name; one looks like `power/active-plan`")]
pub struct TweakIdError(String);

impl FromStr for TweakId {
    type Err = TweakIdError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let word = |part: &str| {
            let good = |c: char| c.is_ascii_lowercase() || c.is_ascii_digit() || c == '-';
            !part.is_empty() && part.len() <= 60 && part.chars().all(good)
        };
        match text.split_once('/') {
            Some((area, name)) if word(area) && word(name) => Ok(Self(text.to_owned())),
            _ => Err(TweakIdError(text.to_owned())),
        }
    }
}

impl TryFrom<String> for TweakId {
    type Error = TweakIdError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<TweakId> for String {
    fn from(id: TweakId) -> Self {
        id.0
    }
}

impl fmt::Display for TweakId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(&self.0)
    }
}

/// How well founded a tweak is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Standing {
    /// There is a mechanism and evidence.
    Sound,
    /// There is a mechanism; evidence is thin.
    Plausible,
    /// Practitioners contradict each other: measure it.
    Contested,
    /// Commonly believed, does nothing.
    NoEffect,
    /// Does damage.
    Harmful,
}

impl fmt::Display for Standing {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Sound => "sound",
            Self::Plausible => "plausible",
            Self::Contested => "contested",
            Self::NoEffect => "no effect",
            Self::Harmful => "harmful",
        })
    }
}

/// What a tweak can cost its owner.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize, Deserialize,
)]
#[serde(rename_all = "kebab-case")]
pub enum Risk {
    /// Nothing that an owner would miss.
    Safe,
    /// Something is given up for it.
    TradeOff,
    /// It can do harm in hands that do not know what it is.
    Expert,
}

impl fmt::Display for Risk {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.pad(match self {
            Self::Safe => "safe",
            Self::TradeOff => "trade-off",
            Self::Expert => "expert",
        })
    }
}

/// The Windows builds that a tweak is for; a missing end is open.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct BuildRange {
    /// The first build.
    pub first: Option<u32>,
    /// The last build.
    pub last: Option<u32>,
}

impl BuildRange {
    pub(crate) fn misfit(self, build: u32) -> Option<String> {
        if let Some(first) = self.first.filter(|first| build < *first) {
            return Some(format!("it needs Windows build {first} or later; this is build {build}"));
        }
        let last = self.last.filter(|last| build > *last)?;
        Some(format!("Windows after build {last} no longer has it; this is build {build}"))
    }
}

/// Something that must hold on a PC for the tweak to be of use there.
#[derive(Debug, Clone, PartialEq)]
pub struct Condition {
    /// What must hold, over `facts`.
    pub holds: Expression,
    /// What to tell the owner where it does not.
    pub otherwise: String,
}

/// Where a fact about Windows can be read up.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Source {
    /// The title of the public documentation.
    pub title: String,
    /// The fact that it states.
    pub states: String,
}

/// Harm that a tweak can do which cannot be taken back by rolling it back, and what guards against it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct Danger {
    /// What may happen: `This PC may no longer start.`
    pub what: String,
    /// What to do first.
    pub first: String,
}

/// What a person does by hand, where no program can: in the firmware, in a maker's own panel.
#[derive(Debug, Clone, PartialEq)]
pub struct Manual {
    /// What to do, in order, with gaps that expressions over `facts` and `params` fill.
    pub(super) steps: Vec<Template>,
    /// Whether it has been done, over `facts`; nothing where no fact tells.
    pub done_when: Option<Expression>,
    /// The page of Windows' settings that it is done on, where there is one.
    pub page: Option<SettingsPage>,
}

/// A page of Windows' settings, by its address: `ms-settings:display` ("Launch the Windows Settings app" in the Windows
/// documentation). Opening one shows it and does nothing else, so that a stranger's definition may name one.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(try_from = "String")]
pub struct SettingsPage(String);

impl SettingsPage {
    const SCHEME: &str = "ms-settings:";

    /// Its address.
    pub fn as_str(&self) -> &str {
        &self.0
    }
}

impl TryFrom<String> for SettingsPage {
    type Error = String;

    fn try_from(address: String) -> Result<Self, Self::Error> {
        let is_page = |name: &str| {
            !name.is_empty() && name.bytes().all(|b| b.is_ascii_lowercase() || b == b'-')
        };
        match address.strip_prefix(Self::SCHEME) {
            Some(name) if is_page(name) => Ok(Self(address)),
            _ => Err(format!("`{address}` is no page of the settings, as ms-settings:display is")),
        }
    }
}

impl Manual {
    /// Whether it has been done on a PC with these facts; nothing where they do not tell.
    pub fn is_done(&self, facts: &Facts) -> Option<bool> {
        let done_when = self.done_when.as_ref()?;
        if facts.untold(done_when).is_some() {
            return None;
        }
        done_when.holds(&json!({ "facts": facts.variables() })).ok()
    }

    /// What to do, where no PC is there to tell what stands in the gaps.
    pub fn general_steps(&self) -> Vec<String> {
        self.steps.iter().map(|step| step.unfilled("…")).collect()
    }
}

/// One setting that a tweak wants, before parameters and facts are known.
#[derive(Debug, Clone, PartialEq)]
pub struct SettingSpec {
    /// Which setting, or settings.
    pub whereabouts: Whereabouts,
    pub(super) target: Target,
    /// Only where this holds, over `facts` and `params`.
    pub when: Option<Expression>,
    /// When a write is felt.
    pub takes_effect: TakesEffect,
}

/// One setting that a tweak wants on a particular PC.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Wanted {
    /// Which setting.
    pub address: Address,
    /// What it shall hold.
    pub state: State,
    /// When the write is felt.
    pub takes_effect: TakesEffect,
}

/// A named, documented change of one or more settings.
#[derive(Debug, Clone, PartialEq)]
pub struct Tweak {
    /// Its name.
    pub id: TweakId,
    /// A short title.
    pub title: String,
    /// What else people call it, for those who search.
    pub also_called: Vec<String>,
    /// What it does, in plain words.
    pub what: String,
    /// Why one would want that.
    pub why: String,
    /// What it may break, and whom that concerns.
    pub may_break: String,
    /// Harm that no rollback takes back, the gravest first.
    pub dangers: Vec<Danger>,
    /// How well founded it is.
    pub standing: Standing,
    /// The reason for that standing, in a sentence.
    pub standing_reason: String,
    /// What it can cost.
    pub risk: Risk,
    /// What can be chosen about it, by name.
    pub parameters: BTreeMap<String, Parameter>,
    /// The settings that it wants; none where it is done by hand.
    pub settings: Vec<SettingSpec>,
    /// What a person does by hand, where that is what it takes.
    pub manual: Option<Manual>,
    /// What has to happen before it is felt, where no setting of it says otherwise.
    pub(super) takes_effect: TakesEffect,
    /// How soon a change of it is felt, in seconds, where that is known.
    pub felt_within_seconds: Option<f64>,
    /// What makes its effect build up or wear off over minutes, where something does: it is not tried in play.
    pub long_memory: Option<String>,
    /// What must hold on a PC for it to be of use.
    pub conditions: Vec<Condition>,
    /// What must hold of what is chosen, over `params` and `facts`.
    pub rules: Vec<Condition>,
    /// The Windows builds that it is for.
    pub builds: BuildRange,
    /// Tweaks that it cannot be combined with.
    pub conflicts: Vec<TweakId>,
    /// Tweaks that it does nothing without.
    pub needs: Vec<TweakId>,
    /// Tweaks that come to the same end in another way: one of them is enough.
    pub alternatives: Vec<TweakId>,
    /// Where its facts about Windows come from.
    pub sources: Vec<Source>,
    /// Whether the owner wrote it, and not Frevin's makers.
    pub is_own: bool,
}

impl Tweak {
    /// Why the tweak does not fit a PC; empty where it fits.
    ///
    /// A condition that cannot be computed counts as not met, with the reason.
    pub fn misfits(&self, facts: &Facts) -> Vec<String> {
        let variables = json!({ "facts": facts.variables() });
        let conditions = self.conditions.iter().filter_map(|condition| {
            if let Some(untold) = facts.untold(&condition.holds) {
                return Some(format!("{untold}, so it cannot be said whether it fits"));
            }
            match condition.holds.holds(&variables) {
                Ok(true) => None,
                Ok(false) => Some(condition.otherwise.clone()),
                Err(error) => Some(error.to_string()),
            }
        });
        self.builds.misfit(facts.windows.build).into_iter().chain(conditions).collect()
    }

    /// The arguments completed with the defaults of what they leave out.
    pub fn complete(&self, given: &Arguments) -> Arguments {
        let default = |(name, p): (&String, &Parameter)| Some((name.clone(), p.default.clone()?));
        let defaults = self.parameters.iter().filter_map(default);
        defaults.chain(given.iter().map(|(name, value)| (name.clone(), value.clone()))).collect()
    }

    /// The parameters without a default that are not among the arguments.
    pub fn to_be_chosen<'a>(
        &'a self,
        given: &'a Arguments,
    ) -> impl Iterator<Item = (&'a String, &'a Parameter)> {
        let is_open =
            |(name, p): &(&String, &Parameter)| p.default.is_none() && !given.contains_key(*name);
        self.parameters.iter().filter(is_open)
    }

    /// The kind of thing that a parameter names, as addresses of it begin: `startup:`, `display:`. Nothing where it names
    /// none that a PC could list.
    pub fn kind_named_by(&self, parameter: &str) -> Option<&str> {
        self.settings.iter().find_map(|spec| spec.whereabouts.kind_named_by(parameter))
    }

    /// The settings that the tweak wants on a PC with these facts.
    ///
    /// # Errors
    /// [`ExpressionError::NotChosen`] where a parameter without a default is not given.
    /// Where a formula cannot be computed or gives something that its setting cannot hold;
    /// [`ExpressionError::Untold`] where it hangs on a fact that is not known.
    pub fn resolve(
        &self,
        given: &Arguments,
        facts: &Facts,
    ) -> Result<Vec<Wanted>, ExpressionError> {
        if let Some((name, parameter)) = self.to_be_chosen(given).next() {
            return Err(ExpressionError::NotChosen {
                parameter: name.clone(),
                takes: parameter.range(),
            });
        }
        let variables = self.variables(&self.complete(given), facts);
        // Where it hangs on what is not known, that is the reason, and not what came of it.
        let or_untold = |expressions: Vec<&Expression>, error: ExpressionError| {
            let reason = expressions.into_iter().find_map(|expression| facts.untold(expression));
            reason.map_or(error, |reason| ExpressionError::Untold { reason })
        };
        for rule in &self.rules {
            let holds = rule.holds.holds(&variables);
            if !holds.map_err(|error| or_untold(vec![&rule.holds], error))? {
                return Err(ExpressionError::RuleBroken { otherwise: rule.otherwise.clone() });
            }
        }
        let mut wanted = Vec::new();
        for spec in &self.settings {
            for variables in spec.whereabouts.instances(&variables)? {
                let applies = match &spec.when {
                    None => true,
                    // Where the rest of it decides, what is not known does not matter.
                    Some(when) => {
                        when.holds(&variables).map_err(|error| or_untold(vec![when], error))?
                    }
                };
                if applies {
                    let address = spec
                        .whereabouts
                        .address(&variables)
                        .map_err(|error| or_untold(spec.whereabouts.expressions(), error))?;
                    let state = spec.target.state(&address, &variables).map_err(|error| {
                        or_untold(spec.target.formula().into_iter().collect(), error)
                    })?;
                    wanted.push(Wanted { address, state, takes_effect: spec.takes_effect });
                }
            }
        }
        Ok(wanted)
    }

    /// The facts without which it cannot be said whether it fits, whether it is done, or what it wants, as
    /// [`Facts::unknown`] names them.
    pub fn facts_needed(&self) -> BTreeSet<String> {
        let conditions = self.conditions.iter().chain(&self.rules).map(|one| (&one.holds, None));
        let by_hand = self.manual.iter().flat_map(|manual| {
            let gaps = manual.steps.iter().flat_map(Template::gaps);
            gaps.chain(&manual.done_when).map(|expression| (expression, None))
        });
        let settings = self.settings.iter().flat_map(|spec| {
            let each = spec.whereabouts.each();
            let things = each.into_iter().map(|(_, things)| (things, None));
            let of_each = spec.when.iter().chain(spec.whereabouts.expressions());
            let of_each = of_each.chain(spec.target.formula()).map(move |one| (one, each));
            things.chain(of_each)
        });
        let all = conditions.chain(by_hand).chain(settings);
        all.flat_map(|(expression, each)| facts_needed(expression, each)).collect()
    }

    /// The settings that the tweak may want: on sample PCs, whatever is chosen of it.
    ///
    /// # Errors
    /// As [`Self::resolve`].
    pub fn sample_settings(&self) -> Result<Vec<Wanted>, ExpressionError> {
        let mut wanted = Vec::new();
        for facts in Facts::references() {
            wanted.extend(self.sample_settings_on(&facts)?);
        }
        Ok(wanted)
    }

    fn sample_settings_on(&self, facts: &Facts) -> Result<Vec<Wanted>, ExpressionError> {
        let mut wanted = self.resolve(&self.sample_arguments(), facts)?;
        if self.to_be_chosen(&Arguments::new()).next().is_none() {
            wanted.extend(self.resolve(&Arguments::new(), facts)?);
        }
        for (name, parameter) in &self.parameters {
            for argument in parameter.samples() {
                let mut arguments = self.sample_arguments();
                arguments.insert(name.clone(), argument);
                match self.resolve(&arguments, facts) {
                    // One end of one range need not go with the sample of another.
                    Err(ExpressionError::RuleBroken { .. }) => {}
                    settings => wanted.extend(settings?),
                }
            }
        }
        Ok(wanted)
    }

    /// Arguments that name something wherever a parameter takes names, or has to be chosen.
    pub fn sample_arguments(&self) -> Arguments {
        let sample = |(name, p): (&String, &Parameter)| Some((name.clone(), p.sample()?));
        self.parameters.iter().filter_map(sample).collect()
    }

    /// What the tweak's expressions see: `facts`, and `params` with each parameter's value.
    pub(super) fn variables(&self, arguments: &Arguments, facts: &Facts) -> Value {
        let params: serde_json::Map<String, Value> = self
            .parameters
            .iter()
            .map(|(name, parameter)| {
                let argument = arguments.get(name).or(parameter.default.as_ref());
                (name.clone(), argument.map_or(Value::Null, |given| parameter.meant_by(given)))
            })
            .collect();
        json!({ "facts": facts.variables(), "params": params })
    }

    /// What a person does on a PC with these facts, where the tweak is done by hand. A gap that these facts
    /// cannot fill is left open.
    pub fn steps_by_hand(&self, given: &Arguments, facts: &Facts) -> Option<Vec<String>> {
        let manual = self.manual.as_ref()?;
        let variables = self.variables(&self.complete(given), facts);
        let step = |step: &Template| step.fill(&variables).unwrap_or_else(|_| step.unfilled("…"));
        Some(manual.steps.iter().map(step).collect())
    }

    /// Whether it may put another power plan in force.
    pub fn may_put_plan_in_force(&self) -> bool {
        self.settings.iter().any(|spec| spec.whereabouts == Whereabouts::Fixed(Address::ActivePlan))
    }

    /// The latest moment that any of its settings waits for.
    pub fn takes_effect(&self) -> TakesEffect {
        self.settings.iter().map(|spec| spec.takes_effect).max().unwrap_or(self.takes_effect)
    }
}
