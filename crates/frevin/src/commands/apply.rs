//! `frevin apply`

use clap::Args;
use frevin_core::preview::LeftOut;
use frevin_core::profile::ByHand;
use frevin_core::setting::TakesEffect;
use frevin_ledger::Ledger;
use frevin_pc::{Pc, RestorePoint};
use serde::Serialize;

use super::preview::{PlanReport, show_by_hand, with_article};
use super::target::{TargetArgs, Unsaved};
use crate::failure::{Failure, Kind};
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, count, dim, good, strong, warn};
use crate::workshop::{apply, refuse_unfinished};

/// Apply a profile: snapshot first, every write read back, all of it or nothing
#[derive(Debug, Args)]
pub(crate) struct ApplyArgs {
    #[command(flatten)]
    target: TargetArgs,
    /// Overwrite what others have written since Frevin last did
    #[arg(long)]
    force: bool,
}

/// What was applied.
#[derive(Debug, Serialize)]
pub(crate) struct ApplyReport {
    #[serde(flatten)]
    pub(crate) applied: Option<apply::Applied>,
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) by_hand: Vec<ByHand>,
}

pub(crate) fn run(session: &Session, args: &ApplyArgs) -> Result<Answer, Failure> {
    let mut pc = session.pc()?;
    let mut ledger = session.ledger()?;
    Ok(Answer::done(&apply_target(session, &mut *pc, &mut ledger, &args.target, args.force)?))
}

/// Applies a profile or a tweak, after asking for the owner's word.
pub(crate) fn apply_target(
    session: &Session,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    target: &TargetArgs,
    force: bool,
) -> Result<ApplyReport, Failure> {
    refuse_unfinished(ledger, pc)?;
    let catalogue = session.catalogue()?;
    let target = target.resolve(&catalogue, ledger, &session.facts(pc)?, Unsaved::Refused)?;
    let mut plan = apply::make_plan(pc, ledger, &target.wishes)?;
    plan.left_out.extend(target.left_out);
    let left_out = plan.left_out.clone();
    let by_hand = target.by_hand;
    if plan.is_empty() && plan.refusals.is_empty() {
        return Ok(ApplyReport { applied: None, left_out, by_hand });
    }
    let mut page = Page::default();
    let report = PlanReport {
        title: &target.title,
        takes_effect: plan.takes_effect(),
        waiting_for_restart: ledger.waiting_for_restart(&pc.identity().id, &pc.boot()?.0)?.len(),
        plan: &plan,
        by_hand: &by_hand,
        catalogue: &catalogue,
        addresses: false,
    };
    report.show(&mut page);
    let is_refused = !plan.refusals.is_empty()
        || !plan.denied.is_empty()
        || (!force && !plan.changed_by_others.is_empty());
    if !is_refused {
        session.confirm(&page, "Apply it?")?;
    }
    let order = apply::Order {
        title: &target.title,
        revision: target.revision.as_ref().map(|(name, number)| (name, *number)),
        wishes: &target.wishes,
        plan,
        force,
    };
    let applied = apply::apply(session, pc, ledger, order)?;
    Ok(ApplyReport { applied: Some(applied), left_out, by_hand })
}

impl Report for ApplyReport {
    fn show(&self, page: &mut Page) {
        match &self.applied {
            None => page.line("Nothing to change: the PC is as wished already."),
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
        show_by_hand(&self.by_hand, page);
        for left in &self.left_out {
            page.line(format_args!(
                "{} {}: {}",
                dim("left out"),
                left.tweak,
                left.reasons.join("; ")
            ));
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

/// Fails where nothing came of applying, for callers that need a change to go on.
pub(crate) fn change_of(report: &ApplyReport) -> Result<&apply::Applied, Failure> {
    report.applied.as_ref().ok_or_else(|| Failure::new(Kind::Internal, "nothing was applied"))
}
