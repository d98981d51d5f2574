//! Driving a trial: what its machine says is done, one action after another.
//!
//! Each action is written down before it is done and acknowledged afterwards. What is in force is never
//! taken from what was written down, but from the layers that the ledger holds, so that an action that was
//! cut off between the deed and its acknowledgement is not done twice.

use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_core::layers::{ChangeId, Selection};
use frevin_core::preview::OnOthers;
use frevin_core::trial::{
    Action, Arm, Doubt, Event, Place, Progress, Seen, Trial, TrialId, doubts,
};
use frevin_core::verdict::{Judge, VisitFigures};
use frevin_core::visits::{VisitId, VisitRecord};
use frevin_ledger::{ChangeFor, Ledger, NewTrial, TrialRecord, TrialVisit, VisitFor};
use frevin_pc::{BroughtAbout, Pc, Restarts};
use frevin_stats::probes::ProbeStats;

use super::begin::target_of;
use super::pace;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::compare::counted;
use crate::measure::scene_source::SceneSource;
use crate::measure::source::FrameSource;
use crate::measure::{DeclaredConditions, VisitPlan, visit};
use crate::operations::driving::{self, alone, first_held};
use crate::operations::network::{Probing, Target as Pinged};
use crate::operations::pausing;
use crate::operations::recover;
use crate::operations::sign_in::Resumed;
use crate::operations::sitting::Sat;

/// Makes the source that the next visit at a graphics level, by its place, is recorded from.
pub(crate) type Sources<'a> = dyn FnMut(usize) -> Result<Box<dyn FrameSource + 'a>, Failure> + 'a;

/// Where a trial stopped.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(crate) enum Stopped {
    /// It is over.
    Ended,
    /// The owner has to restart the PC.
    ForRestart,
    /// The PC is restarting, and the trial goes on after its owner has signed in.
    Restarting,
    /// The owner put it off, or the way back is open.
    Resting,
}

/// A trial that is gone on with.
pub(crate) struct Driver<'a> {
    pub(super) context: Context,
    pub(super) pc: &'a mut dyn Restarts,
    pub(super) ledger: &'a mut Ledger,
    pub(super) id: TrialId,
    pub(super) trial: Trial,
    /// Held as long as the trial is driven: two drivers would visit everything twice.
    _alone: Option<std::fs::File>,
}

impl<'a> Driver<'a> {
    /// Begins a trial, durably.
    pub(crate) fn begin(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        design: frevin_core::trial::Design,
    ) -> Result<Self, Failure> {
        let alone = alone(context)?;
        Ok(Self { _alone: Some(alone), ..Self::begin_within(context, pc, ledger, design)? })
    }

    /// The same for whoever drives something larger, and has the right to.
    pub(crate) fn begin_within(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        design: frevin_core::trial::Design,
    ) -> Result<Self, Failure> {
        let (id, boot) = (pc.identity().id.clone(), pc.boot()?);
        let new = NewTrial { pc: &id, boot: &boot, at: context.clock.now(), design: &design };
        let trial_id = ledger.begin_trial(&new)?;
        let trial = Trial::replay(design, &[]);
        Ok(Self { context: context.clone(), pc, ledger, id: trial_id, trial, _alone: None })
    }

    /// Goes on with a trial. What was cut off is settled first.
    pub(crate) fn resume(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        id: TrialId,
    ) -> Result<Self, Failure> {
        let alone = alone(context)?;
        Ok(Self { _alone: Some(alone), ..Self::resume_within(context, pc, ledger, id)? })
    }

    /// The same for whoever drives something larger, and has the right to.
    pub(crate) fn resume_within(
        context: &Context,
        pc: &'a mut dyn Restarts,
        ledger: &'a mut Ledger,
        id: TrialId,
    ) -> Result<Self, Failure> {
        recover::recover(context, &mut *pc, ledger, OnOthers::Stop)?;
        let record = ledger.trial(id)?;
        let trial = record.trial();
        let mut driver = Self { context: context.clone(), pc, ledger, id, trial, _alone: None };
        driver.take_entry_out()?;
        driver.acknowledge_visits()?;
        Ok(driver)
    }

