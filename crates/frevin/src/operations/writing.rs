//! One write, read back.

use std::collections::BTreeMap;

use frevin_core::setting::{Address, State};
use frevin_pc::{Pc, WriteError, Written};
use schemars::JsonSchema;
use serde::Serialize;

/// What came of a write.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) enum WriteOutcome {
    /// The setting holds the state.
    Held,
    /// A key that should have gone holds something of others' and stays.
    LeftInPlace,
    /// The setting does not hold the state.
    Failed(String),
}

/// Writes a setting and reads it back.
pub(super) fn write_and_read_back(
    pc: &mut dyn Pc,
    address: &Address,
    state: &State,
) -> WriteOutcome {
    tracing::info!(%address, %state, "write");
    let written = match pc.write(address, state) {
        Ok(written) => written,
        Err(WriteError::Refused(reason)) => {
            return WriteOutcome::Failed(format!("refused: {reason}"));
        }
        Err(WriteError::Failed(error)) => return WriteOutcome::Failed(error.to_string()),
    };
    match (written, pc.read(address)) {
        (Written::LeftInPlace, _) => WriteOutcome::LeftInPlace,
        (Written::Done, Ok(held)) if held == *state => WriteOutcome::Held,
        (Written::Done, Ok(held)) => WriteOutcome::Failed(format!(
            "the PC accepted {state} and still holds {held}: something keeps it"
        )),
        (Written::Done, Err(error)) => WriteOutcome::Failed(error.to_string()),
    }
}

/// The state a setting was left in after something went wrong.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct FinalState {
    pub(crate) address: Address,
    pub(crate) state: State,
    /// Whether that is what it held at first.
    pub(crate) is_as_before: bool,
    /// Whether nothing is left to do about it: it is as before, or it is a key that others have
    /// put something into since.
    pub(crate) is_resolved: bool,
    /// Why it was not put back.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) obstacle: Option<String>,
}

/// Puts settings back as far as the PC lets it, and says what each holds in the end.
pub(super) fn put_back(pc: &mut dyn Pc, settings: &[(Address, State)]) -> Vec<FinalState> {
    let mut left_in_place = Vec::new();
    let mut obstacles = BTreeMap::new();
    for (address, before) in settings {
        let is_back = pc.read(address).is_ok_and(|held| held == *before)
            || went_with_its_container(pc, address);
        if is_back {
            continue;
        }
        match write_and_read_back(pc, address, before) {
            WriteOutcome::Held => {}
            WriteOutcome::LeftInPlace => left_in_place.push(address),
            WriteOutcome::Failed(reason) => drop(obstacles.insert(address, reason)),
        }
    }
    // Read at the end, since putting one setting back can move another.
    let state_of = |(address, before): &(Address, State)| {
        let state = pc.read(address).unwrap_or_else(|error| State::Unreadable(error.to_string()));
        let is_as_before = state == *before || went_with_its_container(pc, address);
        let is_resolved = is_as_before || left_in_place.contains(&address);
        let obstacle = obstacles.get(address).filter(|_| !is_resolved).cloned();
        FinalState { address: address.clone(), state, is_as_before, is_resolved, obstacle }
    };
    settings.iter().map(state_of).collect()
}

/// Whether a setting is absent together with what it goes and comes with: there is nothing to put
/// back into a power plan that is not there.
pub(super) fn went_with_its_container(pc: &dyn Pc, address: &Address) -> bool {
    let is_absent = |address: &Address| pc.read(address).is_ok_and(|held| held == State::Absent);
    is_absent(address) && address.container().is_some_and(|container| is_absent(&container))
}

/// A line for each setting's final state.
pub(super) fn describe(states: &[FinalState]) -> impl Iterator<Item = String> {
    states.iter().map(|last| {
        let verb = if last.is_as_before { "is as before" } else { "is NOT as before" };
        let obstacle = last.obstacle.iter().map(|why| format!(" ({why})")).collect::<String>();
        format!("{} {verb}: {}{obstacle}", last.address, last.state)
    })
}
