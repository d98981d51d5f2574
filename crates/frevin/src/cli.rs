//! The command line: arguments in, an exit code out.

use std::ffi::OsString;
use std::io::Write as _;
use std::path::{Path, PathBuf};
use std::process::ExitCode;

use annotate_snippets::renderer::DecorStyle;
use annotate_snippets::{AnnotationKind, Group, Level, Renderer, Snippet};
use anstyle::{AnsiColor, Style};
use clap::{CommandFactory as _, Parser, Subcommand};
use frevin_core::expression::STACK_BYTES;

use crate::as_administrator;
use crate::commands;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::fault;
use crate::logging;
use crate::options::GlobalOptions;
use crate::outcome::Outcome;
use crate::view::{
    bad, dim, for_terminal, in_lines_beside, json_for_terminal, labelled, strong, warn,
};
use crate::welcome;

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
    SelfTest(commands::self_test::SelfTestArgs),
    /// Show how it stands: what is in force, what waits, what is going on, and what to type next
    Status,
    #[command(subcommand)]
    Tweak(commands::tweak::TweakCommand),
    #[command(subcommand)]
    Profile(commands::profile::ProfileCommand),
    Preview(commands::preview::PreviewArgs),
    Apply(commands::apply::ApplyArgs),
    #[command(visible_alias = "undo")]
    Rollback(commands::rollback::RollbackArgs),
    Recover(commands::recover::RecoverArgs),
    #[command(subcommand, alias = "quarantine")]
    Cleaned(commands::cleaned::CleanedCommand),
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
    Tune(Box<commands::tune::TuneArgs>),
    #[command(subcommand)]
    Evidence(commands::evidence::EvidenceCommand),
    Report(commands::report::ReportArgs),
    #[command(visible_alias = "history")]
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
    /// Explain an idea: snapshot, undo, verdict, sift, tune, evidence, play, exit-codes
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
    /// Write a JSON schema of what each command prints with --json into a folder
    #[command(hide = true)]
    Schemas {
        /// The folder, which is made
        folder: PathBuf,
    },
    /// Print completions for a shell
    Completions {
        /// The shell
        shell: clap_complete::Shell,
    },
}

/// Runs the program, on a thread with the stack that expressions of strangers may take: Windows gives the first one less.
pub fn main() -> ExitCode {
    fault::end_with_exit_code(print_failure);
    let thread = std::thread::Builder::new().name("frevin".to_owned());
    match thread.stack_size(STACK_BYTES).spawn(begin) {
        Ok(thread) => thread.join().unwrap_or_else(|_| ExitCode::from(Kind::Internal.exit_code())),
        Err(_) => begin(),
    }
}

/// Answers the command line, or somebody who opened the program with a double click.
fn begin() -> ExitCode {
    if !welcome::is_alone() {
        return carry_out(std::env::args_os());
    }
    let run = |words: &[&str]| {
        let _ = carry_out(std::iter::once("frevin").chain(words.iter().copied()));
    };
    // Where nothing can be told or asked, there is nobody.
    let _ = welcome::welcome(std::io::stdin().lock(), std::io::stdout(), run);
    ExitCode::SUCCESS
}

/// Carries out the words of a command line.
fn carry_out(words: impl IntoIterator<Item = impl Into<OsString> + Clone>) -> ExitCode {
    let cli = match Cli::try_parse_from(words) {
        Ok(cli) => cli,
        Err(error) => {
            let _ = error.print();
            return ExitCode::from(u8::try_from(error.exit_code()).unwrap_or(2));
        }
    };
    logging::start(cli.options.verbose);
    let options = cli.options.clone();
    let code = match run(cli) {
        Ok(answer) => match show(&answer, options.json, options.quiet) {
            Ok(()) => ExitCode::from(u8::from(!answer.is_yes)),
            Err(failure) => fail(&failure, false),
        },
        Err(failure) => {
            let code = fail(&failure, options.json);
            let elsewhere = failure.takes_administrator.then(|| as_administrator::offer(&options));
            elsewhere.flatten().unwrap_or(code)
        }
    };
    if options.keep_window {
        let _ = write!(std::io::stderr(), "Press Enter to close this window: ");
        let _ = std::io::stdin().read_line(&mut String::new());
    }
    code
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
        let _ = serde_json::to_value(failure.told()).map(|told| print_json(&told));
    } else {
        print_failure(failure);
    }
    ExitCode::from(failure.kind.exit_code())
}

