//! The steps that one wish takes on a PC, and why there are none.

use std::collections::BTreeMap;

use super::{Action, Conflict, PlanError, Reason, Step, Wish};
use crate::layers::{ChangeId, Layers};
use crate::preview::readings::Readings;
use crate::setting::{
    Address, ObjectKind, RunState, StartType, State, TakesEffect, Value, plan_in_words,
};
use crate::tweak::{TweakUse, Wanted};

/// The registry values of which parts are held, with a change that holds one.
fn values_held_in_parts(layers: &Layers) -> BTreeMap<Address, ChangeId> {
    let held = layers
        .iter()
        .filter_map(|(address, stack)| Some((address.whole_value()?, stack.layers.last()?.change)));
    held.collect()
}

/// Drafts the steps of one wish after another, each on top of what the earlier ones will have done.
pub(super) struct Planner<'a, R> {
    readings: &'a R,
    layers: &'a Layers,
    values_held_in_parts: BTreeMap<Address, ChangeId>,
    /// What settings will hold once the steps so far have been carried out.
    held: BTreeMap<Address, State>,
    /// Who wants what of the steps so far.
    by: BTreeMap<Address, (TweakUse, State)>,
    pub(super) steps: Vec<Step>,
}

/// What one wish comes to.
pub(super) enum Draft {
    Steps {
        steps: Vec<Step>,
        /// Why some of what is wanted is not among them: this PC does not have it.
        missing: Vec<String>,
    },
    Impossible(Vec<String>),
}

/// A setting and its state, with why it is part of a draft.
type Part = (Address, State, Reason);

impl<'a, R: Readings> Planner<'a, R> {
    pub(super) fn new(readings: &'a R, layers: &'a Layers) -> Self {
        Self {
            readings,
            layers,
            values_held_in_parts: values_held_in_parts(layers),
            held: BTreeMap::new(),
            by: BTreeMap::new(),
            steps: Vec::new(),
        }
    }

    pub(super) fn draft(&self, wish: &Wish) -> Result<Draft, PlanError<R::Error>> {
        let mut steps: Vec<Step> = Vec::new();
        let (mut impossible, mut missing): (Vec<String>, Vec<String>) = Default::default();
        let note = |reasons: &mut Vec<String>, why: String| {
            if !reasons.contains(&why) {
                reasons.push(why);
            }
        };
        let mut is_anything_there = false;
        // What this draft will have made, on top of what earlier tweaks will.
        let mut ahead = self.ahead();
        for wanted in &wish.settings {
            if let Some(why) = ahead.missing(&wanted.address, &wanted.state)? {
                note(&mut missing, why);
                continue;
            }
            is_anything_there = true;
            for (address, after, reason) in self.parts(wanted)? {
                let earlier = steps.iter().rev().find(|step| step.address == address);
                let before = match earlier {
                    Some(step) if step.after == after => continue,
                    Some(step) => step.after.clone(),
                    None => ahead.state(&address)?,
                };
                let no_way_back = self.no_way_back(&address, &before, &after)?;
                let obstacle = obstacle(&address, &before, &after).or(no_way_back);
                if let Some(why) = obstacle.or_else(|| self.held_otherwise(&address)) {
                    note(&mut impossible, why);
                    continue;
                }
                let action = self.action(&address, &before, &after);
                if action == Action::AlreadySo && reason != Reason::Wanted {
                    continue;
                }
                ahead.held.insert(address.clone(), after.clone());
                steps.push(Step {
                    used: wish.used.clone(),
                    address,
                    before,
                    after,
                    action,
                    takes_effect: match reason {
                        Reason::Wanted => wanted.takes_effect,
                        _ => TakesEffect::Now,
                    },
                    reason,
                });
            }
        }
        if !is_anything_there {
            impossible.append(&mut missing);
        }
        Ok(if impossible.is_empty() {
            Draft::Steps { steps, missing }
        } else {
            Draft::Impossible(impossible)
        })
    }

