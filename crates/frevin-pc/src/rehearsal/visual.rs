//! The simulated system parameters of looks.

use std::collections::BTreeMap;

use frevin_core::setting::{Address, State, Value, VisualKind, VisualParameter, three_numbers};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use crate::contract::{WriteError, Written};

/// The parameters by name.
#[derive(Debug, Clone, Default, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub(super) struct Visual {
    parameters: BTreeMap<String, Value>,
}

impl Visual {
    pub(super) fn read(&self, parameter: VisualParameter) -> State {
        let value = self.parameters.get(parameter.name());
        value.map_or(State::Absent, |value| value.clone().into())
    }

    pub(super) fn write(
        &mut self,
        parameter: VisualParameter,
        state: &State,
    ) -> Result<Written, WriteError> {
        let value = match (parameter.kind(), state) {
            (VisualKind::Flag, State::Value(value @ Value::Flag(_)))
            | (VisualKind::Milliseconds, State::Value(value @ Value::Milliseconds(_)))
            | (VisualKind::Number, State::Value(value @ Value::Number(_))) => value,
            (VisualKind::ThreeNumbers, State::Value(value @ Value::Text(text)))
                if three_numbers(text).is_some() =>
            {
                value
            }
            _ => return Err(WriteError::Refused(format!("{parameter} cannot be {state}"))),
        };
        self.parameters.insert(parameter.name().to_owned(), value.clone());
        Ok(Written::Done)
    }

    pub(super) fn addresses(&self) -> Vec<Address> {
        let known = |parameter: &VisualParameter| self.parameters.contains_key(parameter.name());
        VisualParameter::ALL.into_iter().filter(known).map(Address::Visual).collect()
    }
}
