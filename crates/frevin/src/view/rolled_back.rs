//! A rollback as it is shown and told.

use frevin_core::preview::{BackStep, WayBack};
use frevin_core::setting::TakesEffect;

use super::plan::with_article;
use super::{Page, Table, count, dim, good, short, shown_at, strong, warn};
use crate::operations::rollback::{NotTaken, RollbackReport};
use crate::outcome::View;

/// The steps of a way back.
pub(crate) fn show_way_back(way_back: &WayBack, page: &mut Page) {
    let mut table = Table::new(["setting", "now", "goes back to"]);
    for step in &way_back.steps {
        table.row(match step {
            BackStep::Write { address, before, after } => {
                [short(address), shown_at(address, before), strong(shown_at(address, after))]
            }
            BackStep::Beneath { address, state } => [
                short(address),
                shown_at(address, state),
                dim("stays: something applied later wants it so"),
            ],
            BackStep::AlreadySo { address, state } => {
                [short(address), shown_at(address, state), dim("stays: it is that already")]
            }
            BackStep::Kept { address, state } => {
                [short(address), shown_at(address, state), warn("stays: somebody else wrote it")]
            }
        });
    }
    page.table(table);
}

/// The settings that the PC would not put back, and that nothing holds any more.
pub(crate) fn show_not_taken(refused: &[NotTaken], page: &mut Page) {
    for NotTaken { address, was, reason } in refused {
        let was = shown_at(address, was);
        let what = format_args!(
            "{} was {was} and is no longer held, since the PC does not take it: {reason}",
            short(address)
        );
        page.line(warn(what));
    }
}

impl View for RollbackReport {
    fn show(&self, page: &mut Page) {
        if self.way_back.steps.is_empty() {
            page.line(match self.let_go {
                0 => "Nothing to roll back: Frevin holds nothing of that on this PC.".to_owned(),
                settings => format!(
                    "Nothing to roll back: {} of it {} let go, emptied for good or kept as others made \
                     them. There is no way back for them.",
                    count(settings, "setting"),
                    if settings == 1 { "was" } else { "were" },
                ),
            });
            return;
        }
        show_way_back(&self.way_back, page);
        page.blank();
        let what = match self.rolled_back.written {
            0 => "Nothing had to be written.".to_owned(),
            written => format!("{} put back and read back.", count(written, "setting")),
        };
        page.line(format_args!("{} {what}", good("Done.")));
        for key in &self.rolled_back.left_in_place {
            let what = format_args!("{key} stays: others have put something into it since");
            page.line(warn(what));
        }
        show_not_taken(&self.rolled_back.refused, page);
        if self.rolled_back.takes_effect != TakesEffect::Now {
            let moment = with_article(self.rolled_back.takes_effect);
            page.line(warn(format_args!("Some of it waits for {moment}.")));
        }
    }
}
