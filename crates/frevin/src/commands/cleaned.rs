//! `frevin cleaned`

use clap::{Args, Subcommand};
use frevin_core::setting::{Address, CleanPart, CleanPlace, CleanSetting};
use frevin_ledger::Ledger;
use frevin_pc::{CleanContent, Pc};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::refuse_unfinished;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, bytes, count, dim, good, warn};

/// What lies in the places that can be cleaned, what is set aside of them, and getting rid of it
#[derive(Debug, Subcommand)]
pub(crate) enum CleanedCommand {
    /// How much each place holds, and how much of it is set aside
    List,
    /// Delete for good what is set aside: there is no way back from this
    Empty(EmptyArgs),
}

#[derive(Debug, Args)]
pub(crate) struct EmptyArgs {
    /// The place; all of them where none is named
    #[arg(value_name = "PLACE")]
    place: Option<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct PlacesReport {
    places: Vec<CleanContent>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct EmptiedReport {
    emptied: Vec<CleanContent>,
}

pub(crate) fn run(context: &Context, command: &CleanedCommand) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    match command {
        CleanedCommand::List => Ok(Outcome::yes(&PlacesReport { places: pc.clean_content()? })),
        CleanedCommand::Empty(args) => {
            let mut ledger = context.ledger()?;
            empty(context, &mut *pc, &mut ledger, args)
        }
    }
}

fn empty(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    args: &EmptyArgs,
) -> Result<Outcome, Failure> {
    let meant = args.place.as_deref().map(place_named).transpose()?;
    let is_meant = |content: &CleanContent| {
        content.files_set_aside > 0 && meant.is_none_or(|place| place == content.place)
    };
    let shown: Vec<_> = pc.clean_content()?.into_iter().filter(is_meant).collect();
    if shown.is_empty() {
        return Ok(Outcome::yes(&EmptiedReport { emptied: Vec::new() }));
    }
    let mut page = Page::default();
    page.table(table(&shown));
    context.confirm(&page, "Delete what is set aside of these for good?")?;
    let _lock = context.lock(pc)?;
    refuse_unfinished(ledger, pc)?;
    let mut emptied = Vec::new();
    for content in shown {
        // Let go of first: the ledger never promises a way back that is gone.
        let setting = CleanSetting { place: content.place, part: CleanPart::Quarantine };
        ledger.let_go(&pc.identity().id.clone(), &[Address::Clean(setting)])?;
        emptied.push(pc.empty_quarantine(content.place)?);
    }
    pc.flush()?;
    Ok(Outcome::done(&EmptiedReport { emptied }))
}

fn place_named(written: &str) -> Result<CleanPlace, Failure> {
    let found = CleanPlace::ALL.into_iter().find(|place| place.name() == written);
    found.ok_or_else(|| {
        let names = CleanPlace::ALL.map(CleanPlace::name).join(", ");
        Failure::new(Kind::NotFound, format!("there is no place `{written}`"))
            .hint(format!("there are {names}"))
    })
}

fn table(places: &[CleanContent]) -> Table {
    let mut table = Table::new(["place", ">files", ">size", ">set aside", ">size set aside"]);
    for content in places {
        let aside = content.files_set_aside;
        table.row([
            content.place.to_string(),
            content.files.to_string(),
            bytes(content.bytes),
            if aside == 0 { dim("none") } else { aside.to_string() },
            if aside == 0 { String::new() } else { bytes(content.bytes_set_aside) },
        ]);
    }
    table
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<PlacesReport>("cleaned list");
    schemas.prints::<EmptiedReport>("cleaned empty");
}

impl View for PlacesReport {
    fn show(&self, page: &mut Page) {
        page.table(table(&self.places));
        let lies: u64 = self.places.iter().map(|place| place.bytes).sum();
        let aside: u64 = self.places.iter().map(|place| place.bytes_set_aside).sum();
        page.line(format_args!("{} lie in these places.", bytes(lies)));
        if aside > 0 {
            page.line(warn(format_args!(
                "{} are set aside: a rollback brings them back, `frevin cleaned empty` deletes \
                 them for good.",
                bytes(aside)
            )));
        }
    }
}

impl View for EmptiedReport {
    fn show(&self, page: &mut Page) {
        if self.emptied.is_empty() {
            page.line("Nothing is set aside there.");
            return;
        }
        let files: u64 = self.emptied.iter().map(|place| place.files_set_aside).sum();
        let size: u64 = self.emptied.iter().map(|place| place.bytes_set_aside).sum();
        let files = count(usize::try_from(files).unwrap_or(usize::MAX), "file");
        page.line(format_args!("{} {files}, {}, deleted for good.", good("Emptied."), bytes(size)));
    }
}
