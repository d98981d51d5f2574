//! `frevin drift`

use clap::Args;
use frevin_core::preview::{Drifted, OnOthers};
use frevin_core::waiting::Waiting;
use frevin_ledger::Ledger;
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use super::rollback::OthersArgs;
use crate::context::Context;
use crate::failure::Failure;
use crate::operations::refuse_unfinished;
use crate::operations::resolve_drift::{drifted, resolve_drift};
use crate::operations::waiting::waiting;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, bad, count, dim, good, short, show_waiting, shown_at};

/// Tell which settings are no longer what Frevin left them at, and settle it. Exit code 1 if any
#[derive(Debug, Args)]
pub(crate) struct DriftArgs {
    #[command(flatten)]
    others: OthersArgs,
}

#[derive(Debug, JsonSchema, Serialize)]
struct DriftReport {
    held: usize,
    drifted: Vec<Drifted>,
    waiting: Vec<Waiting>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct SettledReport {
    settled: Vec<Drifted>,
    by: OnOthers,
}

pub(crate) fn run(context: &Context, args: &DriftArgs) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    let mut ledger = context.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    let report = report(&*pc, &ledger)?;
    if report.drifted.is_empty() {
        return Ok(Outcome::yes(&report));
    }
    let mut page = Page::default();
    report.show(&mut page);
    let by = match args.others.on_others() {
        OnOthers::Stop => match context.choose(&page, "Your choice", &WAYS)? {
            Some(1) => OnOthers::Keep,
            Some(2) => OnOthers::Force,
            Some(_) => return Ok(Outcome::no_more_to_say(&report)),
            None => return Ok(Outcome::with(&report, false)),
        },
        by => {
            let question = match by {
                OnOthers::Keep => "Leave these as they are, and hold them no longer?",
                _ => "Put these back to what Frevin left?",
            };
            context.confirm(&page, question)?;
            by
        }
    };
    let settled = resolve_drift(context, &mut *pc, &mut ledger, by)?;
    Ok(Outcome::done(&SettledReport { settled, by }))
}

/// What can be answered where neither `--keep` nor `--force` did.
const WAYS: [&str; 3] = [
    "nothing for now",
    "leave what others wrote, and hold it no longer",
    "put back what Frevin left",
];

fn report(pc: &dyn Pc, ledger: &Ledger) -> Result<DriftReport, Failure> {
    let id = &pc.identity().id;
    Ok(DriftReport {
        held: ledger.layers(id)?.iter().count(),
        drifted: drifted(pc, ledger)?,
        waiting: waiting(pc, ledger)?,
    })
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<DriftReport>("drift");
    schemas.prints::<SettledReport>("drift");
}

impl View for SettledReport {
    fn show(&self, page: &mut Page) {
        let settings = count(self.settled.len(), "setting");
        let what = match self.by {
            OnOthers::Keep => "held no longer: what others wrote stays, and no rollback touches it",
            _ => "put back to what Frevin left, and read back",
        };
        page.line(format_args!("{} {settings} {what}.", good("Settled.")));
    }
}

impl View for DriftReport {
    fn show(&self, page: &mut Page) {
        let held = count(self.held, "setting");
        if self.drifted.is_empty() {
            page.line(format_args!("{} {held} held, all as Frevin left them.", good("No drift.")));
        } else {
            page.line(format_args!(
                "{} {} of {held} held by Frevin changed since.",
                bad("Drift."),
                self.drifted.len()
            ));
            let mut table = Table::new(["setting", "Frevin left", "now", "for", "at first"]);
            for drifted in &self.drifted {
                table.row([
                    short(&drifted.address),
                    shown_at(&drifted.address, &drifted.left.state),
                    bad(shown_at(&drifted.address, &drifted.actual)),
                    format!("{} in change {}", drifted.left.used, drifted.left.change),
                    dim(shown_at(&drifted.address, &drifted.original)),
                ]);
            }
            page.table(table);
            page.line("Somebody else wrote these. `frevin drift` settles it, with one of:");
            page.pairs([
                ("--keep", "leave what others wrote, and hold it no longer"),
                ("--force", "put back what Frevin left"),
            ]);
        }
        show_waiting(&self.waiting, page);
    }
}
