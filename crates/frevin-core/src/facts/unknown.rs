//! Facts that a PC does not tell: which conditions hang on them, and how an owner tells them.

use std::collections::BTreeSet;

use serde::Deserialize as _;
use serde_json::Value;

use super::Facts;
use crate::expression::Expression;

impl Facts {
    /// Why an expression has no answer on this PC: it speaks of what the PC does not tell, without
    /// asking whether it is known (`facts.x != null`).
    pub fn untold(&self, expression: &Expression) -> Option<String> {
        if self.unknown.is_empty() {
            return None;
        }
        expression.mentions().iter().find_map(|path| {
            self.untold_path(path).filter(|_| !expression.asks_whether_known(path))
        })
    }

    /// Why an expression over one of several things has no answer on this PC: `each` is the name
    /// that it knows the thing by, and where the things come from.
    pub fn untold_of_each(
        &self,
        expression: &Expression,
        (name, things): (&str, &Expression),
    ) -> Option<String> {
        let list = things.list()?;
        expression.mentions().iter().find_map(|path| {
            let field = path.strip_prefix(name)?.strip_prefix('.')?;
            let told = self.untold_path(&format!("{list}.{field}"));
            told.filter(|_| !expression.asks_whether_known(path))
        })
    }

    fn untold_path(&self, path: &str) -> Option<String> {
        let fact = fact_of_path(path)?;
        let reason = self.unknown.get(&fact)?;
        Some(format!("{path} is not known: {reason}"))
    }
}

/// The fact that a path in an expression speaks of, as [`Facts::unknown`] names it.
fn fact_of_path(path: &str) -> Option<String> {
    let fact = path.strip_prefix("facts.")?;
    // The drive that Windows is on is one of the drives.
    Some(fact.replacen("system_drive.", "drives.", 1))
}

/// The facts that an expression gives no answer without, as [`Facts::unknown`] names them. `each` is the
/// name that the expression knows one of several things by, and where the things come from.
pub fn facts_needed(
    expression: &Expression,
    each: Option<(&str, &Expression)>,
) -> BTreeSet<String> {
    let of_a_thing = |path: &str| {
        let (name, things) = each?;
        let field = path.strip_prefix(name)?.strip_prefix('.')?;
        fact_of_path(&format!("{}.{field}", things.list()?))
    };
    expression
        .mentions()
        .iter()
        .filter(|path| !expression.asks_whether_known(path))
        .filter_map(|path| fact_of_path(path).or_else(|| of_a_thing(path)))
        .collect()
}

/// What came of telling facts.
#[derive(Debug, Clone, PartialEq)]
pub struct Told {
    /// The facts, with what was told.
    pub facts: Facts,
    /// What was told and is no fact, or none of this PC's, by path.
    pub unheard: Vec<String>,
}

/// Facts with what the owner tells of the PC, a table as in the facts themselves; one of several
/// drives, cards and the like goes by its name: `[graphics."Name"]`. What is told is known.
///
/// # Errors
/// Where something told is not what its fact can be.
pub fn tell(facts: &Facts, told: &Value) -> Result<Told, String> {
    let mut value = serde_json::to_value(facts).map_err(|error| error.to_string())?;
    let mut heard = Vec::new();
    let mut unheard = Vec::new();
    merge(&mut value, told, "", &mut heard, &mut unheard);
    // What was told of one drive is not known of the others.
    heard.retain(|path| !is_null_somewhere(&value, path));
    let mut facts = Facts::deserialize(value).map_err(|error| error.to_string())?;
    facts.unknown.retain(|path, _| !heard.contains(path));
    Ok(Told { facts, unheard })
}

/// Whether there is a thing that has nothing at a path.
fn is_null_somewhere(value: &Value, path: &str) -> bool {
    match value {
        Value::Null => true,
        Value::Array(things) => things.iter().any(|thing| is_null_somewhere(thing, path)),
        Value::Object(fields) if !path.is_empty() => {
            let (first, rest) = path.split_once('.').unwrap_or((path, ""));
            fields.get(first).is_none_or(|field| is_null_somewhere(field, rest))
        }
        _ => false,
    }
}

