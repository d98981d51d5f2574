//! The command line: arguments in, an exit code out.

use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use clap::{CommandFactory as _, Parser, Subcommand};
use miette::{
    GraphicalReportHandler, GraphicalTheme, LabeledSpan, MietteDiagnostic, NamedSource, ThemeStyles,
};

use crate::commands;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::logging;
use crate::options::GlobalOptions;
use crate::outcome::Outcome;
use crate::view::{bad, dim, for_terminal, json_for_terminal, strong, warn};

/// Tweak a gaming PC, measure what came of it, and take back what made it worse.
///
/// Begin with `frevin demo`: it does the whole job once on a PC that is simulated in a folder. `frevin help` explains the
/// ideas, and exit codes.
#[derive(Debug, Parser)]
#[command(name = "frevin", version, disable_help_subcommand = true)]
struct Cli {
    #[command(flatten)]
    options: GlobalOptions,
    #[command(subcommand)]
    command: Command,
}

#[derive(Debug, Subcommand)]
enum Command {
    Demo(commands::demo::DemoArgs),
    Inspect(commands::inspect::InspectArgs),
    #[command(subcommand)]
    Tweak(commands::tweak::TweakCommand),
    #[command(subcommand)]
    Profile(commands::profile::ProfileCommand),
    Preview(commands::preview::PreviewArgs),
    Apply(commands::apply::ApplyArgs),
    Rollback(commands::rollback::RollbackArgs),
    Recover(commands::recover::RecoverArgs),
    #[command(subcommand)]
    Quarantine(commands::quarantine::QuarantineCommand),
    #[command(subcommand)]
    Snapshot(commands::snapshot::SnapshotCommand),
    Drift(commands::drift::DriftArgs),
    #[command(subcommand)]
    Scene(commands::scene::SceneCommand),
    #[command(subcommand)]
    Run(commands::run::RunCommand),
    Compare(commands::compare::CompareArgs),
    #[command(subcommand)]
    Trial(commands::trial::TrialCommand),
    #[command(subcommand)]
    Sift(commands::sift::SiftCommand),
    #[command(subcommand)]
    Evidence(commands::evidence::EvidenceCommand),
    Report(commands::report::ReportArgs),
    Log(commands::log::LogArgs),
    #[command(subcommand)]
    Ledger(commands::ledger::LedgerCommand),
    #[command(subcommand)]
    Network(commands::network::NetworkCommand),
    Play(Box<commands::play::PlayArgs>),
    #[command(subcommand)]
    App(commands::app::AppCommand),
    #[command(subcommand)]
    Device(commands::device::DeviceCommand),
    #[command(subcommand)]
    Rehearsal(commands::rehearsal::RehearsalCommand),
    /// Explain an idea: snapshot, undo, verdict, sift, evidence, play, exit-codes
    Help {
        /// Which one [default: list them]
        topic: Option<String>,
    },
    /// Write manual pages, one for each command, into a folder
    #[command(hide = true)]
    Manual {
        /// The folder, which is made
        folder: PathBuf,
    },
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Runs the program.
pub fn main() -> ExitCode {
    let cli = match Cli::try_parse() {
        Ok(cli) => cli,
        Err(error) => {
            let _ = error.print();
            return ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2));
        }
    };
    logging::start(cli.options.verbose);
    let (json, quiet) = (cli.options.json, cli.options.quiet);
    match run(cli) {
        Ok(answer) => match show(&answer, json, quiet) {
            Ok(()) => ExitCode::from(u8::from(!answer.is_yes)),
            Err(failure) => fail(&failure, false),
        },
        Err(failure) => fail(&failure, json),
    }
}

