//! A profile on a particular PC: which of its tweaks fit there, and what is to be said of them.

use std::collections::BTreeSet;
use std::ops::Range;

use serde::Serialize;
use serde_json::json;

use super::document::Profile;
use crate::expression::ExpressionError;
use crate::facts::Facts;
use crate::preview::{LeftOut, Wish};
use crate::tweak::{Catalogue, Standing, Tweak, TweakId};

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
        if let Some(when) = &entry.when
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

/// Something to be said of a profile that reads well.
#[derive(Debug, Clone, PartialEq, Eq, Serialize)]
pub struct Remark {
    /// The tweak that it is about.
    pub tweak: TweakId,
    /// What kind of remark it is.
    pub kind: RemarkKind,
    /// The remark.
    pub text: String,
    /// Where the tweak stands in the document, in bytes.
    pub span: Range<usize>,
}

/// Kinds of remark.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum RemarkKind {
    /// It does not fit this PC and would be left out.
    DoesNotFit,
    /// It cannot be combined with another of the profile.
    Conflict,
    /// It does nothing without another that the profile lacks.
    NeedsAnother,
    /// It does nothing, or harm, anywhere.
    PoorStanding,
    /// Practitioners contradict each other about it.
    Contested,
}

impl RemarkKind {
    /// Whether a profile with such a remark should be mended before it is used.
    pub fn is_fault(self) -> bool {
        matches!(self, Self::Conflict | Self::NeedsAnother | Self::PoorStanding)
    }
}

/// What is to be said of a profile's tweaks; those about fit only where the PC's facts are known.
pub fn remarks(profile: &Profile, catalogue: &Catalogue, facts: Option<&Facts>) -> Vec<Remark> {
    let listed: BTreeSet<_> = profile.entries.iter().map(|entry| &entry.tweak).collect();
    let mut remarks = Vec::new();
    for entry in &profile.entries {
        let Some(tweak) = catalogue.get(&entry.tweak) else { continue };
        let mut say = |kind, text: String| {
            let (tweak, span) = (entry.tweak.clone(), entry.span.clone());
            remarks.push(Remark { tweak, kind, text, span });
        };
        for misfit in facts.map(|facts| tweak.misfits(facts)).unwrap_or_default() {
            say(RemarkKind::DoesNotFit, format!("does not fit this PC: {misfit}"));
        }
        for other in tweak.conflicts.iter().filter(|other| listed.contains(other)) {
            say(RemarkKind::Conflict, format!("cannot be combined with `{other}`"));
        }
        for other in tweak.needs.iter().filter(|other| !listed.contains(other)) {
            say(RemarkKind::NeedsAnother, format!("does nothing without `{other}`"));
        }
        match tweak.standing {
            Standing::NoEffect | Standing::Harmful => {
                say(
                    RemarkKind::PoorStanding,
                    format!("{}: {}", tweak.standing, tweak.standing_reason),
                );
            }
            Standing::Contested => {
                let text = format!("contested: {}", tweak.standing_reason);
                say(RemarkKind::Contested, text);
            }
            Standing::Sound | Standing::Plausible => {}
        }
    }
    remarks
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

    #[test]
    fn remarks_tell_contested_tweaks_and_misfits() {
        let catalogue = Catalogue::built_in().unwrap();
        let profile = profile(&catalogue);
        let kinds = |facts| {
            let remarks = remarks(&profile, &catalogue, facts);
            remarks.into_iter().map(|remark| remark.kind).collect::<Vec<_>>()
        };
        assert_eq!(kinds(None), [RemarkKind::Contested]);
        let facts = Facts::sample();
        assert_eq!(kinds(Some(&facts)), [RemarkKind::DoesNotFit, RemarkKind::Contested]);
    }
}
