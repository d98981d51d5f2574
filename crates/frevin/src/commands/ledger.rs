//! `frevin ledger`

use std::path::PathBuf;

use clap::Subcommand;
use frevin_ledger::{Ledger, SealedPart};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, bad, good};

/// The file that holds all but the PC itself: whether it is as Frevin wrote it, and copies of it
#[derive(Debug, Subcommand)]
pub(crate) enum LedgerCommand {
    /// Compare what decides about the PC with what was written
    Check,
    /// Write a copy into a new file
    Backup {
        /// The file; it must not be there yet
        file: PathBuf,
    },
    /// Put a copy in the place of the ledger, which is kept under another name
    Restore {
        /// The copy
        file: PathBuf,
    },
}

#[derive(Debug, JsonSchema, Serialize)]
struct CheckReport {
    ledger: PathBuf,
    altered: Vec<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct BackupReport {
    file: PathBuf,
    /// What is not as it was written, in the copy as in the ledger.
    altered: Vec<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct RestoreReport {
    restored: PathBuf,
    kept: Option<PathBuf>,
}

pub(crate) fn run(context: &Context, command: &LedgerCommand) -> Result<Outcome, Failure> {
    match command {
        LedgerCommand::Check => {
            let ledger = context.ledger_unchecked()?;
            let altered = names(&ledger.altered()?);
            let is_whole = altered.is_empty();
            let report = CheckReport { ledger: ledger.path().to_owned(), altered };
            Ok(Outcome::with(&report, is_whole))
        }
        LedgerCommand::Backup { file } => {
            let ledger = context.ledger_unchecked()?;
            ledger.back_up(file)?;
            let altered = names(&ledger.altered()?);
            Ok(Outcome::done(&BackupReport { file: file.clone(), altered }))
        }
        LedgerCommand::Restore { file } => {
            let mut page = Page::default();
            page.line(format_args!("The ledger would be what it was in {}.", file.display()));
            page.line("A change made since then would not be known to it any more.");
            context.confirm(&page, "Put the copy in its place?")?;
            crate::own_home::make(context.home())?;
            // Nobody may be in the midst of a change that is written down in the ledger that goes.
            let mut pc = context.pc_if_named()?;
            let _lock = pc.as_mut().map(|pc| context.lock(&mut **pc)).transpose()?;
            let kept = Ledger::restore(context.home(), file)?;
            Ok(Outcome::done(&RestoreReport { restored: file.clone(), kept }))
        }
    }
}

fn names(parts: &[SealedPart]) -> Vec<String> {
    parts.iter().map(ToString::to_string).collect()
}

fn show_altered(altered: &[String], page: &mut Page) {
    for part in altered {
        page.line(format_args!("{} {part}", bad("Not as it was written:")));
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<CheckReport>("ledger check");
    schemas.prints::<BackupReport>("ledger backup");
    schemas.prints::<RestoreReport>("ledger restore");
}

impl View for CheckReport {
    fn show(&self, page: &mut Page) {
        if self.altered.is_empty() {
            let ledger = self.ledger.display();
            page.line(format_args!("{} {ledger} is as Frevin wrote it.", good("Whole.")));
            return;
        }
        show_altered(&self.altered, page);
        page.line("Nothing in this ledger is acted on.");
        page.pairs([
            ("put a copy in its place", "frevin ledger restore FILE"),
            ("put the PC back without it", "frevin recover --from-undo-files"),
        ]);
    }
}

impl View for BackupReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{} Written to {}.", good("Done."), self.file.display()));
        show_altered(&self.altered, page);
    }
}

impl View for RestoreReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{} The ledger is {}.", good("Done."), self.restored.display()));
        if let Some(kept) = &self.kept {
            page.line(format_args!("The one before is kept as {}.", kept.display()));
        }
        page.line("Compare it with the PC: frevin drift");
    }
}
