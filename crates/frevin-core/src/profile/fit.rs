//! A profile on a particular PC: which of its tweaks fit there, and what is to be said of them.

use std::collections::BTreeSet;

use serde::Serialize;
use serde_json::json;

use super::document::Profile;
use crate::expression::ExpressionError;
use crate::facts::Facts;
use crate::preview::{LeftOut, Wish};
use crate::tweak::{Arguments, Catalogue, Tweak, TweakId, TweakUse};

/// What a profile comes to on a PC.
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize)]
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
    let mut fitting = Fitting::default();
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
        fitting.add(tweak, &entry.arguments, facts, consents, reasons)?;
    }
    Ok(fitting)
}

impl Fitting {
    /// Adds a tweak with its arguments. `misfits` are reasons to leave it out.
    ///
    /// # Errors
    /// Where a formula cannot be computed from these facts.
    pub fn add(
        &mut self,
        tweak: &Tweak,
        arguments: &Arguments,
        facts: &Facts,
        consents: &BTreeSet<TweakId>,
        misfits: Vec<String>,
    ) -> Result<(), ExpressionError> {
        let used = TweakUse::of(tweak, arguments);
        if !misfits.is_empty() {
            self.left_out.push(LeftOut { used, reasons: misfits });
        } else if let Some(by_hand) = ByHand::of(tweak, facts) {
            self.by_hand.push(by_hand);
        } else {
            match tweak.resolve(arguments, facts) {
                Ok(settings) => {
                    let consented = consents.contains(&tweak.id);
                    self.wishes.push(Wish { used, settings, consented });
                }
                Err(ExpressionError::Untold { reason }) => {
                    let reasons = vec![format!("{reason}, so it cannot be said what to write")];
                    self.left_out.push(LeftOut { used, reasons });
                }
                Err(error) => return Err(error),
            }
        }
        Ok(())
    }
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
            fit(&profile(&catalogue), &catalogue, &Facts::reference(), &BTreeSet::new()).unwrap();
        let wishes: Vec<_> = fitting.wishes.iter().map(|wish| wish.used.tweak.as_str()).collect();
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
    #[test]
    fn what_hangs_on_an_unknown_fact_is_left_out_and_what_does_not_is_not() {
        let catalogue = Catalogue::built_in().unwrap();
        let tweak = catalogue.get(&"recording/background".parse().unwrap()).unwrap();
        let mut facts = Facts::reference();
        facts.windows.obeys_policies = None;
        facts.unknown.insert("windows.obeys_policies".into(), "no edition".into());
        let with = |by_policy: bool| {
            let mut fitting = Fitting::default();
            let arguments = [("by_policy".to_owned(), crate::tweak::Argument::Flag(by_policy))];
            fitting.add(tweak, &arguments.into(), &facts, &BTreeSet::new(), Vec::new()).unwrap();
            fitting
        };
        let told = "facts.windows.obeys_policies is not known: no edition, so it cannot be said what \
                    to write";
        assert_eq!(with(true).left_out[0].reasons, [told]);
        assert_eq!(with(false).wishes.len(), 1, "the fact does not matter then");

        facts.unknown.insert("uses.file_search".into(), "nobody said".into());
        let fitting = fit(&profile(&catalogue), &catalogue, &facts, &BTreeSet::new()).unwrap();
        let reasons: Vec<_> = fitting.left_out.iter().flat_map(|left| &left.reasons).collect();
        assert!(reasons[0].starts_with("facts.uses.file_search is not known"), "{reasons:?}");
    }
}