fn merge(
    known: &mut Value,
    told: &Value,
    path: &str,
    heard: &mut Vec<String>,
    unheard: &mut Vec<String>,
) {
    let Value::Object(told) = told else {
        *known = told.clone();
        heard.push(path.to_owned());
        return;
    };
    for (name, told) in told {
        let below = if path.is_empty() { name.clone() } else { format!("{path}.{name}") };
        match known {
            Value::Object(fields) if fields.contains_key(name) && below != "unknown" => {
                if let Some(field) = fields.get_mut(name) {
                    merge(field, told, &below, heard, unheard);
                }
            }
            Value::Array(things) => {
                let is_it = |thing: &&mut Value| {
                    [&thing["name"], &thing["letter"]].contains(&&Value::String(name.clone()))
                };
                match things.iter_mut().find(is_it) {
                    // The fact of one thing is told under the name that all of them have.
                    Some(thing) => merge(thing, told, path, heard, unheard),
                    None => unheard.push(below),
                }
            }
            _ => unheard.push(below),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use serde_json::json;

    fn untold(facts: &Facts, expression: &str) -> Option<String> {
        facts.untold(&Expression::parse(expression).unwrap())
    }

    #[test]
    fn a_condition_over_what_is_not_known_says_so() {
        let mut facts = Facts::reference();
        assert_eq!(untold(&facts, "facts.memory.rated_mt_s > 1"), None);
        facts.unknown.insert("memory.rated_mt_s".into(), "no table".into());
        facts.unknown.insert("drives.kind".into(), "no answer".into());
        let rated = Some("facts.memory.rated_mt_s is not known: no table".to_owned());
        assert_eq!(untold(&facts, "facts.memory.rated_mt_s > 1"), rated);
        assert_eq!(untold(&facts, "true || 1 < facts.memory.rated_mt_s"), rated);
        assert_eq!(
            untold(&facts, "facts.memory.rated_mt_s != null && facts.memory.rated_mt_s > 1"),
            None
        );
        assert_eq!(untold(&facts, "facts.memory.size_mib > 1"), None);
        for expression in [
            "facts.drives.exists(d, d.kind == 'spinning')",
            "facts.drives.filter(x, x.size_gib > 1).exists(y, y.kind == 'spinning')",
            "facts.system_drive.kind == 'spinning'",
        ] {
            assert!(untold(&facts, expression).unwrap().ends_with("no answer"), "{expression}");
        }
        assert_eq!(untold(&facts, "facts.drives.exists(d, d.size_gib > 1)"), None);
        let each = |expression: &str, things: &str| {
            let things = Expression::parse(things).unwrap();
            facts.untold_of_each(&Expression::parse(expression).unwrap(), ("drive", &things))
        };
        let kind = Some("facts.drives.kind is not known: no answer".to_owned());
        assert_eq!(each("drive.kind == 'spinning'", "facts.drives"), kind);
        assert_eq!(each("drive.kind == 'x'", "facts.drives.filter(d, d.size_gib > 1)"), kind);
        assert_eq!(each("drive.size_gib > 1", "facts.drives"), None);
        assert_eq!(each("drive.kind == 'x'", "drivers"), None);
    }

    #[test]
    fn what_an_owner_tells_is_known() {
        let mut facts = Facts::reference();
        facts.uses.printer = None;
        facts.graphics[0].is_discrete = None;
        facts.unknown.insert("uses.printer".into(), "?".into());
        facts.unknown.insert("graphics.is_discrete".into(), "?".into());
        let told = tell(
            &facts,
            &json!({
                "uses": { "printer": true, "teapot": true },
                "graphics": { "Sample graphics": { "is_discrete": true }, "Other": { "name": "x" } },
                "unknown": { "x": "y" },
            }),
        )
        .unwrap();
        assert_eq!(told.facts.uses.printer, Some(true));
        assert_eq!(told.facts.graphics[0].is_discrete, Some(true));
        assert!(told.facts.unknown.is_empty());
        assert_eq!(told.unheard, ["graphics.Other", "unknown", "uses.teapot"]);
        assert!(tell(&facts, &json!({ "uses": { "printer": "often" } })).is_err());
    }
}
