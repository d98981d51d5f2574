//! `frevin evidence`

use std::collections::BTreeSet;
use std::num::NonZero;
use std::panic::resume_unwind;
use std::path::PathBuf;
use std::thread;

use clap::{Args, Subcommand};
use frevin_core::evidence::{PooledTweak, pool_evidence};
use frevin_core::ids::SceneName;
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::output::{Output, create_new};
use crate::commands::profile::private_words;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::evidence::{ToldEvidence, expected_false, for_others, told};
use crate::operations::evidence_file::{self, EvidenceFormat};
use crate::operations::target::find_tweak;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::evidence::show_evidence;
use crate::view::{Page, Table, count, dim, percent, strong, warn};

/// What measuring has told of tweaks: on this PC, and in files of others
#[derive(Debug, Subcommand)]
pub(crate) enum EvidenceCommand {
    /// List what trials, sifts and comparisons have told on this PC
    List {
        /// Only this scene
        #[arg(long, value_name = "SCENE")]
        scene: Option<SceneName>,
    },
    /// Show what is known of one tweak, on this PC and from others
    Show {
        /// Its name
        #[arg(value_name = "AREA/NAME")]
        tweak: String,
    },
    Export(ExportArgs),
    /// Take in files of others, kept apart from what this PC has told
    Import {
        /// Files that `evidence export` wrote
        #[arg(required = true)]
        files: Vec<PathBuf>,
    },
    /// Put evidence of several PCs together: their mean, and what to expect on the next PC
    Pool {
        /// Files that `evidence export` wrote, or folders of such files [default: what was imported, and this PC's own]
        files: Vec<PathBuf>,
    },
}

