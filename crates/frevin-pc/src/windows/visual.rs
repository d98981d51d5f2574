//! System parameters of looks.

use frevin_core::setting::{State, Value, VisualKind, VisualParameter, three_numbers};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// System parameters as Windows offers them.
pub trait VisualApi {
    /// What a parameter holds: 0 or 1 for a flag.
    fn get(&self, parameter: VisualParameter) -> Result<u32, OsError>;
    /// Sets a parameter, for good, and tells running programs.
    fn set(&self, parameter: VisualParameter, value: u32) -> Result<(), OsError>;
    /// The two thresholds and the acceleration of the pointer (`SPI_GETMOUSE`).
    fn pointer_acceleration(&self) -> Result<[u32; 3], OsError>;
    /// Sets them.
    fn set_pointer_acceleration(&self, values: [u32; 3]) -> Result<(), OsError>;
}

pub(super) fn read(visual: &dyn VisualApi, parameter: VisualParameter) -> State {
    let value = match parameter.kind() {
        VisualKind::Flag => visual.get(parameter).map(|value| Value::Flag(value != 0)),
        VisualKind::Milliseconds => visual.get(parameter).map(Value::Milliseconds),
        VisualKind::Number => visual.get(parameter).map(Value::Number),
        VisualKind::ThreeNumbers => visual
            .pointer_acceleration()
            .map(|values| Value::Text(values.map(|value| value.to_string()).join(" "))),
    };
    state_of(value.map(|value| Some(value.into())))
}

pub(super) fn write(
    visual: &dyn VisualApi,
    parameter: VisualParameter,
    state: &State,
) -> Result<Written, WriteError> {
    let value = match (parameter.kind(), state) {
        (VisualKind::Flag, State::Value(Value::Flag(flag))) => u32::from(*flag),
        (VisualKind::Milliseconds, State::Value(Value::Milliseconds(ms))) => *ms,
        (VisualKind::Number, State::Value(Value::Number(number))) => *number,
        (VisualKind::ThreeNumbers, State::Value(Value::Text(text))) => {
            let values = three_numbers(text)
                .ok_or_else(|| WriteError::Refused(format!("{parameter} cannot be {state}")))?;
            if visual.pointer_acceleration()? != values {
                visual.set_pointer_acceleration(values)?;
            }
            return Ok(Written::Done);
        }
        _ => return Err(WriteError::Refused(format!("{parameter} cannot be {state}"))),
    };
    if visual.get(parameter)? != value {
        visual.set(parameter, value)?;
    }
    Ok(Written::Done)
}
