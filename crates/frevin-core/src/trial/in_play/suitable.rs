//! Which changes can be tried in play: what acts at once, remembers nothing, and can be switched without harm.

use serde::Serialize;

use super::design::Settling;
use crate::preview::Wish;
use crate::setting::{Address, TakesEffect};
use crate::tweak::{Catalogue, TweakId};

/// Why a tweak is not tried in play, but in visits.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case", tag = "why")]
pub enum NotInPlay {
    /// A write of it acts later.
    ActsLater {
        /// The tweak.
        tweak: TweakId,
        /// When.
        moment: TakesEffect,
    },
    /// What it does builds up over minutes, or wears off as slowly.
    RemembersLong {
        /// The tweak.
        tweak: TweakId,
        /// What remembers.
        reason: String,
    },
    /// A setting of it is not switched to and fro every few seconds.
    NotForSwitching {
        /// The tweak.
        tweak: TweakId,
        /// The setting.
        address: Address,
    },
}

/// How soon a set of wishes is felt, where all of them can be tried in play.
///
/// # Errors
/// Each tweak that cannot, with why.
pub fn settling(catalogue: &Catalogue, wishes: &[Wish]) -> Result<Settling, Vec<NotInPlay>> {
    let mut found = Vec::new();
    let mut slowest = Some(0.0_f64);
    for wish in wishes {
        let tweak = wish.used.tweak.clone();
        let definition = catalogue.get(&tweak);
        if let Some(reason) = definition.and_then(|tweak| tweak.long_memory.clone()) {
            found.push(NotInPlay::RemembersLong { tweak: tweak.clone(), reason });
        }
        let late = wish.settings.iter().find(|one| one.takes_effect != TakesEffect::Now);
        if let Some(wanted) = late {
            let moment = wanted.takes_effect;
            found.push(NotInPlay::ActsLater { tweak: tweak.clone(), moment });
        }
        if let Some(wanted) = wish.settings.iter().find(|one| !may_be_switched(&one.address)) {
            let address = wanted.address.clone();
            found.push(NotInPlay::NotForSwitching { tweak: tweak.clone(), address });
        }
        let felt = definition.and_then(|tweak| tweak.felt_within_seconds);
        slowest = slowest.zip(felt).map(|(slowest, felt)| slowest.max(felt));
    }
    if !found.is_empty() {
        return Err(found);
    }
    Ok(slowest.map_or(Settling::Tested, |felt_within_s| Settling::Declared { felt_within_s }))
}

/// Whether a setting is switched some hundred times in an hour without harm: values that programs read when they want
/// them. Services and devices start and stop, displays go dark, files are rewritten, apps are installed.
fn may_be_switched(address: &Address) -> bool {
    match address {
        Address::RegistryKey(_)
        | Address::RegistryValue(..)
        | Address::RegistryPart(..)
        | Address::ActivePlan
        | Address::PowerHidden { .. }
        | Address::PowerValue { .. }
        | Address::Visual(_)
        | Address::ServiceStart(_) => true,
        Address::ServiceRunning(_)
        | Address::PowerPlan(_)
        | Address::Object(_)
        | Address::Text(_)
        | Address::Clean(_) => false,
    }
}