    /// What this PC does not have of a setting that is to be `after`; nothing where it has it, or
    /// where the setting may be made.
    fn missing(&self, address: &Address, after: &State) -> Result<Option<String>, R::Error> {
        let plan = match (address, after) {
            (Address::ActivePlan, State::Value(Value::Plan(plan))) => Some(*plan),
            (Address::PowerPlan(_), State::Value(Value::PlanExists { copy_of, .. })) => *copy_of,
            _ => None,
        };
        if let Some(plan) = plan
            && self.state(&Address::PowerPlan(plan))? == State::Absent
        {
            return Ok(Some(format!("this PC has no power plan {}", plan_in_words(plan))));
        }
        let is_missing = *after != State::Absent
            && !address.may_be_absent()
            && self.state(address)? == State::Absent;
        Ok(is_missing.then(|| not_here(address)))
    }

    /// Why a setting cannot be held beside what is held already: of a registry value, the whole and its
    /// parts would each be put back over the other.
    fn held_otherwise(&self, address: &Address) -> Option<String> {
        if let Some(whole) = address.whole_value() {
            let change = || Some(self.layers.get(&whole)?.layers.last()?.change);
            return change()
                .map(|change| format!("change {change} holds all of {whole}: roll it back first"))
                .or_else(|| {
                    let (used, _) = self.by.get(&whole)?;
                    Some(format!("`{used}` wants all of {whole}"))
                });
        }
        let Address::RegistryValue(..) = address else { return None };
        let by_change = self.values_held_in_parts.get(address);
        by_change
            .map(|change| format!("change {change} holds a part of {address}: roll it back first"))
            .or_else(|| {
                let mut others = self.by.iter();
                let part = others.find(|(other, _)| other.whole_value().as_ref() == Some(address));
                part.map(|(_, (used, _))| format!("`{used}` wants a part of {address}"))
            })
    }

    /// Why a setting could not be brought from `after` to `before` again.
    ///
    /// A service may run although it is disabled, where it was disabled while it ran. Once stopped it
    /// could not be started again without another start type than it has.
    fn no_way_back(
        &self,
        address: &Address,
        before: &State,
        after: &State,
    ) -> Result<Option<String>, R::Error> {
        let Address::ServiceRunning(name) = address else { return Ok(None) };
        let stops = *before == Value::Run(RunState::Running).into()
            && *after == Value::Run(RunState::Stopped).into();
        let start = self.readings.state(&Address::ServiceStart(name.clone()))?;
        let is_disabled = matches!(
            start,
            State::Value(Value::Start(start)) if start.start_type == StartType::Disabled
        );
        Ok((stops && is_disabled).then(|| {
            format!(
                "the service {name} runs although it is disabled, and could not be started again \
                 once stopped: restart the PC, which ends it, or give it another start type"
            )
        }))
    }

    /// A planner that knows what this one knows, to look further ahead with.
    fn ahead(&self) -> Self {
        Self {
            readings: self.readings,
            layers: self.layers,
            values_held_in_parts: BTreeMap::new(),
            held: self.held.clone(),
            by: BTreeMap::new(),
            steps: Vec::new(),
        }
    }

    /// The wanted setting, after what it needs and what follows from it.
    ///
    /// A service is stopped after those that need it and started after those it needs: so that
    /// whatever a write brings about is a step of its own, with its own way back.
    fn parts(&self, wanted: &Wanted) -> Result<Vec<Part>, PlanError<R::Error>> {
        let mut parts: Vec<Part> = Vec::new();
        if wanted.state != State::Absent {
            parts.extend(
                self.readings
                    .supports(&wanted.address)
                    .into_iter()
                    .map(|key| (key, Value::Key.into(), Reason::NeededBy(wanted.address.clone()))),
            );
        }
        if let (Address::ServiceRunning(service), State::Value(Value::Run(run))) =
            (&wanted.address, &wanted.state)
        {
            let others = match run {
                RunState::Running => self.readings.dependencies(service)?,
                RunState::Stopped | RunState::Paused => self.readings.dependents(service)?,
            };
            for other in others {
                let reason = match run {
                    RunState::Running => Reason::NeededBy(wanted.address.clone()),
                    _ => Reason::FollowsFrom(wanted.address.clone()),
                };
                let address = Address::ServiceRunning(other);
                if self.state(&address)? != State::Absent {
                    parts.push((address, wanted.state.clone(), reason));
                }
            }
        }
        parts.push((wanted.address.clone(), wanted.state.clone(), Reason::Wanted));
        Ok(parts)
    }

