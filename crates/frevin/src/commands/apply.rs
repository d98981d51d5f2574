//! `frevin apply`

use clap::Args;

use super::target::{ReplacesArgs, TargetArgs};
use crate::context::Context;
use crate::failure::Failure;
use crate::operations::apply::{self, Order};
use crate::operations::evidence::{measured_worse, of_wishes};
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::self_test::is_first_told_untested;
use crate::operations::target::Unsaved;
use crate::operations::trial::refuse_open;
use crate::operations::waiting::waiting;
use crate::outcome::{Outcome, View as _};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::evidence::measured_worse_in_words;
use crate::view::plan::{DangerOf, PlanReport, dangers};
use crate::view::{Page, in_lines, warn};

/// Apply a profile: snapshot first, every write read back, all of it or nothing
#[derive(Debug, Args)]
pub(crate) struct ApplyArgs {
    #[command(flatten)]
    target: TargetArgs,
    #[command(flatten)]
    replaces: ReplacesArgs,
    /// Overwrite what others have written since Frevin last did
    #[arg(long)]
    force: bool,
    /// Do not ask the PC for a restore point before its first change: for the self-test, whose changes go again at once
    #[arg(long, hide = true)]
    without_restore_point: bool,
}

pub(crate) fn run(context: &Context, args: &ApplyArgs) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    let mut ledger = context.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    refuse_open(&ledger, &*pc)?;
    let catalogue = context.catalogue()?;
    let facts = context.facts(&*pc)?;
    keep_ready_made(context, &mut ledger, &args.target.named()?)?;
    let target = args.target.resolve(&catalogue, &ledger, &facts, Unsaved::Refused)?;
    let replaces = args.replaces.id(&ledger, &*pc)?;
    let order = Order::new(&*pc, &ledger, target, replaces, args.force)?;
    let order = if args.without_restore_point { order.without_restore_point() } else { order };
    if let Some(nothing) = order.nothing_to_do(&*pc, &ledger)? {
        return Ok(Outcome::done(&nothing));
    }
    if order.may_be_carried_out() {
        if is_first_told_untested(context, &*pc, facts.windows.build)? {
            let mut page = Page::default();
            page.line(warn(
                "No self-test of Frevin's has passed on this build of Windows yet: `frevin self-test` takes less than a \
                 minute and changes nothing that matters.",
            ));
            page.print_aside();
        }
        let mut page = Page::default();
        let (told, uses) = of_wishes(context, &*pc, &ledger, &order.target.wishes)?;
        let measured_worse = measured_worse(&told, &uses);
        let dangers = dangers(&order.plan, &order.target.by_hand, &catalogue);
        // Whoever gave their word before does not see the plan.
        if context.has_word() {
            let worse = measured_worse.iter().map(|worse| measured_worse_in_words(worse));
            let told = worse.chain(dangers.iter().map(DangerOf::in_words));
            told.for_each(|text| context.say_on_terminal(in_lines(&text)));
        }
        let report = PlanReport {
            dangers,
            measured_worse,
            title: &order.target.title,
            takes_effect: order.plan.takes_effect(),
            waiting: &waiting(&*pc, &ledger)?,
            plan: &order.plan,
            does_not_fit: &order.target.left_out,
            by_hand: &order.target.by_hand,
            catalogue: &catalogue,
            addresses: false,
        };
        report.show(&mut page);
        context.confirm(&page, "Apply it?")?;
    }
    Ok(Outcome::done(&apply::apply(context, &mut *pc, &mut ledger, order)?))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<apply::ApplyReport>("apply");
}
