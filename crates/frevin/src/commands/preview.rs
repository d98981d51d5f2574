//! `frevin preview`

use std::collections::BTreeSet;

use clap::Args;
use frevin_core::preview::{Action, Plan, Reason, Step};
use frevin_core::profile::ByHand;
use frevin_core::setting::TakesEffect;
use frevin_core::tweak::Catalogue;
use serde::Serialize;

use super::target::{TargetArgs, Unsaved};
use crate::failure::Failure;
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{
    Page, Table, bad, count, dim, good, settings_wait, short, shown, shown_at, strong, warn,
};
use crate::workshop::{apply::make_plan, refuse_unfinished};

/// Show what a profile would change on this PC, step by step. Changes nothing
#[derive(Debug, Args)]
pub(crate) struct PreviewArgs {
    #[command(flatten)]
    target: TargetArgs,
    /// Show every setting's full address
    #[arg(long)]
    addresses: bool,
}

/// A plan as it is shown.
#[derive(Debug, Serialize)]
pub(crate) struct PlanReport<'a> {
    pub(crate) title: &'a str,
    #[serde(flatten)]
    pub(crate) plan: &'a Plan,
    pub(crate) by_hand: &'a [ByHand],
    pub(crate) takes_effect: TakesEffect,
    /// How many settings wait for a restart already, because of earlier changes.
    pub(crate) waiting_for_restart: usize,
    #[serde(skip)]
    pub(crate) catalogue: &'a Catalogue,
    #[serde(skip)]
    pub(crate) addresses: bool,
}

pub(crate) fn run(session: &Session, args: &PreviewArgs) -> Result<Answer, Failure> {
    let pc = session.pc()?;
    let ledger = session.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    let catalogue = session.catalogue()?;
    let target =
        args.target.resolve(&catalogue, &ledger, &session.facts(&*pc)?, Unsaved::Allowed)?;
    let mut plan = make_plan(&*pc, &ledger, &target.wishes)?;
    plan.left_out.extend(target.left_out);
    Ok(Answer::yes(&PlanReport {
        title: &target.title,
        takes_effect: plan.takes_effect(),
        waiting_for_restart: ledger.waiting_for_restart(&pc.identity().id, &pc.boot()?.0)?.len(),
        plan: &plan,
        by_hand: &target.by_hand,
        catalogue: &catalogue,
        addresses: args.addresses,
    }))
}

impl Report for PlanReport<'_> {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("What {} would change on this PC", self.title));
        // In the order of the profile: what a tweak needs may have been moved to the front.
        let wanted = self.plan.steps.iter().filter(|step| step.reason == Reason::Wanted);
        let mut tweaks: Vec<_> = wanted.map(|step| &step.tweak).collect();
        let mut seen = BTreeSet::new();
        tweaks.retain(|tweak| seen.insert(*tweak));
        for tweak in tweaks {
            page.blank();
            match self.catalogue.get(tweak) {
                Some(known) => page.line(format_args!(
                    "{}  {}  {}",
                    strong(tweak),
                    known.title,
                    dim(format_args!("{}, {}", known.standing, known.risk))
                )),
                None => page.line(strong(tweak)),
            }
            let mut table = Table::new(["setting", "now", "after", "takes effect"]);
            if self.addresses {
                table = table.of_addresses();
            }
            for step in self.plan.steps.iter().filter(|step| step.tweak == *tweak) {
                table.row(self.row(step));
            }
            page.table(table);
        }
        show_by_hand(self.by_hand, page);
        if !self.plan.left_out.is_empty() {
            page.heading("Left out");
            for left in &self.plan.left_out {
                page.line(format_args!("  {}", strong(&left.tweak)));
                left.reasons.iter().for_each(|reason| page.paragraph(4, reason));
            }
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
                refusal.tweak,
                refusal.address,
                refusal.reason
            ));
        }
        if !self.plan.denied.is_empty() {
            page.blank();
            page.line(bad("Frevin may not write these settings as it was started:"));
            for denied in &self.plan.denied {
                let address = short(&denied.address);
                page.line(format_args!(
                    "  {}  {address}: {}",
                    strong(&denied.tweak),
                    denied.reason
                ));
            }
        }
        page.blank();
        self.summarise(page);
    }
}

impl PlanReport<'_> {
    fn row(&self, step: &Step) -> Vec<String> {
        let setting = if self.addresses { step.address.to_string() } else { short(&step.address) };
        let setting = match &step.reason {
            Reason::Wanted => setting,
            Reason::NeededBy(_) => format!("{setting} {}", dim("(needed for it)")),
            Reason::FollowsFrom(_) => format!("{setting} {}", dim("(follows from it)")),
        };
        let after = match step.action {
            Action::Write => strong(shown_at(&step.address, &step.after)),
            Action::Share => dim("shared with another tweak"),
            Action::AlreadySo => dim("already so"),
        };
        let moment = match step.action {
            Action::Write if step.takes_effect == TakesEffect::Now => "now".to_owned(),
            Action::Write => warn(format_args!("after {}", step.takes_effect)),
            _ => String::new(),
        };
        vec![setting, shown_at(&step.address, &step.before), after, moment]
    }

    fn summarise(&self, page: &mut Page) {
        if self.waiting_for_restart > 0 {
            let waiting = settings_wait(self.waiting_for_restart);
            page.line(warn(format_args!("From earlier changes, {waiting}")));
        }
        let writes = self.plan.writes().count();
        if self.plan.is_empty() {
            page.line("Nothing would change.");
            return;
        }
        let waits = match self.takes_effect {
            TakesEffect::Now => "All of it acts at once.".to_owned(),
            later => format!("The last of it acts after {}.", with_article(later)),
        };
        page.line(format_args!("{} would be written. {waits}", count(writes, "setting")));
    }
}

/// A checklist of what a person does.
pub(crate) fn show_by_hand(by_hand: &[ByHand], page: &mut Page) {
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
