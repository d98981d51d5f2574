//! A profile on a particular PC: which of its tweaks fit there, and what is to be said of them.

use std::collections::BTreeSet;

use serde::Serialize;
use serde_json::json;

use super::document::Profile;
use crate::expression::ExpressionError;
use crate::facts::Facts;
use crate::preview::{LeftOut, Wish};
use crate::tweak::{Catalogue, Tweak, TweakId};

/// What a profile comes to on a PC.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Fitting {
    /// What the tweaks that fit want, in the profile's order.
    pub wishes: Vec<Wish>,
    /// The tweaks that do not fit, and why.
    pub left_out: Vec<LeftOut>,
    /// What is to be done by hand.
    pub by_hand: Vec<ByHand>,
}

/// A tweak that a person carries out.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct ByHand {
    /// The tweak.
    pub tweak: TweakId,
    /// Its title.
    pub title: String,
    /// Why one would want that.
    pub why: String,
    /// What to do, in order.
    pub steps: Vec<String>,
    /// Whether the PC says that it has been done; nothing where it does not tell.
    pub is_done: Option<bool>,
}

impl ByHand {
    /// What `tweak` asks of a person on a PC with these facts, if it does.
    pub fn of(tweak: &Tweak, facts: &Facts) -> Option<Self> {
        let manual = tweak.manual.as_ref()?;
        Some(Self {
            tweak: tweak.id.clone(),
            title: tweak.title.clone(),
            why: tweak.why.clone(),
            steps: manual.steps.clone(),
            is_done: manual.is_done(facts),
        })
    }

    /// The same, where no PC is there to tell whether it has been done.
    #[must_use]
    pub fn unknown(self) -> Self {
        Self { is_done: None, ..self }
    }
}

/// Fits a profile to a PC. `consents` are the tweaks that the owner lets touch what is protected.
///
/// # Errors
/// Where a formula cannot be computed from these facts.
pub fn fit(
    profile: &Profile,
    catalogue: &Catalogue,
    facts: &Facts,
    consents: &BTreeSet<TweakId>,
) -> Result<Fitting, ExpressionError> {
    let variables = json!({ "facts": facts.variables() });
    let mut fitting = Fitting { wishes: Vec::new(), left_out: Vec::new(), by_hand: Vec::new() };
    for entry in &profile.entries {
        let Some(tweak) = catalogue.get(&entry.tweak) else { continue };
        let mut reasons = tweak.misfits(facts);
        if let Some(untold) = entry.when.as_ref().and_then(|when| facts.untold(when)) {
            reasons.push(format!("{untold}, so the profile's condition has no answer"));
        } else if let Some(when) = &entry.when
            && !when.holds(&variables)?
        {
            reasons.push(format!("the profile asks for it only where {}", when.source()));
        }
        if !reasons.is_empty() {
            fitting.left_out.push(LeftOut { tweak: tweak.id.clone(), reasons });
        } else if let Some(by_hand) = ByHand::of(tweak, facts) {
            fitting.by_hand.push(by_hand);
        } else {
            fitting.wishes.push(Wish {
                tweak: tweak.id.clone(),
                settings: tweak.resolve(&entry.arguments, facts)?,
                consented: consents.contains(&tweak.id),
            });
        }
    }
    Ok(fitting)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn profile(catalogue: &Catalogue) -> Profile {
        let text = "format = 1\nname = \"x\"\npurpose = \"p\"\n\
            [[tweaks]]\nuse = \"services/file-search\"\n\
            [[tweaks]]\nuse = \"network/throttling\"\nwhen = \"facts.adapters.exists(a, a.is_wireless)\"\n\
            [[tweaks]]\nuse = \"looks/menu-delay\"\n";
        Profile::parse("x.toml", text, catalogue).unwrap()
    }

    #[test]
    fn what_does_not_fit_is_left_out_with_every_reason() {
        let catalogue = Catalogue::built_in().unwrap();
        let fitting =
            fit(&profile(&catalogue), &catalogue, &Facts::sample(), &BTreeSet::new()).unwrap();
        let wishes: Vec<_> = fitting.wishes.iter().map(|wish| wish.tweak.as_str()).collect();
        assert_eq!(wishes, ["looks/menu-delay"]);
        let reasons: Vec<_> = fitting.left_out.iter().flat_map(|left| &left.reasons).collect();
        assert_eq!(
            reasons,
            [
                "The owner searches files from the task bar, which this would break.",
                "the profile asks for it only where facts.adapters.exists(a, a.is_wireless)",
            ]
        );
    }
}
