//! A trial as its events tell it, and what comes next.
use schemars::JsonSchema;
use serde::Serialize;

use super::design::{Arm, Design, Place};
use super::ending::{Ending, ending};
use super::event::{Action, Doubt, Event};
use super::in_play::{Judged, PlayedSitting, judge};
use crate::ids::BootId;
use crate::setting::State;
use crate::verdict::{Comparison, Histories, Verdict, VisitFigures, compare};
use crate::visits::VisitId;

/// A doubtful visit is made again so often, and then taken with its doubt.
const MOST_REPEATS: usize = 2;

/// What a PC is like, as far as a trial has to know.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Seen {
    /// What of the trial is in force.
    pub place: Place,
    /// The present start of the PC.
    pub boot: BootId,
    /// Whether other changes hold what they held when the trial began.
    pub others_are_as_before: bool,
}

/// A visit that counts.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct DoneVisit {
    /// The visit of each graphics level, in their order.
    pub visits: Vec<VisitId>,
    /// The figures of each.
    pub levels: Vec<VisitFigures>,
    /// Over all levels.
    pub figures: VisitFigures,
    /// What is doubtful about it.
    pub doubts: Vec<Doubt>,
}

/// A pair of visits.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct DonePair {
    /// The one that was visited first.
    pub first: Arm,
    /// The visit of A.
    pub a: DoneVisit,
    /// The visit of B.
    pub b: DoneVisit,
}

/// How far a trial is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Progress {
    /// It goes on.
    Going,
    /// Its owner put it off.
    Paused,
    /// It is decided, and the PC is still to be brought to where the verdict wants it.
    WayBackOpen,
    /// Its owner gave it up, and the PC is still to be put back.
    GivenUp,
    /// It is over.
    Ended,
}

/// A trial: its design, and its events replayed.
#[derive(Debug, Clone)]
pub struct Trial {
    design: Design,
    pairs: Vec<DonePair>,
    /// What was played, where it is a trial in play.
    sittings: Vec<PlayedSitting>,
    half: Option<(Arm, DoneVisit)>,
    /// The start of the PC in which something was begun last: another visit needs another.
    last_used: BootId,
    /// How often the visit that is due was void.
    repeats: usize,
    voided: usize,
    paused: bool,
    decided: Option<Verdict>,
    abandoned: bool,
    ended: Option<Ending>,
    not_settled: Option<String>,
    /// What the entry held that Windows goes on by, while it is set.
    entry_before: Option<State>,
}

