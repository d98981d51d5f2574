//! Driving a sift: what its machine says is done, one action after another, each written down before it is done.
//!
//! As with trials, what is in force is read from the layers that the ledger holds, never from what was written down.

use std::time::Duration;

use frevin_core::ids::StateName;
use frevin_core::layers::{ChangeId, Selection};
use frevin_core::preview::OnOthers;
use frevin_core::sift::{
    Configuration, RowFigures, SeenBySift, Sift, SiftAction, SiftDesign, SiftEvent, SiftId,
    SiftProgress, Sifting,
};
use frevin_core::trial::{Circumstances, Doubt, Ending, Reason as EndingReason, TrialId, doubts};
use frevin_core::verdict::{Judge, Verdict, VisitFigures};
use frevin_core::visits::{VisitId, VisitRecord};
use frevin_ledger::{ChangeFor, Ledger, NewSift, SiftRecord, VisitFor};
use frevin_pc::{BroughtAbout, Pc, Restarts};

use super::begin::times;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::compare::counted;
use crate::measure::scene_source::SceneSource;
use crate::measure::{DeclaredConditions, VisitPlan, visit};
use crate::operations::driving::{self, alone, first_held};
use crate::operations::network::Target as Pinged;
use crate::operations::pausing;
use crate::operations::recover;
use crate::operations::sign_in::Resumed;
use crate::operations::sitting::Sat;
use crate::operations::target::Target;
use crate::operations::trial::{Stopped, no_latency, pings, probing};
use crate::view::duration;

/// A sift that is gone on with.
pub(crate) struct SiftDriver<'a> {
    pub(super) context: Context,
    pub(super) pc: &'a mut dyn Restarts,
    pub(super) ledger: &'a mut Ledger,
    pub(super) id: SiftId,
    pub(super) sift: Sift,
    /// Held as long as it is driven.
    _alone: std::fs::File,
}

impl<'a> SiftDriver<'a> {
    /// Begins a sift, durably.
    pub(crate) fn begin(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        design: SiftDesign,
    ) -> Result<Self, Failure> {
        Self::begin_after(context, pc, ledger, design, None)
    }

    /// The same, after another whose end is the beginning of this.
    pub(crate) fn begin_after(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        design: SiftDesign,
        before: Option<SiftId>,
    ) -> Result<Self, Failure> {
        let alone = alone(context)?;
        pausing::forget(context)?;
        let sift = replay(design.clone())?;
        let (pc_id, boot) = (pc.identity().id.clone(), pc.boot()?);
        let new = NewSift { pc: &pc_id, boot: &boot, at: context.clock.now(), design: &design };
        let id = match before {
            Some(before) => ledger.begin_sift_after(before, &new)?,
            None => ledger.begin_sift(&new)?,
        };
        // One word for the whole of it was enough.
        let context = context.clone().with_word_given();
        Ok(Self { context, pc, ledger, id, sift, _alone: alone })
    }

    /// Goes on with a sift. What was cut off is settled first.
    pub(crate) fn resume(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        id: SiftId,
    ) -> Result<Self, Failure> {
        let alone = alone(context)?;
        pausing::forget(context)?;
        recover::recover(context, &mut *pc, ledger, OnOthers::Stop)?;
        let sift = ledger.sift(id)?.sift()?;
        let context = context.clone().with_word_given();
        let mut driver = Self { context, pc, ledger, id, sift, _alone: alone };
        if let Some(before) = driver.sift.entry_before().cloned() {
            driving::take_entry_out(&driver.context, &mut *driver.pc, &before)?;
            driver.write(SiftEvent::EntryGone)?;
        }
        driver.settle_trial()?;
        driver.settle_visits()?;
        Ok(driver)
    }

    /// The sift as the ledger keeps it.
    pub(crate) fn record(&self) -> Result<SiftRecord, Failure> {
        Ok(self.ledger.sift(self.id)?)
    }

