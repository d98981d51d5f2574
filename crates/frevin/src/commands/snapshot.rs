//! `frevin snapshot`

use clap::Subcommand;
use frevin_core::setting::{Address, Difference, State, differences};
use frevin_ledger::{Snapshot, SnapshotId, SnapshotSummary};
use frevin_pc::{Pc, RestorePoint};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, count, good, short, shown, shown_at, strong, when};

/// The exact state of the PC, or of what changes were about to touch
#[derive(Debug, Subcommand)]
pub(crate) enum SnapshotCommand {
    /// Take a snapshot of everything that Frevin can read
    Take {
        /// A name to know it by
        #[arg(long, default_value = "taken by hand")]
        name: String,
    },
    /// Compare a snapshot with another, or with the PC as it is now
    Diff {
        /// The first snapshot's number
        first: i64,
        /// The second snapshot's number [default: the PC now]
        second: Option<i64>,
        /// Show every setting's full address
        #[arg(long)]
        addresses: bool,
    },
    /// List the snapshots of this PC
    List,
    /// Have the PC make a restore point of its own, beside Frevin's snapshots
    RestorePoint {
        /// What the PC's own list of restore points calls it
        #[arg(long, default_value = "Asked for by hand")]
        name: String,
    },
    /// Show what each setting held
    Show {
        /// The snapshot's number
        snapshot: i64,
    },
}

#[derive(Debug, JsonSchema, Serialize)]
struct SnapshotList {
    snapshots: Vec<SnapshotSummary>,
}

#[derive(Debug, JsonSchema, Serialize)]
#[serde(transparent)]
struct SnapshotReport(Snapshot);

#[derive(Debug, JsonSchema, Serialize)]
struct TakeReport {
    taken: SnapshotSummary,
}

#[derive(Debug, JsonSchema, Serialize)]
struct DiffReport {
    first: String,
    second: String,
    compared: usize,
    differences: Vec<Difference>,
    #[serde(skip)]
    addresses: bool,
}

/// A restore point that the PC made.
#[derive(Debug, JsonSchema, Serialize)]
struct RestorePointReport<'a> {
    restore_point: u32,
    name: &'a str,
}

type States = Vec<(Address, State)>;

pub(crate) fn run(context: &Context, command: &SnapshotCommand) -> Result<Outcome, Failure> {
    let mut machine = context.pc()?;
    let mut ledger = context.ledger()?;
    let pc = &machine.identity().id.clone();
    match command {
        SnapshotCommand::Take { name } => {
            // Nobody changes the PC while everything is read.
            let _lock = context.lock(&mut *machine)?;
            let states = read_all(&*machine, everything(&*machine, &ledger)?)?;
            let id = ledger.take_snapshot(pc, context.clock.now(), name, &states)?;
            Ok(Outcome::done(&TakeReport { taken: ledger.snapshot(pc, id)?.summary }))
        }
        SnapshotCommand::Diff { first, second, addresses } => {
            let first = ledger.snapshot(pc, SnapshotId(*first))?;
            let second = second.map(|id| ledger.snapshot(pc, SnapshotId(id))).transpose()?;
            let compared = compare(&*machine, &first, second.as_ref())?;
            Ok(Outcome::yes(&DiffReport { addresses: *addresses, ..compared }))
        }
        SnapshotCommand::RestorePoint { name } => {
            let _lock = context.lock(&mut *machine)?;
            match machine.restore_point(name)? {
                RestorePoint::Made { number } => {
                    Ok(Outcome::done(&RestorePointReport { restore_point: number, name }))
                }
                RestorePoint::SwitchedOff => Err(no_restore_point(
                    "they are switched off on this PC",
                )
                .hint("`frevin tweak show safety/restore-points` says how to switch them on")),
                RestorePoint::Refused { reason } => Err(no_restore_point(&reason).hint(
                    "Windows makes one a day, unless it is told otherwise: see `frevin tweak show \
                     safety/restore-point-frequency`",
                )),
                RestorePoint::NotOffered => Err(no_restore_point(
                    "this PC does not offer restore points",
                )
                .hint("`frevin snapshot take` keeps the state of every setting all the same")),
            }
        }
        SnapshotCommand::List => {
            Ok(Outcome::yes(&SnapshotList { snapshots: ledger.snapshots(pc)? }))
        }
        SnapshotCommand::Show { snapshot } => {
            let snapshot = ledger.snapshot(pc, SnapshotId(*snapshot))?;
            Ok(Outcome::yes(&SnapshotReport(snapshot)))
        }
    }
}

