//! `frevin self-test`

use std::path::PathBuf;

use clap::Args;
use frevin_core::profile::without_private;
use frevin_pc::PcKind;
use schemars::JsonSchema;
use serde::Serialize;

use super::output::write_new;
use super::profile::private_words;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::self_test::{Came, Look, SelfTestReport, self_test};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, bad, count, dim, good, strong, warn};

/// Find out whether Frevin keeps its promises on this PC, in places of its own: it reads every setting, writes, kills
/// itself, recovers, rolls back, and leaves nothing behind. Exit code 1 where something failed
#[derive(Debug, Args)]
pub(crate) struct SelfTestArgs {
    /// Write what was found into a file that can be attached to a report, with nothing private in it
    #[arg(long, value_name = "FILE")]
    file: Option<PathBuf>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Shown {
    #[serde(flatten)]
    report: SelfTestReport,
    /// The file that it was written into.
    file: Option<PathBuf>,
}

pub(crate) fn run(context: &Context, args: &SelfTestArgs) -> Result<Outcome, Failure> {
    let report = self_test(context)?;
    if let Some(file) = &args.file {
        let text = serde_json::to_string_pretty(&report)
            .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
        let (text, _) = without_private(&text, &private_words(context)?);
        write_new(file, format!("{text}\n").as_bytes())?;
    }
    let has_passed = report.has_passed;
    Ok(Outcome::with(&Shown { report, file: args.file.clone() }, has_passed))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<Shown>("self-test");
}

fn look_in_words(look: Look) -> &'static str {
    match look {
        Look::RegistryData => "registry data of every type and odd lengths come back to the byte",
        Look::RegistryParts => "a part of a registry value is changed alone",
        Look::SystemParameter => "a system parameter takes what it holds",
        Look::ScratchFiles => "files are set aside and come back, a settings file is put back",
        Look::ScheduledTask => "a scheduled task of its own is switched on and off",
        Look::PowerPlanCopy => "a power plan is copied and taken away",
        Look::ChangesOverEachOther => "two changes over one setting are taken back in any order",
        Look::Killed => "a change that is killed is put back exactly",
        Look::UndoFile => "Windows' own command imports an undo file",
        Look::Rights => "rights",
        Look::OwnFolder => "nobody else can write in Frevin's home",
        Look::Clock => "the clock goes on evenly",
        Look::FreeRoom => "there is room beside the ledger",
        Look::Frames => "the test loop shows frames",
        Look::TracedFrames => "frames are traced as they are shown",
        Look::NothingLeft => "nothing of the self-test is left",
    }
}

impl View for Shown {
    fn show(&self, page: &mut Page) {
        let report = &self.report;
        let kind = match report.pc {
            PcKind::Live => "this PC",
            PcKind::Rehearsal => "a rehearsal PC",
        };
        page.heading(format_args!("Self-test on {kind}, build {}", report.build));
        for looked in &report.looked {
            let words = look_in_words(looked.look);
            match &looked.came {
                Came::Passed { seen: None } => {
                    page.line(format_args!("  {}  {words}", good("yes")))
                }
                Came::Passed { seen: Some(seen) } => {
                    page.line(format_args!("  {}  {words}: {seen}", good("yes")));
                }
                Came::Failed { seen } => {
                    page.line(format_args!("  {}   {words}: {seen}", bad(strong("no"))));
                }
                Came::NotPossible { reason } => {
                    page.line(format_args!("  {}    {words}: {}", dim("-"), dim(reason)));
                }
            }
        }
        page.heading("Settings that fitting tweaks name, read");
        let mut table = Table::new(["kind", ">hold something", ">absent", ">unreadable"]);
        for kind in &report.read {
            let unreadable = kind.unreadable.len();
            table.row([
                strong(&kind.kind),
                kind.present.to_string(),
                kind.absent.to_string(),
                if unreadable == 0 { String::new() } else { warn(unreadable) },
            ]);
        }
        page.table(table);
        const TOLD: usize = 5;
        for kind in &report.read {
            for unread in kind.unreadable.iter().take(TOLD) {
                page.line(dim(format_args!("  {}: {}", unread.address, unread.reason)));
            }
            if kind.unreadable.len() > TOLD {
                let more = kind.unreadable.len() - TOLD;
                page.line(dim(format_args!("  and {more} more of {}", kind.kind)));
            }
        }
        page.blank();
        let failed =
            report.looked.iter().filter(|one| matches!(one.came, Came::Failed { .. })).count();
        page.line(match failed {
            0 => format!(
                "{} Frevin keeps its promises here, as far as it can be seen.",
                good("Passed.")
            ),
            failed => format!(
                "{} Of {}, {failed} failed: change nothing with Frevin on this PC, and report it.",
                bad("Not passed."),
                count(report.looked.len(), "look"),
            ),
        });
        match &self.file {
            Some(file) => page.pairs([("to attach to a report", file.display().to_string())]),
            None => page.pairs([(
                "to attach to a report",
                "frevin self-test --file self-test.json".to_owned(),
            )]),
        }
    }
}