fn run(cli: Cli) -> Result<Outcome, Failure> {
    if let Some(folder) = &cli.options.in_folder {
        std::env::set_current_dir(folder)?;
    }
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
        Command::SelfTest(args) => commands::self_test::run(context, &args),
        Command::Status => commands::status::run(context),
        Command::Tweak(command) => commands::tweak::run(context, &command),
        Command::Profile(command) => commands::profile::run(context, &command),
        Command::Preview(args) => commands::preview::run(context, &args),
        Command::Apply(args) => commands::apply::run(context, &args),
        Command::Rollback(args) => commands::rollback::run(context, &args),
        Command::Recover(args) => commands::recover::run(context, &args),
        Command::Cleaned(command) => commands::cleaned::run(context, &command),
        Command::Snapshot(command) => commands::snapshot::run(context, &command),
        Command::Drift(args) => commands::drift::run(context, &args),
        Command::Scene(command) => commands::scene::run(context, &command),
        Command::Run(command) => commands::run::run(context, &command),
        Command::Compare(args) => commands::compare::run(context, &args),
        Command::Trial(command) => commands::trial::run(context, &command),
        Command::Sift(command) => commands::sift::run(context, &command),
        Command::Tune(args) => commands::tune::run(context, &args),
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
        Command::Schemas { folder } => {
            let schemas = crate::schemas::write(&folder)?;
            Ok(written_into(&folder, schemas))
        }
        Command::Completions { shell } => Ok(completions(shell)),
    }
}

fn manual(folder: &Path) -> Result<Outcome, Failure> {
    fs_err::create_dir_all(folder)?;
    clap_mangen::generate_to(Cli::command(), folder)?;
    Ok(written_into(folder, fs_err::read_dir(folder)?.count()))
}

fn written_into(folder: &Path, files: usize) -> Outcome {
    let mut page = crate::view::Page::default();
    let files_written = crate::view::count(files, "file");
    page.line(format_args!("{files_written} written into {}", folder.display()));
    Outcome {
        json: Ok(serde_json::json!({ "folder": folder, "files": files })),
        page,
        aside: crate::view::Page::default(),
        is_yes: true,
        is_receipt: true,
    }
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
    let mut text = String::new();
    let mut line = |line: String| {
        text.push_str(&line);
        text.push('\n');
    };
    line(labelled("error:", &bad(strong("error:")), 0, &failure.message));
    for detail in &failure.details {
        line(labelled("", "", 2, detail));
    }
    for (number, cause) in failure.causes.iter().enumerate() {
        let label = format!("cause {}:", number + 1);
        line(labelled(&label, &dim(&label), 2, cause));
    }
    if let Some(document) = &failure.document {
        text.push('\n');
        text.push_str(&draw_problems(document));
    }
    for hint in &failure.hints {
        text.push_str(&labelled("help:", &dim("help:"), 0, hint));
        text.push('\n');
    }
    let _ = anstream::stderr().lock().write_all(for_terminal(&text).as_bytes());
}

