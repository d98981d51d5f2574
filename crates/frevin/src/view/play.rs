//! Plays as they are shown.

use frevin_core::playing::{
    GameStart, MemoryState, OthersRule, PlayEnding, PlayEvent, PlayId, PlayPlan, ProcessHolds,
    PurgeRule,
};
use frevin_core::preview::LeftOut;
use frevin_core::visits::VisitRecord;
use frevin_ledger::{PlayRecord, TimedPlayEvent};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Page, Table, count, dim, fps, good, strong, warn, when};
use crate::operations::play::PlayStatus;
use crate::outcome::View;

/// What was held, and how it ended.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct PlayReport {
    pub(crate) play: PlayId,
    pub(crate) title: String,
    pub(crate) ending: PlayEnding,
    /// Settings that were held.
    pub(crate) settings: usize,
    pub(crate) process: ProcessHolds,
    /// What happened meanwhile.
    pub(crate) events: Vec<TimedPlayEvent>,
    pub(crate) problems: Vec<String>,
    pub(crate) left_out: Vec<LeftOut>,
}

/// What is held now.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct StatusReport {
    /// The play that goes on, where one does.
    pub(crate) play: Option<PlayRecord>,
    pub(crate) is_watched: bool,
    #[serde(flatten)]
    pub(crate) status: PlayStatus,
}

#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct PlayList {
    pub(crate) plays: Vec<PlayRecord>,
}

/// A watcher's word: it is read by nobody.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct Watched {
    pub(crate) ending: PlayEnding,
}

/// A play, with what was recorded in it.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct PlayDetail {
    #[serde(flatten)]
    pub(crate) play: PlayRecord,
    /// What was recorded of it.
    pub(crate) visit: Option<VisitRecord>,
}

pub(crate) fn show_beginning(
    plan: &PlayPlan,
    settings: usize,
    left_out: &[LeftOut],
    page: &mut Page,
) {
    page.heading(format_args!("Held while a game runs: {}", plan.title));
    let game = match &plan.start {
        GameStart::Start { command } => format!("starts {}", command.join(" ")),
        GameStart::Attach { file } => format!("waits for {file}"),
    };
    let mut lines = vec![("game", game)];
    if settings > 0 {
        lines.push(("holds", count(settings, "setting")));
    }
    lines.extend(plan_lines(plan));
    page.pairs(lines);
    for left_out in left_out {
        let line = format!("  left out: {} ({})", left_out.used, left_out.reasons.join("; "));
        page.line(dim(line));
    }
    page.line("  All of it is put back when the game ends, whatever ends it.");
}

/// What is held of a process, in one line.
pub(crate) fn holds_in_words(holds: &ProcessHolds) -> String {
    let lines = process_lines(holds).into_iter().map(|(what, how)| format!("{what} {how}"));
    lines.collect::<Vec<_>>().join(", ")
}

fn process_lines(process: &ProcessHolds) -> Vec<(&'static str, String)> {
    let mut lines = Vec::new();
    if let Some(class) = process.priority {
        let class: &str = class.into();
        lines.push(("priority", class.to_owned()));
    }
    lines.extend(process.processors.as_ref().map(|choice| ("processors", choice.to_string())));
    if process.unthrottled {
        lines.push(("throttling", "off".to_owned()));
    }
    if let Some(priority) = process.memory_priority {
        let priority: &str = priority.into();
        lines.push(("memory priority", priority.to_owned()));
    }
    lines
}

fn plan_lines(plan: &PlayPlan) -> Vec<(&'static str, String)> {
    let PlayPlan { process, pc, .. } = plan;
    let mut lines = process_lines(process);
    lines.extend(pc.timer.map(|period| ("timer", period.to_string())));
    if let Some(PurgeRule { free_below_mib, standby_above_mib, pause_s }) = pc.purge {
        let words = format!(
            "standby is given back below {free_below_mib} MiB free with over {standby_above_mib} MiB of it, each {pause_s} s at most"
        );
        lines.push(("memory", words));
    }
    if let Some(OthersRule { above_percent, for_s }) = pc.others {
        let words = format!(
            "lowered where they take over {above_percent} % of all processors for {for_s} s"
        );
        lines.push(("other programs", words));
    }
    lines
}

/// What happened around the game.
fn show_events(events: &[TimedPlayEvent], page: &mut Page) {
    let mut freed_mib = Vec::new();
    for timed in events {
        match &timed.event {
            PlayEvent::Held { .. } | PlayEvent::PutBack { .. } => {}
            PlayEvent::Recorded { visit } => page.line(format_args!(
                "  Its frames were recorded, in ordinary play, as visit {}: `frevin play show`.",
                visit.0
            )),
            PlayEvent::Purged { before, after } => {
                freed_mib.push(after.free_mib.saturating_sub(before.free_mib));
            }
            PlayEvent::Lowered { file, percent, .. } => page
                .line(format_args!("  {file} was lowered: it took {percent} % of all processors.")),
            PlayEvent::Timer { granted, counts_for_all } => {
                let granted = granted.map_or("nothing".to_owned(), |period| period.to_string());
                page.line(format_args!("  The timer: {granted} was granted."));
                if !counts_for_all {
                    page.paragraph(
                        2,
                        "Since Windows 10 of 2020 a request counts for the program that makes it, which is Frevin: the game \
                         does not feel it. On Windows 11 `cpu/timer-requests` lets requests count for all.",
                    );
                }
            }
        }
    }
    if !freed_mib.is_empty() {
        let all: u64 = freed_mib.iter().sum();
        page.line(format_args!(
            "  Standby memory was given back {}, {all} MiB in all.",
            count(freed_mib.len(), "time")
        ));
    }
}