/// Write this PC's evidence into a file for others, with nothing private in it
#[derive(Debug, Args)]
pub(crate) struct ExportArgs {
    /// Where to write it
    file: PathBuf,
    /// How [default: as the file is called, else csv]
    #[arg(long)]
    format: Option<EvidenceFormat>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct EvidenceList {
    evidence: Vec<ToldEvidence>,
    /// How many of the findings "helps" are expected to be false.
    expected_false: f64,
}

#[derive(Debug, JsonSchema, Serialize)]
struct TweakEvidence {
    tweak: String,
    evidence: Vec<ToldEvidence>,
    /// The same over the PCs of others.
    others: Vec<PooledTweak>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Exported {
    rows: usize,
    left_out: Vec<LeftOutEvidence>,
    #[serde(flatten)]
    output: Output,
}

#[derive(Debug, JsonSchema, Serialize)]
struct LeftOutEvidence {
    tweak: String,
    reason: &'static str,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Imported {
    files: usize,
    rows: usize,
    new: usize,
}

#[derive(Debug, JsonSchema, Serialize)]
struct PoolReport {
    files: usize,
    rows: usize,
    tweaks: Vec<PooledTweak>,
}

pub(crate) fn run(context: &Context, command: &EvidenceCommand) -> Result<Outcome, Failure> {
    match command {
        EvidenceCommand::List { scene } => {
            let pc = context.pc()?;
            let mut evidence = told(context, &*pc, &context.ledger()?, None)?;
            evidence.retain(|one| {
                scene.as_ref().is_none_or(|scene| one.evidence.scene.scene == *scene)
            });
            let expected_false = expected_false(&evidence);
            Ok(Outcome::yes(&EvidenceList { evidence, expected_false }))
        }
        EvidenceCommand::Show { tweak } => {
            let catalogue = context.catalogue()?;
            let tweak = find_tweak(&catalogue, tweak)?;
            let pc = context.pc()?;
            let ledger = context.ledger()?;
            let evidence = told(context, &*pc, &ledger, Some(std::slice::from_ref(&tweak.id)))?;
            let mut foreign = ledger.foreign_evidence()?;
            foreign.retain(|row| row.tweak == tweak.id.as_str());
            let others = pool_evidence(&foreign);
            Ok(Outcome::yes(&TweakEvidence { tweak: tweak.id.to_string(), evidence, others }))
        }
        EvidenceCommand::Export(args) => export(context, args),
        EvidenceCommand::Import { files } => {
            // All are read before any is kept.
            let read = read_all(context, files)?;
            let mut ledger = context.ledger()?;
            let (mut rows, mut new) = (0, 0);
            for (file, evidence) in files.iter().zip(&read) {
                let name = file.file_name().unwrap_or_default().to_string_lossy();
                new += ledger.add_foreign_evidence(context.clock.now(), &name, evidence)?;
                rows += evidence.len();
            }
            Ok(Outcome::done(&Imported { files: files.len(), rows, new }))
        }
        EvidenceCommand::Pool { files } => {
            let rows = if files.is_empty() {
                let ledger = context.ledger()?;
                let mut rows = ledger.foreign_evidence()?;
                if let Some(pc) = context.pc_if_named()? {
                    let catalogue = context.catalogue()?;
                    let own = told(context, &*pc, &ledger, None)?;
                    rows.extend(for_others(&pc.identity().id, &catalogue, &own, &[]).0);
                }
                rows
            } else {
                read_all(context, &files_of(files)?)?.concat()
            };
            if rows.is_empty() {
                return Err(Failure::new(Kind::NotFound, "there is no evidence to pool")
                    .hint("name files that `frevin evidence export` wrote"));
            }
            let tweaks = pool_evidence(&rows);
            Ok(Outcome::yes(&PoolReport { files: files.len(), rows: rows.len(), tweaks }))
        }
    }
}

/// Files, and in place of each folder the files of evidence in it, by name.
fn files_of(named: &[PathBuf]) -> Result<Vec<PathBuf>, Failure> {
    let mut files = Vec::new();
    for path in named {
        if !path.is_dir() {
            files.push(path.clone());
            continue;
        }
        let mut inside = Vec::new();
        for entry in fs_err::read_dir(path)? {
            let file = entry?.path();
            let ending = file.extension().and_then(std::ffi::OsStr::to_str);
            if ending.is_some_and(|ending| ["csv", "json", "parquet"].contains(&ending)) {
                inside.push(file);
            }
        }
        inside.sort();
        files.extend(inside);
    }
    Ok(files)
}

/// Reads files on every core, a part of them on each.
fn read_all(
    context: &Context,
    files: &[PathBuf],
) -> Result<Vec<Vec<frevin_core::evidence::ForeignEvidence>>, Failure> {
    let progress = context.progress(files.len() as u64, "reading files");
    let read_one = |file: &PathBuf| {
        let rows = evidence_file::read(file);
        progress.inc(1);
        rows
    };
    let cores = thread::available_parallelism().map_or(1, NonZero::get);
    let read: Result<Vec<Vec<_>>, Failure> = thread::scope(|scope| {
        let parts: Vec<_> = files
            .chunks(files.len().div_ceil(cores).max(1))
            .map(|part| scope.spawn(move || part.iter().map(read_one).collect()))
            .collect();
        parts
            .into_iter()
            .map(|part| part.join().unwrap_or_else(|fault| resume_unwind(fault)))
            .collect()
    });
    progress.finish_and_clear();
    Ok(read?.into_iter().flatten().collect())
}

fn export(context: &Context, args: &ExportArgs) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    let catalogue = context.catalogue()?;
    let own = told(context, &*pc, &context.ledger()?, None)?;
    let words = private_words(context)?;
    let (rows, left_out) = for_others(&pc.identity().id, &catalogue, &own, &words);
    if rows.is_empty() {
        return Err(Failure::new(Kind::NotFound, "there is no evidence for others on this PC")
            .details(left_out.iter().map(|(used, reason)| format!("{used}: {reason}")))
            .hint("`frevin trial start` and `frevin sift start` make some"));
    }
    let by_name = || match args.file.extension().and_then(std::ffi::OsStr::to_str) {
        Some("parquet") => EvidenceFormat::Parquet,
        Some("json") => EvidenceFormat::Json,
        _ => EvidenceFormat::Csv,
    };
    let unfinished = create_new(&args.file)?;
    evidence_file::write(unfinished.file(), args.format.unwrap_or_else(by_name), &rows)?;
    let output = Output::in_file(unfinished.finish()?);
    let left_out = left_out
        .into_iter()
        .map(|(used, reason)| LeftOutEvidence { tweak: used.tweak.to_string(), reason })
        .collect();
    Ok(Outcome::done(&Exported { rows: rows.len(), left_out, output }))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<EvidenceList>("evidence list");
    schemas.prints::<TweakEvidence>("evidence show");
    schemas.prints::<Imported>("evidence import");
    schemas.prints::<PoolReport>("evidence pool");
    schemas.prints::<Exported>("evidence export");
}

impl View for EvidenceList {
    fn show(&self, page: &mut Page) {
        if self.evidence.is_empty() {
            page.line("Nothing is known of any tweak on this PC yet.");
            page.pairs([
                ("of one tweak", "frevin trial start --tweak AREA/NAME --scene SCENE"),
                ("of many", "frevin sift start PROFILE --scene SCENE"),
            ]);
            return;
        }
        show_evidence(&self.evidence, page);
        let helps = self
            .evidence
            .iter()
            .filter(|one| one.evidence.finding == frevin_core::evidence::EvidenceFinding::Helps);
        let helps = helps.count();
        if helps > 0 {
            let few = format!("{:.1}", self.expected_false);
            let few = if few == "0.0" { "fewer than 0.1".to_owned() } else { few };
            page.line(dim(format_args!(
                "  Of {} that something helps, {few} are expected to be false.",
                count(helps, "finding"),
            )));
        }
    }
}

impl View for TweakEvidence {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("{} on this PC", self.tweak));
        if self.evidence.is_empty() {
            page.line("Nothing is known of it here yet.");
        } else {
            show_evidence(&self.evidence, page);
        }
        if !self.others.is_empty() {
            page.heading("On the PCs of others");
            show_pooled(&self.others, page);
        }
    }
}

