//! The simulated power plans.

use std::collections::BTreeMap;

use frevin_core::setting::{Address, PowerSource, State, Value};
use serde::{Deserialize, Serialize};
use uuid::Uuid;

use crate::contract::{WriteError, Written};

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Indexes {
    mains: u32,
    battery: u32,
}

#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Plan {
    name: String,
    /// By subgroup, then by setting.
    values: BTreeMap<Uuid, BTreeMap<Uuid, Indexes>>,
}

/// The plans, and the one in force.
#[derive(Debug, Clone, PartialEq, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Power {
    active: Uuid,
    plans: BTreeMap<Uuid, Plan>,
}

impl Power {
    pub(super) fn read_active(&self) -> State {
        Value::Plan(self.active).into()
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
        for (plan, content) in &self.plans {
            for (subgroup, settings) in &content.values {
                for setting in settings.keys() {
                    for source in [PowerSource::Mains, PowerSource::Battery] {
                        let (plan, subgroup, setting) = (*plan, *subgroup, *setting);
                        addresses.push(Address::PowerValue { plan, subgroup, setting, source });
                    }
                }
            }
        }
        addresses
    }
}