    /// How a run comes about; nothing where it is played.
    pub(crate) fn source(&mut self, context: &Context) -> Result<Option<SceneSource>, Failure> {
        let design = self.sift.design();
        if design.in_play.is_some() {
            return Ok(None);
        }
        let scene = design.scene.clone();
        SceneSource::find(context, &*self.pc, self.ledger, &scene).map(Some)
    }

    /// What it was driven with, and the sift as the ledger keeps it now.
    pub(crate) fn done(
        self,
    ) -> Result<(&'a mut Ledger, &'a mut dyn Restarts, SiftRecord), Failure> {
        let record = self.record()?;
        Ok((self.ledger, self.pc, record))
    }

    /// Writes down that the owner gives it up; a trial of what helped is given up too.
    pub(crate) fn give_up(&mut self) -> Result<(), Failure> {
        self.go_on()?;
        if let Some(trial) = self.sift.trial() {
            if self.trial_ended(trial)?.is_none() {
                self.trial_driver(trial)?.give_up()?;
            }
            return Ok(());
        }
        if self.sift.is_abandoned() { Ok(()) } else { self.write(SiftEvent::Abandoned) }
    }

    /// Writes down that the owner puts it off: the PC goes back to what it was until they go on with it.
    pub(crate) fn pause(&mut self) -> Result<(), Failure> {
        match self.sift.progress() {
            SiftProgress::Paused => Ok(()),
            SiftProgress::Introducing
            | SiftProgress::Measuring
            | SiftProgress::Decided
            | SiftProgress::InTrial => self.write(SiftEvent::Paused),
            SiftProgress::GivenUp | SiftProgress::Ended => {
                Err(Failure::new(Kind::Usage, "it is over; there is nothing to put off"))
            }
        }
    }

    /// Writes down that the owner goes on with it, where it was put off.
    pub(crate) fn go_on(&mut self) -> Result<(), Failure> {
        if self.sift.is_paused() { self.write(SiftEvent::Resumed) } else { Ok(()) }
    }

    /// Does what is next until the sift ends or has to wait for its owner.
    pub(crate) fn drive(&mut self, source: Option<&SceneSource>) -> Result<Stopped, Failure> {
        let recorded = || source.ok_or_else(|| Failure::new(Kind::Internal, "it is played"));
        loop {
            if self.is_asked_to_pause() {
                pausing::forget(&self.context)?;
                self.pause()?;
            }
            let seen = self.seen()?;
            let action = self.sift.next(&seen);
            match action.clone() {
                SiftAction::Nothing => return Ok(Stopped::Ended),
                // Of an evening that was played, whoever drives it lets the other part follow.
                SiftAction::Rest | SiftAction::GoOnInRuns => return Ok(Stopped::Resting),
                SiftAction::Blocked => return Err(blocked()),
                SiftAction::Decide => self.write(SiftEvent::Decided)?,
                SiftAction::End => {
                    if let Some((_, ending)) = seen.trial_ended
                        && !ending.kept
                        && ending.reason != EndingReason::Abandoned
                    {
                        self.mend_again()?;
                    }
                    let (verdict, ending) = seen.trial_ended.unzip();
                    self.write(SiftEvent::Ended { verdict, ending })?;
                }
                SiftAction::Switch { to } => {
                    self.write(SiftEvent::Began { action, boot: seen.boot })?;
                    let change = self
                        .switch(&to)
                        .map_err(|failure| failure.hint(how_to_go_on(self.sift.design())))?;
                    self.write(SiftEvent::Switched { to, change })?;
                }
                SiftAction::Restart => {
                    self.write(SiftEvent::Began { action, boot: seen.boot })?;
                    match self.restart()? {
                        BroughtAbout::Done { .. } => {
                            let boot = self.pc.boot()?;
                            self.write(SiftEvent::Restarted { boot })?;
                        }
                        BroughtAbout::Begun => return Ok(Stopped::Restarting),
                        BroughtAbout::LeftToOwner => return Ok(Stopped::ForRestart),
                    }
                }
                SiftAction::Introduce { group } => {
                    self.write(SiftEvent::Began { action, boot: seen.boot })?;
                    self.write(SiftEvent::Introduced { group })?;
                }
                SiftAction::Measure { row } => {
                    self.write(SiftEvent::Began { action, boot: seen.boot })?;
                    self.measure(row, recorded()?)?;
                }
                SiftAction::Play { sitting } => {
                    self.write(SiftEvent::Began { action, boot: seen.boot })?;
                    let sat = self
                        .play(sitting)
                        .map_err(|failure| failure.hint(how_to_go_on(self.sift.design())))?;
                    if sat == Sat::Over {
                        return Ok(Stopped::Resting);
                    }
                }
                SiftAction::BeginTrial => {
                    self.write(SiftEvent::Began { action, boot: seen.boot })?;
                    self.begin_trial()?;
                }
                SiftAction::GoOnWithTrial { trial } => {
                    let context = self.context.clone();
                    let is_paused = self.sift.is_paused();
                    let mut driver = self.trial_driver(trial)?;
                    if is_paused {
                        driver.pause_if_it_can_be()?
                    } else {
                        driver.go_on()?
                    }
                    let stopped = driver.drive(&mut |_| recorded()?.make(&context))?;
                    if stopped != Stopped::Ended && !self.is_asked_to_pause() {
                        return Ok(stopped);
                    }
                }
            }
        }
    }

