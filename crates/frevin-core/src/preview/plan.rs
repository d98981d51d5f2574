//! From what tweaks want and what the PC holds to the steps of a change.

mod planner;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeSet;
use thiserror::Error;

use self::planner::{Draft, Planner};
use super::drift::{Drifted, drift};
use super::order::rank_on;
use super::readings::Readings;
use crate::layers::{ChangeId, Layers};
use crate::setting::{Address, State, TakesEffect, protection};
use crate::tweak::{TweakUse, Wanted};

/// What one use of a tweak wants on this PC.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
    JsonSchema,
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
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct LeftOut {
    /// The use of the tweak.
    #[serde(flatten)]
    pub used: TweakUse,
    /// Why it is not part of the plan.
    pub reasons: Vec<String>,
}

/// A protected setting that a tweak wants, without the owner's word for it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
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
#[derive(Debug, Clone, PartialEq, Eq, Default, JsonSchema, Serialize)]
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
    let mut planner = Planner::new(readings, layers);
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

#[cfg(test)]
mod tests;
