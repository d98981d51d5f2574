//! A plan as it is shown: what would change, step by step.

use std::collections::BTreeSet;

use frevin_core::preview::{Action, LeftOut, Plan, Reason, Step};
use frevin_core::profile::ByHand;
use frevin_core::setting::{Address, TakesEffect};
use frevin_core::tweak::{Catalogue, Danger, TweakId, TweakUse};
use frevin_core::waiting::Waiting;
use schemars::JsonSchema;
use serde::Serialize;

use super::evidence::measured_worse_in_words;
use super::{
    Page, Table, bad, count, dim, good, moments_awaited, named_among, short, shown, shown_at,
    strong, warn,
};
use crate::operations::evidence::ToldEvidence;
use crate::outcome::View;

/// A danger of a tweak that is asked for.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct DangerOf<'a> {
    tweak: &'a TweakId,
    #[serde(flatten)]
    danger: &'a Danger,
}

impl DangerOf<'_> {
    /// The danger in a line.
    pub(crate) fn in_words(&self) -> String {
        let Danger { what, first } = self.danger;
        format!("{}: {what} First: {first}", self.tweak)
    }
}

/// The dangers of what a plan does and of what is done by hand beside it.
pub(crate) fn dangers<'a>(
    plan: &'a Plan,
    by_hand: &'a [ByHand],
    catalogue: &'a Catalogue,
) -> Vec<DangerOf<'a>> {
    let written = plan.writes().map(|step| &step.used.tweak);
    let to_do = by_hand.iter().filter(|task| task.is_done != Some(true)).map(|task| &task.tweak);
    let tweaks: BTreeSet<&TweakId> = written.chain(to_do).collect();
    let of = |tweak: &'a TweakId| {
        let known = catalogue.get(tweak).into_iter().flat_map(|known| &known.dangers);
        known.map(move |danger| DangerOf { tweak, danger })
    };
    tweaks.into_iter().flat_map(of).collect()
}

/// Dangers, each with what guards against it.
pub(crate) fn show_dangers<'a>(dangers: impl Iterator<Item = &'a Danger>, page: &mut Page) {
    for danger in dangers {
        page.paragraph_in(2, bad, &danger.what);
        page.paragraph(2, &format!("First: {}", danger.first));
    }
}

/// A plan as it is shown.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct PlanReport<'a> {
    pub(crate) title: &'a str,
    /// Harm that no rollback takes back.
    pub(crate) dangers: Vec<DangerOf<'a>>,
    #[serde(flatten)]
    pub(crate) plan: &'a Plan,
    pub(crate) by_hand: &'a [ByHand],
    /// Tweaks that do not fit this PC.
    pub(crate) does_not_fit: &'a [LeftOut],
    pub(crate) takes_effect: TakesEffect,
    /// What of it was measured worse on this PC.
    pub(crate) measured_worse: Vec<&'a ToldEvidence>,
    /// Settings that the PC does not yet behave by, because of earlier changes.
    pub(crate) waiting: &'a [Waiting],
    #[serde(skip)]
    pub(crate) catalogue: &'a Catalogue,
    #[serde(skip)]
    pub(crate) addresses: bool,
}

impl View for PlanReport<'_> {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("What {} would change on this PC", self.title));
        if !self.dangers.is_empty() {
            page.blank();
            page.line(strong("Before anything else"));
            let mut told = None;
            for DangerOf { tweak, danger } in &self.dangers {
                if told.replace(tweak) != Some(tweak) {
                    page.line(format_args!("  {}", strong(tweak)));
                }
                show_dangers(std::iter::once(*danger), page);
            }
        }
        // In the order of the profile: what a tweak needs may have been moved to the front.
        let wanted = self.plan.steps.iter().filter(|step| step.reason == Reason::Wanted);
        let mut uses: Vec<&TweakUse> = wanted.map(|step| &step.used).collect();
        let mut seen = BTreeSet::new();
        uses.retain(|used| seen.insert(*used));
        let mut tables: Vec<Table> = uses.iter().map(|used| self.table_of(used)).collect();
        Table::align(&mut tables);
        for (used, table) in uses.iter().zip(tables) {
            page.blank();
            let tweak = named_among(used, uses.iter().copied());
            match self.catalogue.get(&used.tweak) {
                Some(known) => page.line(format_args!(
                    "{}  {}  {}",
                    strong(&tweak),
                    known.title,
                    dim(format_args!("{}, {}", known.standing, known.risk))
                )),
                None => page.line(strong(&tweak)),
            }
            page.table(table);
            let made =
                self.plan.steps.iter().filter(|step| step.used == **used && self.is_folded(step));
            let made = made.count();
            if made > 0 {
                page.line(dim(format_args!("  {} made for it", count(made, "registry key"))));
            }
            let parts = self.plan.parts_left_out.iter().filter(|left| left.used == **used);
            for reason in parts.flat_map(|left| &left.reasons) {
                page.paragraph_in(2, dim, &format!("left out of it: {reason}"));
            }
        }
        self.show_put_back(page);
        show_by_hand(self.by_hand, DangersTold::Above, page);
        let left_out: Vec<_> = self.plan.left_out.iter().chain(self.does_not_fit).collect();
        if !left_out.is_empty() {
            page.heading("Left out");
            for left in &left_out {
                page.line(format_args!("  {}", strong(&left.used)));
                left.reasons.iter().for_each(|reason| page.paragraph(4, reason));
            }
        }
        for worse in &self.measured_worse {
            page.blank();
            page.paragraph_in(0, bad, &format!("{}.", measured_worse_in_words(worse)));
        }
        for drifted in &self.plan.changed_by_others {
            page.blank();
            page.line(format_args!(
                "{} {} is {}, which somebody else wrote; change {} left {}",
                warn("changed by others:"),
                short(&drifted.address),
                shown(&drifted.actual),
                drifted.left.change,
                shown(&drifted.left.state),
            ));
        }
        for refusal in &self.plan.refusals {
            page.blank();
            page.line(format_args!(
                "{} `{}` wants {}, which {}",
                bad("protected:"),
                refusal.used,
                refusal.address,
                refusal.reason
            ));
        }
        if !self.plan.denied.is_empty() {
            page.blank();
            page.line(bad("Frevin may not write these settings as it was started:"));
            for denied in &self.plan.denied {
                let address = short(&denied.address);
                page.line(format_args!("  {}  {address}: {}", strong(&denied.used), denied.reason));
            }
        }
        page.blank();
        self.summarise(page);
    }
}

