//! System parameters of looks.

use frevin_core::setting::{State, Value, VisualKind, VisualParameter};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// System parameters as Windows offers them.
pub trait VisualApi {
    /// What a parameter holds: 0 or 1 for a flag.
    fn get(&self, parameter: VisualParameter) -> Result<u32, OsError>;
    /// Sets a parameter, for good, and tells running programs.
    fn set(&self, parameter: VisualParameter, value: u32) -> Result<(), OsError>;
}

pub(super) fn read(visual: &dyn VisualApi, parameter: VisualParameter) -> State {
    state_of(visual.get(parameter).map(|value| {
        Some(match parameter.kind() {
            VisualKind::Flag => Value::Flag(value != 0).into(),
            VisualKind::Milliseconds => Value::Milliseconds(value).into(),
        })
    }))
}

pub(super) fn write(
    visual: &dyn VisualApi,
    parameter: VisualParameter,
    state: &State,
) -> Result<Written, WriteError> {
    let value = match (parameter.kind(), state) {
        (VisualKind::Flag, State::Value(Value::Flag(flag))) => u32::from(*flag),
        (VisualKind::Milliseconds, State::Value(Value::Milliseconds(ms))) => *ms,
        _ => return Err(WriteError::Refused(format!("{parameter} cannot be {state}"))),
    };
    if visual.get(parameter)? != value {
        visual.set(parameter, value)?;
    }
    Ok(Written::Done)
}