    /// The trial as the ledger keeps it.
    pub(crate) fn record(&self) -> Result<TrialRecord, Failure> {
        Ok(self.ledger.trial(self.id)?)
    }

    /// How a run of each graphics level comes about.
    pub(crate) fn sources(
        &mut self,
        context: &Context,
        levels: &[SceneName],
    ) -> Result<Vec<SceneSource>, Failure> {
        let find = |scene| SceneSource::find(context, &*self.pc, self.ledger, scene);
        levels.iter().map(find).collect()
    }

    /// What it was driven with, and the trial as the ledger keeps it now.
    pub(crate) fn done(self) -> Result<(&'a Ledger, &'a dyn Pc, TrialRecord), Failure> {
        let record = self.record()?;
        Ok((self.ledger, self.pc, record))
    }

    /// Writes down that the owner goes on with it, where it was put off.
    pub(crate) fn go_on(&mut self) -> Result<(), Failure> {
        if self.trial.progress() == Progress::Paused { self.write(Event::Resumed) } else { Ok(()) }
    }

    /// Writes down that the owner puts it off.
    pub(crate) fn pause(&mut self) -> Result<(), Failure> {
        match self.trial.progress() {
            Progress::Going => self.write(Event::Paused),
            Progress::Paused => Ok(()),
            Progress::WayBackOpen | Progress::GivenUp | Progress::Ended => {
                Err(Failure::new(Kind::Usage, "it is decided; there is nothing to put off")
                    .hint("`frevin trial resume` brings the PC to where the verdict wants it"))
            }
        }
    }

    /// The same for whoever drives something larger: what is decided is brought to its end first.
    pub(crate) fn pause_if_it_can_be(&mut self) -> Result<(), Failure> {
        if self.trial.progress() == Progress::Going { self.write(Event::Paused) } else { Ok(()) }
    }

    /// Writes down that the owner gives it up.
    pub(crate) fn give_up(&mut self) -> Result<(), Failure> {
        match self.trial.progress() {
            Progress::GivenUp | Progress::Ended => Ok(()),
            Progress::Going | Progress::Paused | Progress::WayBackOpen => {
                self.write(Event::Abandoned)
            }
        }
    }

    /// Does what is next until the trial ends or has to wait for its owner.
    pub(crate) fn drive(&mut self, sources: &mut Sources<'_>) -> Result<Stopped, Failure> {
        loop {
            if let Some(sift) = self.trial.design().of_sift
                && self.trial.progress() == Progress::Going
                && pausing::is_asked(&self.context, &self.pc.identity().id, sift)
            {
                return Ok(Stopped::Resting);
            }
            let seen = self.seen()?;
            let action = self.trial.next(&seen);
            match action {
                Action::Nothing => return Ok(Stopped::Ended),
                Action::Rest => return Ok(Stopped::Resting),
                Action::Blocked => return Err(self.blocked()),
                Action::Decide { verdict } => self.write(Event::Decided { verdict })?,
                Action::End(ending) => self.write(Event::Ended(ending))?,
                Action::Switch { to } => {
                    self.write(Event::Began { action, boot: seen.boot })?;
                    let switched = self.switch(to);
                    match switched {
                        Ok(change) => self.write(Event::Switched { to, change })?,
                        Err(failure) if self.trial.progress() == Progress::WayBackOpen => {
                            self.write(Event::NotSettled { reason: failure.message.clone() })?;
                            return Err(failure
                                .hint("the verdict stands; `frevin trial resume` tries again"));
                        }
                        Err(failure) => return Err(failure.hint(how_to_go_on())),
                    }
                    // One word for each of the two was enough.
                    self.context = self.context.clone().with_word_given();
                }
                Action::Restart => {
                    // A second request in the same start says nothing that the first did not.
                    self.write(Event::Began { action, boot: seen.boot.clone() })?;
                    match self.restart()? {
                        BroughtAbout::Done { .. } => {
                            let boot = self.pc.boot()?;
                            self.write(Event::Restarted { boot })?;
                        }
                        BroughtAbout::Begun => return Ok(Stopped::Restarting),
                        BroughtAbout::LeftToOwner => return Ok(Stopped::ForRestart),
                    }
                }
                Action::Play { sitting, doubled } => {
                    self.write(Event::Began { action, boot: seen.boot })?;
                    if self.play(sitting, doubled)? == Sat::Over {
                        return Ok(Stopped::Resting);
                    }
                }
                Action::Visit { pair, arm, warm_up, runs } => {
                    self.write(Event::Began { action, boot: seen.boot })?;
                    self.say_visit(pair, arm);
                    self.visit(TrialVisit { trial: self.id, pair, arm }, warm_up, runs, sources)?;
                }
            }
        }
    }