    fn is_asked_to_pause(&self) -> bool {
        pausing::is_asked(&self.context, &self.pc.identity().id, self.id)
    }

    pub(super) fn write(&mut self, event: SiftEvent) -> Result<(), Failure> {
        self.ledger.add_sift_event(self.id, self.context.clock.now(), &event)?;
        self.sift.take(&event);
        Ok(())
    }

    /// The change that holds what is in force of the sift, with what that is.
    fn holder(&self) -> Result<(Option<ChangeId>, Configuration), Failure> {
        let layers = self.ledger.layers(&self.pc.identity().id)?;
        Ok(match first_held(&layers, self.ledger.changes_of_sift(self.id)?) {
            Some((change, configuration)) => (Some(change), configuration),
            None => (None, Configuration::default()),
        })
    }

    fn trial_ended(&self, trial: TrialId) -> Result<Option<(Verdict, Ending)>, Failure> {
        let trial = self.ledger.trial(trial)?.trial();
        Ok(trial.ended().map(|ending| (trial.comparison().verdict, ending)))
    }

    fn seen(&self) -> Result<SeenBySift, Failure> {
        let (holder, configuration) = self.holder()?;
        let mut others = self.ledger.layers(&self.pc.identity().id)?;
        if let Some(holder) = holder {
            drop(others.take_out(&Selection::Change(holder)));
        }
        let others_are_as_before = others.digest() == self.sift.design().others;
        let trial = self.sift.trial().map(|trial| self.trial_ended(trial)).transpose()?;
        let boot = self.pc.boot()?;
        Ok(SeenBySift { configuration, boot, others_are_as_before, trial_ended: trial.flatten() })
    }

    /// Brings the PC from one configuration to another, in one step.
    fn switch(&mut self, to: &Configuration) -> Result<Option<ChangeId>, Failure> {
        let (holder, _) = self.holder()?;
        let design = self.sift.design();
        let target = Target {
            title: format!(
                "{} of {} tweaks of {}",
                to.columns().len(),
                design.tweaks.len(),
                design.title
            ),
            revision: design.revision.clone(),
            wishes: design.wishes(to),
            left_out: Vec::new(),
            by_hand: Vec::new(),
        };
        let made_for = ChangeFor::Sift(self.id, to.clone());
        driving::switch(&self.context, &mut *self.pc, self.ledger, Some(target), holder, made_for)
    }