fn no_restore_point(reason: &str) -> Failure {
    Failure::new(Kind::RefusedAndUndone, format!("no restore point was made: {reason}"))
}

/// Every setting that the PC lists, and those that Frevin holds: a live PC does not list its registry.
fn everything(pc: &dyn Pc, ledger: &frevin_ledger::Ledger) -> Result<Vec<Address>, Failure> {
    let mut addresses = pc.addresses()?;
    let layers = ledger.layers(&pc.identity().id)?;
    addresses.extend(layers.iter().map(|(address, _)| address.clone()));
    addresses.sort();
    addresses.dedup();
    Ok(addresses)
}

fn read_all(pc: &dyn Pc, addresses: Vec<Address>) -> Result<States, Failure> {
    addresses.into_iter().map(|address| Ok((address.clone(), pc.read(&address)?))).collect()
}

/// Compares what both hold: where one is of a change only, what that change touched.
fn compare(
    pc: &dyn Pc,
    first: &Snapshot,
    second: Option<&Snapshot>,
) -> Result<DiffReport, Failure> {
    let within = |states: &States, limits: &Snapshot| -> States {
        let is_known = |address: &Address| limits.states.iter().any(|(known, _)| known == address);
        let kept =
            states.iter().filter(|(address, _)| limits.summary.is_whole || is_known(address));
        kept.cloned().collect()
    };
    let (a, b) = match second {
        Some(second) => (within(&first.states, second), within(&second.states, first)),
        None if first.summary.is_whole => (first.states.clone(), read_all(pc, pc.addresses()?)?),
        None => {
            let addresses = first.states.iter().map(|(address, _)| address.clone()).collect();
            (first.states.clone(), read_all(pc, addresses)?)
        }
    };
    let name = |snapshot: &Snapshot| format!("snapshot {}", snapshot.summary.id.0);
    Ok(DiffReport {
        first: name(first),
        second: second.map_or_else(|| "the PC now".to_owned(), name),
        compared: a.len().max(b.len()),
        differences: differences(&a, &b),
        addresses: false,
    })
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<TakeReport>("snapshot take");
    schemas.prints::<DiffReport>("snapshot diff");
    schemas.prints::<SnapshotList>("snapshot list");
    schemas.prints::<SnapshotReport>("snapshot show");
    schemas.prints::<RestorePointReport<'static>>("snapshot restore-point");
}

impl View for RestorePointReport<'_> {
    fn show(&self, page: &mut Page) {
        let (made, number) = (good("Made."), strong(self.restore_point));
        page.line(format_args!("{made} Restore point {number} ({}).", self.name));
    }
}

impl View for TakeReport {
    fn show(&self, page: &mut Page) {
        let SnapshotSummary { id, settings, reason, .. } = &self.taken;
        page.line(format_args!(
            "{} Snapshot {} ({reason}) holds {settings} settings.",
            good("Taken."),
            strong(id.0),
        ));
    }
}

impl View for DiffReport {
    fn show(&self, page: &mut Page) {
        let (first, second) = (&self.first, &self.second);
        let compared = count(self.compared, "setting");
        if self.differences.is_empty() {
            page.line(format_args!("No difference between {first} and {second}, over {compared}."));
            return;
        }
        let differ = self.differences.len();
        page.heading(format_args!("{differ} of {compared} differ between {first} and {second}"));
        let mut table = Table::new(["setting", "first", "second"]);
        if self.addresses {
            table = table.of_addresses();
        }
        for Difference { address, first, second } in &self.differences {
            let setting = if self.addresses { address.to_string() } else { short(address) };
            table.row([setting, shown_at(address, first), shown_at(address, second)]);
        }
        page.table(table);
    }
}

impl View for SnapshotList {
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

impl View for SnapshotReport {
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
