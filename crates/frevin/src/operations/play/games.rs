//! Games that something is held for whenever they run: a table of them, and a process from sign-in that looks for them.
//!
//! That process reads names of processes and nothing else; where one of the table runs, it begins a play of it as its
//! owner would (`frevin play --attach`), and goes on looking when that has ended.

use std::collections::BTreeMap;
use std::fs::File;
use std::process::{Command, Stdio};
use std::time::{Duration, SystemTime};

use frevin_core::layers::Selection;
use frevin_core::preview::{OnOthers, Wish};
use frevin_core::setting::{RegistryData, State, TakesEffect, Value};
use frevin_core::tweak::{TweakId, TweakUse, Wanted};
use frevin_ledger::Ledger;
use frevin_pc::{Pc, PcKind};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::processes::names;
use super::watcher::apart;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::apply::{ApplyReport, Order, apply};
use crate::operations::rollback::{RollbackReport, make_way_back, roll_back};
use crate::operations::target::Target;

/// What is held for a game.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct GameRule {
    /// A saved profile: its list for playing, and its table.
    pub(crate) profile: String,
}

/// The games, by the names of their files.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub(crate) struct Games {
    /// Whether they are looked for.
    #[serde(default, skip_serializing_if = "is_false")]
    pub(crate) are_looked_for: bool,
    /// What is held for each.
    #[serde(default, skip_serializing_if = "BTreeMap::is_empty")]
    pub(crate) rules: BTreeMap<String, GameRule>,
}

fn is_false(flag: &bool) -> bool {
    !flag
}

impl Games {
    /// Whether it says nothing.
    pub(crate) fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// The entry by which Windows starts the process at each sign-in ("Run and RunOnce registry keys").
const ENTRY: &str =
    r"registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\Run#Frevin looks for games";
/// What the layers know the entry by; no tweak of the catalogue has this name.
const USED: &str = "play/games-from-sign-in";
/// Held by the process that looks for games.
const LOCK: &str = "play-games.lock";
/// How often it looks.
const LOOK_EVERY: Duration = Duration::from_secs(3);

fn used() -> Result<TweakUse, Failure> {
    let id: TweakId = USED.parse().map_err(|_| Failure::new(Kind::Internal, USED))?;
    Ok(TweakUse::plain(id))
}

/// Lets Windows start the process at each sign-in: a change like any other.
pub(crate) fn set_entry(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
) -> Result<ApplyReport, Failure> {
    let address =
        ENTRY.parse().map_err(|error| Failure::new(Kind::Internal, format!("{ENTRY}: {error}")))?;
    let program = std::env::current_exe()?.display().to_string();
    let arguments = [vec![program], arguments(context)].concat();
    let line = frevin_pc::command_line(&arguments);
    let wanted = Wanted {
        address,
        state: State::Value(Value::Registry(RegistryData::string(&line))),
        takes_effect: TakesEffect::SignOut,
    };
    // Whoever asks for it gives their word for what tweaks may not touch: it runs a program, and that is Frevin.
    let wish = Wish { used: used()?, settings: vec![wanted], consented: true };
    let target = Target {
        title: "games are looked for from sign-in".to_owned(),
        revision: None,
        wishes: vec![wish],
        left_out: Vec::new(),
        by_hand: Vec::new(),
    };
    let order = Order::new(pc, ledger, target, None, false)?;
    match order.nothing_to_do(pc, ledger)? {
        Some(nothing) => Ok(nothing),
        None => apply(context, pc, ledger, order),
    }
}

/// Takes the entry back, where it is held.
pub(crate) fn take_entry_back(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
) -> Result<Option<RollbackReport>, Failure> {
    let used = used()?;
    let layers = ledger.layers(&pc.identity().id)?;
    let mut held = layers.iter().flat_map(|(_, stack)| &stack.layers);
    let Some(layer) = held.find(|layer| layer.used == used) else { return Ok(None) };
    let selection = Selection::Change(layer.change);
    let back = make_way_back(pc, ledger, &selection, OnOthers::Keep)?;
    roll_back(context, pc, ledger, &selection, OnOthers::Keep, back).map(Some)
}

/// What the process is started with.
fn arguments(context: &Context) -> Vec<String> {
    let mut arguments: Vec<String> =
        ["play", "games", "look", "--home"].map(ToOwned::to_owned).to_vec();
    arguments.push(
        std::path::absolute(context.home()).map_or_else(
            |_| context.home().display().to_string(),
            |home| home.display().to_string(),
        ),
    );
    if let Some(pc) = context.pc_as_named() {
        arguments.extend(["--pc".to_owned(), pc]);
    }
    arguments
}

/// Starts the process now, where none looks for games yet.
pub(crate) fn start_looking(context: &Context) -> Result<(), Failure> {
    let mut command = Command::new(std::env::current_exe()?);
    command.args(arguments(context));
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    apart(&mut command);
    command.spawn()?;
    Ok(())
}

/// Whether a process looks for games.
pub(crate) fn is_looking(context: &Context) -> Result<bool, Failure> {
    Ok(context.home().join(LOCK).exists() && lock(context)?.is_none())
}

fn lock(context: &Context) -> Result<Option<File>, Failure> {
    crate::own_home::make(context.home())?;
    let path = context.home().join(LOCK);
    let file = fs_err::OpenOptions::new().create(true).truncate(false).write(true).open(path)?;
    let file = file.into_file();
    match file.try_lock() {
        Ok(()) => Ok(Some(file)),
        Err(std::fs::TryLockError::WouldBlock) => Ok(None),
        Err(std::fs::TryLockError::Error(error)) => Err(error.into()),
    }
}

/// Looks for games until its owner no longer wants it. A second one ends at once.
pub(crate) fn look(context: &Context) -> Result<(), Failure> {
    let Some(_alone) = lock(context)? else { return Ok(()) };
    let mut games = Games::default();
    let mut read_at: Option<SystemTime> = None;
    // Names of processes that are known: only new ones are asked for theirs.
    let mut known = BTreeMap::new();
    loop {
        let changed_at = context.configuration_changed_at();
        if changed_at != read_at || read_at.is_none() {
            // A configuration that is being written is read next time.
            match context.games() {
                Ok(read) => (games, read_at) = (read, changed_at),
                Err(_) => read_at = None,
            }
            if read_at.is_some() && !games.are_looked_for {
                return Ok(());
            }
        }
        names(&mut known);
        let found = games.rules.iter().find(|(file, _)| known.values().any(|name| name == *file));
        if let Some((file, rule)) = found {
            play(context, file, rule)?;
            // One that could not be held is not tried again and again.
            wait_until_gone(file, &mut known);
        }
        std::thread::sleep(LOOK_EVERY);
    }
}

fn wait_until_gone(file: &str, known: &mut BTreeMap<u32, String>) {
    while known.values().any(|name| name == file) {
        std::thread::sleep(LOOK_EVERY);
        names(known);
    }
}

/// Begins a play of a game that runs, and waits for its end: in a process of its own, which brings the catalogue with it.
fn play(context: &Context, file: &str, rule: &GameRule) -> Result<(), Failure> {
    let mut command = Command::new(std::env::current_exe()?);
    command.args(["play", "--attach", file, "--profile", &rule.profile, "--yes", "--quiet"]);
    command.arg("--home").arg(context.home());
    if let Some(pc) = context.pc_as_named() {
        command.args(["--pc", &pc]);
    }
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    apart(&mut command);
    command.status()?;
    Ok(())
}

/// The name by which a file is known in the table: in small letters, without its ending.
pub(crate) fn known_as(file: &str) -> String {
    let file = file.to_lowercase();
    file.strip_suffix(".exe").map(ToOwned::to_owned).unwrap_or(file)
}

/// A file that starts a game through `play` when it is opened: a batch file on Windows, a shell script elsewhere.
pub(crate) fn shortcut(
    context: &Context,
    kind: PcKind,
    program: &str,
    game_arguments: &[String],
    profile: &str,
) -> Result<String, Failure> {
    let mut words = vec![std::env::current_exe()?.display().to_string()];
    words.extend(["--yes", "--home"].map(ToOwned::to_owned));
    words.push(std::path::absolute(context.home())?.display().to_string());
    let pc = match kind {
        PcKind::Live => Some("live".to_owned()),
        PcKind::Rehearsal => context.pc_as_named(),
    };
    words.extend(pc.into_iter().flat_map(|pc| ["--pc".to_owned(), pc]));
    words.extend(["play", "--profile", profile, "--program", program].map(ToOwned::to_owned));
    if !game_arguments.is_empty() {
        words.push("--".to_owned());
        words.extend(game_arguments.iter().cloned());
    }
    if let Some(word) = words.iter().find(|word| word.contains(['"', '\n', '\r'])) {
        let message = format!("{word:?} cannot be written into such a file");
        return Err(Failure::new(Kind::Usage, message));
    }
    if cfg!(windows) {
        // A percent sign would begin a variable's name.
        let line = frevin_pc::command_line(&words).replace('%', "%%");
        Ok(format!("@echo off\r\nchcp 65001 >nul\r\nstart \"\" /min {line}\r\n"))
    } else {
        let quoted: Vec<String> =
            words.iter().map(|word| format!("'{}'", word.replace('\'', r"'\''"))).collect();
        Ok(format!("#!/bin/sh\nexec {}\n", quoted.join(" ")))
    }
}

#[cfg(test)]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;
    use frevin_core::setting::{Address, protection};

