//! `frevin preview`

use clap::Args;

use super::target::{ReplacesArgs, TargetArgs};
use crate::context::Context;
use crate::failure::Failure;
use crate::operations::apply::make_plan;
use crate::operations::evidence::{measured_worse, of_wishes};
use crate::operations::refuse_unfinished;
use crate::operations::target::Unsaved;
use crate::operations::waiting::waiting;
use crate::outcome::Outcome;
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::plan::{PlanReport, dangers};

/// Show what a profile would change on this PC, step by step. Changes nothing
#[derive(Debug, Args)]
pub(crate) struct PreviewArgs {
    #[command(flatten)]
    target: TargetArgs,
    #[command(flatten)]
    replaces: ReplacesArgs,
    /// Show every setting's full address
    #[arg(long)]
    addresses: bool,
}

pub(crate) fn run(context: &Context, args: &PreviewArgs) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    let ledger = context.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    let catalogue = context.catalogue()?;
    let target =
        args.target.resolve(&catalogue, &ledger, &context.facts(&*pc)?, Unsaved::Allowed)?;
    let replaces = args.replaces.id(&ledger, &*pc)?;
    let plan = make_plan(&*pc, &ledger, &target.wishes, replaces)?;
    let (told, uses) = of_wishes(context, &*pc, &ledger, &target.wishes)?;
    Ok(Outcome::yes(&PlanReport {
        dangers: dangers(&plan, &target.by_hand, &catalogue),
        measured_worse: measured_worse(&told, &uses),
        title: &target.title,
        takes_effect: plan.takes_effect(),
        waiting: &waiting(&*pc, &ledger)?,
        plan: &plan,
        does_not_fit: &target.left_out,
        by_hand: &target.by_hand,
        catalogue: &catalogue,
        addresses: args.addresses,
    }))
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<PlanReport<'static>>("preview");
}
