//! The order of writes within one operation.

use super::readings::Readings;
use crate::setting::{Address, FilePart, RegistryPart, RunState, State, Value};

/// Where a write belongs among the others: lower ranks go first.
///
/// Keys, values of parts, sections and power plans are made before what lies in them and removed after it. A service's start type is set
/// before the service is started, since a disabled one refuses to start. Services are started
/// from the one that needs the fewest others, and stopped the other way round; `dependencies` is
/// how many others a service needs, directly or not.
pub(super) fn rank(address: &Address, target: &State, dependencies: usize) -> (u8, isize) {
    let signed = |count: usize| count.try_into().unwrap_or(isize::MAX);
    let depth = |address: &Address| signed(address.supports().len());
    match (address, target) {
        (Address::RegistryKey(_), State::Value(_)) => (0, depth(address)),
        (Address::RegistryKey(_), _) => (4, -depth(address)),
        (Address::RegistryPart(_, _, RegistryPart::Text), State::Value(_)) => (0, isize::MAX),
        (Address::RegistryPart(_, _, RegistryPart::Text), _) => (4, isize::MIN),
        (Address::PowerPlan(_), State::Value(_)) => (0, 0),
        (Address::PowerPlan(_), _) => (4, 0),
        (Address::Text(setting), target) if matches!(setting.part(), FilePart::Section(_)) => {
            if *target == State::Absent {
                (4, 0)
            } else {
                (0, 0)
            }
        }
        (Address::ServiceRunning(_), State::Value(Value::Run(RunState::Running))) => {
            (3, signed(dependencies))
        }
        (Address::ServiceRunning(_), _) => (2, -signed(dependencies)),
        (
            Address::RegistryValue(..)
            | Address::RegistryPart(..)
            | Address::ServiceStart(_)
            | Address::ActivePlan
            | Address::PowerHidden { .. }
            | Address::PowerValue { .. }
            | Address::Visual(_)
            | Address::Object(_)
            | Address::Text(_)
            | Address::Clean(_),
            _,
        ) => (1, 0),
    }
}

/// The rank of a write on the PC that `readings` come from.
pub(super) fn rank_on<R: Readings>(
    readings: &R,
    address: &Address,
    target: &State,
) -> Result<(u8, isize), R::Error> {
    let dependencies = match address {
        Address::ServiceRunning(service) => readings.dependencies(service)?.len(),
        _ => 0,
    };
    Ok(rank(address, target, dependencies))
}

/// Settings in the order in which they can be made to hold the states beside them.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn in_writing_order<R: Readings>(
    settings: Vec<(Address, State)>,
    readings: &R,
) -> Result<Vec<(Address, State)>, R::Error> {
    let mut ranked = Vec::new();
    for (address, state) in settings {
        ranked.push((rank_on(readings, &address, &state)?, (address, state)));
    }
    ranked.sort_by_key(|(rank, _)| *rank);
    Ok(ranked.into_iter().map(|(_, setting)| setting).collect())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn keys_embrace_their_values_and_services_follow_their_start_type() {
        let rank = |address: &str, target: State, dependencies| {
            rank(&address.parse().unwrap(), &target, dependencies)
        };
        let running = || State::from(Value::Run(RunState::Running));
        let stopped = || State::from(Value::Run(RunState::Stopped));
        let in_order = [
            rank(r"registry:HKCU\A", Value::Key.into(), 0),
            rank(r"registry:HKCU\A\B", Value::Key.into(), 0),
            rank(r"registry-part:HKCU\A\B#v#text", Value::Key.into(), 0),
            rank(r"registry:HKCU\A\B#v", State::Absent, 0),
            rank(r"registry-part:HKCU\A\B#v#pair:a", State::Absent, 0),
            rank("service:Needs#running", stopped(), 1),
            rank("service:Base#running", stopped(), 0),
            rank("service:Base#running", running(), 0),
            rank("service:Needs#running", running(), 1),
            rank(r"registry-part:HKCU\A\B#v#text", State::Absent, 0),
            rank(r"registry:HKCU\A\B", State::Absent, 0),
            rank(r"registry:HKCU\A", State::Absent, 0),
        ];
        assert!(in_order.is_sorted(), "{in_order:?}");
    }
}
