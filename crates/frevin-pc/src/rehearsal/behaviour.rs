//! How a rehearsal PC takes writes: which wait for a restart, and which it refuses.

use frevin_core::setting::{Address, KeyPath, State, ThingKind};
use serde::Deserialize;

/// The rules of `behaviour.toml`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Behaviour {
    /// Registry keys under which values act after the next restart.
    acts_after_restart: Vec<String>,
    /// Kinds of things whose settings act after the next restart.
    #[serde(default)]
    kinds_acting_after_restart: Vec<String>,
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
        match address {
            Address::RegistryValue(..) => lies_under(address, &self.acts_after_restart),
            Address::Thing(_) => {
                self.kinds_acting_after_restart.iter().any(|kind| kind == address.kind())
            }
            _ => false,
        }
    }

    pub(super) fn refuses(&self, address: &Address) -> bool {
        lies_under(address, &self.refuses_writes)
    }

    /// What is wrong with the rules, if anything is.
    pub(super) fn fault(&self) -> Option<String> {
        let keys = self.acts_after_restart.iter().chain(&self.refuses_writes);
        let bad_key = keys.into_iter().find(|rule| rule.parse::<KeyPath>().is_err());
        let kinds = &self.kinds_acting_after_restart;
        let bad_kind = kinds.iter().find(|kind| ThingKind::named(kind).is_none());
        bad_key
            .map(|key| format!("`{key}` is not a registry key"))
            .or_else(|| bad_kind.map(|kind| format!("there is no kind `{kind}`")))
    }
}

fn lies_under(address: &Address, keys: &[String]) -> bool {
    let (Address::RegistryKey(path) | Address::RegistryValue(path, _)) = address else {
        return false;
    };
    keys.iter().filter_map(|key| key.parse::<KeyPath>().ok()).any(|key| key.contains(path))
}
