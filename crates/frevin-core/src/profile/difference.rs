//! Two versions of a profile, compared by the settings that they want.

use schemars::JsonSchema;
use serde::Serialize;
use std::collections::BTreeMap;

use crate::preview::Wish;
use crate::setting::{Address, State};
use crate::tweak::TweakUse;

/// A setting that two profiles want differently.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct WishDifference {
    /// The setting.
    pub address: Address,
    /// What the first wants, and by which tweak; nothing where it leaves the setting alone.
    pub first: Option<WantedBy>,
    /// What the second wants.
    pub second: Option<WantedBy>,
}

/// What a profile wants of one setting.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct WantedBy {
    /// By which use of a tweak.
    #[serde(flatten)]
    pub used: TweakUse,
    /// What it shall hold.
    pub state: State,
}

/// The settings that two profiles want differently, in order of address.
pub fn wish_differences(first: &[Wish], second: &[Wish]) -> Vec<WishDifference> {
    let mut both: BTreeMap<Address, (Option<WantedBy>, Option<WantedBy>)> = BTreeMap::new();
    for (wishes, is_first) in [(first, true), (second, false)] {
        for wish in wishes {
            for wanted in &wish.settings {
                let one = WantedBy { used: wish.used.clone(), state: wanted.state.clone() };
                let sides = both.entry(wanted.address.clone()).or_default();
                // The last word on a setting is what it comes to.
                *(if is_first { &mut sides.0 } else { &mut sides.1 }) = Some(one);
            }
        }
    }
    let state = |wish: &Option<WantedBy>| wish.as_ref().map(|wish| wish.state.clone());
    both.into_iter()
        .filter(|(_, (first, second))| state(first) != state(second))
        .map(|(address, (first, second))| WishDifference { address, first, second })
        .collect()
}
