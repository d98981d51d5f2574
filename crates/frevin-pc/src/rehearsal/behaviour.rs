//! How a rehearsal PC takes writes: which wait for a restart, and which it refuses.

use frevin_core::setting::{Address, KeyPath, State};
use serde::Deserialize;

/// The rules of `behaviour.toml`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Behaviour {
    /// Registry keys under which values act after the next restart.
    acts_after_restart: Vec<String>,
    /// Registry keys under which nobody may write.
    refuses_writes: Vec<String>,
    /// What an update of the operating system sets anew, whoever set it before.
    #[serde(default)]
    pub(super) update_sets: Vec<UpdateRule>,
}

/// A setting that an update sets anew.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct UpdateRule {
    pub(super) address: Address,
    pub(super) state: State,
}

impl Behaviour {
    pub(super) fn waits_for_restart(&self, address: &Address) -> bool {
        matches!(address, Address::RegistryValue(..))
            && lies_under(address, &self.acts_after_restart)
    }

    pub(super) fn refuses(&self, address: &Address) -> bool {
        lies_under(address, &self.refuses_writes)
    }

    /// The first rule that is not a registry key, if any.
    pub(super) fn bad_rule(&self) -> Option<&str> {
        let rules = self.acts_after_restart.iter().chain(&self.refuses_writes);
        rules.map(String::as_str).find(|rule| rule.parse::<KeyPath>().is_err())
    }
}

fn lies_under(address: &Address, keys: &[String]) -> bool {
    let (Address::RegistryKey(path) | Address::RegistryValue(path, _)) = address else {
        return false;
    };
    keys.iter().filter_map(|key| key.parse::<KeyPath>().ok()).any(|key| key.contains(path))
}
