//! `frevin recover`

use clap::Args;
use frevin_core::preview::OnOthers;
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use super::rollback::OthersArgs;
use crate::context::Context;
use crate::failure::Failure;
use crate::operations::recover::{self, Recovered, Rescue, Rescued, RescuedSetting};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::rolled_back::show_not_taken;
use crate::view::{Page, Table, count, good, short, shown_at, strong, warn};

/// Settle a change or rollback that was interrupted: the PC goes back to what it was
#[derive(Debug, Args)]
pub(crate) struct RecoverArgs {
    #[command(flatten)]
    others: OthersArgs,
    /// Put the PC back to what it was before Frevin's first change by the undo files alone, where the ledger is damaged or lost
    #[arg(long)]
    from_undo_files: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
struct RescueReport {
    #[serde(flatten)]
    shown: Rescue,
    #[serde(flatten)]
    rescued: Rescued,
}

#[derive(Debug, JsonSchema, Serialize)]
struct RecoverReport {
    #[serde(flatten)]
    recovered: Recovered,
}

pub(crate) fn run(context: &Context, args: &RecoverArgs) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    if args.from_undo_files {
        return rescue(context, &mut *pc, args.others.on_others());
    }
    let mut ledger = context.ledger()?;
    let on_others = args.others.on_others();
    let recovered = recover::recover(context, &mut *pc, &mut ledger, on_others)?;
    Ok(Outcome::done(&RecoverReport { recovered }))
}

fn rescue(context: &Context, pc: &mut dyn Pc, on_others: OnOthers) -> Result<Outcome, Failure> {
    let shown = recover::plan_rescue(context, pc)?;
    let mut page = Page::default();
    show_rescue(&shown, &mut page);
    if !shown.changes.is_empty() {
        context.confirm(&page, "Put the PC back?")?;
    }
    let rescued = recover::rescue(context, pc, &shown, on_others)?;
    Ok(Outcome::done(&RescueReport { shown, rescued }))
}

fn show_rescue(rescue: &Rescue, page: &mut Page) {
    let mut table = Table::new(["setting", "now", "goes back to"]);
    for RescuedSetting { address, now, at_first } in &rescue.settings {
        table.row([short(address), shown_at(address, now), strong(shown_at(address, at_first))]);
    }
    if !rescue.settings.is_empty() {
        page.table(table);
    }
    for RescuedSetting { address, now, at_first } in &rescue.others {
        let (now, at_first) = (shown_at(address, now), shown_at(address, at_first));
        let address = short(address);
        page.line(warn(format_args!(
            "{address} holds {now}, which is not Frevin's; it was {at_first}"
        )));
    }
    for (file, reason) in &rescue.unusable {
        let file = file.display();
        page.line(warn(format_args!(
            "{file} cannot be used, and what it alone tells of stays: {reason}"
        )));
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<RecoverReport>("recover");
    schemas.prints::<RescueReport>("recover");
}

impl View for RescueReport {
    fn show(&self, page: &mut Page) {
        show_rescue(&self.shown, page);
        page.line(format_args!(
            "{} {} put back by the undo files of {}.",
            good("Done."),
            count(self.rescued.written, "setting"),
            count(self.shown.changes.len(), "change"),
        ));
        show_not_taken(&self.rescued.refused, page);
        if let Some(ledger) = &self.rescued.damaged_ledger {
            let ledger = ledger.display();
            page.line(format_args!("The damaged ledger is kept as {ledger}; a new one is begun."));
        }
    }
}

impl View for RecoverReport {
    fn show(&self, page: &mut Page) {
        let (kept, refused) = match &self.recovered {
            Recovered::Nothing => {
                page.line("Nothing to recover: no change or rollback is unfinished.");
                return;
            }
            Recovered::ChangeUndone { title, written, kept, refused } => {
                page.line(format_args!(
                    "{} The interrupted change ({title}) is undone: {} put back{}.",
                    good("Done."),
                    count(*written, "setting"),
                    if refused.is_empty() && kept.is_empty() {
                        ", and the PC is what it was before"
                    } else {
                        ""
                    },
                ));
                (kept, refused)
            }
            Recovered::RollbackFinished { written, kept, refused } => {
                page.line(format_args!(
                    "{} The interrupted rollback is finished: the last {} put back.",
                    good("Done."),
                    count(*written, "setting"),
                ));
                (kept, refused)
            }
        };
        for address in kept {
            page.line(warn(format_args!("{address} stays as somebody else made it")));
        }
        show_not_taken(refused, page);
    }
}
