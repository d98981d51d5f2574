//! What is held around a game, beside settings and its own process: the timer, memory, other programs.

use std::time::{Duration, Instant};

use frevin_core::playing::{
    OtherDue, OthersWatch, PcHolds, PlayEvent, PlayId, PriorityClass, ProcessBefore, ProcessHolds,
    ProcessKey, PurgeRule, may_be_lowered,
};
use frevin_core::setting::{Address, RegistryData, State, Value};
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use super::game::{Game, WriteDown};
use super::processes::{
    Running, before, can_raise, is_above_lowered, processors, put_back, running, set_priority,
};
use crate::context::Context;
use crate::failure::Failure;

/// How often memory and other programs are looked at.
const LOOK_EVERY: Duration = Duration::from_secs(1);
/// The value by which Windows lets every program's request for the timer count for all, as before Windows 10 of May 2020.
const COUNTS_FOR_ALL: &str = r"registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\kernel#GlobalTimerResolutionRequests";
/// The first build of Windows where a request counts for its own process only: Windows 10, version 2004.
const FIRST_BY_PROCESS: u32 = 19_041;

/// What is held around a game.
pub(super) struct Around {
    purge: Option<(PurgeRule, Option<Instant>)>,
    others: Option<OthersWatch>,
    /// Other programs that were lowered, with what they had.
    lowered: Vec<(ProcessKey, ProcessBefore)>,
    looked: Instant,
    pub(super) problems: Vec<String>,
}

impl Around {
    /// Begins to hold it, before the game is there.
    pub(super) fn begin(pc: &mut dyn Pc, holds: &PcHolds, write_down: &mut WriteDown<'_>) -> Self {
        let mut problems = Vec::new();
        if let Some(period) = holds.timer {
            let granted = pc.ask_for_timer(period);
            if let Err(error) = &granted {
                problems.push(format!("timer: {error}"));
            }
            let counts_for_all = counts_for_all(pc);
            // It is for people only: the timer's period ends with this process.
            let _ = write_down(PlayEvent::Timer { granted: granted.ok(), counts_for_all });
        }
        let may_lower = can_raise();
        if holds.others.is_some() && !may_lower {
            problems.push("other programs: this user could not put them back".to_owned());
        }
        let count = u32::try_from(processors().len()).unwrap_or(1);
        let others = holds.others.clone().filter(|_| may_lower);
        Self {
            purge: holds.purge.clone().map(|rule| (rule, None)),
            others: others.map(|rule| OthersWatch::new(rule, count)),
            lowered: Vec::new(),
            looked: Instant::now(),
            problems,
        }
    }

    /// Looks at memory and at other programs, as often as they need it.
    pub(super) fn look(
        &mut self,
        pc: &mut dyn Pc,
        now: &[Running],
        game: &Game,
        write_down: &mut WriteDown<'_>,
    ) {
        let since_last = self.looked.elapsed();
        if since_last < LOOK_EVERY {
            return;
        }
        self.looked = Instant::now();
        if let Err(failure) = self.look_at_memory(pc, write_down) {
            self.tell(format!("memory: {}", failure.message));
        }
        if let Err(failure) = self.look_at_others(now, game, since_last, write_down) {
            self.tell(format!("other programs: {}", failure.message));
        }
    }

    fn look_at_memory(
        &mut self,
        pc: &mut dyn Pc,
        write_down: &mut WriteDown<'_>,
    ) -> Result<(), Failure> {
        let Some((rule, last)) = &mut self.purge else { return Ok(()) };
        let Some(before) = pc.memory()? else {
            self.tell("memory: this PC does not tell how it is used to this user".to_owned());
            self.purge = None;
            return Ok(());
        };
        if rule.is_due(&before, last.map(|last| last.elapsed())) {
            *last = Some(Instant::now());
            pc.purge_standby()?;
            let after = pc.memory()?.unwrap_or(before);
            write_down(PlayEvent::Purged { before, after })?;
        }
        Ok(())
    }

    fn look_at_others(
        &mut self,
        now: &[Running],
        game: &Game,
        since_last: Duration,
        write_down: &mut WriteDown<'_>,
    ) -> Result<(), Failure> {
        let Some(watch) = &mut self.others else { return Ok(()) };
        let is_other = |one: &&Running| {
            let is_its = game.has(one.id) || one.id == std::process::id();
            !is_its && one.is_own_users && may_be_lowered(&one.file)
        };
        let others = now.iter().filter(is_other);
        let times = others.filter_map(|one| Some((one.key(), one.processor_time?)));
        for (process, due) in watch.look(times, since_last) {
            match due {
                OtherDue::Lower { percent } => {
                    // What ended meanwhile, or may not be touched, is let be.
                    let Ok(before) = before(process.id, &lowered()) else { continue };
                    if !is_above_lowered(&before) {
                        continue;
                    }
                    let file = now.iter().find(|one| one.key() == process);
                    let file = file.map(|one| one.file.clone()).unwrap_or_default();
                    let event =
                        PlayEvent::Lowered { process, file, percent, before: before.clone() };
                    write_down(event)?;
                    if set_priority(process.id, PriorityClass::BelowNormal).is_ok() {
                        self.lowered.push((process, before));
                    }
                }
                OtherDue::PutBack => {
                    let Some(at) = self.lowered.iter().position(|(one, _)| *one == process) else {
                        continue;
                    };
                    let (_, before) = self.lowered.swap_remove(at);
                    if put_back(process.id, &before).is_ok() {
                        write_down(PlayEvent::PutBack { process })?;
                    }
                }
            }
        }
        Ok(())
    }

    fn tell(&mut self, problem: String) {
        if !self.problems.contains(&problem) {
            self.problems.push(problem);
        }
    }
}

/// What is held of a program that is lowered.
fn lowered() -> ProcessHolds {
    ProcessHolds { priority: Some(PriorityClass::BelowNormal), ..ProcessHolds::default() }
}

/// Whether this program's request for the timer counts for a game too.
fn counts_for_all(pc: &dyn Pc) -> bool {
    let build = pc.facts().map_or(0, |facts| facts.windows.build);
    let is_set = || {
        let address: Option<Address> = COUNTS_FOR_ALL.parse().ok();
        address.is_some_and(|at| {
            pc.read(&at)
                .is_ok_and(|held| held == State::from(Value::Registry(RegistryData::dword(1))))
        })
    };
    build < FIRST_BY_PROCESS || is_set()
}

/// Gives processes that still run what they had before something of them was held, the latest first.
pub(super) fn put_processes_back(
    context: &Context,
    ledger: &mut Ledger,
    id: PlayId,
) -> Result<(), Failure> {
    let Some(play) = ledger.play(id)? else { return Ok(()) };
    let mut open: Vec<(ProcessKey, ProcessBefore)> = Vec::new();
    for timed in play.events {
        match timed.event {
            PlayEvent::Held { process, before } | PlayEvent::Lowered { process, before, .. } => {
                open.push((process, before));
            }
            PlayEvent::PutBack { process } => open.retain(|(one, _)| *one != process),
            PlayEvent::Timer { .. } | PlayEvent::Purged { .. } | PlayEvent::Recorded { .. } => {}
        }
    }
    if open.is_empty() {
        return Ok(());
    }
    let now = running();
    for (process, before) in open.into_iter().rev() {
        let still_runs = now.iter().any(|one| one.key() == process);
        // What refuses is let be: it loses what it was given when it ends.
        if still_runs && put_back(process.id, &before).is_ok() {
            ledger.add_play_event(id, context.clock.now(), &PlayEvent::PutBack { process })?;
        }
    }
    Ok(())
}
