//! `frevin demo --evening`: one evening, from the PC as it came to a proven profile, and all of it taken back.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::layers::Selection;
use frevin_core::setting::TakesEffect;
use frevin_core::tune::Goal;
use frevin_pc::{Fingerprint, fingerprint};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Demo, show_kept_folder};
use crate::commands::report::open_file;
use crate::failure::Failure;
use crate::operations::report::Subject;
use crate::operations::restart::restart;
use crate::operations::trial::Stopped;
use crate::operations::tune::{
    TuneReport, WantedEvening, begin, save_kept, settle, told_evening_of,
};
use crate::outcome::{Outcome, View};
use crate::view::tune::{Stands, TuneShown, show_beginning};
use crate::view::{Page, bad, good};

/// The time that the evening has.
const BUDGET: Duration = Duration::from_secs(3 * 3600);

/// What came of it.
#[derive(Debug, JsonSchema, Serialize)]
pub(super) struct EveningDemo {
    evening: TuneReport,
    fingerprint_at_first: Fingerprint,
    fingerprint_at_last: Fingerprint,
    is_as_at_first: bool,
    kept_in: Option<std::path::PathBuf>,
    /// The page of the evening.
    report: std::path::PathBuf,
}

impl Demo {
    /// Plays an evening.
    pub(super) fn play_evening(mut self) -> Result<Outcome, Failure> {
        let fingerprint_at_first = self.look()?;
        let evening = self.tune()?;
        let report = self.write_report(Subject::Tune(None))?;
        let fingerprint_at_last = self.take_evening_back(&fingerprint_at_first)?;
        let told = EveningDemo {
            evening,
            is_as_at_first: fingerprint_at_first == fingerprint_at_last,
            fingerprint_at_first,
            fingerprint_at_last,
            kept_in: self.kept_in.clone(),
            report,
        };
        if self.opens {
            open_file(&told.report);
        }
        let is_yes = told.is_as_at_first;
        Ok(Outcome::with(&told, is_yes))
    }

    fn tune(&mut self) -> Result<TuneReport, Failure> {
        self.step(
            "2. See what the evening will be",
            "You say how much time there is. What is plainly wrong is mended first; most of the rest goes to what is most \
             expected to help. Nothing is begun yet.",
            &format!("frevin tune --scene {} --budget 3h --plan", self.scene),
        );
        let wanted = WantedEvening {
            scene: Some(self.scene.clone()),
            budget: BUDGET,
            goal: Goal::Frames,
            ping: None,
            candidates: None,
            is_again: false,
            in_play: None,
            as_it_is: false,
            not_mended: BTreeSet::new(),
            despite_cap: false,
            experts: BTreeSet::new(),
            seed: self.seed,
            restarts_by_itself: false,
        };
        let settled = settle(&self.context, &mut self.pc, &mut self.ledger, &wanted)?;
        self.say(|page| show_beginning(&settled.begin, page));
        self.step(
            "3. Let it go",
            "On a real PC you leave it alone meanwhile, and may stop it at any moment. About half of the tweaks are on at a \
             time, in turns; what helps is proven together against the PC as it came.",
            &format!("frevin tune --scene {} --budget 3h", self.scene),
        );
        let progress = self.outer.progress(1, "evening");
        let mut driver = begin(&self.context, &mut self.pc, &mut self.ledger, settled)?;
        let source = driver.source(&self.context)?;
        driver.drive(source.as_ref())?;
        let (ledger, pc, record) = driver.done()?;
        save_kept(&self.context, ledger, &record)?;
        let report = told_evening_of(pc.identity().kind, ledger, &record)?;
        progress.finish_and_clear();
        let stands = Stands::Stopped(Stopped::Ended);
        let shown = TuneShown { report, stands };
        self.say(|page| {
            page.blank();
            shown.show(page);
        });
        Ok(shown.report)
    }

    fn take_evening_back(&mut self, at_first: &Fingerprint) -> Result<Fingerprint, Failure> {
        self.step(
            "4. Take back everything",
            "You would keep what is proven. The demo takes it all back, to show that it can.",
            "frevin rollback --all",
        );
        if self.is_in_force()? {
            let report = self.roll_back(&Selection::All)?;
            self.say(|page| report.show(page));
        }
        restart(&self.context, &mut self.pc, TakesEffect::Restart)?;
        let at_last = fingerprint(&self.pc)?;
        self.say_fingerprints(at_first, &at_last);
        Ok(at_last)
    }
}

impl View for EveningDemo {
    fn show(&self, page: &mut Page) {
        page.chapter("In short");
        page.line(match self.is_as_at_first {
            true => good("The PC is what it was at first, bit for bit."),
            false => bad("The PC is NOT what it was at first."),
        });
        page.pairs([("as a page", self.report.display().to_string())]);
        match &self.kept_in {
            Some(folder) => {
                show_kept_folder(folder, page);
                page.line("  frevin tune status");
                page.line(format_args!("  frevin apply tuned-{}", self.evening.scene));
            }
            None => {
                page.heading("Now you");
                page.line("  frevin demo --evening --keep my-demo     leaves all of this in a folder to play with");
                page.line("  frevin tune --plan                       shows what an evening on your own PC would be");
            }
        }
    }
}
