//! A game: the processes that it is, followed from what was started to what a launcher starts.

use std::collections::BTreeMap;
use std::process::{Child, Command, Stdio};

use frevin_core::playing::{GameStart, PlayEvent, PlayPlan, ProcessHolds, ProcessKey};

use super::processes::{
    Running, adopt_what_is_left, before, processors, running, set_memory_priority, set_priority,
    set_processors, unthrottle,
};
use crate::failure::Failure;

/// Writes down what is about to be done, durably.
pub(super) type WriteDown<'a> = dyn FnMut(PlayEvent) -> Result<(), Failure> + 'a;

/// A game that runs, or is to.
pub(super) struct Game {
    /// The process that was started, where one was.
    child: Option<Child>,
    /// The file that the game is known by, where it is not what was started.
    file: Option<String>,
    /// Its processes: their numbers, with when each was made.
    own: BTreeMap<u32, u64>,
    /// The same with those that have ended: what they started belongs to it too.
    ever: BTreeMap<u32, u64>,
    /// Those that something is held of.
    held: BTreeMap<u32, u64>,
    holds: ProcessHolds,
    has_come: bool,
    /// Whether what a launcher leaves behind becomes a child of this process.
    adopts: bool,
    pub(super) problems: Vec<String>,
}

impl Game {
    /// Starts a game, or gets ready to wait for it.
    pub(super) fn begin(plan: &PlayPlan, write_down: &mut WriteDown<'_>) -> Result<Self, String> {
        let mut adopts = false;
        let (child, file) = match &plan.start {
            GameStart::Attach { file } => (None, Some(file.clone())),
            GameStart::Start { command } => {
                adopts = adopt_what_is_left();
                let (program, arguments) = command.split_first().ok_or("no program is named")?;
                let child = Command::new(program)
                    .args(arguments)
                    .stdin(Stdio::null())
                    .stdout(Stdio::null())
                    .stderr(Stdio::null())
                    .spawn()
                    .map_err(|error| format!("{program} does not start: {error}"))?;
                (Some(child), plan.game_file.clone())
            }
        };
        let mut game = Self {
            own: BTreeMap::new(),
            ever: BTreeMap::new(),
            held: BTreeMap::new(),
            holds: plan.process.clone(),
            has_come: false,
            adopts,
            problems: Vec::new(),
            child,
            file,
        };
        game.look(&running(), write_down);
        Ok(game)
    }

    /// Lists the processes that run, without one of its own that has just ended.
    pub(super) fn list(&mut self) -> Vec<Running> {
        // Asked for before anything is listed: what it left behind is listed then. Some systems list what has ended as long
        // as somebody may ask.
        let ended = self.child.as_mut().and_then(|child| {
            let has_ended = matches!(child.try_wait(), Ok(Some(_)));
            has_ended.then(|| child.id())
        });
        let mut now = running();
        now.retain(|one| Some(one.id) != ended);
        // What ended before anybody looked was the game, unless another file is.
        self.has_come |= ended.is_some() && self.file.is_none();
        now
    }

    /// Looks which of its processes run, and holds what is to be held of those that are new.
    pub(super) fn look(&mut self, now: &[Running], write_down: &mut WriteDown<'_>) {
        self.follow(now);
        for (id, made) in self.own.clone() {
            if self.held.insert(id, made) != Some(made) && !self.holds.is_empty() {
                self.hold(ProcessKey { id, made }, write_down);
            }
        }
    }

    fn follow(&mut self, now: &[Running]) {
        let started = self.child.as_ref().map(Child::id);
        let is_named = |one: &Running| {
            self.file.as_ref().is_some_and(|file| {
                let bare = |name: &str| {
                    let name = name.to_ascii_lowercase();
                    name.strip_suffix(".exe").map(ToOwned::to_owned).unwrap_or(name)
                };
                bare(&one.file) == bare(file)
            })
        };
        self.own.retain(|id, made| now.iter().any(|one| one.id == *id && one.made == *made));
        // What belongs to it starts others, in any order of numbers.
        loop {
            let is_new = |one: &&Running| {
                let is_started = self.ever.get(&one.parent).is_some_and(|made| one.made >= *made);
                let is_left = self.adopts && one.parent == std::process::id();
                let is_its = Some(one.id) == started || is_named(one) || is_started || is_left;
                is_its && !self.own.contains_key(&one.id)
            };
            let Some(new) = now.iter().find(is_new) else { break };
            self.own.insert(new.id, new.made);
            self.ever.insert(new.id, new.made);
            self.has_come |= self.file.is_none() || is_named(new);
        }
    }

    fn hold(&mut self, process: ProcessKey, write_down: &mut WriteDown<'_>) {
        let id = process.id;
        // A game that may not be asked is not touched: nobody could put it back.
        let before = match before(id, &self.holds) {
            Ok(before) => before,
            Err(reason) => return self.tell(format!("its process: {reason}")),
        };
        if let Err(failure) = write_down(PlayEvent::Held { process, before }) {
            return self.tell(format!("its process: {}", failure.message));
        }
        let mut tried = Vec::new();
        if self.holds.unthrottled {
            tried.push(("throttling", unthrottle(id)));
        }
        if let Some(priority) = self.holds.memory_priority {
            tried.push(("memory priority", set_memory_priority(id, priority)));
        }
        if let Some(class) = self.holds.priority {
            tried.push(("priority", set_priority(id, class)));
        }
        if let Some(choice) = &self.holds.processors {
            let set = match choice.of(&processors()) {
                Some(numbers) => set_processors(id, &numbers.into_iter().collect::<Vec<_>>()),
                None => Err(format!("{choice} is all that this PC has, or nothing that it has")),
            };
            tried.push(("processors", set));
        }
        for (what, done) in tried {
            // A game that forbids it is left alone.
            if let Err(reason) = done {
                self.tell(format!("{what}: {reason}"));
            }
        }
    }

    fn tell(&mut self, problem: String) {
        if !self.problems.contains(&problem) {
            self.problems.push(problem);
        }
    }

    /// Whether a process is one of its own, or was.
    pub(super) fn has(&self, id: u32) -> bool {
        self.ever.contains_key(&id)
    }

    /// Its processes that run.
    pub(super) fn processes(&self) -> Vec<u32> {
        self.own.keys().copied().collect()
    }

    /// Whether it has come, where it was waited for.
    pub(super) fn has_come(&self) -> bool {
        self.has_come
    }

    /// Whether none of it runs.
    pub(super) fn is_gone(&self) -> bool {
        self.own.is_empty()
    }
}
