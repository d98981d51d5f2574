//! A sift as its events tell it, and what comes next.

use frevin_stats::sift::{Due, Effect, Found, Posterior, Sifting};
use schemars::JsonSchema;
use serde::Serialize;

use super::design::{Configuration, SiftDesign};
use super::event::{RowFigures, SiftAction, SiftEvent};
use super::in_play::PlayedSift;
use crate::ids::BootId;
use crate::setting::State;
use crate::trial::{Ending, Reason, TrialId};
use crate::tune::{Evening, Goal};
use crate::tweak::TweakUse;
use crate::verdict::{Judge, Verdict};
use crate::visits::VisitId;

/// A doubtful measurement is made again so often, and then taken with its doubt.
const MOST_REPEATS: usize = 2;
/// So many tweaks for experts are on for the first time in one start.
const NEW_AT_ONCE: usize = 3;
/// What is shown of an effect on either side of it, in standard deviations.
const REACH: f64 = 2.2;

/// What a PC is like, as far as a sift has to know.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SeenBySift {
    /// What of the sift is in force.
    pub configuration: Configuration,
    /// The present start of the PC.
    pub boot: BootId,
    /// Whether other changes hold what they held when the sift began.
    pub others_are_as_before: bool,
    /// How the trial of what helped has ended, where it has begun and ended.
    pub trial_ended: Option<(Verdict, Ending)>,
}

/// How far a sift is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum SiftProgress {
    /// Tweaks for experts are switched on for the first time, a few a start.
    Introducing,
    /// Configurations are measured, in visits or in play.
    Measuring,
    /// It is decided; the PC is brought back, and what helped is tried.
    Decided,
    /// The trial of what helped goes on.
    InTrial,
    /// Its owner put it off.
    Paused,
    /// Its owner gave it up, and the PC is still to be put back.
    GivenUp,
    /// It is over.
    Ended,
}

/// What of a sift is still to come.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ToCome {
    /// Configurations, and a trial of what helped.
    Configurations,
    /// That trial.
    Trial,
    /// Nothing.
    Nothing,
}

/// What was found of a tweak.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct FoundTweak {
    /// The tweak with its arguments.
    #[serde(flatten)]
    pub used: TweakUse,
    /// What it does.
    pub found: Found,
    /// The effect on what it is judged by, in percent: of a ping or a latency, less is better.
    pub effect_percent: f64,
    /// The lower end of its interval.
    pub low_percent: f64,
    /// The upper end.
    pub high_percent: f64,
    /// The chance that its sign is the one of the effect.
    pub probability: f64,
    /// The chance that it is as large as the sift must be sure about, either way.
    pub probability_worth_having: f64,
    /// Its effect on the 1% low by least squares, for reading.
    pub on_low_1_percent: Option<Effect>,
    /// Its effect on the logarithm of stutters by least squares, for reading.
    pub on_stutters: Option<Effect>,
    /// Its effect on average FPS by least squares, which evidence is made of.
    pub least_squares: Option<Effect>,
}

impl FoundTweak {
    /// What a look says of a tweak, without what is for reading.
    pub(super) fn of(used: TweakUse, found: Found, posterior: &Posterior, judge: Judge) -> Self {
        let percent = |gain: f64| 100.0 * judge.change_of(gain);
        let Posterior { mean, standard_deviation, .. } = *posterior;
        let ends = [-REACH, REACH].map(|reach| percent(mean + reach * standard_deviation));
        Self {
            used,
            found,
            effect_percent: percent(mean),
            low_percent: ends[0].min(ends[1]),
            high_percent: ends[0].max(ends[1]),
            probability: posterior.above_zero.max(posterior.below_zero),
            probability_worth_having: posterior.worth_having,
            on_low_1_percent: None,
            on_stutters: None,
            least_squares: None,
        }
    }
}

