//! Findings: what is plainly wrong with a PC before any tweak.
//!
//! Each rule is a TOML file of `findings/`: when it holds, what was seen, why it matters, and the
//! tweak or the steps that mend it. Rules are read once and evaluated over facts and settings.

mod rule;

use std::collections::BTreeMap;

use jiff::civil::Date;
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::{Value, json};

use crate::expression::ExpressionError;
use crate::facts::Facts;
use crate::setting::{Address, KeyPath, State, WinName};
use crate::tweak::TweakId;

pub use rule::{FindingKind, FindingRule, rules};

/// Something plainly wrong with a PC.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Finding {
    /// Its name.
    pub id: String,
    /// What is wrong, in a few words.
    pub title: String,
    /// What was seen, and where.
    pub evidence: String,
    /// Why it matters.
    pub why: String,
    /// What mending it is worth, from 1 to 100: the order that findings are shown in.
    pub worth: u8,
    /// The tweak that mends it, if one does.
    pub tweak: Option<TweakId>,
    /// What is to be chosen of that tweak, as it is written behind `--set`.
    pub set: BTreeMap<String, String>,
    /// What a person does instead, or besides.
    pub by_hand: Option<String>,
}

/// What findings are made of.
pub struct Seen<'a> {
    /// What is known of the PC.
    pub facts: &'a Facts,
    /// What a setting holds.
    pub read: &'a dyn Fn(&Address) -> State,
    /// The values of a registry key.
    pub values_of: &'a dyn Fn(&KeyPath) -> Vec<WinName>,
    /// How many settings wait for a restart because of earlier changes.
    pub waiting_for_restart: usize,
    /// The day on which it was looked.
    pub today: Date,
}

/// What rules tell of a PC.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Findings {
    /// What is plainly wrong, the most worthwhile to mend first.
    pub found: Vec<Finding>,
    /// What costs something and may be wanted so, the most costly first.
    pub worth_knowing: Vec<Finding>,
    /// Rules that this PC gives no answer to, and why.
    pub untold: Vec<Untold>,
}

/// A rule that a PC gives no answer to.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Untold {
    /// The rule.
    pub id: String,
    /// Why there is no answer.
    pub reason: String,
}

/// What is plainly wrong with a PC.
pub fn findings(rules: &[FindingRule], seen: &Seen<'_>) -> Findings {
    let mut findings = Findings::default();
    for rule in rules {
        let told = match rule.untold(seen.facts) {
            Some(reason) => Err(reason),
            None => told(rule, seen),
        };
        match (told, rule.kind) {
            (Ok(found), FindingKind::Wrong) => findings.found.extend(found),
            (Ok(found), FindingKind::WorthKnowing) => findings.worth_knowing.extend(found),
            (Err(reason), _) => findings.untold.push(Untold { id: rule.id.clone(), reason }),
        }
    }
    for list in [&mut findings.found, &mut findings.worth_knowing] {
        list.sort_by(|a, b| b.worth.cmp(&a.worth).then_with(|| a.id.cmp(&b.id)));
    }
    findings
}

fn told(rule: &FindingRule, seen: &Seen<'_>) -> Result<Vec<Finding>, String> {
    let mut found = Vec::new();
    let words = |error: ExpressionError| error.to_string();
    for variables in rule.instances(&variables(rule, seen)?).map_err(words)? {
        if rule.when.holds(&variables).map_err(words)? {
            found.push(Finding {
                id: rule.id.clone(),
                title: rule.title.clone(),
                evidence: rule.evidence.fill(&variables).map_err(words)?,
                why: rule.why.clone(),
                worth: rule.worth,
                tweak: rule.tweak.clone(),
                set: rule
                    .set
                    .iter()
                    .map(|(name, value)| Ok((name.clone(), value.fill(&variables)?)))
                    .collect::<Result<_, _>>()
                    .map_err(words)?,
                by_hand: rule.by_hand.clone(),
            });
        }
    }
    Ok(found)
}

/// What a rule's expressions see: `facts`, the settings that it reads as `reads` (lists where it reads one
/// of each thing), the values of the keys that it lists as `lists`, `driver_days` for each graphics driver,
/// and `waiting`. A setting that cannot be read leaves the rule untold.
fn variables(rule: &FindingRule, seen: &Seen<'_>) -> Result<Value, String> {
    let facts = json!({ "facts": seen.facts.variables() });
    let words = |error: ExpressionError| error.to_string();
    let read = |address: &Address| match (seen.read)(address) {
        State::Unreadable(reason) => Err(format!("{address} cannot be read: {reason}")),
        state => Ok(state.plain()),
    };
    let mut reads: BTreeMap<&String, Value> = BTreeMap::new();
    for (name, address) in &rule.reads {
        reads.insert(name, read(&rule::filled(address, &facts).map_err(words)?)?);
    }
    for (name, each) in &rule.reads_each {
        let addresses = each.addresses(&facts).map_err(words)?;
        let states: Vec<Value> = addresses.iter().map(read).collect::<Result<_, _>>()?;
        reads.insert(name, states.into());
    }
    let is_game = |name: &WinName| {
        seen.facts.games.iter().any(|game| WinName::from(game.program.as_str()) == *name)
    };
    let values_of = |listed: &Address| -> Vec<Value> {
        let Address::RegistryKey(key) = listed else { return Vec::new() };
        let value = |name: WinName| {
            let address = Address::RegistryValue(key.clone(), name.clone());
            let value = (seen.read)(&address).plain();
            json!({ "name": name.as_str(), "value": value, "is_game": is_game(&name) })
        };
        (seen.values_of)(key).into_iter().map(value).collect()
    };
    let lists: BTreeMap<&String, Vec<Value>> =
        rule.lists.iter().map(|(name, key)| (name, values_of(key))).collect();
    let age_days = |date: Date| date.until(seen.today).map_or(0, |span| span.get_days());
    let driver_days: Vec<Value> = seen
        .facts
        .graphics
        .iter()
        .filter_map(|card| Some(json!({ "name": card.name, "days": age_days(card.driver_date?) })))
        .collect();
    Ok(json!({
        "facts": facts["facts"],
        "reads": reads,
        "lists": lists,
        "drivers": driver_days,
        "waiting": seen.waiting_for_restart,
    }))
}

#[cfg(test)]
mod tests;