/// The problems of a document with its source shown.
fn draw_problems(document: &frevin_core::document::BadDocument) -> String {
    // Few colours, with the meaning that they have everywhere: red is wrong, yellow is where to look besides.
    // anstream takes them out again where they are not wanted.
    let dim = Style::new().dimmed();
    let renderer = Renderer::plain()
        .error(AnsiColor::Red.on_default())
        .context(AnsiColor::Yellow.on_default())
        .help(dim)
        .line_num(dim)
        .decor_style(DecorStyle::Unicode)
        .term_width(crate::view::Page::width());
    let mut text = String::new();
    for problem in &document.problems {
        let spans = problem.span.clone().map(|span| AnnotationKind::Primary.span(span));
        let related = problem.related.clone();
        let related = related.map(|(span, what)| AnnotationKind::Context.span(span).label(what));
        let snippet = Snippet::source(&document.text).path(&document.name);
        let message = in_lines_beside(&problem.message, "error: ".len());
        let advice = problem.advice.as_ref();
        let advice = advice.map(|advice| in_lines_beside(advice, "       help: ".len()));
        let mut report = Group::with_title(Level::ERROR.primary_title(&message));
        if spans.is_some() || related.is_some() {
            report = report.element(snippet.annotations(spans.into_iter().chain(related)));
        }
        report = report.elements(advice.as_ref().map(|advice| Level::HELP.message(advice)));
        text.push_str(&renderer.render(&[report]));
        text.push_str("\n\n");
    }
    text
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::schemas::Schemas;

    /// The words of every command that does something.
    fn commands(of: &clap::Command, words: &str, all: &mut Vec<String>) {
        let own = ["completions", "manual", "schemas"];
        for command in of.get_subcommands().filter(|command| !own.contains(&command.get_name())) {
            let words = format!("{words} {}", command.get_name()).trim().to_owned();
            if !command.is_subcommand_required_set() && !command.is_hide_set() {
                all.push(words.clone());
            }
            commands(command, &words, all);
        }
    }

    #[test]
    fn what_every_command_prints_is_described() {
        let schemas = Schemas::all();
        let mut all = Vec::new();
        commands(&Cli::command(), "", &mut all);
        let described: Vec<&str> = schemas.commands().collect();
        let missing: Vec<&String> =
            all.iter().filter(|words| !described.contains(&words.as_str())).collect();
        assert!(missing.is_empty(), "{missing:?}");
        let unknown: Vec<&&str> = described
            .iter()
            .filter(|words| !all.iter().any(|known| known == *words) && **words != "rehearsal game")
            .collect();
        assert!(unknown.is_empty(), "{unknown:?}");
    }

    /// The commands that a page names, as `frevin …` in its text or behind a prompt in a block.
    fn commands_of(page: &str) -> Vec<String> {
        let in_text = page.split('`').skip(1).step_by(2).filter(|text| text.starts_with("frevin "));
        let in_blocks = page.lines().filter_map(|line| line.strip_prefix("$ "));
        in_text
            .chain(in_blocks)
            .map(|line| line.split(" # ").next().unwrap_or_default().to_owned())
            .collect()
    }

    /// The words of a command line.
    fn words(line: &str) -> Vec<String> {
        let mut words = vec![String::new()];
        let mut quote = None;
        for c in line.trim().chars() {
            match (c, quote) {
                ('"' | '\'', None) => quote = Some(c),
                (c, Some(open)) if c == open => quote = None,
                (' ', None) => words.push(String::new()),
                (c, _) => words.last_mut().unwrap().push(c),
            }
        }
        words
    }

    /// A word with something in the place of a name that stands for what its reader puts there.
    fn filled(word: &str) -> String {
        let word = word.replace(['…', '[', ']'], "");
        let is_name = |part: &str| {
            part.len() > 1
                && part.starts_with(|c: char| c.is_ascii_uppercase())
                && part.chars().all(|c| c.is_ascii_uppercase() || c == '-')
        };
        let fill = |part: &str| match part {
            "CHANGE" | "SNAPSHOT" | "TRIAL" | "RUN" | "VISIT" => "1".to_owned(),
            part if is_name(part) => "x".to_owned(),
            part => part.to_owned(),
        };
        let parts = word.split('/').map(fill);
        parts.collect::<Vec<_>>().join("/")
    }

    #[test]
    fn every_command_that_a_page_names_is_understood() {
        let docs = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs");
        let mut pages = vec![docs.join("../README.md")];
        for folder in [docs.clone(), docs.join("guide")] {
            let entries = fs_err::read_dir(folder).unwrap().map(|entry| entry.unwrap().path());
            pages.extend(entries.filter(|path| path.extension().is_some_and(|end| end == "md")));
        }
        let mut checked = 0;
        for page in pages {
            for line in commands_of(&fs_err::read_to_string(&page).unwrap()) {
                // A name in capitals stands for what its reader puts there; of what is cut short, the command alone.
                let words: Vec<String> = words(&line)
                    .iter()
                    .map(|word| filled(word))
                    .filter(|word| !word.is_empty())
                    .collect();
                let understood = Cli::try_parse_from(&words);
                use clap::error::ErrorKind::{
                    ArgumentConflict, InvalidSubcommand, UnknownArgument,
                };
                match understood.map_err(|error| error.kind()) {
                    // What is cut short, or stands for what its reader puts there, has no value that is understood.
                    Err(kind @ (ArgumentConflict | InvalidSubcommand | UnknownArgument)) => {
                        panic!("{}: `{line}`: {kind}", page.display());
                    }
                    Ok(_) | Err(_) => checked += 1,
                }
            }
        }
        assert!(checked > 150, "{checked}");
    }
}
