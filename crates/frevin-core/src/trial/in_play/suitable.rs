//! Which changes can be tried in play: what acts at once, remembers nothing, and can be switched without harm.
use schemars::JsonSchema;
use serde::Serialize;

use super::design::Settling;
use crate::preview::Wish;
use crate::setting::{Address, TakesEffect};
use crate::tweak::{Catalogue, TweakId};

/// Why a tweak is not tried in play, but in visits.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
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
    let found: Vec<NotInPlay> = wishes.iter().flat_map(|wish| why_not(catalogue, wish)).collect();
    if !found.is_empty() {
        return Err(found);
    }
    let felt = |wish: &Wish| catalogue.get(&wish.used.tweak)?.felt_within_seconds;
    let slowest = wishes.iter().try_fold(0.0_f64, |slowest, wish| Some(slowest.max(felt(wish)?)));
    Ok(slowest.map_or(Settling::Tested, |felt_within_s| Settling::Declared { felt_within_s }))
}

/// Why a wish cannot be tried in play; nothing where it can.
pub fn why_not(catalogue: &Catalogue, wish: &Wish) -> Vec<NotInPlay> {
    let mut found = Vec::new();
    let tweak = &wish.used.tweak;
    if let Some(reason) = catalogue.get(tweak).and_then(|tweak| tweak.long_memory.clone()) {
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
    found
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

#[cfg(test)]
mod tests {
    use super::*;
    use crate::facts::Facts;
    use crate::tweak::Arguments;

    fn wish(catalogue: &Catalogue, id: &str) -> Wish {
        let tweak = catalogue.get(&id.parse().unwrap()).unwrap();
        let settings = tweak.resolve(&Arguments::new(), &Facts::reference()).unwrap();
        let used = crate::tweak::TweakUse::of(tweak, &Arguments::new());
        Wish { used, settings, consented: false }
    }

    fn found(ids: &[&str]) -> Result<Settling, Vec<NotInPlay>> {
        let catalogue = Catalogue::built_in().unwrap();
        let wishes: Vec<Wish> = ids.iter().map(|id| wish(&catalogue, id)).collect();
        settling(&catalogue, &wishes)
    }

    #[test]
    fn the_slowest_of_all_that_say_it_decides_and_one_that_does_not_is_tested() {
        let declared = |felt_within_s| Ok(Settling::Declared { felt_within_s });
        assert_eq!(found(&["looks/menu-delay"]), declared(0.1));
        assert_eq!(found(&["looks/menu-delay", "power/active-plan"]), declared(0.5));
        assert_eq!(found(&["power/active-plan", "looks/end-task"]), Ok(Settling::Tested));
    }

    #[test]
    fn what_acts_late_remembers_or_is_not_to_be_switched_is_named() {
        let why =
            |id: &str| serde_json::to_value(found(&[id]).unwrap_err()).unwrap()[0]["why"].clone();
        assert_eq!(why("graphics/self-scheduling"), "acts-later");
        assert_eq!(why("power/processor-ceiling"), "remembers-long");
        assert_eq!(why("services/printing"), "not-for-switching");
        let both = found(&["services/printing", "power/active-plan", "power/processor-ceiling"]);
        assert_eq!(both.unwrap_err().len(), 2, "each tweak by itself");
    }
}