pub(crate) fn ending_in_words(ending: PlayEnding) -> &'static str {
    match ending {
        PlayEnding::GameEnded => "The game has ended.",
        PlayEnding::Stopped => "It was stopped; the game goes on.",
        PlayEnding::NoGame => "The game did not come.",
        PlayEnding::NotHeld => "The PC did not take what was to be held.",
        PlayEnding::Settled => "Its watcher was gone.",
    }
}

impl View for PlayReport {
    fn show(&self, page: &mut Page) {
        let said = ending_in_words(self.ending);
        match self.ending {
            PlayEnding::GameEnded | PlayEnding::Stopped => page.line(good(said)),
            PlayEnding::NoGame | PlayEnding::NotHeld | PlayEnding::Settled => page.line(warn(said)),
        }
        if self.settings > 0 {
            page.line(format_args!(
                "{} of {} put back.",
                count(self.settings, "setting"),
                strong(&self.title)
            ));
        }
        show_events(&self.events, page);
        for problem in &self.problems {
            page.line(warn(format_args!("  not held: {problem}")));
        }
        for left_out in &self.left_out {
            page.line(dim(format_args!(
                "  left out: {} ({})",
                left_out.used,
                left_out.reasons.join("; ")
            )));
        }
    }
}

impl View for StatusReport {
    fn show(&self, page: &mut Page) {
        let Some(play) = &self.play else {
            page.line("Nothing is held for a game.");
            return;
        };
        page.heading(format_args!("Play {}: {}", play.id, play.plan.title));
        let game = match &self.status.processes[..] {
            [] => "it has not come yet".to_owned(),
            [id] => format!("runs, as process {id}"),
            ids => format!("runs, as {} processes", ids.len()),
        };
        let mut lines = vec![("game", game)];
        lines.extend(plan_lines(&play.plan));
        page.pairs(lines);
        show_events(&play.events, page);
        for problem in &self.status.problems {
            page.line(warn(format_args!("  not held: {problem}")));
        }
        page.pairs([("put it back now", "frevin play stop")]);
    }
}

impl View for PlayList {
    fn show(&self, page: &mut Page) {
        if self.plays.is_empty() {
            page.line("Nothing was held for a game on this PC yet.");
            return;
        }
        let mut table = Table::new([">play", "held", "came of it"]);
        for play in &self.plays {
            let came = play.ended.map_or("goes on", |(_, ending)| ending_in_words(ending));
            table.row([play.id.to_string(), play.plan.title.clone(), came.to_owned()]);
        }
        page.table(table);
    }
}

impl View for Watched {
    fn show(&self, page: &mut Page) {
        page.line(ending_in_words(self.ending));
    }
}

impl View for PlayDetail {
    fn show(&self, page: &mut Page) {
        let Self { play, visit } = self;
        page.heading(format_args!("Play {}: {}", play.id, play.plan.title));
        let mut lines = vec![("begun", when(play.begun_at))];
        let came = play.ended.map_or("It goes on.", |(_, ending)| ending_in_words(ending));
        lines.push(("came of it", came.to_owned()));
        lines.extend(plan_lines(&play.plan));
        page.pairs(lines);
        show_events(&play.events, page);
        let Some(visit) = visit else { return };
        for run in visit.counted() {
            let metrics = &run.metrics;
            page.heading("Its frames, in ordinary play");
            page.pairs([
                ("average", fps(metrics.average_fps)),
                ("1% low", fps(metrics.low_1_percent_fps)),
                ("stutters", metrics.stutter.events.to_string()),
                ("recorded", format!("{:.0} s", metrics.seconds)),
            ]);
            page.paragraph(
                2,
                "No scene and no other play is comparable with it: what happened in the game moves frames more than any \
                 tweak. `frevin trial start --tweak ID --in-play` tells what a tweak does while you play.",
            );
        }
    }
}

/// How memory is used, before and after standby memory was given back.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct MemoryReport {
    #[serde(flatten)]
    pub(crate) before: MemoryState,
    /// After it was given back, where it was.
    pub(crate) after: Option<MemoryState>,
}

impl View for MemoryReport {
    fn show(&self, page: &mut Page) {
        let rows = |of: MemoryState| {
            [
                of.total_mib,
                of.free_mib,
                of.standby_mib,
                of.cached_mib,
                of.committed_mib,
                of.commit_limit_mib,
            ]
        };
        let names = ["total", "free", "on standby", "file cache", "committed", "commit limit"];
        let heads: &[&str] = match self.after {
            None => &["memory", ">MiB"],
            Some(_) => &["memory", ">MiB before", ">after"],
        };
        let mut table = Table::new(heads.to_vec());
        let after = self.after.map(rows);
        for (at, (name, before)) in names.into_iter().zip(rows(self.before)).enumerate() {
            let mut cells = vec![name.to_owned(), before.to_string()];
            cells.extend(after.map(|after| after[at].to_string()));
            table.row(cells);
        }
        page.table(table);
        if self.after.is_some() {
            page.line(
                "What is on standby is kept in case that it is read again: it fills once more.",
            );
        }
    }
}
