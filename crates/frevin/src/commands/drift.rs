//! `frevin drift`

use clap::Args;
use frevin_core::preview::{Drifted, drift};
use frevin_ledger::Waiting;
use serde::Serialize;

use crate::failure::Failure;
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, bad, count, dim, good, settings_wait, short, shown, warn};
use crate::workshop::{readings::PcReadings, refuse_unfinished};

/// Tell which settings are no longer what Frevin left them at. Exit code 1 if any
#[derive(Debug, Args)]
pub(crate) struct DriftArgs {}

#[derive(Debug, Serialize)]
struct DriftReport {
    held: usize,
    drifted: Vec<Drifted>,
    waiting_for_restart: Vec<Waiting>,
}

pub(crate) fn run(session: &Session, _args: &DriftArgs) -> Result<Answer, Failure> {
    let pc = session.pc()?;
    let ledger = session.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    let id = &pc.identity().id;
    let layers = ledger.layers(id)?;
    let drifted = drift(&PcReadings(&*pc), &layers)?;
    let waiting_for_restart = ledger.waiting_for_restart(id, &pc.boot()?.0)?;
    let is_steady = drifted.is_empty();
    let report = DriftReport { held: layers.iter().count(), drifted, waiting_for_restart };
    Ok(Answer::with(&report, is_steady))
}

impl Report for DriftReport {
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
                    shown(&drifted.left.state),
                    bad(shown(&drifted.actual)),
                    format!("{} in change {}", drifted.left.tweak, drifted.left.change),
                    dim(shown(&drifted.original)),
                ]);
            }
            page.table(table);
            page.line(
                "Frevin did not write these. To go back all the same: frevin rollback --all, with",
            );
            page.line(
                "--keep (leave what others wrote) or --force (put back what was there at first).",
            );
        }
        if !self.waiting_for_restart.is_empty() {
            page.line(warn(settings_wait(self.waiting_for_restart.len())));
        }
    }
}