    fn restart(&mut self) -> Result<BroughtAbout, Failure> {
        let by_itself = self.sift.design().restarts_by_itself.then_some(Resumed::Sift);
        let is_set = self.sift.entry_before().is_some();
        let Self { context, pc, ledger, id, sift, .. } = self;
        driving::restart(context, &mut **pc, by_itself, &mut |before| {
            if is_set {
                return Ok(());
            }
            let event = SiftEvent::EntrySet { before };
            ledger.add_sift_event(*id, context.clock.now(), &event)?;
            sift.take(&event);
            Ok(())
        })
    }

    /// Measures the configuration that the PC is in.
    fn measure(&mut self, row: usize, source: &SceneSource) -> Result<(), Failure> {
        let design = self.sift.design().clone();
        let state_name = state_name(self.id, row)?;
        let (_, still) = times(self.ledger, &self.pc.identity().id, &self.sift)?;
        self.context.say_on_terminal(format_args!(
            "configuration {} of at most {}, {} tweaks on; at most {} to come",
            self.sift.rows_sifted().map_or(0, Sifting::measurements) + 1,
            design.rule.most_rows,
            self.sift.configuration(row).columns().len(),
            duration(still),
        ));
        let pinged = match &design.ping {
            Some(ping) => Some((Pinged::find(&ping.address)?, probing(ping.pause_ms))),
            None => None,
        };
        let plan = VisitPlan {
            scene: &design.scene,
            state_name: &state_name,
            runs: design.runs,
            warm_up: Some(design.warm_up),
            length: Duration::from_secs(design.run_seconds.into()),
            despite_waiting: false,
            declared: &DeclaredConditions::default(),
            ping: None,
            ping_runs: pinged.as_ref().map(|(target, probing)| (target, *probing)),
            made_for: Some(VisitFor::Sift(self.id, row)),
        };
        let pc: &mut dyn Pc = &mut *self.pc;
        let context = &self.context;
        let ledger = &mut *self.ledger;
        let made = source
            .make(context)
            .and_then(|mut source| visit(context, ledger, Some(pc), &mut *source, &plan));
        match made {
            Ok(visit) => self.acknowledge(row, visit),
            Err(failure) => {
                let reason = failure.message.clone();
                let doubt = Doubt::BrokenOff { reason };
                self.write(SiftEvent::Voided { row, visit: None, doubt })?;
                Err(failure.hint(how_to_go_on(self.sift.design())))
            }
        }
    }

    /// Looks at a visit that is whole, and writes down whether it counts.
    fn acknowledge(&mut self, row: usize, visit: VisitId) -> Result<(), Failure> {
        let record = self.ledger.visit(visit)?;
        let design = self.sift.design();
        let circumstances =
            Circumstances { on_battery: design.on_battery, run_seconds: design.run_seconds };
        let earlier = self
            .sift
            .rows()
            .iter()
            .flatten()
            .map(|(visit, _)| Ok(self.ledger.visit(*visit)?))
            .collect::<Result<Vec<_>, Failure>>()?;
        let doubts = doubts(circumstances, &record, &earlier);
        match doubts.first() {
            Some(doubt) if self.sift.repeats_doubtful_row() => {
                self.ledger.void_visit(visit, &format!("sift {} makes it again", self.id))?;
                let doubt = doubt.clone();
                self.write(SiftEvent::Voided { row, visit: Some(visit), doubt })
            }
            _ => match figures(&record, design.judge, &earlier) {
                Ok(figures) => self.write(SiftEvent::Measured { row, visit, figures, doubts }),
                Err(failure) => {
                    let reason = failure.message.clone();
                    self.ledger.void_visit(visit, &reason)?;
                    let doubt = Doubt::BrokenOff { reason };
                    self.write(SiftEvent::Voided { row, visit: Some(visit), doubt })?;
                    Err(failure.hint(how_to_go_on(self.sift.design())))
                }
            },
        }
    }