impl Trial {
    /// A trial by its design and what has happened since.
    pub fn replay<'a>(design: Design, events: impl IntoIterator<Item = &'a Event>) -> Self {
        let mut trial = Self {
            last_used: design.boot.clone(),
            design,
            pairs: Vec::new(),
            sittings: Vec::new(),
            half: None,
            repeats: 0,
            voided: 0,
            paused: false,
            decided: None,
            abandoned: false,
            ended: None,
            not_settled: None,
            entry_before: None,
        };
        events.into_iter().for_each(|event| trial.take(event));
        trial
    }

    /// Takes one more event.
    pub fn take(&mut self, event: &Event) {
        match event {
            Event::Began { boot, .. } => self.last_used = boot.clone(),
            Event::Switched { .. } => self.not_settled = None,
            Event::Restarted { .. } => {}
            Event::EntrySet { before } => self.entry_before = Some(before.clone()),
            Event::EntryGone => self.entry_before = None,
            Event::Visited { pair, arm, visits, levels, doubts } => {
                // What was acknowledged twice counts once.
                if (*pair, *arm) != self.due() {
                    return;
                }
                let Some(figures) = VisitFigures::over_levels(levels) else { return };
                let done = DoneVisit {
                    visits: visits.clone(),
                    levels: levels.clone(),
                    figures,
                    doubts: doubts.clone(),
                };
                self.repeats = 0;
                match (self.half.take(), arm) {
                    (None, arm) => self.half = Some((*arm, done)),
                    (Some((first, a)), Arm::B) => self.pairs.push(DonePair { first, a, b: done }),
                    (Some((first, b)), Arm::A) => self.pairs.push(DonePair { first, a: done, b }),
                }
            }
            Event::Played { sitting, doubled, segments } => {
                if self.sittings.len() <= *sitting {
                    self.sittings.resize_with(sitting + 1, PlayedSitting::default);
                }
                let place = &mut self.sittings[*sitting];
                place.doubled = *doubled;
                place.segments.extend(segments);
            }
            Event::Voided { .. } => {
                self.repeats += 1;
                self.voided += 1;
            }
            Event::Paused => {
                self.paused = true;
                // A night between two visits is no pair.
                self.half = None;
                self.repeats = 0;
            }
            Event::Resumed => self.paused = false,
            Event::Decided { verdict } => self.decided = Some(*verdict),
            Event::NotSettled { reason } => self.not_settled = Some(reason.clone()),
            Event::Ended(ending) => self.ended = Some(*ending),
            Event::Abandoned => self.abandoned = true,
        }
    }

    /// The pair and the state that the next visit is of.
    pub fn due(&self) -> (usize, Arm) {
        let pair = self.pairs.len();
        let order = self.design.order(pair);
        (pair, if self.half.is_some() { order[1] } else { order[0] })
    }

    /// What to do next on a PC that is like this.
    pub fn next(&self, seen: &Seen) -> Action {
        if self.ended.is_some() {
            return Action::Nothing;
        }
        let reach = |place: Place, then: Action| {
            if seen.place == place { then } else { Action::Switch { to: place } }
        };
        if self.abandoned {
            let ending = Ending::abandoned(&self.design);
            return reach(ending.place, Action::End(ending));
        }
        if let Some(ending) = self.decision() {
            return reach(ending.place, Action::End(ending));
        }
        if self.paused {
            return reach(self.design.first_place(), Action::Rest);
        }
        if let Some(judged) = self.judged() {
            return self.next_in_play(&judged, seen);
        }
        let comparison = self.comparison();
        if self.half.is_none() && comparison.is_finished {
            return Action::Decide { verdict: comparison.verdict };
        }
        if !seen.others_are_as_before {
            return Action::Blocked;
        }
        let (pair, arm) = self.due();
        if seen.place != arm.into() {
            return Action::Switch { to: arm.into() };
        }
        if self.design.restarts && seen.boot == self.last_used {
            return Action::Restart;
        }
        Action::Visit { pair, arm, warm_up: self.design.warm_up, runs: self.design.runs }
    }

    fn next_in_play(&self, judged: &Judged, seen: &Seen) -> Action {
        if judged.is_finished() {
            return Action::Decide { verdict: judged.verdict() };
        }
        if !seen.others_are_as_before {
            return Action::Blocked;
        }
        // Between sittings the PC is as it was; while one goes on, its driver switches.
        let first = self.design.first_place();
        if seen.place != first {
            return Action::Switch { to: first };
        }
        Action::Play { sitting: self.sittings.len(), doubled: judged.doubled }
    }

    /// What was played so far, where it is a trial in play.
    pub fn judged(&self) -> Option<Judged> {
        let design = self.design.in_play.as_ref()?;
        Some(judge(design, self.design.margins, &self.sittings))
    }

    /// The sittings so far.
    pub fn sittings(&self) -> &[PlayedSitting] {
        &self.sittings
    }

    /// What the verdict that was given means for the PC.
    pub fn decision(&self) -> Option<Ending> {
        self.decided.map(|_| ending(&self.design, &self.comparison()))
    }

    /// What the pairs so far say.
    pub fn comparison(&self) -> Comparison {
        if let Some((judged, in_play)) = self.judged().zip(self.design.in_play.as_ref()) {
            let limit = in_play.limit(judged.doubled).pairs();
            return judged.comparison(self.design.margins, limit);
        }
        let figures = self.pairs.iter().map(|pair| (pair.a.figures, pair.b.figures));
        self.compared(figures.collect(), &self.design.histories)
    }

    /// What the pairs so far say of one graphics level, for reading: verdicts are over all levels.
    pub fn comparison_of_level(&self, level: usize) -> Comparison {
        let of_level =
            |pair: &DonePair| Some((*pair.a.levels.get(level)?, *pair.b.levels.get(level)?));
        self.compared(self.pairs.iter().filter_map(of_level).collect(), &Histories::default())
    }

    fn compared(
        &self,
        pairs: Vec<(VisitFigures, VisitFigures)>,
        histories: &Histories,
    ) -> Comparison {
        compare(self.design.judge, &pairs, self.design.limit, self.design.margins, histories)
    }

    /// Whether a visit that is doubtful is made again, and not taken with its doubt.
    pub fn repeats_doubtful_visit(&self) -> bool {
        self.repeats < MOST_REPEATS
    }

    /// The design.
    pub fn design(&self) -> &Design {
        &self.design
    }

    /// The pairs so far, in the order in which they were made.
    pub fn pairs(&self) -> &[DonePair] {
        &self.pairs
    }

    /// The visit that has no partner yet.
    pub fn half(&self) -> Option<&(Arm, DoneVisit)> {
        self.half.as_ref()
    }

    /// Visits that were made and do not count.
    pub fn voided(&self) -> usize {
        self.voided
    }

    /// How far it is.
    pub fn progress(&self) -> Progress {
        if self.ended.is_some() {
            Progress::Ended
        } else if self.abandoned {
            Progress::GivenUp
        } else if self.decided.is_some() {
            Progress::WayBackOpen
        } else if self.paused {
            Progress::Paused
        } else {
            Progress::Going
        }
    }

    /// The verdict, where it was given.
    pub fn verdict(&self) -> Option<Verdict> {
        self.decided
    }

    /// Its end.
    pub fn ended(&self) -> Option<Ending> {
        self.ended
    }

    /// What the entry held that Windows goes on with the trial by; nothing where it is not set.
    pub fn entry_before(&self) -> Option<&State> {
        self.entry_before.as_ref()
    }

    /// Why the PC could not be brought to where it should be at the end.
    pub fn not_settled(&self) -> Option<&str> {
        self.not_settled.as_deref()
    }
}

#[cfg(test)]
mod tests;
