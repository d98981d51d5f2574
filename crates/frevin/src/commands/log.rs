//! `frevin log`

use clap::Args;
use frevin_core::layers::Selection;
use frevin_core::sift::{Found, SiftProgress};
use frevin_core::trial::Reason;
use frevin_core::verdict::Verdict;
use frevin_ledger::{ChangeStatus, Deed, PastOperation};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::operations::sift::{SiftReport, report as sift_report};
use crate::operations::trial::{TrialReport, report};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::trial::reason_in_words;
use crate::view::verdict::verdict_in_words;
use crate::view::{Page, Table, bad, count, dim, good, named_among, warn, when};

/// Show what was done to this PC, when, why, and with what verdict
#[derive(Debug, Args)]
pub(crate) struct LogArgs {
    /// Also show every switch and visit of trials and sifts
    #[arg(long)]
    all: bool,
}

/// Something that was done, with what came of it.
#[derive(Debug, JsonSchema, Serialize)]
struct Entry {
    #[serde(flatten)]
    operation: PastOperation,
    /// What the trial said, where it is one.
    #[serde(skip_serializing_if = "Option::is_none")]
    verdict: Option<Verdict>,
    /// Why the PC was left as it is.
    #[serde(skip_serializing_if = "Option::is_none")]
    reason: Option<Reason>,
    /// What was compared, where it is a trial.
    #[serde(skip_serializing_if = "Option::is_none")]
    title: Option<String>,
    #[serde(skip)]
    trial: Option<TrialReport>,
    #[serde(skip)]
    sift: Option<SiftReport>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct History {
    entries: Vec<Entry>,
    /// How many were left out, as parts of trials.
    parts_of_trials: usize,
}

pub(crate) fn run(context: &Context, args: &LogArgs) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    let ledger = context.ledger()?;
    let mut entries = Vec::new();
    let mut parts_of_trials = 0;
    for operation in ledger.history(&pc.identity().id)? {
        let is_part = operation.of_trial.is_some() || operation.of_sift.is_some();
        if is_part && !args.all {
            parts_of_trials += 1;
            continue;
        }
        let trial = match operation.deed {
            Deed::Trial { trial } => Some(report(&ledger, None, &ledger.trial(trial)?)?),
            Deed::Change { .. }
            | Deed::Rollback { .. }
            | Deed::Visit { .. }
            | Deed::Sift { .. } => None,
        };
        let sift = match operation.deed {
            Deed::Sift { sift } => Some(sift_report(&ledger, &ledger.sift(sift)?, false)?),
            _ => None,
        };
        let ended = trial.as_ref().filter(|trial| trial.reason.is_some());
        entries.push(Entry {
            verdict: ended.map(|trial| trial.comparison.verdict),
            reason: ended.and_then(|trial| trial.reason),
            title: match (&trial, &sift) {
                (Some(trial), _) => Some(format!("{} against {}", trial.b, trial.a)),
                (None, Some(sift)) => Some(sift.title.clone()),
                (None, None) => None,
            },
            sift,
            trial,
            operation,
        });
    }
    Ok(Outcome::yes(&History { entries, parts_of_trials }))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<History>("log");
}

impl View for History {
    fn show(&self, page: &mut Page) {
        if self.entries.is_empty() {
            page.line("Nothing was done to this PC yet.");
            return;
        }
        let mut table = Table::new(["when", "what", "", "came of it"]);
        for entry in &self.entries {
            let [what, which, came] = entry.cells();
            table.row([when(entry.operation.at), what, which, came]);
        }
        page.table(table);
        if self.parts_of_trials > 0 {
            page.line(dim(format_args!(
                "  {} that trials and sifts made on their way are left out; --all shows them",
                count(self.parts_of_trials, "step")
            )));
        }
    }
}

impl Entry {
    /// What it was, which, and what came of it.
    fn cells(&self) -> [String; 3] {
        let of_trial = match (self.operation.of_trial, self.operation.of_sift) {
            (Some(trial), _) => format!(" (trial {trial})"),
            (None, Some(sift)) => format!(" (sift {sift})"),
            (None, None) => String::new(),
        };
        match &self.operation.deed {
            Deed::Change { change, title, status, is_in_force } => {
                let came = match (status, is_in_force) {
                    (ChangeStatus::Applied, true) => good("in force"),
                    (ChangeStatus::Applied, false) => "taken back since".to_owned(),
                    (ChangeStatus::Begun, _) => bad("unfinished"),
                    (ChangeStatus::Undone, _) => warn("undone before its end"),
                    (ChangeStatus::Unknown(other), _) => other.clone(),
                };
                [format!("change {change}"), format!("{title}{of_trial}"), came]
            }
            Deed::Rollback { selection, status } => {
                let came = match status.as_str() {
                    "begun" => bad("unfinished"),
                    "undone" => warn("undone before its end"),
                    _ => "done".to_owned(),
                };
                let which = format!("{}{of_trial}", selection_in_words(selection));
                ["rollback".to_owned(), which, came]
            }
            Deed::Visit { visit, scene, state_name, status, runs } => {
                let came = match status.as_str() {
                    "begun" => warn("broken off"),
                    "void" => dim("does not count"),
                    _ => count(*runs, "run"),
                };
                [format!("visit {}", visit.0), format!("{state_name} in {scene}{of_trial}"), came]
            }
            Deed::Sift { sift } => {
                let title = self.title.clone().unwrap_or_default();
                [format!("sift {sift}"), title, self.what_a_sift_found()]
            }
            Deed::Trial { trial } => {
                let title = self.title.clone().unwrap_or_default();
                let came = match (self.verdict, self.reason) {
                    (Some(_), Some(Reason::Abandoned)) => dim("given up"),
                    (Some(verdict), Some(reason)) => self.verdict_in_words(verdict, reason),
                    _ => warn("not over"),
                };
                [format!("trial {trial}"), title, came]
            }
        }
    }

    /// What came of a sift, in short.
    fn what_a_sift_found(&self) -> String {
        let Some(sift) = &self.sift else { return String::new() };
        match (sift.progress, sift.is_given_up) {
            (_, true) => dim("given up"),
            (SiftProgress::Ended, _) => {
                let of = |found| sift.tweaks.iter().filter(|tweak| tweak.found == found).count();
                let left = match (sift.kept, sift.is_taken_back_since) {
                    (true, true) => "; what helps was kept",
                    (true, false) => "; what helps is kept",
                    (false, _) => "",
                };
                format!("{} help, {} hurt{left}", of(Found::Helps), of(Found::Hurts))
            }
            _ => warn("not over"),
        }
    }

    fn verdict_in_words(&self, verdict: Verdict, reason: Reason) -> String {
        let said = verdict_in_words(verdict);
        let kept = self.trial.as_ref().is_some_and(|trial| trial.kept);
        let left = if kept { "kept" } else { "not kept" };
        match reason {
            // The verdict says it already.
            Reason::Better | Reason::Worse => format!("{said}: {left}"),
            other => format!("{said}: {left}, since {}", reason_in_words(other)),
        }
    }
}

fn selection_in_words(selection: &Selection) -> String {
    match selection {
        Selection::All => "of everything".to_owned(),
        Selection::Nothing => "of drift".to_owned(),
        Selection::Change(change) => format!("of change {change}"),
        Selection::Tweak(tweak) => format!("of {tweak}"),
        Selection::TweakOfChange(change, tweak) => format!("of {tweak} of change {change}"),
        Selection::Uses(uses) => {
            let names: Vec<String> = uses.iter().map(|used| named_among(used, uses)).collect();
            format!("of {}", names.join(", "))
        }
    }
}
