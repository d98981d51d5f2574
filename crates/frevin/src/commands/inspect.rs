//! `frevin inspect`

use clap::Args;

use crate::context::Context;
use crate::failure::Failure;
use crate::operations::inspect::inspect;
use crate::outcome::Outcome;

/// Show what is known of the PC, what is plainly wrong with it, and what Frevin has done to it
#[derive(Debug, Args)]
pub(crate) struct InspectArgs {}

pub(crate) fn run(context: &Context, _args: &InspectArgs) -> Result<Outcome, Failure> {
    Ok(Outcome::yes(&inspect(context, &*context.pc()?, &context.ledger()?)?))
}