    #[test]
    fn a_game_is_known_by_the_name_of_its_file_however_it_is_written() {
        for written in ["Riders.exe", "riders", "RIDERS.EXE", "riders.EXE"] {
            assert_eq!(known_as(written), "riders");
        }
        assert_eq!(known_as("riders.x86_64"), "riders.x86_64");
    }

    #[test]
    fn the_table_is_read_as_it_was_written_and_says_nothing_where_it_is_empty() {
        let mut games = Games::default();
        assert!(games.is_empty());
        assert_eq!(toml::to_string(&games).unwrap(), "");
        games.are_looked_for = true;
        games.rules.insert("riders".into(), GameRule { profile: "evening@2".into() });
        let text = toml::to_string(&games).unwrap();
        assert_eq!(text, "are_looked_for = true\n\n[rules.riders]\nprofile = \"evening@2\"\n");
        assert_eq!(toml::from_str::<Games>(&text).unwrap(), games);
        assert!(toml::from_str::<Games>("command = 'x'").is_err(), "it can run nothing");
        assert!(toml::from_str::<Games>("[rules.a]\nprofile = 'b'\nrun = 'c'").is_err());
    }

    #[test]
    fn no_tweak_may_write_the_entry_that_starts_frevin() {
        let address: Address = ENTRY.parse().unwrap();
        assert!(protection(&address).is_some());
        assert_eq!(used().unwrap().tweak.as_str(), USED);
    }

    #[test]
    fn a_process_that_is_new_is_asked_for_its_name_and_one_that_ended_is_forgotten() {
        let mut known = BTreeMap::new();
        known.insert(u32::MAX, "long-gone".to_owned());
        names(&mut known);
        if cfg!(target_os = "linux") {
            assert!(!known.contains_key(&u32::MAX));
            let own = std::env::current_exe().unwrap();
            let own = own.file_stem().unwrap().to_string_lossy().to_lowercase();
            assert_eq!(known.get(&std::process::id()), Some(&own));
        }
    }
}
