//! Two readings of many settings, compared.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

use super::{Address, State};

/// A setting that holds different states in two readings.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Difference {
    /// The setting.
    pub address: Address,
    /// What it holds in the first.
    pub first: State,
    /// What it holds in the second.
    pub second: State,
}

/// The settings that differ between two readings, in order of address. A setting that is missing
/// of one of them is absent there.
pub fn differences(first: &[(Address, State)], second: &[(Address, State)]) -> Vec<Difference> {
    let mut both: BTreeMap<&Address, (&State, &State)> = BTreeMap::new();
    for (address, state) in first {
        both.insert(address, (state, &State::Absent));
    }
    for (address, state) in second {
        both.entry(address).or_insert((&State::Absent, state)).1 = state;
    }
    both.into_iter()
        .filter(|(_, (first, second))| first != second)
        .map(|(address, (first, second))| Difference {
            address: address.clone(),
            first: first.clone(),
            second: second.clone(),
        })
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::{RegistryData, Value};

    #[test]
    fn changed_new_and_gone_settings_differ_and_others_do_not() {
        let reading = |states: &[(&str, u32)]| -> Vec<(Address, State)> {
            let state = |number| Value::Registry(RegistryData::dword(number)).into();
            states.iter().map(|(a, n)| (a.parse().unwrap(), state(*n))).collect()
        };
        let first = reading(&[(r"registry:HKCU\A#same", 1), (r"registry:HKCU\A#gone", 2)]);
        let second = reading(&[(r"registry:HKCU\a#SAME", 1), (r"registry:HKCU\A#new", 3)]);
        let found = differences(&first, &second);
        let names: Vec<_> = found.iter().map(|found| found.address.to_string()).collect();
        assert_eq!(names, [r"registry:HKCU\A#gone", r"registry:HKCU\A#new"]);
        assert_eq!(found[0].second, State::Absent);
        assert_eq!(found[1].first, State::Absent);
        assert!(differences(&first, &first).is_empty());
    }
}