    /// Settles a visit that was cut off before it was acknowledged.
    fn settle_visits(&mut self) -> Result<(), Failure> {
        let record = self.record()?;
        let told: Vec<VisitId> = record
            .events
            .iter()
            .filter_map(|timed| match &timed.event {
                SiftEvent::Measured { visit, .. } => Some(*visit),
                SiftEvent::Voided { visit, .. } => *visit,
                _ => None,
            })
            .collect();
        let visits = self.ledger.visits_of_sift(self.id)?;
        let untold: Vec<(VisitId, usize)> =
            visits.into_iter().filter(|(visit, _)| !told.contains(visit)).collect();
        for (visit, row) in untold {
            if self.sift.due_row() == Some(row) {
                self.acknowledge(row, visit)?;
            }
        }
        Ok(())
    }
}

/// How to go on with what has stopped.
fn how_to_go_on(design: &SiftDesign) -> String {
    let is = if design.evening.is_some() { "tune" } else { "sift" };
    format!("`frevin {is} resume` goes on, `frevin {is} abandon` puts the PC back")
}

fn replay(design: SiftDesign) -> Result<Sift, Failure> {
    Sift::replay(design, &[]).map_err(|error| {
        Failure::new(Kind::Usage, format!("this profile cannot be sifted: {error}"))
    })
}

fn blocked() -> Failure {
    let message = "the sift cannot go on: other changes than its own were made since it began";
    Failure::new(Kind::Guarded, message)
        .hint("`frevin log` shows what was done; bring back what was in force, then `frevin sift resume`")
        .hint("`frevin sift abandon` gives the sift up, and takes back what is its own")
}

/// The label of the visits to a row of a sift.
fn state_name(sift: SiftId, row: usize) -> Result<StateName, Failure> {
    format!("sift-{sift}-row-{}", row + 1).parse().map_err(|error: frevin_core::ids::NameError| {
        Failure::new(Kind::Internal, error.to_string())
    })
}

/// What a visit gave: means over its runs.
///
/// # Errors
/// Where what is judged was not recorded, or not as in the visits before.
fn figures(
    visit: &VisitRecord,
    judge: Judge,
    earlier: &[VisitRecord],
) -> Result<RowFigures, Failure> {
    let is_other = |earlier: &VisitRecord| visit.has_other_latency_than(earlier);
    if judge == Judge::Latency && earlier.iter().any(is_other) {
        let message = "latency was read from another column than before, and is not compared";
        return Err(Failure::new(Kind::BadInput, message)
            .hint("let the same program record the scene, in the same way, and go on"));
    }
    let runs: Vec<_> = visit.counted().map(|run| run.metrics).collect();
    let judged = match judge {
        Judge::FrameRate => None,
        Judge::Ping | Judge::Latency => {
            let frames = if runs.is_empty() { VisitFigures::default() } else { counted(visit)? };
            let [first, _] = judge.primaries();
            let gain = first.gain(&frames.with_pings(&pings(visit)));
            let missing = || match judge {
                Judge::Latency => no_latency(&visit.scene),
                Judge::Ping | Judge::FrameRate => {
                    Failure::new(Kind::BadInput, "the address did not answer")
                }
            };
            Some(gain.ok_or_else(missing)?)
        }
    };
    if runs.is_empty() && judged.is_none() {
        let message = format!("visit {} has no runs", visit.id.0);
        return Err(Failure::new(Kind::BadInput, message));
    }
    // Answers of an address are timed without a game too.
    let mean = |of: fn(&frevin_frames::Metrics) -> f64| match runs.len() {
        0 => 0.0,
        several => runs.iter().map(of).sum::<f64>() / several as f64,
    };
    let stutters: usize = runs.iter().map(|run| run.stutter.events).sum();
    Ok(RowFigures {
        ln_average_fps: mean(|run| run.average_fps.ln()),
        ln_low_1_percent_fps: mean(|run| run.low_1_percent_fps.ln()),
        ln_stutters: (stutters as f64 + 0.5).ln(),
        judged,
    })
}
