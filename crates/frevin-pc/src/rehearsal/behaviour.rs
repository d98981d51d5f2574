//! How a rehearsal PC takes writes: which wait for a restart, and which it refuses.

use frevin_core::setting::{Address, KeyPath, ObjectKind, State, TakesEffect};
use serde::Deserialize;

/// The rules of `behaviour.toml`.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct Behaviour {
    /// Registry keys under which values act after the next restart.
    #[serde(default)]
    acts_after_restart: Vec<String>,
    /// Kinds of settings that act after the next restart.
    #[serde(default)]
    kinds_acting_after_restart: Vec<String>,
    /// What acts after something else than that.
    #[serde(default)]
    acts_after: Vec<MomentRule>,
    /// Registry keys under which nobody may write.
    refuses_writes: Vec<String>,
    /// What an update of the operating system sets anew, whoever set it before.
    #[serde(default)]
    pub(super) update_sets: Vec<UpdateRule>,
}

/// What acts after the same moment.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
struct MomentRule {
    moment: TakesEffect,
    /// Registry keys, with everything below them.
    #[serde(default)]
    under: Vec<String>,
    /// Single settings.
    #[serde(default)]
    settings: Vec<Address>,
    /// Kinds of settings, or `KIND#PART` for one part of a kind, as [`frevin_core::setting::ObjectPart::name`] has it.
    #[serde(default)]
    kinds: Vec<String>,
}

/// A setting that an update sets anew.
#[derive(Debug, Clone, Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct UpdateRule {
    pub(super) address: Address,
    pub(super) state: State,
}

impl Behaviour {
    /// When a write to a setting is felt. The rule that names the setting most closely holds: by
    /// itself, by the longest key above it, by its kind.
    pub(super) fn takes_effect(&self, address: &Address) -> TakesEffect {
        // A part acts when its value does.
        let whole = address.whole_value();
        let address = whole.as_ref().unwrap_or(address);
        let by_itself = self.acts_after.iter().find(|rule| rule.settings.contains(address));
        if let Some(rule) = by_itself {
            return rule.moment;
        }
        let by_key = |key: &KeyPath| match address {
            Address::RegistryValue(path, _) | Address::RegistryPart(path, ..) => {
                key.contains(path).then(|| key.names().len())
            }
            _ => None,
        };
        let restart = self.acts_after_restart.iter().filter_map(|key| key.parse().ok());
        let restart = restart.map(|key: KeyPath| (by_key(&key), TakesEffect::Restart));
        let others = self.acts_after.iter().flat_map(|rule| {
            let keys = rule.under.iter().filter_map(|key| key.parse().ok());
            keys.map(move |key: KeyPath| (by_key(&key), rule.moment))
        });
        let closest = restart.chain(others).filter(|(length, _)| length.is_some());
        if let Some((_, moment)) = closest.max_by_key(|(length, _)| *length) {
            return moment;
        }
        let part = match address {
            Address::Object(setting) => format!("{}#{}", address.kind(), setting.part().name()),
            _ => address.kind().to_owned(),
        };
        let is_kind =
            |kinds: &[String]| kinds.iter().any(|kind| *kind == part || kind == address.kind());
        if is_kind(&self.kinds_acting_after_restart) {
            return TakesEffect::Restart;
        }
        let by_kind = self.acts_after.iter().find(|rule| is_kind(&rule.kinds));
        by_kind.map_or(TakesEffect::Now, |rule| rule.moment)
    }

    pub(super) fn refuses(&self, address: &Address) -> bool {
        lies_under(address, &self.refuses_writes)
    }

    /// What is wrong with the rules, if anything is.
    pub(super) fn fault(&self) -> Option<String> {
        let under = self.acts_after.iter().flat_map(|rule| &rule.under);
        let keys = self.acts_after_restart.iter().chain(&self.refuses_writes).chain(under);
        let bad_key = keys.into_iter().find(|rule| rule.parse::<KeyPath>().is_err());
        let kinds = &self.kinds_acting_after_restart;
        let bad_kind = kinds.iter().find(|kind| ObjectKind::named(kind).is_none());
        bad_key
            .map(|key| format!("`{key}` is not a registry key"))
            .or_else(|| bad_kind.map(|kind| format!("there is no kind `{kind}`")))
    }
}

fn lies_under(address: &Address, keys: &[String]) -> bool {
    let (Address::RegistryKey(path)
    | Address::RegistryValue(path, _)
    | Address::RegistryPart(path, ..)) = address
    else {
        return false;
    };
    keys.iter().filter_map(|key| key.parse::<KeyPath>().ok()).any(|key| key.contains(path))
}
