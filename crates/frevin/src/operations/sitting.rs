//! A sitting: settings are switched to and fro while somebody plays, and frames are taken in.

use frevin_core::ids::SceneName;
use frevin_core::trial::in_play::{InPlay, LEAD_IN_S, Segment, Sitting};
use frevin_ledger::Ledger;
use frevin_pc::{PcLock, Restarts};
use indicatif::ProgressBar;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::play_feed::PlayFeed;
use crate::operations::apply::{Order, Switching};
use crate::operations::play::ProcessSwitch;

/// How a sitting ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Sat {
    /// With something to be decided, or with longer segments to begin with.
    Decided,
    /// The game ended, or the time that its owner had is out.
    Over,
}

/// Which sitting it is, and how it is played.
#[derive(Debug, Clone, Copy)]
pub(crate) struct SittingPlan<'a> {
    pub(crate) design: &'a InPlay,
    pub(crate) scene: &'a SceneName,
    pub(crate) seed: u64,
    /// Its number, counted from 0.
    pub(crate) number: usize,
    /// How often the settling time was doubled.
    pub(crate) doubled: u32,
    /// About how many segments there will be at most.
    pub(crate) most_segments: u64,
}

/// What is switched to and fro in a sitting.
pub(crate) enum Held {
    /// Settings of the PC, by a change that is held open.
    Settings(Switching),
    /// Something of the process that is played. The PC's lock is held meanwhile: it is compared with itself.
    Process(ProcessSwitch, PcLock),
}

impl Held {
    fn lock(&self) -> &PcLock {
        match self {
            Self::Settings(switching) => &switching.lock,
            Self::Process(_, lock) => lock,
        }
    }

    /// Ends it with the PC as it was before.
    fn end(
        self,
        context: &Context,
        pc: &mut dyn Restarts,
        ledger: &mut Ledger,
    ) -> Result<(), Failure> {
        match self {
            Self::Settings(switching) => switching.end(context, &mut *pc, ledger),
            Self::Process(process, _) => {
                process.off().map_err(|reason| Failure::new(Kind::RefusedAndUndone, reason))
            }
        }
    }
}

