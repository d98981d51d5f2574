//! `frevin tweak steps`

use frevin_core::facts::Facts;
use frevin_core::profile::ByHand;
use frevin_core::tweak::Catalogue;
use frevin_pc::PcKind;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::target::{find_tweak, parse_arguments};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::plan::{DangersTold, show_by_hand};
use crate::view::{Page, good, strong, warn};

/// What a person does for a tweak, and whether it is done.
#[derive(Debug, JsonSchema, Serialize)]
struct StepsReport {
    #[serde(flatten)]
    by_hand: ByHand,
    /// Whether somebody was led through the steps.
    #[serde(skip)]
    was_guided: bool,
}

/// Tells the steps, one at a time where somebody is there, and looks whether they are done.
pub(super) fn steps(
    context: &Context,
    catalogue: &Catalogue,
    facts: Option<&Facts>,
    tweak: &str,
    parameters: &[String],
) -> Result<Outcome, Failure> {
    let tweak = find_tweak(catalogue, tweak)?;
    let arguments = parse_arguments(tweak, parameters)?;
    let of = |facts: Option<&Facts>| {
        let here = facts.and_then(|facts| ByHand::of(tweak, &arguments, facts));
        here.or_else(|| ByHand::general(tweak))
    };
    let Some(mut by_hand) = of(facts) else {
        let message = format!("`{}` is not done by hand: Frevin does it", tweak.id);
        return Err(Failure::new(Kind::Usage, message)
            .hint(format!("`frevin apply --tweak {}` applies it", tweak.id)));
    };
    let is_guided = context.can_ask() && !context.has_word() && by_hand.is_done != Some(true);
    if is_guided {
        if !guide(context, &by_hand)? {
            return Ok(Outcome::no_more_to_say(&StepsReport { by_hand, was_guided: true }));
        }
        // What it was may have changed meanwhile.
        if let Some(pc) = context.pc_if_named()? {
            by_hand = of(Some(&context.facts(&*pc)?)).unwrap_or(by_hand);
        }
    }
    let is_yes = by_hand.is_done != Some(false) || !is_guided;
    Ok(Outcome::with(&StepsReport { by_hand, was_guided: is_guided }, is_yes))
}

/// Leads through the steps; false where somebody stops.
fn guide(context: &Context, by_hand: &ByHand) -> Result<bool, Failure> {
    let mut page = Page::default();
    page.heading(format_args!("{}  {}", by_hand.tweak, by_hand.title));
    page.paragraph(2, &by_hand.why);
    for danger in &by_hand.dangers {
        page.paragraph_in(2, crate::view::bad, &format!("{} First: {}", danger.what, danger.first));
    }
    page.print_aside();
    if let Some(settings) = &by_hand.page {
        let is_live = context.pc_if_named()?.is_some_and(|pc| pc.identity().kind == PcKind::Live);
        let mut page = Page::default();
        if is_live && cfg!(windows) {
            super::super::report::open(settings.as_str().as_ref());
            page.line(format_args!(
                "  The page {} of Windows' settings is opened.",
                settings.as_str()
            ));
        } else {
            page.line(format_args!(
                "  It is done on the page {} of Windows' settings.",
                settings.as_str()
            ));
        }
        page.print_aside();
    }
    let number = by_hand.steps.len();
    for (index, step) in by_hand.steps.iter().enumerate() {
        let mut page = Page::default();
        page.blank();
        page.line(strong(format_args!("Step {} of {number}", index + 1)));
        page.paragraph(2, step);
        page.print_aside();
        if context.ask_for("Enter when it is done, or q to stop", |_| None)?.as_deref() == Some("q")
        {
            return Ok(false);
        }
    }
    Ok(true)
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<StepsReport>("tweak steps");
}

impl View for StepsReport {
    fn show(&self, page: &mut Page) {
        let tweak = &self.by_hand.tweak;
        match (self.was_guided, self.by_hand.is_done) {
            (true, Some(true)) => {
                page.line(format_args!("{} The PC says that it is done.", good("Done.")));
            }
            (true, Some(false)) => {
                page.line(warn("The PC does not say yet that it is done."));
                page.pairs([(
                    "look again, after a restart where it takes one",
                    format!("frevin tweak steps {tweak} --yes"),
                )]);
            }
            (true, None) => {
                page.line("This PC does not tell whether it is done.");
            }
            (false, _) => {
                show_by_hand(std::slice::from_ref(&self.by_hand), DangersTold::Here, page);
                if let Some(settings) = &self.by_hand.page {
                    page.pairs([("on the page of Windows' settings", settings.as_str())]);
                }
            }
        }
    }
}