impl View for Exported {
    fn show(&self, page: &mut Page) {
        page.line(count(self.rows, "row"));
        for left_out in &self.left_out {
            page.line(warn(format_args!("  left out: {} ({})", left_out.tweak, left_out.reason)));
        }
        self.output.show(page);
    }
}

impl View for Imported {
    fn show(&self, page: &mut Page) {
        page.line(format_args!(
            "Taken in: {} of {} rows from {}; the others were there already.",
            self.new,
            self.rows,
            count(self.files, "file")
        ));
        page.pairs([("together", "frevin evidence pool")]);
    }
}

impl View for PoolReport {
    fn show(&self, page: &mut Page) {
        show_pooled(&self.tweaks, page);
        page.paragraph_in(
            2,
            dim,
            "Effects on average FPS. The interval is of the mean over PCs; \"differ by\" is the standard deviation \
             between PCs; on the next PC the effect is expected within the last, in about 95 of 100 cases.",
        );
    }
}

/// A tweak with what was chosen of it, as files carry that.
fn named(one: &PooledTweak) -> String {
    let chosen: serde_json::Map<String, serde_json::Value> =
        serde_json::from_str(&one.key.arguments).unwrap_or_default();
    let word = |value: &serde_json::Value| match value {
        serde_json::Value::String(text) => text.clone(),
        other => other.to_string(),
    };
    let chosen: Vec<String> =
        chosen.iter().map(|(name, value)| format!("{name} = {}", word(value))).collect();
    if chosen.is_empty() {
        one.key.tweak.clone()
    } else {
        format!("{} ({})", one.key.tweak, chosen.join(", "))
    }
}

fn show_pooled(tweaks: &[PooledTweak], page: &mut Page) {
    let share = |ln: f64| percent(ln.exp_m1());
    let games: BTreeSet<&String> = tweaks.iter().map(|one| &one.key.game).collect();
    for game in games {
        let of_game = || tweaks.iter().filter(|one| one.key.game == *game);
        page.line(strong(format_args!("In {game}")));
        let is_pooled = of_game().any(|one| one.pooled.is_some());
        let mut table =
            Table::new(["tweak", ">PCs", ">worse", ">mean", ">interval", ">differ by", ">next PC"]);
        for one in of_game() {
            let Some(pooled) = &one.pooled else { continue };
            let range = |(low, high): (f64, f64)| format!("{} to {}", share(low), share(high));
            table.row([
                named(one),
                one.pcs.to_string(),
                one.worse.to_string(),
                share(pooled.mean),
                range(pooled.interval),
                format!("{:.1} %", 100.0 * pooled.between_pcs.exp_m1()),
                range(pooled.prediction),
            ]);
        }
        if is_pooled {
            page.table(table);
        }
        let few: Vec<String> = of_game()
            .filter(|one| one.pooled.is_none())
            .map(|one| format!("{} ({})", named(one), count(one.pcs, "PC")))
            .collect();
        if !few.is_empty() {
            page.paragraph_in(
                2,
                dim,
                &format!("Of fewer than three PCs in {game}: {}.", few.join(", ")),
            );
        }
    }
}
