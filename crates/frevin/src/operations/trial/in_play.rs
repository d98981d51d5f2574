//! A sitting of a trial in play: what is tried is switched on and off.

use frevin_core::trial::in_play::Segment;
use frevin_core::trial::{Arm, Event, Place};
use frevin_ledger::{ChangeFor, Ledger};
use frevin_pc::Restarts;

use super::begin::target_of;
use super::drive::Driver;
use crate::failure::{Failure, Kind};
use crate::operations::apply::Order;
use crate::operations::sitting::{Held, PlayedFor, Sat, SittingPlan, sit};

impl Driver<'_> {
    /// Plays a sitting. The PC is as it was before at its end, whatever came of it.
    pub(super) fn play(&mut self, number: usize, doubled: u32) -> Result<Sat, Failure> {
        let design = self.trial.design().clone();
        let Some((in_play, scene)) = design.in_play.as_ref().zip(design.levels.first()) else {
            return Err(Failure::new(Kind::Internal, "it is no trial in play of a scene"));
        };
        let made_for = ChangeFor::Trial(self.id, Place::B);
        let order = match design.is_of_process() {
            true => None,
            false => {
                let target = target_of(&design.b);
                let order = Order::new(&*self.pc, self.ledger, target, None, false)?;
                Some(order.made_for(made_for))
            }
        };
        let most_segments = in_play.limit(doubled).pairs() as u64 * 2;
        let plan = SittingPlan {
            design: in_play,
            scene,
            seed: design.seed,
            number,
            doubled,
            most_segments,
        };
        let context = self.context.clone();
        sit(&context, self, order, plan)
    }
}

fn played(plan: &SittingPlan<'_>, segments: Vec<Segment>) -> Event {
    Event::Played { sitting: plan.number, doubled: plan.doubled, segments }
}

impl PlayedFor for Driver<'_> {
    fn parts(&mut self) -> (&mut dyn Restarts, &mut Ledger) {
        (&mut *self.pc, &mut *self.ledger)
    }

    fn switch(
        &mut self,
        held: &mut Held,
        plan: &SittingPlan<'_>,
        segment: usize,
    ) -> Result<(), String> {
        let arm = plan.design.arm(plan.seed, plan.number, segment, plan.doubled);
        match (arm, held) {
            (Arm::A, Held::Settings(switching)) => switching.off(&mut *self.pc),
            (Arm::B, Held::Settings(switching)) => switching.to(&mut *self.pc, &|_| true),
            (Arm::A, Held::Process(process, _)) => process.off(),
            (Arm::B, Held::Process(process, _)) => process.on(),
        }
    }

    fn take(&mut self, plan: &SittingPlan<'_>, segment: Segment) {
        self.trial.take(&played(plan, vec![segment]));
    }

    fn keep(&mut self, plan: &SittingPlan<'_>, segments: Vec<Segment>) -> Result<(), Failure> {
        let event = played(plan, segments);
        Ok(self.ledger.add_trial_event(self.id, self.context.clock.now(), &event)?)
    }

    fn is_settled(&self, plan: &SittingPlan<'_>) -> bool {
        let judged = self.trial.judged();
        judged.is_some_and(|judged| judged.is_finished() || judged.doubled != plan.doubled)
    }

    fn way_out(&self) -> &'static str {
        "`frevin trial abandon` gives the trial up; try it in visits, without --in-play"
    }
}
