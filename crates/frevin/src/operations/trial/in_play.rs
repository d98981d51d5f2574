//! A sitting of a trial in play: the state is switched while somebody plays, and frames are taken in.

use frevin_core::trial::in_play::{InPlay, LEAD_IN_S, Segment, Sitting};
use frevin_core::trial::{Arm, Event, Place};
use frevin_ledger::ChangeFor;
use frevin_pc::Pc;
use indicatif::ProgressBar;

use super::begin::target_of;
use super::drive::Driver;
use crate::failure::{Failure, Kind};
use crate::measure::play_feed::PlayFeed;
use crate::operations::apply::{Order, Switching};

/// How a sitting ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum Sat {
    /// With something to be decided, or with longer segments to begin with.
    Decided,
    /// The game ended, or the time that its owner had is out.
    Over,
}

/// Segments are written down in the ledger when there are so many: about a minute.
const WRITTEN_TOGETHER: usize = 10;
/// Frames that are late by more than this, in seconds, do not come.
const LATEST_S: f64 = 4.0;

/// What is played so far of a sitting.
struct Table<'a> {
    design: &'a InPlay,
    seed: u64,
    number: usize,
    doubled: u32,
    sitting: Sitting,
    known_until_s: f64,
    /// Segments that were judged.
    judged: usize,
}

impl Table<'_> {
    fn segment_s(&self) -> f64 {
        self.design.segment_s(self.doubled)
    }

    fn begin_s(&self, segment: usize) -> f64 {
        LEAD_IN_S + self.segment_s() * segment as f64
    }

    fn arm(&self, segment: usize) -> Arm {
        self.design.arm(self.seed, self.number, segment, self.doubled)
    }

    /// Segments whose frames are all known at a moment, or will not come any more.
    fn judge(&mut self, now_s: f64) -> Vec<Segment> {
        let mut found = Vec::new();
        loop {
            let segment = self.judged;
            let (begin, end) = (self.begin_s(segment), self.begin_s(segment + 1));
            if self.known_until_s < end && now_s < end + LATEST_S {
                return found;
            }
            if now_s < end {
                return found;
            }
            let (first, _) = self.design.partner(segment, self.doubled);
            let settling_s = self.design.settling_s(self.doubled);
            let arm = self.arm(segment);
            found.push(self.sitting.segment(arm, (begin, end), settling_s, self.begin_s(first)));
            self.judged += 1;
        }
    }
}

impl Driver<'_> {
    /// Plays a sitting. The PC is as it was before at its end, whatever came of it.
    pub(super) fn play(&mut self, number: usize, doubled: u32) -> Result<Sat, Failure> {
        let design = self.trial.design().clone();
        let Some(in_play) = &design.in_play else {
            return Err(Failure::new(Kind::Internal, "it is no trial in play"));
        };
        let scene = design.levels.first().cloned();
        let scene = scene.ok_or_else(|| Failure::new(Kind::Internal, "a trial has a scene"))?;
        let made_for = ChangeFor::Trial(self.id, Place::B);
        let order = Order::new(&*self.pc, self.ledger, target_of(&design.b), None, false)?;
        let context = self.context.clone();
        let switching =
            Switching::begin(&context, &mut *self.pc, self.ledger, order.made_for(made_for))?;
        let minutes = in_play.limit(doubled).pairs() as u64 * 2;
        let progress = context.progress(minutes, "segments played");
        let mut table = Table {
            design: in_play,
            seed: design.seed,
            number,
            doubled,
            sitting: Sitting::default(),
            known_until_s: 0.0,
            judged: 0,
        };
        let begun =
            PlayFeed::begin(&context, &mut *self.pc, &switching.lock, &in_play.source, &scene);
        let played = match begun {
            Err(failure) => Err(failure),
            Ok(mut feed) => {
                let sat = self.play_on(&mut table, &mut feed, &switching, &progress);
                let ended = feed.end(&mut *self.pc, &switching.lock);
                sat.and_then(|sat| ended.map(|()| sat))
            }
        };
        progress.finish_and_clear();
        let pc: &mut dyn Pc = &mut *self.pc;
        let gone_back = switching.end(&context, pc, self.ledger);
        let sat = played?;
        gone_back?;
        Ok(sat)
    }

    fn play_on(
        &mut self,
        table: &mut Table<'_>,
        feed: &mut PlayFeed,
        switching: &Switching,
        progress: &ProgressBar,
    ) -> Result<Sat, Failure> {
        let mut unwritten = Vec::new();
        let mut segment = 0;
        // The lead-in is in A, as the PC is.
        let mut fed = feed.until(&mut *self.pc, LEAD_IN_S)?;
        loop {
            table.sitting.take(fed.frames);
            table.known_until_s = table.known_until_s.max(fed.known_until_s);
            let now_s = feed.now_s().unwrap_or(table.known_until_s);
            let judged = table.judge(now_s);
            progress.inc(judged.len() as u64);
            for one in judged {
                self.trial.take(&played(table, vec![one]));
                unwritten.push(one);
            }
            let is_over =
                fed.is_over || table.design.sitting_s.is_some_and(|most_s| now_s >= most_s);
            // A pair is judged when the segment after it is known.
            let is_settled = table.judged % 2 == 1 && self.is_settled(table.doubled);
            if is_over || is_settled || unwritten.len() >= WRITTEN_TOGETHER {
                self.keep(table, &mut unwritten)?;
            }
            if is_settled {
                return Ok(Sat::Decided);
            }
            if is_over {
                // Whether the time of the whole trial is out shows with what was played last.
                return Ok(if self.is_settled(table.doubled) { Sat::Decided } else { Sat::Over });
            }
            let pc: &mut dyn Pc = &mut *self.pc;
            // The same is done where the state stays: switching itself must not tell the two apart.
            let switched = match table.arm(segment) {
                Arm::A => switching.off(pc),
                Arm::B => switching.on(pc),
            };
            switched.map_err(|reason| {
                Failure::new(Kind::RefusedAndUndone, "the PC did not take a switch to and fro")
                    .detail(reason)
                    .hint("`frevin trial abandon` gives the trial up; try it in visits, without --in-play")
            })?;
            segment += 1;
            fed = feed.until(&mut *self.pc, table.begin_s(segment))?;
        }
    }

    /// Whether there is a verdict, or segments have to be longer.
    fn is_settled(&self, doubled: u32) -> bool {
        self.trial.judged().is_some_and(|judged| judged.is_finished() || judged.doubled != doubled)
    }

    /// Writes down segments that the trial knows already.
    fn keep(&mut self, table: &Table<'_>, unwritten: &mut Vec<Segment>) -> Result<(), Failure> {
        if unwritten.is_empty() {
            return Ok(());
        }
        let event = played(table, std::mem::take(unwritten));
        Ok(self.ledger.add_trial_event(self.id, self.context.clock.now(), &event)?)
    }
}

fn played(table: &Table<'_>, segments: Vec<Segment>) -> Event {
    Event::Played { sitting: table.number, doubled: table.doubled, segments }
}