/// Shows a result. A result that could not be shown whole is a failure, whatever was done.
fn show(answer: &Outcome, json: bool, quiet: bool) -> Result<(), Failure> {
    let shown = if json {
        let json = answer.json.as_ref().map_err(|error| {
            Failure::new(Kind::Internal, format!("the result cannot be written as JSON: {error}"))
        })?;
        print_json(json)
    } else if quiet && answer.is_receipt {
        Ok(())
    } else {
        answer.aside.print_aside();
        answer.page.print()
    };
    shown.map_err(|error| {
        Failure::new(Kind::Files, format!("the result could not be written out: {error}"))
            .hint("what was done is done; only its output is lost")
    })
}

/// Tells a failure, and gives its exit code.
fn fail(failure: &Failure, json: bool) -> ExitCode {
    if json {
        // Where even that cannot be written, the exit code is what is left to tell it.
        let _ = print_json(&failure.to_json());
    } else {
        print_failure(failure);
    }
    ExitCode::from(failure.kind.exit_code())
}

fn run(cli: Cli) -> Result<Outcome, Failure> {
    let context = Context::new(&cli.options)?;
    let is_of_trials = matches!(cli.command, Command::Trial(_) | Command::Completions { .. });
    if !cli.command.is_of_play_itself() {
        settle_play(&context);
    }
    let outcome = answer(&context, cli.command)?;
    if !is_of_trials && !context.json && !context.quiet {
        remind(&context);
    }
    Ok(outcome)
}

impl Command {
    /// Whether it is part of play, or touches no PC: nothing is settled before it.
    fn is_of_play_itself(&self) -> bool {
        match self {
            Self::Play(args) => args.is_watcher(),
            Self::Rehearsal(command) => command.is_game(),
            Self::Completions { .. } => true,
            _ => false,
        }
    }
}

/// Puts back what was held for a game whose watcher is gone, before anything else is done. Where that cannot be done
/// now, it is told, and the command goes on: it may be the one that mends what is in the way.
fn settle_play(context: &Context) {
    let mut page = crate::view::Page::default();
    let settled = crate::operations::play::settle(context).unwrap_or_else(|failure| {
        page.line(warn(format_args!(
            "What was held for a game is not put back yet: {}. The next command tries again.",
            failure.message
        )));
        Vec::new()
    });
    for play in &settled {
        page.line(warn(format_args!(
            "{} was still held for a game, and nobody watched it any more: it is put back.",
            play.plan.title
        )));
    }
    if !context.quiet {
        page.print_aside();
    }
}

/// Says that a trial is decided and its way back still open, until it no longer is.
fn remind(context: &Context) {
    // Who could not be told at this command is told at the next.
    let Ok(Some(reminder)) = crate::operations::trial::reminder(context) else { return };
    let mut page = crate::view::Page::default();
    page.line(warn(reminder));
    page.print_aside();
}

fn answer(context: &Context, command: Command) -> Result<Outcome, Failure> {
    match command {
        Command::Demo(args) => commands::demo::run(context, &args),
        Command::Inspect(args) => commands::inspect::run(context, &args),
        Command::Tweak(command) => commands::tweak::run(context, &command),
        Command::Profile(command) => commands::profile::run(context, &command),
        Command::Preview(args) => commands::preview::run(context, &args),
        Command::Apply(args) => commands::apply::run(context, &args),
        Command::Rollback(args) => commands::rollback::run(context, &args),
        Command::Recover(args) => commands::recover::run(context, &args),
        Command::Quarantine(command) => commands::quarantine::run(context, &command),
        Command::Snapshot(command) => commands::snapshot::run(context, &command),
        Command::Drift(args) => commands::drift::run(context, &args),
        Command::Scene(command) => commands::scene::run(context, &command),
        Command::Run(command) => commands::run::run(context, &command),
        Command::Compare(args) => commands::compare::run(context, &args),
        Command::Trial(command) => commands::trial::run(context, &command),
        Command::Sift(command) => commands::sift::run(context, &command),
        Command::Evidence(command) => commands::evidence::run(context, &command),
        Command::Report(args) => commands::report::run(context, &args),
        Command::Log(args) => commands::log::run(context, &args),
        Command::Ledger(command) => commands::ledger::run(context, &command),
        Command::Network(args) => commands::network::run(context, &args),
        Command::Play(args) => commands::play::run(context, &args),
        Command::App(command) => commands::app::run(context, &command),
        Command::Device(command) => commands::device::run(context, &command),
        Command::Rehearsal(command) => commands::rehearsal::run(context, &command),
        Command::Help { topic } => commands::help::run(topic.as_deref()),
        Command::Manual { folder } => manual(&folder),
        Command::Completions { shell } => Ok(completions(shell)),
    }
}