/// What a sitting is played for.
pub(crate) trait PlayedFor {
    /// The PC, and where it is written down.
    fn parts(&mut self) -> (&mut dyn Restarts, &mut Ledger);
    /// Lets the PC be what it is to be in a segment. The same is done where the state stays: switching itself must not
    /// tell states apart.
    fn switch(
        &mut self,
        held: &mut Held,
        plan: &SittingPlan<'_>,
        segment: usize,
    ) -> Result<(), String>;
    /// Takes a segment in, without writing it down.
    fn take(&mut self, plan: &SittingPlan<'_>, segment: Segment);
    /// Writes down segments that were taken in.
    fn keep(&mut self, plan: &SittingPlan<'_>, segments: Vec<Segment>) -> Result<(), Failure>;
    /// Whether there is a result, or segments have to be longer.
    fn is_settled(&self, plan: &SittingPlan<'_>) -> bool;
    /// What to do where the PC does not take a switch.
    fn way_out(&self) -> &'static str;
}

/// Segments are written down in the ledger when there are so many: about a minute.
const WRITTEN_TOGETHER: usize = 10;
/// Frames that are late by more than this, in seconds, do not come.
const LATEST_S: f64 = 4.0;

/// What is played so far of a sitting.
struct Table<'a> {
    plan: SittingPlan<'a>,
    sitting: Sitting,
    known_until_s: f64,
    /// Segments that were judged.
    judged: usize,
}

impl Table<'_> {
    fn begin_s(&self, segment: usize) -> f64 {
        LEAD_IN_S + self.plan.design.segment_s(self.plan.doubled) * segment as f64
    }

    /// Segments whose frames are all known at a moment, or will not come any more.
    fn judge(&mut self, now_s: f64) -> Vec<Segment> {
        let SittingPlan { design, seed, number, doubled, .. } = self.plan;
        let mut found = Vec::new();
        loop {
            let segment = self.judged;
            let (begin, end) = (self.begin_s(segment), self.begin_s(segment + 1));
            let is_known = self.known_until_s >= end || now_s >= end + LATEST_S;
            if !is_known || now_s < end {
                return found;
            }
            let (first, _) = design.partner(segment, doubled);
            let settling_s = design.settling_s(doubled);
            let arm = design.arm(seed, number, segment, doubled);
            found.push(self.sitting.segment(arm, (begin, end), settling_s, self.begin_s(first)));
            self.judged += 1;
        }
    }
}

/// Plays a sitting with the change of `order` held open, or with something of the played process switched. The PC is as it was before at its end, whatever came of it.
pub(crate) fn sit(
    context: &Context,
    played_for: &mut dyn PlayedFor,
    order: Option<Order>,
    plan: SittingPlan<'_>,
) -> Result<Sat, Failure> {
    let (pc, ledger) = played_for.parts();
    let InPlay { source, process, .. } = plan.design;
    let mut held = match order {
        Some(order) => Held::Settings(Switching::begin(context, &mut *pc, ledger, order)?),
        None => Held::Process(ProcessSwitch::new(process, source)?, context.lock(&mut *pc)?),
    };
    let begun = PlayFeed::begin(context, &mut *pc, held.lock(), source, plan.scene);
    let played = match begun {
        Err(failure) => Err(failure),
        Ok(mut feed) => {
            let progress = context.progress(plan.most_segments, "segments played");
            let table = Table { plan, sitting: Sitting::default(), known_until_s: 0.0, judged: 0 };
            let sat = play_on(played_for, table, &mut feed, &mut held, &progress);
            progress.finish_and_clear();
            let (pc, _) = played_for.parts();
            let ended = feed.end(&mut *pc, held.lock());
            sat.and_then(|sat| ended.map(|()| sat))
        }
    };
    let (pc, ledger) = played_for.parts();
    let gone_back = held.end(context, &mut *pc, ledger);
    let sat = played?;
    gone_back?;
    Ok(sat)
}

fn play_on(
    played_for: &mut dyn PlayedFor,
    mut table: Table<'_>,
    feed: &mut PlayFeed,
    held: &mut Held,
    progress: &ProgressBar,
) -> Result<Sat, Failure> {
    let plan = table.plan;
    let mut unwritten = Vec::new();
    let mut segment = 0;
    // The lead-in is played as the PC is.
    let mut fed = feed.until(played_for.parts().0, LEAD_IN_S)?;
    loop {
        table.sitting.take(fed.frames);
        table.known_until_s = table.known_until_s.max(fed.known_until_s);
        let now_s = feed.now_s().unwrap_or(table.known_until_s);
        let judged = table.judge(now_s);
        progress.inc(judged.len() as u64);
        for one in judged {
            played_for.take(&plan, one);
            unwritten.push(one);
        }
        let is_over = fed.is_over || plan.design.sitting_s.is_some_and(|most_s| now_s >= most_s);
        // A pair is judged when the segment after it is known.
        let is_settled = table.judged % 2 == 1 && played_for.is_settled(&plan);
        let is_to_be_written = is_over || is_settled || unwritten.len() >= WRITTEN_TOGETHER;
        if is_to_be_written && !unwritten.is_empty() {
            played_for.keep(&plan, std::mem::take(&mut unwritten))?;
        }
        if is_settled {
            return Ok(Sat::Decided);
        }
        if is_over {
            // Whether the time of the whole is out shows with what was played last.
            return Ok(if played_for.is_settled(&plan) { Sat::Decided } else { Sat::Over });
        }
        played_for.switch(held, &plan, segment).map_err(|reason| {
            Failure::new(Kind::RefusedAndUndone, "the PC did not take a switch to and fro")
                .detail(reason)
                .hint(played_for.way_out())
        })?;
        segment += 1;
        fed = feed.until(played_for.parts().0, table.begin_s(segment))?;
    }
}
