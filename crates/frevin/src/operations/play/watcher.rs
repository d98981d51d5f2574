//! The watcher: a process of its own, which outlives the command that began the play.

use std::fs::File;
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use frevin_core::playing::{GameStart, PlayEnding, PlayEvent, PlayId};
use frevin_ledger::{ChangeFor, Ledger, PlayRecord};
use frevin_pc::Pc;

use super::around::Around;
use super::game::Game;
use super::recording::Recording;
use super::{PlayFiles, PlayStatus, put_back};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::apply::{self, Order};
use crate::operations::target::Target;

/// How often the game is looked at: often at first, when a launcher may start it and end.
const LOOK_EVERY: Duration = Duration::from_millis(250);
const LOOK_EVERY_AT_FIRST: Duration = Duration::from_millis(25);
const AT_FIRST: Duration = Duration::from_secs(5);
/// A game that was started through a launcher has to come within this.
const COMES_WITHIN: Duration = Duration::from_secs(300);
/// How long another Frevin that is changing the PC is waited for at the end.
const PATIENCE: Duration = Duration::from_secs(120);

/// Starts the watcher of a play.
pub(crate) fn start_watcher(context: &Context, id: PlayId) -> Result<Child, Failure> {
    let program = std::env::current_exe()?;
    let mut command = Command::new(program);
    command.args(["play", "watch", &id.to_string(), "--yes", "--quiet", "--home"]);
    command.arg(context.home());
    if let Some(pc) = context.pc_as_named() {
        command.args(["--pc", &pc]);
    }
    command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
    apart(&mut command);
    Ok(command.spawn()?)
}

/// A group of its own: what ends the terminal's programs does not end it.
#[cfg(unix)]
pub(super) fn apart(command: &mut Command) {
    use std::os::unix::process::CommandExt as _;
    command.process_group(0);
}

#[cfg(windows)]
pub(super) fn apart(command: &mut Command) {
    use std::os::windows::process::CommandExt as _;
    /// `CREATE_NEW_PROCESS_GROUP` and `CREATE_NO_WINDOW` ("Process Creation Flags").
    const FLAGS: u32 = 0x0000_0200 | 0x0800_0000;
    command.creation_flags(FLAGS);
}

#[cfg(not(any(unix, windows)))]
pub(super) fn apart(_: &mut Command) {}

/// Watches a play to its end.
pub(crate) fn watch(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    id: PlayId,
) -> Result<PlayEnding, Failure> {
    let files = PlayFiles::of(context);
    let _watching = take_lock(&files)?;
    let open = ledger.open_plays(&pc.identity().id)?;
    let Some(play) = open.into_iter().find(|play| play.id == id) else {
        return Err(Failure::new(Kind::NotFound, "this play has ended, or never began"));
    };
    let mut status = PlayStatus::default();
    let ending = match hold(context, pc, ledger, &play) {
        Ok(()) => follow_and_record(context, pc, ledger, &files, &play, &mut status),
        Err(failure) => {
            status.problems.push(failure.message);
            files.tell(&status);
            PlayEnding::NotHeld
        }
    };
    end(context, pc, ledger, id, ending)?;
    files.clear(ledger)?;
    Ok(ending)
}

/// The right to watch. Whoever looks whether there is a watcher has it for a moment.
fn take_lock(files: &PlayFiles) -> Result<File, Failure> {
    const PATIENCE: Duration = Duration::from_secs(10);
    let begun = Instant::now();
    loop {
        match files.take_watcher_lock()? {
            Some(lock) => return Ok(lock),
            None if begun.elapsed() < PATIENCE => std::thread::sleep(Duration::from_millis(5)),
            None => return Err(Failure::new(Kind::Busy, "this play is watched already")),
        }
    }
}

/// Lets the PC hold what it is to hold.
fn hold(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    play: &PlayRecord,
) -> Result<(), Failure> {
    if play.plan.wishes.is_empty() {
        return Ok(());
    }
    let target = Target {
        title: format!("{} while playing", play.plan.title),
        revision: None,
        wishes: play.plan.wishes.clone(),
        left_out: Vec::new(),
        by_hand: Vec::new(),
    };
    let order = Order::new(pc, ledger, target, None, false)?.made_for(ChangeFor::Play(play.id));
    if order.nothing_to_do(pc, ledger)?.is_none() {
        apply::apply(context, pc, ledger, order)?;
    }
    Ok(())
}

/// Follows the game to its end, and keeps its frames where they are recorded.
fn follow_and_record(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    files: &PlayFiles,
    play: &PlayRecord,
    status: &mut PlayStatus,
) -> PlayEnding {
    let Some(plan) = &play.plan.recording else {
        return follow(context, pc, ledger, files, play, status);
    };
    let recording = Recording::begin(plan);
    let ending = follow(context, pc, ledger, files, play, status);
    // While what is held is still in force.
    let kept = recording.and_then(|recording| recording.keep(context, pc, ledger, play, plan));
    let problem = match kept {
        Ok(Some(_)) => return ending,
        Ok(None) => "recording: too few frames came".to_owned(),
        Err(failure) => format!("recording: {}", failure.message),
    };
    status.problems.push(problem);
    files.tell(status);
    ending
}

/// Follows the game to its end.
fn follow(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    files: &PlayFiles,
    play: &PlayRecord,
    status: &mut PlayStatus,
) -> PlayEnding {
    let mut write_down = |event: PlayEvent| -> Result<(), Failure> {
        Ok(ledger.add_play_event(play.id, context.clock.now(), &event)?)
    };
    let mut around = Around::begin(pc, &play.plan.pc, &mut write_down);
    let mut game = match Game::begin(&play.plan, &mut write_down) {
        Ok(game) => game,
        Err(reason) => {
            status.problems.push(reason);
            files.tell(status);
            return PlayEnding::NoGame;
        }
    };
    let begun = Instant::now();
    let is_waited_for = matches!(play.plan.start, GameStart::Attach { .. });
    loop {
        let problems = game.problems.iter().chain(&around.problems).cloned().collect();
        let now = PlayStatus { processes: game.processes(), problems };
        if now != *status {
            *status = now;
            files.tell(status);
        }
        if files.is_asked_to_stop() {
            return PlayEnding::Stopped;
        }
        if game.is_gone() && game.has_come() {
            return PlayEnding::GameEnded;
        }
        // What is started and never becomes the game; who waits for one waits until told otherwise.
        if game.is_gone() && !is_waited_for && begun.elapsed() > COMES_WITHIN {
            return PlayEnding::NoGame;
        }
        let pause = if begun.elapsed() < AT_FIRST { LOOK_EVERY_AT_FIRST } else { LOOK_EVERY };
        std::thread::sleep(pause);
        let now = game.list();
        game.look(&now, &mut write_down);
        around.look(pc, &now, &game, &mut write_down);
    }
}

/// Puts back what was held, and waits where another Frevin is changing the PC.
fn end(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    id: PlayId,
    ending: PlayEnding,
) -> Result<(), Failure> {
    let begun = Instant::now();
    loop {
        match put_back(context, pc, ledger, id, ending) {
            Err(failure)
                if [Kind::Busy, Kind::ChangedByOthers].contains(&failure.kind)
                    && begun.elapsed() < PATIENCE =>
            {
                std::thread::sleep(LOOK_EVERY);
            }
            done => return done,
        }
    }
}