impl PlanReport<'_> {
    /// What a use of a tweak would write.
    fn table_of(&self, used: &TweakUse) -> Table {
        let mut table = Table::new(["setting", "now", "after", "takes effect"]);
        if self.addresses {
            table = table.of_addresses();
        }
        let is_replaced = |step: &Step| matches!(step.reason, Reason::Replaced(_));
        let is_its =
            |step: &&Step| step.used == *used && !is_replaced(step) && !self.is_folded(step);
        self.plan.steps.iter().filter(is_its).for_each(|step| table.row(self.row(step)));
        table
    }

    /// Whether a step only makes the key that a value stands in, which says nothing that its owner would miss.
    fn is_folded(&self, step: &Step) -> bool {
        let makes_key = matches!(step.address, Address::RegistryKey(_)) && step.action.writes();
        makes_key && matches!(step.reason, Reason::NeededBy(_)) && !self.addresses
    }

    /// What only the change that is replaced wanted.
    fn show_put_back(&self, page: &mut Page) {
        let is_replaced = |step: &&Step| matches!(step.reason, Reason::Replaced(_));
        let mut steps = self.plan.steps.iter().filter(is_replaced).peekable();
        let Some(Reason::Replaced(change)) = steps.peek().map(|step| &step.reason) else { return };
        page.blank();
        page.line(strong(format_args!("Only change {change} wanted it, so that it goes back")));
        let mut table = Table::new(["setting", "now", "after", "takes effect"]);
        if self.addresses {
            table = table.of_addresses();
        }
        steps.for_each(|step| table.row(self.row(step)));
        page.table(table);
    }

    fn row(&self, step: &Step) -> Vec<String> {
        let setting = if self.addresses { step.address.to_string() } else { short(&step.address) };
        let setting = match &step.reason {
            Reason::Wanted => setting,
            Reason::NeededBy(_) => format!("{setting} {}", dim("(needed for it)")),
            Reason::FollowsFrom(_) => format!("{setting} {}", dim("(follows from it)")),
            Reason::Replaced(_) => setting,
        };
        let after = match step.action {
            Action::Write | Action::PutBack => strong(shown_at(&step.address, &step.after)),
            Action::Share => dim("shared with another tweak"),
            Action::AlreadySo => dim("already so"),
        };
        let moment = match step.action {
            action if !action.writes() => String::new(),
            _ if step.takes_effect == TakesEffect::Now => "now".to_owned(),
            _ => warn(format_args!("after {}", step.takes_effect)),
        };
        vec![setting, shown_at(&step.address, &step.before), after, moment]
    }

    fn summarise(&self, page: &mut Page) {
        if !self.waiting.is_empty() {
            let waiting = moments_awaited(self.waiting);
            page.line(warn(format_args!("From earlier changes, {waiting}.")));
        }
        let writes = self.plan.writes().count();
        if self.plan.is_empty() {
            page.line("Nothing would change.");
            return;
        }
        if !self.plan.refusals.is_empty() {
            let tweak = &self.plan.refusals[0].used;
            page.line(bad("Nothing would be written: it touches what is protected."));
            page.line(format_args!("To allow it all the same: --allow-protected {tweak}"));
            return;
        }
        if !self.plan.denied.is_empty() {
            page.line(bad("Nothing would be written: Frevin may not, as it was started."));
            return;
        }
        let waits = match self.takes_effect {
            TakesEffect::Now => "All of it acts at once.".to_owned(),
            later => format!("The last of it acts after {}.", with_article(later)),
        };
        page.line(format_args!("{} would be written. {waits}", count(writes, "setting")));
    }
}

/// Where the dangers of what is done by hand are told.
#[derive(Clone, Copy, PartialEq, Eq)]
pub(crate) enum DangersTold {
    /// On the page above.
    Above,
    /// With each task.
    Here,
}

/// A checklist of what a person does.
pub(crate) fn show_by_hand(by_hand: &[ByHand], dangers: DangersTold, page: &mut Page) {
    if by_hand.is_empty() {
        return;
    }
    page.heading("By hand");
    for task in by_hand {
        let mark = match task.is_done {
            Some(true) => good("[x] done"),
            Some(false) => warn("[ ] to do"),
            None => dim("[?] this PC does not tell"),
        };
        page.line(format_args!("  {mark}  {}  {}", strong(&task.tweak), task.title));
        if task.is_done != Some(true) {
            page.paragraph(4, &task.why);
            for danger in task.dangers.iter().filter(|_| dangers == DangersTold::Here) {
                page.paragraph_in(4, bad, &format!("{} First: {}", danger.what, danger.first));
            }
            for (number, step) in task.steps.iter().enumerate() {
                page.paragraph(4, &format!("{}. {step}", number + 1));
            }
        }
    }
}

/// What has to happen, with the article that it is spoken of with.
pub(crate) fn with_article(moment: TakesEffect) -> String {
    match moment {
        TakesEffect::Now => "nothing more".to_owned(),
        other => format!("a {other}"),
    }
}
