//! The simulated power plans.

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::setting::{Address, PowerSource, State, Value};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::contract::{WriteError, Written};

#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Indexes {
    mains: u32,
    battery: u32,
}

#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Plan {
    name: String,
    /// The plan that it was copied from; nothing for those that come with Windows.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    copy_of: Option<Uuid>,
    /// By subgroup, then by setting.
    values: BTreeMap<Uuid, BTreeMap<Uuid, Indexes>>,
}

/// The plans, and the one in force.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Power {
    active: Uuid,
    plans: BTreeMap<Uuid, Plan>,
    /// By subgroup, the settings that Windows hides from its own windows.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    hidden: BTreeMap<Uuid, BTreeSet<Uuid>>,
}

impl Power {
    pub(super) fn facts(&self) -> frevin_core::facts::Power {
        frevin_core::facts::Power {
            plan_in_force: Some(self.active),
            plans: self.plans.keys().copied().collect(),
        }
    }

    pub(super) fn read_active(&self) -> State {
        Value::Plan(self.active).into()
    }

    pub(super) fn read_plan(&self, plan: Uuid) -> State {
        self.plans.get(&plan).map_or(State::Absent, |plan| {
            Value::PlanExists { copy_of: plan.copy_of, name: plan.name.clone() }.into()
        })
    }

    pub(super) fn read_hidden(&self, subgroup: Uuid, setting: Uuid) -> State {
        let is_known = self.plans.values().any(|plan| {
            plan.values.get(&subgroup).is_some_and(|settings| settings.contains_key(&setting))
        });
        let is_hidden =
            self.hidden.get(&subgroup).is_some_and(|settings| settings.contains(&setting));
        if is_known { Value::Flag(is_hidden).into() } else { State::Absent }
    }

    /// A plan is made as a copy, and goes unless it is in force, came with Windows, or holds what
    /// its original does not.
    pub(super) fn write_plan(&mut self, plan: Uuid, state: &State) -> Result<Written, WriteError> {
        let refused = |reason: &str| Err(WriteError::Refused(reason.to_owned()));
        match (state, self.plans.get(&plan)) {
            (State::Absent, None) => Ok(Written::Done),
            (State::Absent, Some(_)) if self.active == plan => refused("the plan is in force"),
            (State::Absent, Some(held)) => {
                let Some(original) = held.copy_of.and_then(|of| self.plans.get(&of)) else {
                    return refused("the plan came with Windows");
                };
                if original.values != held.values {
                    return Ok(Written::LeftInPlace);
                }
                self.plans.remove(&plan);
                Ok(Written::Done)
            }
            (State::Value(value), Some(_))
                if self.read_plan(plan) == State::from(value.clone()) =>
            {
                Ok(Written::Done)
            }
            (State::Value(Value::PlanExists { copy_of: Some(of), name }), None) => {
                let Some(original) = self.plans.get(of) else {
                    return refused("there is no plan to copy");
                };
                let (name, copy_of) = (name.clone(), Some(*of));
                let values = original.values.clone();
                self.plans.insert(plan, Plan { name, copy_of, values });
                Ok(Written::Done)
            }
            (other, _) => Err(WriteError::Refused(format!("a plan cannot be made {other}"))),
        }
    }

    pub(super) fn write_hidden(
        &mut self,
        subgroup: Uuid,
        setting: Uuid,
        state: &State,
    ) -> Result<Written, WriteError> {
        let known = self.read_hidden(subgroup, setting);
        let (State::Value(Value::Flag(is_hidden)), State::Value(_)) = (state, known) else {
            return Err(WriteError::Refused(format!("a power setting cannot be {state}")));
        };
        let settings = self.hidden.entry(subgroup).or_default();
        if *is_hidden {
            settings.insert(setting);
        } else {
            settings.remove(&setting);
        }
        if settings.is_empty() {
            self.hidden.remove(&subgroup);
        }
        Ok(Written::Done)
    }

    pub(super) fn read_value(&self, path: [Uuid; 3], source: PowerSource) -> State {
        let [plan, subgroup, setting] = path;
        let plan = self.plans.get(&plan);
        let indexes = plan.and_then(|plan| plan.values.get(&subgroup)?.get(&setting));
        indexes.map_or(State::Absent, |indexes| {
            let index = match source {
                PowerSource::Mains => indexes.mains,
                PowerSource::Battery => indexes.battery,
            };
            Value::PowerIndex(index).into()
        })
    }

    pub(super) fn write_active(&mut self, state: &State) -> Result<Written, WriteError> {
        match state {
            State::Value(Value::Plan(plan)) if self.plans.contains_key(plan) => {
                self.active = *plan;
                Ok(Written::Done)
            }
            State::Value(Value::Plan(plan)) => {
                Err(WriteError::Refused(format!("there is no power plan {plan}")))
            }
            other => Err(WriteError::Refused(format!("{other} is no power plan"))),
        }
    }

    pub(super) fn write_value(
        &mut self,
        path: [Uuid; 3],
        source: PowerSource,
        state: &State,
    ) -> Result<Written, WriteError> {
        let [plan, subgroup, setting] = path;
        let State::Value(Value::PowerIndex(index)) = state else {
            return Err(WriteError::Refused(format!("a power setting cannot hold {state}")));
        };
        let plan = self.plans.get_mut(&plan);
        let indexes = plan.and_then(|plan| plan.values.get_mut(&subgroup)?.get_mut(&setting));
        let indexes = indexes
            .ok_or_else(|| WriteError::Refused("this PC has no such power setting".to_owned()))?;
        match source {
            PowerSource::Mains => indexes.mains = *index,
            PowerSource::Battery => indexes.battery = *index,
        }
        Ok(Written::Done)
    }

    pub(super) fn plan_name(&self, plan: Uuid) -> Option<&str> {
        self.plans.get(&plan).map(|plan| plan.name.as_str())
    }

    pub(super) fn addresses(&self) -> Vec<Address> {
        let mut addresses = vec![Address::ActivePlan];
        let mut known = BTreeSet::new();
        for (plan, content) in &self.plans {
            addresses.push(Address::PowerPlan(*plan));
            for (subgroup, settings) in &content.values {
                for setting in settings.keys() {
                    known.insert((*subgroup, *setting));
                    for source in [PowerSource::Mains, PowerSource::Battery] {
                        let (plan, subgroup, setting) = (*plan, *subgroup, *setting);
                        addresses.push(Address::PowerValue { plan, subgroup, setting, source });
                    }
                }
            }
        }
        let hidden = |(subgroup, setting)| Address::PowerHidden { subgroup, setting };
        addresses.extend(known.into_iter().map(hidden));
        addresses
    }
}
