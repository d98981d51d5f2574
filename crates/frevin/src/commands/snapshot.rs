//! `frevin snapshot`

use clap::Subcommand;
use frevin_ledger::{Snapshot, SnapshotId, SnapshotSummary};
use serde::Serialize;

use crate::failure::Failure;
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, shown, when};

/// The exact state of what changes were about to touch
#[derive(Debug, Subcommand)]
pub(crate) enum SnapshotCommand {
    /// List the snapshots of this PC
    List,
    /// Show what each setting held
    Show {
        /// The snapshot's number
        snapshot: i64,
    },
}

#[derive(Debug, Serialize)]
struct SnapshotList {
    snapshots: Vec<SnapshotSummary>,
}

#[derive(Debug, Serialize)]
#[serde(transparent)]
struct SnapshotReport(Snapshot);

pub(crate) fn run(session: &Session, command: &SnapshotCommand) -> Result<Answer, Failure> {
    let pc = session.pc()?;
    let ledger = session.ledger()?;
    let pc = &pc.identity().id;
    match command {
        SnapshotCommand::List => {
            Ok(Answer::yes(&SnapshotList { snapshots: ledger.snapshots(pc)? }))
        }
        SnapshotCommand::Show { snapshot } => {
            let snapshot = ledger.snapshot(pc, SnapshotId(*snapshot))?;
            Ok(Answer::yes(&SnapshotReport(snapshot)))
        }
    }
}

impl Report for SnapshotList {
    fn show(&self, page: &mut Page) {
        if self.snapshots.is_empty() {
            page.line("No snapshots yet: one is taken before every change.");
            return;
        }
        let mut table = Table::new([">snapshot", "taken", ">settings", "for"]);
        for snapshot in &self.snapshots {
            table.row([
                snapshot.id.0.to_string(),
                when(snapshot.taken_at),
                snapshot.settings.to_string(),
                snapshot.reason.clone(),
            ]);
        }
        page.table(table);
    }
}

impl Report for SnapshotReport {
    fn show(&self, page: &mut Page) {
        let summary = &self.0.summary;
        let taken = when(summary.taken_at);
        page.heading(format_args!("Snapshot {}, {}, {taken}", summary.id.0, summary.reason));
        let mut table = Table::new(["setting", "held"]).of_addresses();
        for (address, state) in &self.0.states {
            table.row([address.to_string(), shown(state)]);
        }
        page.table(table);
    }
}
