//! Which tweaks of the catalogue a set of settings is.

use std::collections::{BTreeMap, BTreeSet};

use super::{Recognised, WantedStates};
use crate::facts::Facts;
use crate::setting::{Address, KeyPath, State, Value, WinName};
use crate::tweak::{Argument, Arguments, Catalogue, ParameterKind, Tweak, TweakId, Wanted};

/// Takes the settings of every tweak that is wanted whole out of `wanted`, and names the tweak.
pub(super) fn recognise(
    wanted: &mut WantedStates,
    catalogue: &Catalogue,
    facts: &Facts,
) -> Vec<Recognised> {
    let mut recognised = Vec::new();
    // Tweaks of many settings first, so that none is taken for a smaller one that is a part of it.
    let mut tweaks: Vec<&Tweak> = catalogue.iter().filter(|tweak| !tweak.is_own).collect();
    tweaks.sort_by_key(|tweak| std::cmp::Reverse(tweak.settings.len()));
    for tweak in tweaks {
        // What is chosen of a tweak changes what it sets more often than where.
        let usual = tweak.resolve(&tweak.sample_arguments(), facts).unwrap_or_default();
        if !usual.iter().any(|setting| wanted.contains_key(&setting.address)) {
            continue;
        }
        let found = candidates(tweak, wanted).into_iter().find_map(|arguments| {
            let settings = tweak.resolve(&arguments, facts).ok()?;
            let is_whole = !settings.is_empty()
                && settings.iter().all(|s| wanted.get(&s.address).is_some_and(|w| w.0 == s.state));
            is_whole.then_some((arguments, settings))
        });
        let Some((arguments, settings)) = found else { continue };
        let taken = |setting: &Wanted| wanted.remove(&setting.address).map(|(_, line)| line);
        recognised.push(Recognised {
            tweak: tweak.id.clone(),
            title: tweak.title.clone(),
            standing: tweak.standing,
            arguments,
            lines: settings.iter().filter_map(taken).collect(),
        });
    }
    recognised.sort_by(|a, b| a.tweak.cmp(&b.tweak));
    recognised
}

/// What may have been chosen of a tweak: each parameter's choices, and for numbers and texts what
/// is wanted of registry values.
fn candidates(tweak: &Tweak, wanted: &WantedStates) -> Vec<Arguments> {
    /// More combinations than that are not worth trying.
    const MOST: usize = 400;
    let mut all = vec![Arguments::new()];
    for (name, parameter) in &tweak.parameters {
        let mut choices: Vec<Option<Argument>> = vec![None];
        match &parameter.kind {
            ParameterKind::Whole { minimum, maximum, .. } => {
                let numbers: BTreeSet<i64> = wanted.values().filter_map(|w| number(&w.0)).collect();
                let range = *minimum..=*maximum;
                let fitting = numbers.into_iter().filter(|number| range.contains(number));
                choices.extend(fitting.take(20).map(|number| Some(Argument::Whole(number))));
            }
            ParameterKind::Text { .. } | ParameterKind::Names { .. } => {}
            _ => choices.extend(parameter.samples().into_iter().map(Some)),
        }
        let with = |arguments: &Arguments, choice: &Option<Argument>| {
            let mut arguments = arguments.clone();
            arguments.extend(choice.clone().map(|choice| (name.clone(), choice)));
            arguments
        };
        let both = all.iter().flat_map(|known| choices.iter().map(|choice| with(known, choice)));
        all = both.take(MOST).collect();
    }
    all
}

fn number(state: &State) -> Option<i64> {
    let State::Value(Value::Registry(data)) = state else { return None };
    let text = || data.as_text()?.trim().parse().ok();
    data.as_number().and_then(|number| i64::try_from(number).ok()).or_else(text)
}

/// What the catalogue knows of registry values, whatever is chosen.
pub(super) struct Known {
    /// By value: the tweak that sets it, and the types that it sets it to.
    values: BTreeMap<Address, (TweakId, BTreeSet<u32>)>,
    /// By the value's name: the keys that it is known in.
    keys: BTreeMap<WinName, BTreeSet<KeyPath>>,
}

impl Known {
    pub(super) fn of(catalogue: &Catalogue) -> Self {
        let mut known = Self { values: BTreeMap::new(), keys: BTreeMap::new() };
        for tweak in catalogue.iter().filter(|tweak| !tweak.is_own) {
            for wanted in tweak.sample_settings().unwrap_or_default() {
                let Address::RegistryValue(key, name) = &wanted.address else { continue };
                known.keys.entry(name.clone()).or_default().insert(key.clone());
                let (_, types) = known
                    .values
                    .entry(wanted.address.clone())
                    .or_insert_with(|| (tweak.id.clone(), BTreeSet::new()));
                if let State::Value(Value::Registry(data)) = &wanted.state {
                    types.insert(data.type_number);
                }
            }
        }
        known
    }

    /// What is to be said against a setting that no tweak stands for.
    pub(super) fn remarks(&self, address: &Address, state: &State) -> Vec<String> {
        let Address::RegistryValue(_, name) = address else { return Vec::new() };
        let mut remarks = Vec::new();
        match self.values.get(address) {
            Some((tweak, types)) => {
                let type_number = match state {
                    State::Value(Value::Registry(data)) => Some(data.type_number),
                    _ => None,
                };
                remarks.push(match type_number {
                    Some(number) if !types.is_empty() && !types.contains(&number) => format!(
                        "`{tweak}` sets this value with another type: with this one Windows may not read it"
                    ),
                    _ => format!("`{tweak}` sets this, together with others or to something else"),
                });
            }
            None => {
                // Names that stand in many keys say nothing.
                if let Some(keys) = self.keys.get(name).filter(|keys| keys.len() == 1)
                    && name.as_str().len() > 5
                {
                    let keys: Vec<String> = keys.iter().map(ToString::to_string).collect();
                    let text = format!(
                        "in the wrong place: a value of this name is known under {}; nothing is known to read it here",
                        keys.join(", ")
                    );
                    remarks.push(text);
                }
            }
        }
        remarks
    }
}