    pub(super) fn write(&mut self, event: Event) -> Result<(), Failure> {
        self.ledger.add_trial_event(self.id, self.context.clock.now(), &event)?;
        self.trial.take(&event);
        Ok(())
    }

    /// Restarts the PC, or leaves that to its owner.
    fn restart(&mut self) -> Result<BroughtAbout, Failure> {
        let design = self.trial.design();
        let resumed = match design.of_sift {
            None => Resumed::Trial,
            Some(_) => Resumed::Sift,
        };
        let by_itself = design.restarts_by_itself.then_some(resumed);
        let is_set = self.trial.entry_before().is_some();
        let Self { context, pc, ledger, id, trial, .. } = self;
        driving::restart(context, &mut **pc, by_itself, &mut |before| {
            if is_set {
                return Ok(());
            }
            let event = Event::EntrySet { before };
            ledger.add_trial_event(*id, context.clock.now(), &event)?;
            trial.take(&event);
            Ok(())
        })
    }

    /// Takes out the entry that Windows goes on with the trial by, where it is set.
    fn take_entry_out(&mut self) -> Result<(), Failure> {
        let Some(before) = self.trial.entry_before().cloned() else { return Ok(()) };
        driving::take_entry_out(&self.context, &mut *self.pc, &before)?;
        self.write(Event::EntryGone)
    }

    /// The change that holds what is in force of the trial, with what that is.
    fn holder(&self) -> Result<(Option<ChangeId>, Place), Failure> {
        let layers = self.ledger.layers(&self.pc.identity().id)?;
        let design = self.trial.design();
        let own = self.ledger.changes_of_trial(self.id)?.into_iter();
        let at_first = design.holder.map(|holder| (holder, Place::A));
        Ok(match first_held(&layers, own.chain(at_first)) {
            Some((change, place)) => (Some(change), place),
            None => (None, design.place_without()),
        })
    }

    fn seen(&self) -> Result<Seen, Failure> {
        let (holder, place) = self.holder()?;
        let mut others = self.ledger.layers(&self.pc.identity().id)?;
        if let Some(holder) = holder {
            drop(others.take_out(&Selection::Change(holder)));
        }
        let others_are_as_before = others.digest() == self.trial.design().others;
        Ok(Seen { place, boot: self.pc.boot()?, others_are_as_before })
    }

    /// Brings the PC from what is in force of the trial to something else of it, in one step.
    fn switch(&mut self, to: Place) -> Result<Option<ChangeId>, Failure> {
        let (holder, _) = self.holder()?;
        let design = self.trial.design();
        let arm = match to {
            Place::A => Some(&design.a),
            Place::B => Some(&design.b),
            Place::Neither => None,
        };
        let target = arm.map(target_of);
        let made_for = ChangeFor::Trial(self.id, to);
        driving::switch(&self.context, &mut *self.pc, self.ledger, target, holder, made_for)
    }

