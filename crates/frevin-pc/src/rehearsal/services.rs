//! The simulated services.

use std::collections::{BTreeMap, BTreeSet};

use frevin_core::setting::{Address, RunState, ServiceStart, StartType, State, Value, WinName};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::contract::{WriteError, Written};

#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
struct Service {
    title: String,
    start: ServiceStart,
    run: RunState,
    /// Whether something asks for it soon after every start of the PC.
    #[serde(default, skip_serializing_if = "std::ops::Not::not")]
    asked_for: bool,
    /// The services that it cannot run without.
    #[serde(default, skip_serializing_if = "BTreeSet::is_empty")]
    needs: BTreeSet<WinName>,
}

/// The services by name.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub(super) struct Services {
    services: BTreeMap<WinName, Service>,
}

impl Services {
    pub(super) fn read_start(&self, name: &WinName) -> State {
        self.services.get(name).map_or(State::Absent, |service| Value::Start(service.start).into())
    }

    pub(super) fn read_run(&self, name: &WinName) -> State {
        self.services.get(name).map_or(State::Absent, |service| Value::Run(service.run).into())
    }

    pub(super) fn write_start(
        &mut self,
        name: &WinName,
        state: &State,
    ) -> Result<Written, WriteError> {
        let State::Value(Value::Start(start)) = state else {
            return Err(WriteError::Refused(format!("a start type cannot be {state}")));
        };
        self.existing(name)?.start = *start;
        Ok(Written::Done)
    }

    /// Starting a service starts what it needs first; stopping one stops what needs it first.
    pub(super) fn write_run(
        &mut self,
        name: &WinName,
        state: &State,
    ) -> Result<Written, WriteError> {
        let State::Value(Value::Run(wanted)) = state else {
            return Err(WriteError::Refused(format!("a service cannot be {state}")));
        };
        if self.existing(name)?.run == *wanted {
            return Ok(Written::Done);
        }
        let along = match wanted {
            RunState::Running => self.dependencies(name),
            RunState::Stopped => self.dependents(name),
            RunState::Paused => {
                return Err(WriteError::Refused(format!("{name} does not take pauses")));
            }
        };
        let all: Vec<WinName> = along.into_iter().chain([name.clone()]).collect();
        if *wanted == RunState::Running {
            let disabled = |name: &&WinName| {
                self.services.get(*name).is_some_and(|service| {
                    service.run != RunState::Running
                        && service.start.start_type == StartType::Disabled
                })
            };
            if let Some(name) = all.iter().find(disabled) {
                return Err(WriteError::Refused(format!("{name} is disabled and cannot start")));
            }
        }
        for name in &all {
            if let Some(service) = self.services.get_mut(name) {
                service.run = *wanted;
            }
        }
        Ok(Written::Done)
    }

    fn existing(&mut self, name: &WinName) -> Result<&mut Service, WriteError> {
        self.services
            .get_mut(name)
            .ok_or_else(|| WriteError::Refused(format!("there is no service {name}")))
    }

    /// What stops when a service stops, each after those that depend on it.
    pub(super) fn dependents(&self, name: &WinName) -> Vec<WinName> {
        self.reach(name, |from| {
            let needs_it = |(_, service): &(&WinName, &Service)| service.needs.contains(from);
            self.services.iter().filter(needs_it).map(|(other, _)| other.clone()).collect()
        })
    }

    /// What starts before a service starts, each after those it depends on.
    pub(super) fn dependencies(&self, name: &WinName) -> Vec<WinName> {
        self.reach(name, |from| {
            let needs = self.services.get(from).map(|service| service.needs.clone());
            let exists = |other: &WinName| self.services.contains_key(other);
            needs.into_iter().flatten().filter(exists).collect()
        })
    }

    /// Everything reached from `name` by `step`, deepest first, each once.
    fn reach(&self, name: &WinName, step: impl Fn(&WinName) -> Vec<WinName>) -> Vec<WinName> {
        fn visit(
            name: &WinName,
            step: &impl Fn(&WinName) -> Vec<WinName>,
            seen: &mut BTreeSet<WinName>,
            order: &mut Vec<WinName>,
        ) {
            if seen.insert(name.clone()) {
                step(name).iter().for_each(|next| visit(next, step, seen, order));
                order.push(name.clone());
            }
        }
        let mut order = Vec::new();
        visit(name, &step, &mut BTreeSet::new(), &mut order);
        order.pop();
        order
    }

    /// What a restart of the PC does: services start or not by their start type.
    pub(super) fn restart(&mut self) {
        for service in self.services.values_mut() {
            service.run = match service.start.start_type {
                StartType::Boot | StartType::System | StartType::Automatic => RunState::Running,
                StartType::Manual if service.asked_for => RunState::Running,
                _ => RunState::Stopped,
            };
        }
        // What cannot run without a service that does not run does not run either.
        let stopped: Vec<WinName> = self
            .services
            .iter()
            .filter(|(_, service)| service.run == RunState::Stopped)
            .map(|(name, _)| name.clone())
            .collect();
        let left_alone: Vec<WinName> =
            stopped.iter().flat_map(|name| self.dependents(name)).collect();
        for dependent in left_alone {
            if let Some(service) = self.services.get_mut(&dependent) {
                service.run = RunState::Stopped;
            }
        }
    }

    pub(super) fn addresses(&self) -> Vec<Address> {
        let both = |name: &WinName| {
            [Address::ServiceStart(name.clone()), Address::ServiceRunning(name.clone())]
        };
        self.services.keys().flat_map(both).collect()
    }
}
