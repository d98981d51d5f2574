//! From what tweaks want and what the PC holds to the steps of a change.

use std::collections::{BTreeMap, BTreeSet};

use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::drift::{Drifted, drift};
use super::order::rank_on;
use super::readings::Readings;
use crate::layers::{ChangeId, Layers};
use crate::setting::{
    Address, ObjectKind, RunState, StartType, State, TakesEffect, Value, plan_in_words, protection,
};
use crate::tweak::{TweakUse, Wanted};

/// What one use of a tweak wants on this PC.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Wish {
    /// The use.
    #[serde(flatten)]
    pub used: TweakUse,
    /// The settings that it wants.
    pub settings: Vec<Wanted>,
    /// Whether the owner agreed that this tweak touches what is protected.
    pub consented: bool,
}

/// Why a step is part of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Reason {
    /// The tweak wants it.
    Wanted,
    /// Another step needs it to be there first.
    NeededBy(Address),
    /// It would come about anyway as a consequence of another step.
    FollowsFrom(Address),
    /// The change that this one replaces wanted it, and this one does not.
    Replaced(ChangeId),
}

/// What a step does.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum Action {
    /// The PC is written.
    Write,
    /// The PC holds it already, because of another change or another tweak of this one. Nothing
    /// is written, but the setting is held for this tweak too, should the other be taken back.
    Share,
    /// The PC holds it already, and not because of Frevin. Nothing is written or held.
    AlreadySo,
    /// The PC is written back to what it holds without the change that this one replaces. The
    /// setting is not held for this change.
    PutBack,
}

impl Action {
    /// Whether the PC is written.
    pub fn writes(self) -> bool {
        match self {
            Self::Write | Self::PutBack => true,
            Self::Share | Self::AlreadySo => false,
        }
    }

    /// Whether the setting is held for the change from then on.
    pub fn holds(self) -> bool {
        match self {
            Self::Write | Self::Share => true,
            Self::AlreadySo | Self::PutBack => false,
        }
    }
}

/// One setting of a plan.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct Step {
    /// The use of a tweak that the step is for.
    #[serde(flatten)]
    pub used: TweakUse,
    /// The setting.
    pub address: Address,
    /// What it holds before the step.
    pub before: State,
    /// What it holds after the step.
    pub after: State,
    /// What the step does.
    pub action: Action,
    /// When the write is felt.
    pub takes_effect: TakesEffect,
    /// Why the step is part of the plan.
    pub reason: Reason,
}

/// A tweak that is not part of a plan, and why.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct LeftOut {
    /// The use of the tweak.
    #[serde(flatten)]
    pub used: TweakUse,
    /// Why it is not part of the plan.
    pub reasons: Vec<String>,
}

/// A protected setting that a tweak wants, without the owner's word for it.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Refusal {
    /// The use of the tweak.
    #[serde(flatten)]
    pub used: TweakUse,
    /// The protected setting.
    pub address: Address,
    /// Why it is protected, in words that complete "it …".
    pub reason: &'static str,
}

/// A setting that this process may not write.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Denied {
    /// The use of a tweak that wants it.
    #[serde(flatten)]
    pub used: TweakUse,
    /// The setting.
    pub address: Address,
    /// Why it cannot be written, in words that complete "it cannot be written: …".
    pub reason: String,
}

/// Two tweaks that want different states of one setting.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Conflict {
    /// The setting.
    pub address: Address,
    /// The tweak that was asked for first, and what it wants.
    pub first: (TweakUse, State),
    /// The tweak that was asked for later, and what it wants.
    pub second: (TweakUse, State),
}

/// What would change on a PC, step by step: shown first, then carried out as it is.
#[must_use = "a plan changes nothing until it is applied"]
#[derive(Debug, Clone, PartialEq, Eq, Default, Serialize)]
pub struct Plan {
    /// The steps in the order in which they are carried out.
    pub steps: Vec<Step>,
    /// Tweaks that were asked for and are not part of it.
    pub left_out: Vec<LeftOut>,
    /// Tweaks that are part of it but for some of their settings, which this PC does not have.
    pub parts_left_out: Vec<LeftOut>,
    /// Protected settings that stand in the way; a plan with any is not applied.
    pub refusals: Vec<Refusal>,
    /// Settings that this process may not write; a plan with any is not applied.
    pub denied: Vec<Denied>,
    /// Settings to be written that somebody else has changed since Frevin last did; a plan with
    /// any is applied only where its owner says so.
    pub changed_by_others: Vec<Drifted>,
}

impl Plan {
    /// The steps that write.
    pub fn writes(&self) -> impl Iterator<Item = &Step> {
        self.steps.iter().filter(|step| step.action.writes())
    }