    /// What a setting will hold once the steps so far have been carried out.
    fn state(&self, address: &Address) -> Result<State, R::Error> {
        if let Some(state) = self.held.get(address) {
            return Ok(state.clone());
        }
        match self.copied_from(address) {
            Some(original) if self.readings.state(address)? == State::Absent => {
                self.readings.state(&original)
            }
            _ => self.readings.state(address),
        }
    }

    /// The value that a value of a power plan will be a copy of, where a step makes the plan.
    fn copied_from(&self, address: &Address) -> Option<Address> {
        let Address::PowerValue { plan, subgroup, setting, source } = address else { return None };
        let State::Value(Value::PlanExists { copy_of, .. }) =
            self.held.get(&Address::PowerPlan(*plan))?
        else {
            return None;
        };
        let (plan, subgroup, setting, source) = ((*copy_of)?, *subgroup, *setting, *source);
        Some(Address::PowerValue { plan, subgroup, setting, source })
    }

    fn action(&self, address: &Address, before: &State, after: &State) -> Action {
        if before != after {
            Action::Write
        } else if self.layers.get(address).is_some() || self.by.contains_key(address) {
            Action::Share
        } else {
            Action::AlreadySo
        }
    }

    pub(super) fn take(&mut self, steps: Vec<Step>) -> Result<(), PlanError<R::Error>> {
        for step in steps {
            if let Some(first) = self.by.get(&step.address)
                && first.1 != step.after
            {
                return Err(PlanError::Conflict(Box::new(Conflict {
                    address: step.address,
                    first: first.clone(),
                    second: (step.used, step.after),
                })));
            }
            self.held.insert(step.address.clone(), step.after.clone());
            if step.action != Action::AlreadySo || step.reason == Reason::Wanted {
                self.by.insert(step.address.clone(), (step.used.clone(), step.after.clone()));
            }
            self.steps.push(step);
        }
        Ok(())
    }
}

/// That this PC does not have a setting, or the thing that it is of.
fn not_here(address: &Address) -> String {
    match address {
        Address::ServiceStart(name) | Address::ServiceRunning(name) => {
            format!("this PC has no service {name}")
        }
        Address::Object(setting) => {
            let (kind, name) = (setting.kind().name(), setting.object());
            match setting.kind() {
                ObjectKind::Task | ObjectKind::App | ObjectKind::Feature => {
                    format!("this PC has no {kind} {name}")
                }
                ObjectKind::Startup => format!("this PC does not start {name} by itself"),
                // The thing may be there, and lack this of it only.
                ObjectKind::Display
                | ObjectKind::Adapter
                | ObjectKind::Device
                | ObjectKind::Boot
                | ObjectKind::PageFile
                | ObjectKind::Driver
                | ObjectKind::Protection => format!("{kind} {name} has no {}", setting.part_name()),
            }
        }
        other => format!("this PC does not have {other}"),
    }
}

/// Why a setting cannot be brought from `before` to `after` on this PC at all.
fn obstacle(address: &Address, before: &State, after: &State) -> Option<String> {
    match before {
        State::Unreadable(reason) => Some(format!("{address} cannot be read: {reason}")),
        State::Absent if after != before && !address.may_be_absent() => Some(not_here(address)),
        // Once it is gone it could not be made again.
        State::Value(_) if *after == State::Absent && !address.may_be_absent() => {
            Some(format!("{address} cannot be taken away"))
        }
        _ => None,
    }
}