    /// Visits the state that the PC is in, at each graphics level one after another.
    fn visit(
        &mut self,
        of: TrialVisit,
        warm_up: usize,
        runs: usize,
        sources: &mut Sources<'_>,
    ) -> Result<(), Failure> {
        let design = self.trial.design().clone();
        let state_name = super::report::state_name(self.id, of.arm)?;
        let ping = design.ping.as_deref().map(Pinged::find).transpose()?;
        let mut visits = Vec::new();
        for (level, scene) in design.levels.iter().enumerate() {
            let plan = VisitPlan {
                scene,
                state_name: &state_name,
                runs,
                // The PC is warm after the first level.
                warm_up: Some(if level == 0 { warm_up } else { 0 }),
                length: Duration::from_secs(design.run_seconds.into()),
                despite_waiting: false,
                declared: &DeclaredConditions::default(),
                ping: ping.as_ref().filter(|_| design.judge != Judge::Ping),
                ping_runs: ping
                    .as_ref()
                    .filter(|_| design.judge == Judge::Ping)
                    .map(|target| (target, probing(design.ping_pause_ms))),
                made_for: Some(VisitFor::Trial(of)),
            };
            let pc: &mut dyn Pc = &mut *self.pc;
            let made = sources(level).and_then(|mut source| {
                visit(&self.context, self.ledger, Some(pc), &mut *source, &plan)
            });
            match made {
                Ok(id) => visits.push(id),
                Err(failure) => {
                    let reason = failure.message.clone();
                    self.void(of, visits, Doubt::BrokenOff { reason })?;
                    return Err(failure.hint(how_to_go_on()));
                }
            }
        }
        self.acknowledge(of, visits)
    }

    /// Says that what was recorded of a visit does not count.
    fn void(&mut self, of: TrialVisit, visits: Vec<VisitId>, doubt: Doubt) -> Result<(), Failure> {
        for visit in &visits {
            self.ledger.void_visit(*visit, &format!("trial {} makes it again", self.id))?;
        }
        let TrialVisit { pair, arm, .. } = of;
        self.write(Event::Voided { pair, arm, visits, doubt })
    }

    /// Looks at a visit that is whole at each level, and writes down whether it counts.
    fn acknowledge(&mut self, of: TrialVisit, visits: Vec<VisitId>) -> Result<(), Failure> {
        let TrialVisit { pair, arm, .. } = of;
        let (mut levels, mut found) = (Vec::new(), Vec::new());
        for (level, id) in visits.iter().enumerate() {
            let record = self.ledger.visit(*id)?;
            for doubt in
                doubts(self.trial.design().circumstances(), &record, &self.earlier(arm, level)?)
            {
                if !found.contains(&doubt) {
                    found.push(doubt);
                }
            }
            let frames = match record.counted().next() {
                Some(_) => counted(&record)?,
                None => VisitFigures::default(),
            };
            let mut figures = frames.with_pings(&pings(&record));
            if self.has_other_latency(&record, level)? {
                figures = figures.without_latency();
            }
            if self.trial.design().judge == Judge::Latency && figures.latency.is_none() {
                let failure = no_latency(&record.scene)
                    .hint("`frevin trial abandon` puts the PC back; without --judge latency, frame rate is judged");
                self.void(of, visits, Doubt::BrokenOff { reason: failure.message.clone() })?;
                return Err(failure);
            }
            levels.push(figures);
        }
        match found.first() {
            Some(doubt) if self.trial.repeats_doubtful_visit() => {
                let doubt = doubt.clone();
                self.void(of, visits, doubt)
            }
            _ => self.write(Event::Visited { pair, arm, visits, levels, doubts: found }),
        }
    }