    /// Whether nothing would be written or held.
    pub fn is_empty(&self) -> bool {
        self.steps.iter().all(|step| step.action == Action::AlreadySo)
    }

    /// The latest moment that a write of it waits for.
    pub fn takes_effect(&self) -> TakesEffect {
        self.writes().map(|step| step.takes_effect).max().unwrap_or(TakesEffect::Now)
    }
}

/// Why there is no plan.
#[derive(Debug, Error)]
pub enum PlanError<E> {
    /// Two tweaks contradict each other.
    #[error("`{}` wants {} at {}, and `{}` wants {}", .0.first.0, .0.first.1, .0.address, .0.second.0, .0.second.1)]
    Conflict(Box<Conflict>),
    /// The PC could not be asked.
    #[error(transparent)]
    Pc(#[from] E),
}

/// Plans the change that fulfils `wishes`, in their order, on the PC that `readings` come from and
/// whose layers so far are `layers`.
///
/// # Errors
/// [`PlanError`] where two wishes contradict each other or the PC cannot be asked.
pub fn plan<R: Readings>(
    wishes: &[Wish],
    readings: &R,
    layers: &Layers,
) -> Result<Plan, PlanError<R::Error>> {
    let mut planner = Planner {
        readings,
        layers,
        values_held_in_parts: values_held_in_parts(layers),
        held: BTreeMap::new(),
        by: BTreeMap::new(),
        steps: Vec::new(),
    };
    let mut plan = Plan::default();
    for wish in wishes {
        plan.refusals.extend(refusals(wish));
        let draft = planner.draft(wish)?;
        match draft {
            Draft::Steps { steps, missing } => {
                planner.take(steps)?;
                if !missing.is_empty() {
                    let (used, reasons) = (wish.used.clone(), missing);
                    plan.parts_left_out.push(LeftOut { used, reasons });
                }
            }
            Draft::Impossible(reasons) => {
                plan.left_out.push(LeftOut { used: wish.used.clone(), reasons });
            }
        }
    }
    let mut ranked = Vec::new();
    for step in planner.steps {
        ranked.push((rank_on(readings, &step.address, &step.after)?, step));
    }
    ranked.sort_by_key(|(rank, _)| *rank);
    plan.steps = ranked.into_iter().map(|(_, step)| step).collect();
    plan.denied = denied(&plan, readings)?;
    let touched: BTreeSet<&Address> = plan.writes().map(|step| &step.address).collect();
    let drifted = drift(readings, layers)?;
    plan.changed_by_others =
        drifted.into_iter().filter(|drifted| touched.contains(&drifted.address)).collect();
    Ok(plan)
}

/// The writes of a plan that this process may not make.
pub(super) fn denied<R: Readings>(plan: &Plan, readings: &R) -> Result<Vec<Denied>, R::Error> {
    let mut denied = Vec::new();
    for step in plan.writes() {
        if let Some(reason) = readings.obstacle(&step.address)? {
            denied.push(Denied { used: step.used.clone(), address: step.address.clone(), reason });
        }
    }
    Ok(denied)
}

fn refusals(wish: &Wish) -> impl Iterator<Item = Refusal> {
    let unguarded = if wish.consented { &[][..] } else { &wish.settings };
    unguarded.iter().filter_map(|wanted| {
        let protection = protection(&wanted.address)?;
        Some(Refusal {
            used: wish.used.clone(),
            address: wanted.address.clone(),
            reason: protection.reason,
        })
    })
}

/// The registry values of which parts are held, with a change that holds one.
fn values_held_in_parts(layers: &Layers) -> BTreeMap<Address, ChangeId> {
    let held = layers
        .iter()
        .filter_map(|(address, stack)| Some((address.whole_value()?, stack.layers.last()?.change)));
    held.collect()
}

struct Planner<'a, R> {
    readings: &'a R,
    layers: &'a Layers,
    values_held_in_parts: BTreeMap<Address, ChangeId>,
    /// What settings will hold once the steps so far have been carried out.
    held: BTreeMap<Address, State>,
    /// Who wants what of the steps so far.
    by: BTreeMap<Address, (TweakUse, State)>,
    steps: Vec<Step>,
}

enum Draft {
    Steps {
        steps: Vec<Step>,
        /// Why some of what is wanted is not among them: this PC does not have it.
        missing: Vec<String>,
    },
    Impossible(Vec<String>),
}

/// A setting and its state, with why it is part of a draft.
type Part = (Address, State, Reason);

impl<R: Readings> Planner<'_, R> {
    fn draft(&self, wish: &Wish) -> Result<Draft, PlanError<R::Error>> {
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

    fn take(&mut self, steps: Vec<Step>) -> Result<(), PlanError<R::Error>> {
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

#[cfg(test)]
mod tests;