/// Two tweaks that act together.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct TogetherFound {
    /// The first.
    pub first: TweakUse,
    /// The second.
    pub second: TweakUse,
    /// What both together add to both effects, in percent.
    pub effect_percent: f64,
    /// The chance of as much where they add nothing.
    pub p: f64,
}

/// How configurations are measured.
#[derive(Debug, Clone)]
enum Method {
    /// Each in runs of its own.
    Rows(Box<Sifting>),
    /// In short segments of play.
    Play(Box<PlayedSift>),
    /// Not at all: an evening has nothing to ask about any more, and proves what helped in play.
    Nothing,
}

/// A sift: its design, and its events replayed.
#[derive(Debug, Clone)]
pub struct Sift {
    design: SiftDesign,
    method: Method,
    /// What each row gave, as often as it was measured.
    rows: Vec<Vec<(VisitId, RowFigures)>>,
    introduced: usize,
    last_used: BootId,
    repeats: usize,
    voided: usize,
    decided: bool,
    trial: Option<TrialId>,
    ended: Option<(Option<Verdict>, Option<Ending>)>,
    abandoned: bool,
    paused: bool,
    entry_before: Option<State>,
}

impl Sift {
    /// A sift by its design and what has happened since. Looks are computed again from the seed, so that the same
    /// events say the same to the last bit.
    ///
    /// # Errors
    /// Where the design cannot be sifted.
    pub fn replay<'a>(
        design: SiftDesign,
        events: impl IntoIterator<Item = &'a SiftEvent>,
    ) -> Result<Self, frevin_stats::sift::FactorsError> {
        let is_proof = design.tweaks.is_empty()
            && design.evening.as_ref().is_some_and(|evening| evening.played_first.is_some());
        let method = match &design.in_play {
            _ if is_proof => Method::Nothing,
            None => Method::Rows(Box::new(Sifting::new(design.factors()?, design.rule))),
            Some(played) => {
                let (columns, seed) = (design.factors()?.columns(), design.rule.seed);
                Method::Play(Box::new(PlayedSift::new(played, columns, seed)?))
            }
        };
        let mut sift = Self {
            last_used: design.boot.clone(),
            design,
            method,
            rows: Vec::new(),
            introduced: 0,
            repeats: 0,
            voided: 0,
            decided: false,
            trial: None,
            ended: None,
            abandoned: false,
            paused: false,
            entry_before: None,
        };
        events.into_iter().for_each(|event| sift.take(event));
        Ok(sift)
    }

    /// Takes one more event.
    pub fn take(&mut self, event: &SiftEvent) {
        match event {
            SiftEvent::Began { action, boot } => match action {
                // What was restarted for is what was begun in that start.
                SiftAction::Introduce { .. }
                | SiftAction::Measure { .. }
                | SiftAction::Play { .. }
                | SiftAction::Switch { .. }
                | SiftAction::Restart => self.last_used = boot.clone(),
                SiftAction::Decide
                | SiftAction::BeginTrial
                | SiftAction::GoOnWithTrial { .. }
                | SiftAction::GoOnInRuns
                | SiftAction::End
                | SiftAction::Rest
                | SiftAction::Blocked
                | SiftAction::Nothing => {}
            },
            SiftEvent::Switched { .. } | SiftEvent::Restarted { .. } => {}
            SiftEvent::EntrySet { before } => self.entry_before = Some(before.clone()),
            SiftEvent::EntryGone => self.entry_before = None,
            SiftEvent::Introduced { group } => self.introduced = self.introduced.max(group + 1),
            SiftEvent::Measured { row, visit, figures, .. } => {
                // What was acknowledged twice counts once.
                if self.due_row() != Some(*row) {
                    return;
                }
                self.repeats = 0;
                if let Method::Rows(sifting) = &mut self.method {
                    let judged = figures.judged.map(|gain| gain / self.design.judge.scale());
                    sifting.push(judged.unwrap_or(figures.ln_average_fps));
                }
                if self.rows.len() <= *row {
                    self.rows.resize(row + 1, Vec::new());
                }
                self.rows[*row].push((*visit, *figures));
            }
            SiftEvent::Played { sitting, segments } => {
                if let Method::Play(played) = &mut self.method {
                    played.take(*sitting, segments);
                }
            }
            SiftEvent::Voided { .. } => {
                self.repeats += 1;
                self.voided += 1;
            }
            SiftEvent::Decided => self.decided = true,
            SiftEvent::TrialBegun { trial } => self.trial = Some(*trial),
            SiftEvent::Ended { verdict, ending } => self.ended = Some((*verdict, *ending)),
            SiftEvent::Abandoned => self.abandoned = true,
            SiftEvent::Paused => self.paused = true,
            SiftEvent::Resumed => self.paused = false,
        }
    }

    /// The row that is to be measured next, for the first time or again.
    pub fn due_row(&self) -> Option<usize> {
        match self.rows_sifted()?.due() {
            Due::Row(row) | Due::Again(row) => Some(row),
            Due::Nothing => None,
        }
    }

    /// What is on in a row.
    pub fn configuration(&self, row: usize) -> Configuration {
        let on = self.rows_sifted().and_then(|sifting| sifting.row(row));
        on.map(Configuration::of_row).unwrap_or_default()
    }

    /// The tweaks for experts that have never been on, a few for each start.
    fn introductions(&self) -> Vec<Configuration> {
        if self.design.in_play.is_some() {
            // Nothing of a sift in play is on while the PC starts.
            return Vec::new();
        }
        let experts: Vec<usize> = self.design.experts().collect();
        // One start after another with what excludes each other is not possible together.
        let mut groups: Vec<Vec<usize>> = Vec::new();
        for expert in experts {
            let excludes = |group: &Vec<usize>| {
                let together = |set: &&Vec<usize>| set.contains(&expert);
                let own = self.design.exclusive.iter().find(together);
                own.is_some_and(|own| group.iter().any(|other| own.contains(other)))
            };
            match groups.iter_mut().find(|group| group.len() < NEW_AT_ONCE && !excludes(group)) {
                Some(group) => group.push(expert),
                None => groups.push(vec![expert]),
            }
        }
        groups.into_iter().map(|group| self.with_needs(group)).collect()
    }

    /// Columns, with those that they do nothing without.
    fn with_needs(&self, mut columns: Vec<usize>) -> Configuration {
        let mut at = 0;
        while at < columns.len() {
            let here = columns[at];
            let needed = self
                .design
                .needs
                .iter()
                .filter(|(dependent, _)| *dependent == here)
                .map(|(_, n)| *n);
            for needed in needed.collect::<Vec<_>>() {
                if !columns.contains(&needed) {
                    columns.push(needed);
                }
            }
            at += 1;
        }
        Configuration::of(columns)
    }

    /// What to do next on a PC that is like this.
    pub fn next(&self, seen: &SeenBySift) -> SiftAction {
        if self.ended.is_some() {
            return SiftAction::Nothing;
        }
        let none = Configuration::default();
        let reach = |to: &Configuration, then: SiftAction| {
            if seen.configuration == *to { then } else { SiftAction::Switch { to: to.clone() } }
        };
        match self.trial {
            // Its own end leaves the PC where the verdict wants it; it is put off as a trial is.
            Some(_) if seen.trial_ended.is_some() => return SiftAction::End,
            Some(trial) => return SiftAction::GoOnWithTrial { trial },
            None => {}
        }
        if self.abandoned {
            return reach(&none, SiftAction::End);
        }
        if self.paused {
            return reach(&none, SiftAction::Rest);
        }
        if self.decided {
            let is_played = self.design.evening.as_ref().is_some_and(Evening::is_played);
            let then = match self.has_something_to_try() {
                _ if is_played => SiftAction::GoOnInRuns,
                true => SiftAction::BeginTrial,
                false => SiftAction::End,
            };
            return reach(&none, then);
        }
        if !seen.others_are_as_before {
            return SiftAction::Blocked;
        }
        if let Method::Play(played) = &self.method {
            // Between sittings the PC is as it was; while one goes on, its driver switches.
            return match played.is_finished() {
                true => SiftAction::Decide,
                false => reach(&none, SiftAction::Play { sitting: played.sittings() }),
            };
        }
        let (to, then) = match self.introductions().get(self.introduced) {
            Some(to) => (to.clone(), SiftAction::Introduce { group: self.introduced }),
            None => match self.due_row() {
                None => return SiftAction::Decide,
                Some(row) => (self.configuration(row), SiftAction::Measure { row }),
            },
        };
        let restarts = self.design.restarts && seen.boot == self.last_used;
        reach(&to, if restarts { SiftAction::Restart } else { then })
    }

    /// The columns that are worth being tried together, with those that they do nothing without: those that help, and
    /// where an evening wants less power for the same frames, those that cost none too.
    pub fn helping(&self) -> Configuration {
        let found = match &self.method {
            Method::Rows(sifting) => sifting.found(),
            Method::Play(played) => played.found_of_columns(),
            Method::Nothing => Vec::new(),
        };
        let goal = self.design.evening.as_ref().map_or(Goal::Frames, |evening| evening.goal);
        let is_wanted = |found: &Found| match (found, goal) {
            (Found::Helps, _) | (Found::NoEffect, Goal::Quiet) => true,
            (Found::NoEffect, Goal::Frames | Goal::Ping | Goal::Latency)
            | (Found::Hurts | Found::Unclear, _) => false,
        };
        let helps = found.iter().enumerate().filter(|(_, found)| is_wanted(found));
        let helps: Vec<usize> = helps.map(|(column, _)| column).collect();
        self.with_needs(helps)
    }

    /// Whether anything helps, or was mended before the evening that it is of and is still to be proven.
    fn has_something_to_try(&self) -> bool {
        let helping = self.helping();
        let is_more = |evening: &Evening| !evening.tried_beside(&[]).is_empty();
        !helping.columns().is_empty() || self.design.evening.as_ref().is_some_and(is_more)
    }

    /// What was found of each tweak, as the latest look has it; nothing before the first.
    pub fn found(&self) -> Vec<FoundTweak> {
        let sifting = match &self.method {
            Method::Rows(sifting) => sifting,
            Method::Play(played) => {
                return played.found(self.design.tweaks.iter().map(|one| one.wish.used.clone()));
            }
            Method::Nothing => return Vec::new(),
        };
        let figures = |of: fn(&RowFigures) -> f64| -> Vec<Vec<f64>> {
            self.rows.iter().map(|row| row.iter().map(|(_, f)| of(f)).collect()).collect()
        };
        let found = sifting.found();
        if found.is_empty() {
            return Vec::new();
        }
        let on_low = sifting.effects_on(&figures(|f| f.ln_low_1_percent_fps));
        let on_stutters = sifting.effects_on(&figures(|f| f.ln_stutters));
        // What is not frame rate is no evidence of it.
        let judge = self.design.judge;
        let squares = match judge {
            Judge::FrameRate => sifting.effects(),
            Judge::Ping | Judge::Latency => vec![None; found.len()],
        };
        self.design
            .tweaks
            .iter()
            .zip(sifting.posteriors())
            .enumerate()
            .map(|(column, (tweak, posterior))| FoundTweak {
                on_low_1_percent: on_low[column],
                on_stutters: on_stutters[column],
                least_squares: squares[column],
                ..FoundTweak::of(tweak.wish.used.clone(), found[column], posterior, judge)
            })
            .collect()
    }

    /// The tweaks that act together.
    pub fn together(&self) -> Vec<TogetherFound> {
        // Pairs of opposite configurations do not tell what two do together.
        let Some(sifting) = self.rows_sifted().filter(|one| !one.posteriors().is_empty()) else {
            return Vec::new();
        };
        let used = |column: usize| self.design.tweaks[column].wish.used.clone();
        let found = sifting.interactions().into_iter().map(|pair| TogetherFound {
            first: used(pair.first),
            second: used(pair.second),
            effect_percent: 100.0 * self.design.judge.change_of(pair.effect),
            p: pair.p,
        });
        found.collect()
    }

    /// The statistics, where configurations are measured in runs of their own.
    pub fn rows_sifted(&self) -> Option<&Sifting> {
        match &self.method {
            Method::Rows(sifting) => Some(sifting),
            Method::Play(_) | Method::Nothing => None,
        }
    }

    /// What was played, where it is a sift in play.
    pub fn played(&self) -> Option<&PlayedSift> {
        match &self.method {
            Method::Rows(_) | Method::Nothing => None,
            Method::Play(played) => Some(played),
        }
    }

    /// The design.
    pub fn design(&self) -> &SiftDesign {
        &self.design
    }

    /// What each row gave, as often as it was measured, with the visits.
    pub fn rows(&self) -> &[Vec<(VisitId, RowFigures)>] {
        &self.rows
    }

    /// Whether a measurement that is doubtful is made again, and not taken with its doubt.
    pub fn repeats_doubtful_row(&self) -> bool {
        self.repeats < MOST_REPEATS
    }

    /// Measurements that were made and do not count.
    pub fn voided(&self) -> usize {
        self.voided
    }

    /// How many starts tweaks for experts take that have never been on.
    pub fn introduction_starts(&self) -> usize {
        self.introductions().len()
    }

    /// How far it is.
    pub fn progress(&self) -> SiftProgress {
        if self.ended.is_some() {
            SiftProgress::Ended
        } else if self.abandoned && self.trial.is_none() {
            SiftProgress::GivenUp
        } else if self.paused {
            SiftProgress::Paused
        } else if self.trial.is_some() {
            SiftProgress::InTrial
        } else if self.decided {
            SiftProgress::Decided
        } else if self.introduced < self.introduction_starts() {
            SiftProgress::Introducing
        } else {
            SiftProgress::Measuring
        }
    }

    /// Whether it is the played part of an evening and is over, so that the part in runs follows.
    pub fn is_played_out(&self) -> bool {
        let is_played = self.design.evening.as_ref().is_some_and(Evening::is_played);
        is_played && self.decided && !self.paused && !self.abandoned && self.ended.is_none()
    }

    /// What is still to come of it.
    pub fn to_come(&self) -> ToCome {
        let is_played = self.design.evening.as_ref().is_some_and(Evening::is_played);
        if self.ended.is_some() || self.abandoned || (self.decided && is_played) {
            ToCome::Nothing
        } else if self.decided {
            ToCome::Trial
        } else {
            ToCome::Configurations
        }
    }

    /// The trial of what helped, where it has begun.
    pub fn trial(&self) -> Option<TrialId> {
        self.trial
    }

    /// Whether its owner put it off.
    pub fn is_paused(&self) -> bool {
        self.paused
    }

    /// Whether its owner gave it up.
    pub fn is_abandoned(&self) -> bool {
        self.abandoned
    }

    /// Whether its owner gave it up, or the trial of what helped.
    pub fn is_given_up(&self) -> bool {
        let by_trial =
            matches!(self.ended, Some((_, Some(ending))) if ending.reason == Reason::Abandoned);
        self.abandoned || by_trial
    }

    /// The verdict of that trial and how it ended, where the sift is over.
    pub fn ended(&self) -> Option<(Option<Verdict>, Option<Ending>)> {
        self.ended
    }

    /// What the entry held that Windows goes on with the sift by; nothing where it is not set.
    pub fn entry_before(&self) -> Option<&State> {
        self.entry_before.as_ref()
    }
}

#[cfg(test)]
mod tests;
