//! The proof at the end of a sift: a trial of what helped against the PC as it was.

use frevin_core::sift::SiftEvent;
use frevin_core::trial::{ArmDesign, Design, EarlierTrial, Question, TrialId, histories};
use frevin_core::tune::Mended;
use frevin_core::verdict::{Histories, Margins, PairLimit};

use super::SiftDriver;
use crate::failure::Failure;
use crate::operations::trial::Driver;
use crate::operations::tune::{Mend, mend, take_back_if_held};

/// Runs of a visit of the trial at the end.
const TRIAL_RUNS: usize = 3;
/// What the seed of that trial differs by from the one of the sift.
const TRIAL_SEED: u64 = 0x5EED;

impl SiftDriver<'_> {
    /// Finds a trial that was begun and not written down before the sift was cut off.
    pub(super) fn settle_trial(&mut self) -> Result<(), Failure> {
        let own = |design: &Design| design.of_sift == Some(self.id);
        let trials = self.ledger.trials(&self.pc.identity().id)?;
        let begun = trials.iter().find(|record| own(&record.design)).map(|record| record.id);
        match (self.sift.trial(), begun) {
            (None, Some(trial)) => self.write(SiftEvent::TrialBegun { trial }),
            _ => Ok(()),
        }
    }

    /// Begins the trial of what helped against the PC as it was.
    pub(super) fn begin_trial(&mut self) -> Result<(), Failure> {
        // What was mended before an evening is part of what is tried: the PC as it was is the one that came.
        for mended in self.tried_with() {
            take_back_if_held(&self.context, &mut *self.pc, self.ledger, mended.change)?;
        }
        let design = self.trial_design()?;
        let driver = Driver::begin_within(&self.context, &mut *self.pc, self.ledger, design)?;
        let trial = driver.record()?.id;
        drop(driver);
        self.write(SiftEvent::TrialBegun { trial })
    }

    /// What was mended before the evening that it is of, and is tried together with what helped.
    fn tried_with(&self) -> Vec<Mended> {
        let design = self.sift.design();
        let helping = design.wishes(&self.sift.helping());
        let evening = design.evening.as_ref();
        evening
            .map(|evening| evening.tried_with(&helping))
            .unwrap_or_default()
            .into_iter()
            .cloned()
            .collect()
    }

    /// Mends again what was tried with what helped and did not stay.
    pub(super) fn mend_again(&mut self) -> Result<(), Failure> {
        for mended in self.tried_with() {
            let one = Mend::again(&mended);
            mend(&self.context, &mut *self.pc, self.ledger, &one)?;
        }
        Ok(())
    }

    fn trial_design(&self) -> Result<Design, Failure> {
        let sift = self.sift.design();
        let id = &self.pc.identity().id;
        let layers = self.ledger.layers(id)?;
        let as_it_was = if layers.is_empty() { "the PC as it is" } else { "what is in force" };
        let arm = |title: String, wishes| ArmDesign { title, revision: None, wishes };
        let helping = sift.wishes(&self.sift.helping());
        let evening = sift.evening.as_ref();
        let has_played = evening.is_some_and(|one| !one.helped_in_play().is_empty());
        let title = match helping.is_empty() && !has_played {
            true => "what was mended".to_owned(),
            false => format!("what helped of {}", sift.title),
        };
        let mut tried = evening.map(|one| one.tried_beside(&helping)).unwrap_or_default();
        tried.extend(helping);
        let mut design = Design {
            question: Question::Apply,
            a: arm(as_it_was.to_owned(), Vec::new()),
            b: arm(title, tried),
            holder: None,
            in_play: sift.in_play.as_ref().map(|in_play| in_play.play.clone()),
            others: layers.digest(),
            boot: self.pc.boot()?,
            levels: vec![sift.scene.clone()],
            runs: sift
                .evening
                .as_ref()
                .map_or(TRIAL_RUNS, |evening| evening.plan.trial_runs as usize),
            warm_up: usize::from(sift.restarts),
            run_seconds: sift.run_seconds,
            restarts: sift.restarts,
            restarts_by_itself: sift.restarts_by_itself,
            as_administrator: sift.as_administrator,
            seed: sift.rule.seed ^ TRIAL_SEED,
            limit: PairLimit::new(sift.trial_pairs).unwrap_or_default(),
            margins: Margins::default(),
            histories: Histories::default(),
            keep: sift.keep,
            judge: sift.judge,
            ping: sift.ping.as_ref().map(|ping| ping.address.clone()),
            ping_pause_ms: sift.ping.as_ref().map_or(0, |ping| ping.pause_ms),
            on_battery: sift.on_battery,
            of_sift: Some(self.id),
        };
        let records = self.ledger.trials(id)?;
        let earlier: Vec<EarlierTrial> = records
            .iter()
            .filter(|record| record.trial().ended().is_some())
            .map(|record| EarlierTrial { pc: record.pc.clone(), trial: record.trial() })
            .collect();
        // Bounds of the test in play were worked out without earlier trials.
        if design.in_play.is_none() {
            design.histories = histories(&earlier, id, &design);
        }
        Ok(design)
    }

    pub(super) fn trial_driver(&mut self, trial: TrialId) -> Result<Driver<'_>, Failure> {
        Driver::resume_within(&self.context, &mut *self.pc, self.ledger, trial)
    }
}