fn manual(folder: &Path) -> Result<Outcome, Failure> {
    fs_err::create_dir_all(folder)?;
    clap_mangen::generate_to(Cli::command(), folder)?;
    let mut page = crate::view::Page::default();
    page.line(format_args!("Written into {}", folder.display()));
    Ok(Outcome {
        json: Ok(serde_json::json!({ "folder": folder })),
        page,
        aside: crate::view::Page::default(),
        is_yes: true,
        is_receipt: true,
    })
}

fn completions(shell: clap_complete::Shell) -> Outcome {
    let mut script = Vec::new();
    clap_complete::generate(shell, &mut Cli::command(), "frevin", &mut script);
    let script = String::from_utf8_lossy(&script).into_owned();
    let mut page = crate::view::Page::default();
    page.line(script.trim_end());
    Outcome {
        json: Ok(serde_json::json!({ "script": script })),
        page,
        aside: crate::view::Page::default(),
        is_yes: true,
        is_receipt: false,
    }
}

fn print_json(value: &serde_json::Value) -> std::io::Result<()> {
    let text = serde_json::to_string_pretty(value).map_err(std::io::Error::other)?;
    let text = json_for_terminal(&text);
    crate::view::written(|| {
        let mut out = std::io::stdout().lock();
        writeln!(out, "{text}")?;
        out.flush()
    })
}

fn print_failure(failure: &Failure) {
    let mut text = format!("{} {}\n", bad(strong("error:")), failure.message);
    for detail in &failure.details {
        text.push_str(&format!("  {detail}\n"));
    }
    for (number, cause) in failure.causes.iter().enumerate() {
        text.push_str(&format!("  {} {cause}\n", dim(format_args!("cause {}:", number + 1))));
    }
    if let Some(document) = &failure.document {
        text.push('\n');
        text.push_str(&draw_problems(document));
    }
    for hint in &failure.hints {
        text.push_str(&format!("{} {hint}\n", dim("help:")));
    }
    let _ = anstream::stderr().lock().write_all(for_terminal(&text).as_bytes());
}

/// The problems of a document with its source shown.
fn draw_problems(document: &frevin_core::document::BadDocument) -> String {
    // anstream takes the colours out again where they are not wanted.
    let handler = GraphicalReportHandler::new_themed(theme())
        .with_links(false)
        .with_width(crate::view::Page::width());
    let mut text = String::new();
    for problem in &document.problems {
        let mut diagnostic = MietteDiagnostic::new(&problem.message);
        diagnostic.help.clone_from(&problem.advice);
        if let Some(span) = &problem.span {
            diagnostic = diagnostic.with_label(LabeledSpan::underline(span.clone()));
        }
        if let Some((span, what)) = &problem.related {
            diagnostic = diagnostic.and_label(LabeledSpan::at(span.clone(), *what));
        }
        let source = NamedSource::new(&document.name, document.text.clone());
        let report = miette::Report::new(diagnostic).with_source_code(source);
        let _ = handler.render_report(&mut text, report.as_ref());
        text.push('\n');
    }
    text
}

/// Few colours, with the meaning that they have everywhere: red is wrong, yellow is where to look.
fn theme() -> GraphicalTheme {
    let mut theme = GraphicalTheme::unicode();
    theme.styles = ThemeStyles::ansi();
    theme.styles.highlights = vec![theme.styles.warning];
    theme.styles.help = theme.styles.linum;
    theme.styles.link = ThemeStyles::none().link;
    theme
}
