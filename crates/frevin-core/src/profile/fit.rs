//! A profile on a particular PC: which of its tweaks fit there, and what is to be said of them.

use schemars::JsonSchema;
use serde::Serialize;
use serde_json::json;
use std::collections::BTreeSet;

use super::document::Profile;
use crate::expression::ExpressionError;
use crate::facts::Facts;
use crate::preview::{LeftOut, Wish};
use crate::setting::{Address, State, Value};
use crate::tweak::{Arguments, Catalogue, Danger, SettingsPage, Tweak, TweakId, TweakUse};

/// What a profile comes to on a PC.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize)]
pub struct Fitting {
    /// What the tweaks that fit want, in the profile's order.
    pub wishes: Vec<Wish>,
    /// The tweaks that do not fit, and why.
    pub left_out: Vec<LeftOut>,
    /// What is to be done by hand.
    pub by_hand: Vec<ByHand>,
}

/// A tweak that a person carries out.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub struct ByHand {
    /// The tweak.
    pub tweak: TweakId,
    /// Its title.
    pub title: String,
    /// Why one would want that.
    pub why: String,
    /// Harm that it can do.
    pub dangers: Vec<Danger>,
    /// What to do, in order.
    pub steps: Vec<String>,
    /// Whether the PC says that it has been done; nothing where it does not tell.
    pub is_done: Option<bool>,
    /// The page of Windows' settings that it is done on.
    pub page: Option<SettingsPage>,
}

impl ByHand {
    /// What `tweak` with these arguments asks of a person on a PC with these facts, if it does.
    pub fn of(tweak: &Tweak, arguments: &Arguments, facts: &Facts) -> Option<Self> {
        let is_done = tweak.manual.as_ref()?.is_done(facts);
        let steps = tweak.steps_by_hand(arguments, facts)?;
        Some(Self { is_done, steps, ..Self::general(tweak)? })
    }

    /// The same, where no PC is there.
    pub fn general(tweak: &Tweak) -> Option<Self> {
        let manual = tweak.manual.as_ref()?;
        Some(Self {
            tweak: tweak.id.clone(),
            title: tweak.title.clone(),
            why: tweak.why.clone(),
            dangers: tweak.dangers.clone(),
            steps: manual.general_steps(),
            is_done: None,
            page: manual.page.clone(),
        })
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
    let facts = &with_plan_put_in_force(profile, catalogue, facts)?;
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

/// The facts as they are once the profile has put a power plan in force, if it does: what is written to
/// the plan in force goes to that one.
fn with_plan_put_in_force(
    profile: &Profile,
    catalogue: &Catalogue,
    facts: &Facts,
) -> Result<Facts, ExpressionError> {
    let variables = json!({ "facts": facts.variables() });
    let (mut in_force, mut made) = (facts.power.plan_in_force, Vec::new());
    for entry in &profile.entries {
        let Some(tweak) = catalogue.get(&entry.tweak).filter(|t| t.may_put_plan_in_force()) else {
            continue;
        };
        let is_asked_for = match &entry.when {
            Some(when) => facts.untold(when).is_none() && when.holds(&variables)?,
            None => true,
        };
        if !is_asked_for || !tweak.misfits(facts).is_empty() {
            continue;
        }
        for wanted in tweak.resolve(&entry.arguments, facts).unwrap_or_default() {
            match (wanted.address, wanted.state) {
                (Address::PowerPlan(plan), State::Value(_)) => made.push(plan),
                (Address::ActivePlan, State::Value(Value::Plan(plan)))
                    if facts.power.plans.contains(&plan) || made.contains(&plan) =>
                {
                    in_force = Some(plan);
                }
                _ => {}
            }
        }
    }
    let mut facts = facts.clone();
    facts.power.plan_in_force = in_force;
    Ok(facts)
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
        } else if let Some(by_hand) = ByHand::of(tweak, arguments, facts) {
            self.by_hand.push(by_hand);
        } else {
            match tweak.resolve(arguments, facts) {
                Ok(settings) => {
                    let consented = consents.contains(&tweak.id);
                    self.wishes.push(Wish { used, settings, consented });
                }
                Err(
                    error
                    @ (ExpressionError::NotChosen { .. } | ExpressionError::RuleBroken { .. }),
                ) => {
                    self.left_out.push(LeftOut { used, reasons: vec![error.to_string()] });
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
    fn what_is_written_to_the_plan_in_force_goes_to_the_one_that_the_profile_puts_in_force() {
        let catalogue = Catalogue::built_in().unwrap();
        let text = "format = 1\nname = \"x\"\npurpose = \"p\"\n\
            [[tweaks]]\nuse = \"power/core-parking\"\n\
            [[tweaks]]\nuse = \"power/active-plan\"\n";
        let profile = Profile::parse("x.toml", text, &catalogue).unwrap();
        let plan_of = |facts: &Facts| {
            let fitting = fit(&profile, &catalogue, facts, &BTreeSet::new()).unwrap();
            match fitting.wishes[0].settings[0].address {
                Address::PowerValue { plan, .. } => plan,
                ref other => panic!("{other}"),
            }
        };
        let mut facts = Facts::reference();
        assert_eq!(plan_of(&facts), crate::setting::HIGH_PERFORMANCE);
        facts.power.plans = vec![crate::setting::BALANCED];
        assert_eq!(plan_of(&facts), crate::setting::BALANCED, "where that PC has no other");
    }

    #[test]
    fn what_hangs_on_an_unknown_fact_is_left_out_and_what_does_not_is_not() {
        let catalogue = Catalogue::built_in().unwrap();
        let tweak = catalogue.get(&"power/core-parking".parse().unwrap()).unwrap();
        let mut facts = Facts::reference();
        facts.processor.mixed_cores = None;
        facts.unknown.insert("processor.mixed_cores".into(), "no answer".into());
        let with = |cores: &str| {
            let mut fitting = Fitting::default();
            let arguments =
                [("cores".to_owned(), crate::tweak::Argument::Choice(cores.to_owned()))];
            fitting.add(tweak, &arguments.into(), &facts, &BTreeSet::new(), Vec::new()).unwrap();
            fitting
        };
        let told = "facts.processor.mixed_cores is not known: no answer, so it cannot be said what to \
                    write";
        assert_eq!(with("all").left_out[0].reasons, [told]);
        assert_eq!(with("frugal").wishes.len(), 1, "the fact does not matter then");

        facts.unknown.insert("uses.file_search".into(), "nobody said".into());
        let fitting = fit(&profile(&catalogue), &catalogue, &facts, &BTreeSet::new()).unwrap();
        let reasons: Vec<_> = fitting.left_out.iter().flat_map(|left| &left.reasons).collect();
        assert!(reasons[0].starts_with("facts.uses.file_search is not known"), "{reasons:?}");
    }
}
