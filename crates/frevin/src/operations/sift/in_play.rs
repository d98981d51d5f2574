//! A sitting of a sift in play: each segment is another configuration.

use frevin_core::sift::{Configuration, SiftEvent};
use frevin_core::trial::in_play::Segment;
use frevin_ledger::{ChangeFor, Ledger};
use frevin_pc::Restarts;

use super::drive::SiftDriver;
use crate::failure::{Failure, Kind};
use crate::operations::apply::Order;
use crate::operations::sitting::{Held, PlayedFor, Sat, SittingPlan, sit};
use crate::operations::target::Target;

impl SiftDriver<'_> {
    /// Plays a sitting. The PC is as it was before at its end, whatever came of it.
    pub(super) fn play(&mut self, number: usize) -> Result<Sat, Failure> {
        let design = self.sift.design().clone();
        let Some(in_play) = &design.in_play else {
            return Err(Failure::new(Kind::Internal, "it is no sift in play"));
        };
        let all = Configuration::of(0..design.tweaks.len());
        let target = Target {
            title: format!("{} tweaks of {}, in turns", design.tweaks.len(), design.title),
            revision: design.revision.clone(),
            wishes: design.wishes(&all),
            left_out: Vec::new(),
            by_hand: Vec::new(),
        };
        let order = Order::new(&*self.pc, self.ledger, target, None, false)?;
        let plan = SittingPlan {
            design: &in_play.play,
            scene: &design.scene,
            seed: design.rule.seed,
            number,
            doubled: 0,
            most_segments: (in_play.most_play_s() / in_play.play.segment_s(0)) as u64,
        };
        let context = self.context.clone();
        let made_for = ChangeFor::Sift(self.id, all);
        sit(&context, self, Some(order.made_for(made_for)), plan)
    }
}

fn played(plan: &SittingPlan<'_>, segments: Vec<Segment>) -> SiftEvent {
    SiftEvent::Played { sitting: plan.number, segments }
}

impl PlayedFor for SiftDriver<'_> {
    fn parts(&mut self) -> (&mut dyn Restarts, &mut Ledger) {
        (&mut *self.pc, &mut *self.ledger)
    }

    fn switch(
        &mut self,
        held: &mut Held,
        plan: &SittingPlan<'_>,
        segment: usize,
    ) -> Result<(), String> {
        let on = self.sift.played().map(|played| played.configuration(plan.number, segment));
        let wishes = self.sift.design().wishes(&on.unwrap_or_default());
        match held {
            Held::Settings(switching) => {
                switching.to(&mut *self.pc, &|used| wishes.iter().any(|wish| wish.used == *used))
            }
            Held::Process(..) => Err("a sift is of settings".to_owned()),
        }
    }

    fn take(&mut self, plan: &SittingPlan<'_>, segment: Segment) {
        self.sift.take(&played(plan, vec![segment]));
    }

    fn keep(&mut self, plan: &SittingPlan<'_>, segments: Vec<Segment>) -> Result<(), Failure> {
        let event = played(plan, segments);
        Ok(self.ledger.add_sift_event(self.id, self.context.clock.now(), &event)?)
    }

    fn is_settled(&self, _: &SittingPlan<'_>) -> bool {
        self.sift.played().is_some_and(frevin_core::sift::PlayedSift::is_finished)
    }

    fn way_out(&self) -> &'static str {
        "`frevin sift abandon` gives the sift up; sift in runs, without --in-play"
    }
}
