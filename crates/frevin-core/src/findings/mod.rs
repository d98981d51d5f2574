//! Findings: what is plainly wrong with a PC before any tweak.
//!
//! Each rule is a TOML file of `findings/`: when it holds, what was seen, why it matters, and the
//! tweak or the steps that mend it. Rules are read once and evaluated over facts and settings.

mod rule;

use std::collections::BTreeMap;

use jiff::civil::Date;
use serde::Serialize;
use serde_json::{Value, json};

use crate::expression::ExpressionError;
use crate::facts::Facts;
use crate::setting::{Address, KeyPath, State, WinName};
use crate::tweak::TweakId;

pub use rule::{FindingRule, rules};

/// Something plainly wrong with a PC.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
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
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
pub struct Findings {
    /// What is plainly wrong, the most worthwhile to mend first.
    pub found: Vec<Finding>,
    /// Rules that this PC gives no answer to, and why.
    pub untold: Vec<Untold>,
}

/// A rule that a PC gives no answer to.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
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
            None => told(rule, seen).map_err(|error| error.to_string()),
        };
        match told {
            Ok(found) => findings.found.extend(found),
            Err(reason) => findings.untold.push(Untold { id: rule.id.clone(), reason }),
        }
    }
    findings.found.sort_by(|a, b| b.worth.cmp(&a.worth).then_with(|| a.id.cmp(&b.id)));
    findings
}

fn told(rule: &FindingRule, seen: &Seen<'_>) -> Result<Vec<Finding>, ExpressionError> {
    let mut found = Vec::new();
    for variables in rule.instances(&variables(rule, seen))? {
        if rule.when.holds(&variables)? {
            found.push(Finding {
                id: rule.id.clone(),
                title: rule.title.clone(),
                evidence: rule.evidence.fill(&variables)?,
                why: rule.why.clone(),
                worth: rule.worth,
                tweak: rule.tweak.clone(),
                by_hand: rule.by_hand.clone(),
            });
        }
    }
    Ok(found)
}

/// What a rule's expressions see: `facts`, the settings that it reads as `reads`, the values of the
/// keys that it lists as `lists`, `driver_days` for each graphics driver, and `waiting`.
fn variables(rule: &FindingRule, seen: &Seen<'_>) -> Value {
    let reads: BTreeMap<&String, Value> =
        rule.reads.iter().map(|(name, address)| (name, (seen.read)(address).plain())).collect();
    let values_of = |listed: &Address| -> Vec<Value> {
        let Address::RegistryKey(key) = listed else { return Vec::new() };
        let value = |name: WinName| {
            let address = Address::RegistryValue(key.clone(), name.clone());
            json!({ "name": name.as_str(), "value": (seen.read)(&address).plain() })
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
    json!({
        "facts": seen.facts.variables(),
        "reads": reads,
        "lists": lists,
        "drivers": driver_days,
        "waiting": seen.waiting_for_restart,
    })
}

#[cfg(test)]
mod tests;
