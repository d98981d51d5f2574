//! A change as it is told once it was made.

use frevin_core::setting::TakesEffect;
use frevin_pc::RestorePoint;

use super::plan::{DangersTold, show_by_hand, with_article};
use super::{Page, count, dim, good, strong, warn};
use crate::operations::apply::ApplyReport;
use crate::outcome::View;

impl View for ApplyReport {
    fn show(&self, page: &mut Page) {
        match &self.applied {
            None => page.line(self.why_nothing()),
            Some(applied) => {
                let what = match applied.written {
                    0 => "nothing had to be written, and what is shared with other changes is held"
                        .to_owned(),
                    written => format!("{} written and read back", count(written, "setting")),
                };
                page.line(format_args!(
                    "{} {} is applied: {what}.",
                    good("Done."),
                    strong(format_args!("Change {} ({})", applied.change, applied.title)),
                ));
                for display in &applied.displays_put_back {
                    page.line(warn(format_args!(
                        "{display} went back to what it was: nobody said that it can be read."
                    )));
                }
                if applied.takes_effect != TakesEffect::Now {
                    let moment = with_article(applied.takes_effect);
                    page.line(warn(format_args!("Some of it waits for {moment}.")));
                }
                if let Some(restore_point) = &applied.restore_point {
                    page.line(about_restore_point(restore_point));
                }
                let mut next = vec![
                    ("take it back", format!("frevin rollback {}", applied.change)),
                    ("undo without Frevin", applied.undo_files.registry.display().to_string()),
                    ("", applied.undo_files.sheet.display().to_string()),
                ];
                if applied.takes_effect == TakesEffect::Restart {
                    next.insert(0, ("after the restart", "frevin drift".to_owned()));
                }
                page.pairs(next);
            }
        }
        show_by_hand(&self.by_hand, DangersTold::Here, page);
        for left in &self.left_out {
            let reasons = left.reasons.join("; ");
            page.line(format_args!("{} {}: {reasons}", dim("left out"), left.used));
        }
        for left in &self.parts_left_out {
            let reasons = left.reasons.join("; ");
            page.line(format_args!("{} {}: {reasons}", dim("left out of"), left.used));
        }
    }
}

fn about_restore_point(restore_point: &RestorePoint) -> String {
    match restore_point {
        RestorePoint::Made { number } => {
            format!(
                "This was the first change of this PC: restore point {number} was made before it."
            )
        }
        RestorePoint::SwitchedOff => warn(
            "No restore point was made: they are switched off on this PC. Frevin's own way back does \
             not need one.",
        ),
        RestorePoint::Refused { reason } => warn(format_args!(
            "No restore point was made: {reason}. Frevin's own way back does not need one."
        )),
        RestorePoint::NotOffered => "This PC does not offer restore points.".to_owned(),
    }
}

impl ApplyReport {
    /// Why nothing was applied, in words.
    fn why_nothing(&self) -> String {
        let changes: Vec<String> = self.in_force_by.iter().map(ToString::to_string).collect();
        let is_all_left_out = self.is_all_left_out;
        if !changes.is_empty() {
            let what = if changes.len() == 1 { "change" } else { "changes" };
            let changes = changes.join(", ");
            format!("Nothing to change: all of it is in force already, by {what} {changes}.")
        } else if !is_all_left_out {
            "Nothing to change: the PC is as wished already.".to_owned()
        } else if !self.by_hand.is_empty() && self.left_out.is_empty() {
            "Nothing was changed: this is done by hand.".to_owned()
        } else if self.left_out.is_empty() {
            "Nothing was changed: nothing is chosen, so that there is nothing to write.".to_owned()
        } else {
            "Nothing was changed: it does not fit this PC.".to_owned()
        }
    }
}
