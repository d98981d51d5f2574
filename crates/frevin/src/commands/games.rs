//! `frevin play games`

use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_core::layers::ChangeId;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::play::games::{
    GameRule, Games, is_looking, known_as, look, set_entry, shortcut, start_looking,
    take_entry_back,
};
use crate::operations::play::refuse_playing;
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::target::{Named, Unsaved, load};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, dim, good, strong, warn};

/// Hold a profile for a game whenever it runs, however it is started
#[derive(Debug, Subcommand)]
pub(crate) enum GamesCommand {
    /// Show the games, and whether they are looked for
    List,
    /// Add a game, or give it another profile
    Add {
        /// The name of its file
        file: String,
        /// A saved profile: what it holds while playing
        #[arg(long, value_name = "PROFILE[@REV]")]
        profile: String,
    },
    /// Take a game out
    Remove {
        /// The name of its file
        file: String,
    },
    /// Look for them now and from each sign-in: an entry that Windows starts Frevin by, which `rollback` takes back too
    On,
    /// Look for them no more
    Off,
    /// Write a file that starts a game and holds its profile, to be opened instead of the game
    Shortcut(ShortcutArgs),
    /// Look for them
    #[command(hide = true)]
    Look,
}

#[derive(Debug, Args)]
pub(crate) struct ShortcutArgs {
    /// The file to write
    file: PathBuf,
    /// The game's program
    #[arg(long, value_name = "PATH")]
    program: String,
    /// A saved profile: what it holds while playing
    #[arg(long, value_name = "PROFILE[@REV]")]
    profile: String,
    /// The arguments of the program
    #[arg(last = true)]
    arguments: Vec<String>,
}

/// The games, and whether they are looked for.
#[derive(Debug, JsonSchema, Serialize)]
struct GamesReport {
    games: Vec<Game>,
    /// Whether they are to be looked for.
    are_looked_for: bool,
    /// Whether a process looks for them now.
    is_looking: bool,
    /// The change that lets Windows start it, where this command made it.
    change: Option<ChangeId>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Game {
    file: String,
    profile: String,
}

/// A file that was written.
#[derive(Debug, JsonSchema, Serialize)]
struct ShortcutReport {
    file: PathBuf,
}

pub(crate) fn run(context: &Context, command: &GamesCommand) -> Result<Outcome, Failure> {
    let mut games = context.games()?;
    match command {
        GamesCommand::List => report(context, games, None),
        GamesCommand::Add { file, profile } => {
            load_kept(context, profile)?;
            games.rules.insert(known_as(file), GameRule { profile: profile.clone() });
            context.configure_games(&games)?;
            report(context, games, None)
        }
        GamesCommand::Remove { file } => {
            if games.rules.remove(&known_as(file)).is_none() {
                return Err(Failure::new(Kind::NotFound, format!("there is no game {file} here"))
                    .hint("`frevin play games list` shows those there are"));
            }
            context.configure_games(&games)?;
            report(context, games, None)
        }
        GamesCommand::On => {
            if games.rules.is_empty() {
                return Err(Failure::new(Kind::Usage, "there is no game to look for")
                    .hint("`frevin play games add FILE --profile PROFILE` adds one"));
            }
            let (mut pc, mut ledger) = (context.pc()?, context.ledger()?);
            refuse_unfinished(&ledger, &*pc)?;
            crate::operations::trial::refuse_open(&ledger, &*pc)?;
            refuse_playing(&ledger, &*pc)?;
            let mut page = Page::default();
            page.line("Frevin starts at each sign-in, and looks every three seconds whether one of these games runs:");
            for (file, rule) in &games.rules {
                page.pairs([(file.as_str(), rule.profile.clone())]);
            }
            context.confirm(&page, "Let it?")?;
            let applied = set_entry(context, &mut *pc, &mut ledger)?.applied;
            games.are_looked_for = true;
            context.configure_games(&games)?;
            drop(ledger);
            start_looking(context)?;
            wait_for_it(context)?;
            report(context, games, applied.map(|applied| applied.change))
        }
        GamesCommand::Off => {
            games.are_looked_for = false;
            context.configure_games(&games)?;
            let (mut pc, mut ledger) = (context.pc()?, context.ledger()?);
            refuse_unfinished(&ledger, &*pc)?;
            take_entry_back(context, &mut *pc, &mut ledger)?;
            report(context, games, None)
        }
        GamesCommand::Shortcut(args) => write_shortcut(context, args),
        GamesCommand::Look => {
            look(context)?;
            report(context, context.games()?, None)
        }
    }
}

/// It takes a moment until it is there.
fn wait_for_it(context: &Context) -> Result<(), Failure> {
    for _ in 0..40 {
        if is_looking(context)? {
            break;
        }
        std::thread::sleep(Duration::from_millis(50));
    }
    Ok(())
}

fn report(context: &Context, games: Games, change: Option<ChangeId>) -> Result<Outcome, Failure> {
    Ok(Outcome::done(&GamesReport {
        are_looked_for: games.are_looked_for,
        is_looking: is_looking(context)?,
        games: games
            .rules
            .into_iter()
            .map(|(file, rule)| Game { file, profile: rule.profile })
            .collect(),
        change,
    }))
}

/// Looks whether a profile is there; one that comes with Frevin is saved first.
fn load_kept(context: &Context, profile: &str) -> Result<(), Failure> {
    let mut ledger = context.ledger()?;
    keep_ready_made(context, &mut ledger, &Named::Profile(profile.to_owned()))?;
    load(profile, &context.catalogue()?, &ledger, Unsaved::Refused).map(drop)
}

fn write_shortcut(context: &Context, args: &ShortcutArgs) -> Result<Outcome, Failure> {
    use std::io::Write as _;
    let ShortcutArgs { file, program, profile, arguments } = args;
    load_kept(context, profile)?;
    let kind = context.pc()?.identity().kind;
    let text = shortcut(context, kind, program, arguments, profile)?;
    let mut made = fs_err::OpenOptions::new().write(true).create_new(true).open(file)?;
    made.write_all(text.as_bytes())?;
    #[cfg(unix)]
    {
        use std::os::unix::fs::PermissionsExt as _;
        fs_err::set_permissions(file, std::fs::Permissions::from_mode(0o755))?;
    }
    Ok(Outcome::done(&ShortcutReport { file: file.clone() }))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<GamesReport>("play games add");
    schemas.prints::<GamesReport>("play games remove");
    schemas.prints::<GamesReport>("play games list");
    schemas.prints::<GamesReport>("play games on");
    schemas.prints::<GamesReport>("play games off");
    schemas.prints::<ShortcutReport>("play games shortcut");
}

impl View for GamesReport {
    fn show(&self, page: &mut Page) {
        if self.games.is_empty() {
            page.line("No games yet.");
            page.pairs([("add one", "frevin play games add FILE --profile PROFILE")]);
            return;
        }
        let mut table = Table::new(["game", "holds"]);
        for Game { file, profile } in &self.games {
            table.row([strong(file), profile.clone()]);
        }
        page.table(table);
        page.blank();
        match (self.are_looked_for, self.is_looking) {
            (true, true) => page.line(good("They are looked for.")),
            (true, false) => {
                page.line(warn("They are looked for from the next sign-in; nothing looks now."));
            }
            (false, _) => page.line(dim("They are not looked for: `frevin play games on`.")),
        }
    }
}

impl View for ShortcutReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("Written: {}. Open it instead of the game.", self.file.display()));
    }
}