    /// Whether latency was read from other columns in earlier visits to either state: it is not compared then.
    fn has_other_latency(&self, record: &VisitRecord, level: usize) -> Result<bool, Failure> {
        for arm in [Arm::A, Arm::B] {
            let earlier = self.earlier(arm, level)?;
            if earlier.iter().any(|earlier| record.has_other_latency_than(earlier)) {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// The visits to a state at a graphics level that count so far.
    fn earlier(&self, arm: Arm, level: usize) -> Result<Vec<VisitRecord>, Failure> {
        let of_arm = self.trial.pairs().iter().filter_map(|pair| match arm {
            Arm::A => pair.a.visits.get(level),
            Arm::B => pair.b.visits.get(level),
        });
        of_arm.map(|id| Ok(self.ledger.visit(*id)?)).collect()
    }

    /// Settles a visit that was cut off: it counts where it was whole at every level, and else does not.
    fn acknowledge_visits(&mut self) -> Result<(), Failure> {
        let record = self.ledger.trial(self.id)?;
        let mut told: Vec<VisitId> = Vec::new();
        for event in &record.events {
            match &event.event {
                Event::Visited { visits, .. } | Event::Voided { visits, .. } => {
                    told.extend(visits);
                }
                Event::Began { .. }
                | Event::Switched { .. }
                | Event::Restarted { .. }
                | Event::EntrySet { .. }
                | Event::EntryGone
                | Event::Played { .. }
                | Event::Paused
                | Event::Resumed
                | Event::Decided { .. }
                | Event::NotSettled { .. }
                | Event::Ended(_)
                | Event::Abandoned => {}
            }
        }
        let (pair, arm) = self.trial.due();
        let due = TrialVisit { trial: self.id, pair, arm };
        let visits = self.ledger.visits_of_trial(self.id)?;
        let untold: Vec<VisitId> = visits
            .into_iter()
            .filter(|(id, of)| !told.contains(id) && *of == due)
            .map(|(id, _)| id)
            .collect();
        if untold.is_empty() {
            return Ok(());
        }
        if untold.len() == record.design.levels.len() {
            return self.acknowledge(due, untold);
        }
        let reason = "Frevin was cut off".to_owned();
        self.void(due, untold, Doubt::BrokenOff { reason })
    }

    fn say_visit(&self, pair: usize, arm: Arm) {
        let design = self.trial.design();
        let records = self.ledger.trials(&self.pc.identity().id).unwrap_or_default();
        let expected = pace(&records, design.run_seconds).expected(design, pair);
        let minutes = expected.most.as_secs().div_ceil(60);
        self.context.say_on_terminal(format_args!(
            "pair {} of at most {}: {} (at most {minutes} min more)",
            pair + 1,
            design.limit.pairs(),
            design.arm(arm).title,
        ));
    }

    fn blocked(&self) -> Failure {
        let message = "the trial cannot go on: other changes than its own were made since it began";
        Failure::new(Kind::Guarded, message)
            .hint("`frevin log` shows what was done; bring back what was in force, then `frevin trial resume`")
            .hint("`frevin trial abandon` gives the trial up, and takes back what is its own")
    }
}

/// How an address answered during a visit, else around it.
pub(crate) fn pings(visit: &VisitRecord) -> Vec<ProbeStats> {
    let Some(around) = &visit.environment else { return Vec::new() };
    if around.ping_runs.is_empty() {
        return [&around.before, &around.after].into_iter().filter_map(|one| one.ping).collect();
    }
    around.ping_runs.clone()
}

/// How often an address is asked during a run where its answers are what is judged.
pub(crate) const PROBES_A_RUN: u32 = 200;

pub(crate) fn probing(pause_ms: u64) -> Probing {
    let (pause, patience) = (Duration::from_millis(pause_ms), Duration::from_secs(1));
    Probing { count: PROBES_A_RUN, pause, patience }
}

/// Nothing can be judged that was not measured.
pub(crate) fn no_latency(scene: &SceneName) -> Failure {
    let message = format!("what was recorded of {scene} tells no latency");
    Failure::new(Kind::BadInput, message)
        .detail("Windows' tracing tells when a game hands a frame over, not when it is seen")
        .hint("record the scene with a program whose logs have a column of latency in each run: `frevin scene record-by SCENE --folder FOLDER`")
}

fn how_to_go_on() -> &'static str {
    "`frevin trial resume` goes on with the trial, `frevin trial abandon` puts the PC back"
}
