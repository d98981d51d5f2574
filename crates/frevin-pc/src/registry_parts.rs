//! Writing a part of a registry value, by way of the value: the same for every PC.

use frevin_core::setting::{PartWritten, RegistryPart, State};

use crate::contract::{WriteError, Written};

/// Brings a part of a value that is `whole` to `state`, by giving the whole value to `write`. Where the
/// value is so already, nothing is written.
pub(crate) fn write_part(
    part: &RegistryPart,
    whole: &State,
    state: &State,
    write: impl FnOnce(&State) -> Result<Written, WriteError>,
) -> Result<Written, WriteError> {
    match part.write(whole, state).map_err(|error| WriteError::Refused(error.to_string()))? {
        PartWritten::Becomes(value) if value == *whole => Ok(Written::Done),
        PartWritten::Becomes(value) => write(&value),
        PartWritten::Stays => Ok(Written::LeftInPlace),
    }
}
