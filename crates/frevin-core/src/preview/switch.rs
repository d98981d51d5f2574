//! A switch: from what one change holds to what other wishes want, as one plan.

use std::collections::BTreeMap;

use super::drift::drift;
use super::order::in_writing_order;
use super::plan::{Action, Plan, PlanError, Reason, Step, Wish, denied, plan};
use super::readings::Readings;
use crate::layers::{ChangeId, Layers, Selection};
use crate::setting::{Address, State, TakesEffect, WinName};
use crate::tweak::TweakUse;

/// Plans the change that puts `wishes` in the place of the layers of the change `replaces`, leaving
/// all other changes alone. Without wishes it takes that change back; without layers of it, it is
/// [`plan`].
///
/// Each setting is written once, from what it holds to what it shall hold in the end: nothing passes
/// through the state without either. Where another change's layer lies above the replaced one, the
/// PC does not move, and the new layer takes the old one's place. `moments` says what a write that
/// puts a setting back waits for.
///
/// # Errors
/// As [`plan`].
pub fn switch<R: Readings>(
    replaces: ChangeId,
    wishes: &[Wish],
    readings: &R,
    layers: &Layers,
    moments: &BTreeMap<Address, TakesEffect>,
) -> Result<Plan, PlanError<R::Error>> {
    let owners = owners(layers, replaces);
    let mut without = layers.clone();
    let moves = without.take_out(&Selection::Change(replaces));
    let ahead = WithoutChange {
        readings,
        states: moves.iter().map(|moved| (moved.address.clone(), moved.to.clone())).collect(),
    };
    let mut new = plan(wishes, &ahead, &without)?;
    // Above the replaced layer another may lie: what is wanted then goes beneath it.
    let covered = |address: &Address| {
        let stack = layers.get(address)?;
        let place = stack.layers.iter().rposition(|layer| layer.change == replaces)?;
        (place + 1 < stack.layers.len()).then(|| stack.effective().clone())
    };
    let mut steps: Vec<Step> = Vec::new();
    for mut step in std::mem::take(&mut new.steps) {
        if let Some(effective) = covered(&step.address) {
            step.before = effective;
            step.action = Action::Share;
            steps.push(step);
            continue;
        }
        let earlier = steps.iter().rev().find(|earlier| earlier.address == step.address);
        step.before = match earlier {
            Some(earlier) => earlier.after.clone(),
            None => readings.state(&step.address)?,
        };
        let stays = step.before == step.after;
        step.action = match step.action {
            // Without the replaced change the PC holds by itself what is wanted.
            Action::AlreadySo | Action::PutBack if stays => Action::AlreadySo,
            Action::AlreadySo | Action::PutBack => Action::PutBack,
            Action::Write | Action::Share if stays => Action::Share,
            Action::Write | Action::Share => Action::Write,
        };
        steps.push(step);
    }
    let mut back = Vec::new();
    for moved in moves {
        let is_wanted = steps.iter().any(|step| step.address == moved.address);
        if is_wanted || covered(&moved.address).is_some() {
            continue;
        }
        back.push((moved.address, moved.to));
    }
    for (address, after) in in_writing_order(back, readings)? {
        let before = readings.state(&address)?;
        let Some(used) = owners.get(&address) else { continue };
        let action = if before == after { Action::AlreadySo } else { Action::PutBack };
        let takes_effect = moments.get(&address).copied().unwrap_or(TakesEffect::Now);
        let used = used.clone();
        let reason = Reason::Replaced(replaces);
        steps.push(Step { used, address, before, after, action, takes_effect, reason });
    }
    new.steps = in_order(steps, readings)?;
    new.denied = denied(&new, readings)?;
    let written = |address: &Address| new.writes().any(|step| step.address == *address);
    new.changed_by_others =
        drift(readings, layers)?.into_iter().filter(|drifted| written(&drifted.address)).collect();
    Ok(new)
}

/// For each setting that a change holds, the use of a tweak that holds it.
fn owners(layers: &Layers, change: ChangeId) -> BTreeMap<Address, TweakUse> {
    let of = |(address, stack): (&Address, &crate::layers::Stack)| {
        let layer = stack.layers.iter().rev().find(|layer| layer.change == change)?;
        Some((address.clone(), layer.used.clone()))
    };
    layers.iter().filter_map(of).collect()
}

/// Steps in the order in which they can be carried out; those of one rank as they come.
fn in_order<R: Readings>(steps: Vec<Step>, readings: &R) -> Result<Vec<Step>, R::Error> {
    let mut ranked = Vec::new();
    for step in steps {
        ranked.push((super::order::rank_on(readings, &step.address, &step.after)?, step));
    }
    ranked.sort_by_key(|(rank, _)| *rank);
    Ok(ranked.into_iter().map(|(_, step)| step).collect())
}

/// A PC as it will be once a change is taken out.
struct WithoutChange<'a, R> {
    readings: &'a R,
    states: BTreeMap<Address, State>,
}

impl<R: Readings> Readings for WithoutChange<'_, R> {
    type Error = R::Error;

    fn state(&self, address: &Address) -> Result<State, R::Error> {
        match self.states.get(address) {
            Some(state) => Ok(state.clone()),
            None => self.readings.state(address),
        }
    }

    fn supports(&self, address: &Address) -> Vec<Address> {
        self.readings.supports(address)
    }

    fn obstacle(&self, address: &Address) -> Result<Option<String>, R::Error> {
        self.readings.obstacle(address)
    }

    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, R::Error> {
        self.readings.dependents(service)
    }

    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, R::Error> {
        self.readings.dependencies(service)
    }
}

#[cfg(test)]
mod tests;
