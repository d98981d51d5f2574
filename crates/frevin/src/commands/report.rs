//! `frevin report`

use std::path::{Path, PathBuf};
use std::process::Stdio;

use clap::{Args, Subcommand};
use frevin_core::layers::ChangeId;
use frevin_core::sift::SiftId;
use frevin_core::trial::TrialId;
use schemars::JsonSchema;
use serde::Serialize;

use crate::commands::profile::private_words;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::report::{ReportData, Subject, report};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::Page;
use crate::view::report::{Drawing, Fonts, Private, page};

/// Write a page that shows a trial, a sift, an evening, a change, a play or this PC: one file, to be read in any browser
#[derive(Debug, Args)]
pub(crate) struct ReportArgs {
    #[command(subcommand)]
    subject: Option<SubjectArgs>,
    /// Where to write it [default: frevin-trial-3.html and the like, here]
    #[arg(long, value_name = "FILE", global = true)]
    file: Option<PathBuf>,
    /// Write over a file that is there
    #[arg(long, global = true)]
    replace: bool,
    /// Write each figure into this folder too: as SVG and PNG, and its data as CSV and JSON
    #[arg(long, value_name = "FOLDER", global = true)]
    figures: Option<PathBuf>,
    /// Open it, where there is a browser
    #[arg(long, global = true)]
    open: bool,
    /// Leave the names of the user and the PC, and what is in paths, as they are
    #[arg(long, global = true)]
    with_private: bool,
}

#[derive(Debug, Subcommand)]
enum SubjectArgs {
    /// A trial
    Trial {
        /// Its number [default: the latest]
        trial: Option<i64>,
    },
    /// A sift
    Sift {
        /// Its number [default: the latest]
        sift: Option<i64>,
    },
    /// What `frevin tune` made of the PC: before, after, what did it and what did not
    Tune {
        /// Its number [default: the latest]
        tune: Option<i64>,
    },
    /// A change
    Change {
        /// Its number
        change: i64,
    },
    /// What was held while a game ran
    Play {
        /// Its number [default: the latest]
        play: Option<i64>,
    },
    /// This PC: facts, findings, what is in force with what evidence
    Pc,
}

/// What was written.
#[derive(Debug, JsonSchema, Serialize)]
struct Written {
    file: PathBuf,
    /// The files of its figures.
    figures: Vec<PathBuf>,
    #[serde(flatten)]
    data: ReportData,
}

pub(crate) fn run(context: &Context, args: &ReportArgs) -> Result<Outcome, Failure> {
    let (subject, name) = match args.subject {
        None | Some(SubjectArgs::Pc) => (Subject::Pc, "pc".to_owned()),
        Some(SubjectArgs::Trial { trial }) => {
            (Subject::Trial(trial.map(TrialId)), named("trial", trial))
        }
        Some(SubjectArgs::Sift { sift }) => (Subject::Sift(sift.map(SiftId)), named("sift", sift)),
        Some(SubjectArgs::Tune { tune }) => (Subject::Tune(tune.map(SiftId)), named("tune", tune)),
        Some(SubjectArgs::Change { change }) => {
            (Subject::Change(ChangeId(change)), named("change", Some(change)))
        }
        Some(SubjectArgs::Play { play }) => (Subject::Play(play), named("play", play)),
    };
    let (pc, ledger) = (context.pc()?, context.ledger()?);
    let data = report(context, &*pc, &ledger, subject)?;
    let words = private_words(context)?;
    let private = Private { words: &words, is_shown: args.with_private };
    let file = args.file.clone().unwrap_or_else(|| PathBuf::from(format!("frevin-{name}.html")));
    write(&file, page(&data, &private).as_bytes(), args.replace)?;
    let figures = match &args.figures {
        None => Vec::new(),
        Some(folder) => write_figures(context, folder, &name, &data, args.replace)?,
    };
    if args.open {
        open_file(&file);
    }
    Ok(Outcome::done(&Written { file: std::path::absolute(file)?, figures, data }))
}

/// Opens a file with the program that its owner reads such files with. Where there is none, nothing happens: its place was
/// said.
pub(crate) fn open_file(file: &Path) {
    let Ok(file) = std::path::absolute(file) else { return };
    open(file.as_os_str());
}

/// Opens a file or the address of a page with whatever opens such things here.
pub(crate) fn open(what: &std::ffi::OsStr) {
    let opener = if cfg!(windows) {
        // By its whole path: one that lies beside the page is nobody's to start.
        let Some(folder) = std::env::var_os("SystemRoot") else { return };
        PathBuf::from(folder).join("explorer.exe")
    } else if cfg!(target_os = "macos") {
        PathBuf::from("/usr/bin/open")
    } else {
        PathBuf::from("xdg-open")
    };
    let mut command = std::process::Command::new(opener);
    command.arg(what).stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    drop(command.spawn());
}

fn named(what: &str, number: Option<i64>) -> String {
    number.map_or_else(|| what.to_owned(), |number| format!("{what}-{number}"))
}

fn write(file: &Path, bytes: &[u8], replace: bool) -> Result<(), Failure> {
    use std::io::Write as _;
    let folder = file.parent().filter(|folder| !folder.as_os_str().is_empty());
    if file.exists() && !replace {
        let message = format!("{} is there already", file.display());
        return Err(Failure::new(Kind::Usage, message)
            .hint("nothing was written; take another name with --file, or --replace"));
    }
    let mut draft = tempfile::Builder::new().tempfile_in(folder.unwrap_or(Path::new(".")))?;
    // It is made to be passed on: as readable as other files of its owner's.
    #[cfg(unix)]
    draft.as_file().set_permissions(std::os::unix::fs::PermissionsExt::from_mode(0o644))?;
    draft.write_all(bytes)?;
    draft.persist(file).map_err(|error| error.error)?;
    Ok(())
}

fn write_figures(
    context: &Context,
    folder: &Path,
    name: &str,
    data: &ReportData,
    replace: bool,
) -> Result<Vec<PathBuf>, Failure> {
    fs_err::create_dir_all(folder)?;
    let fonts = Fonts::of_this_pc();
    if fonts.is_none() {
        context.say_on_terminal("This PC has no font: figures are written as SVG, and not as PNG.");
    }
    let mut written = Vec::new();
    for drawing in Drawing::all(&data.figures) {
        let path = |ending: &str| folder.join(format!("{name}-{}.{ending}", drawing.name()));
        let (svg, csv) = (path("svg"), path("csv"));
        let drawn = drawing.svg(true).into_string();
        write(&svg, drawn.as_bytes(), replace)?;
        if let Some(fonts) = &fonts {
            let png = path("png");
            write(&png, &fonts.png(&drawn)?, replace)?;
            written.push(png);
        }
        write(&csv, drawing.csv().as_bytes(), replace)?;
        written.extend([svg, csv]);
    }
    let json = folder.join(format!("{name}-figures.json"));
    let text = serde_json::to_string_pretty(&data.figures)
        .map_err(|error| Failure::new(Kind::Internal, error.to_string()))?;
    write(&json, text.as_bytes(), replace)?;
    written.push(json);
    Ok(written)
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    for command in [
        "report",
        "report trial",
        "report sift",
        "report tune",
        "report change",
        "report play",
        "report pc",
    ] {
        schemas.prints::<Written>(command);
    }
}

impl View for Written {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("Written: {}", self.file.display()));
        for figure in &self.figures {
            page.line(format_args!("         {}", figure.display()));
        }
    }
}
