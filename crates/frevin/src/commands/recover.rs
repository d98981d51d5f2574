//! `frevin recover`

use clap::Args;
use serde::Serialize;

use super::rollback::OthersArgs;
use crate::context::Context;
use crate::failure::Failure;
use crate::operations::recover::{self, Recovered};
use crate::outcome::{Outcome, View};
use crate::view::rolled_back::show_not_taken;
use crate::view::{Page, count, good, warn};

/// Settle a change or rollback that was interrupted: the PC goes back to what it was
#[derive(Debug, Args)]
pub(crate) struct RecoverArgs {
    #[command(flatten)]
    others: OthersArgs,
}

#[derive(Debug, Serialize)]
struct RecoverReport {
    #[serde(flatten)]
    recovered: Recovered,
}

pub(crate) fn run(context: &Context, args: &RecoverArgs) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    let mut ledger = context.ledger()?;
    let on_others = args.others.on_others();
    let recovered = recover::recover(context, &mut *pc, &mut ledger, on_others)?;
    Ok(Outcome::done(&RecoverReport { recovered }))
}

impl View for RecoverReport {
    fn show(&self, page: &mut Page) {
        let (kept, refused) = match &self.recovered {
            Recovered::Nothing => {
                page.line("Nothing to recover: no change or rollback is unfinished.");
                return;
            }
            Recovered::ChangeUndone { title, written, kept, refused } => {
                page.line(format_args!(
                    "{} The interrupted change ({title}) is undone: {} put back{}.",
                    good("Done."),
                    count(*written, "setting"),
                    if refused.is_empty() && kept.is_empty() {
                        ", and the PC is what it was before"
                    } else {
                        ""
                    },
                ));
                (kept, refused)
            }
            Recovered::RollbackFinished { written, kept, refused } => {
                page.line(format_args!(
                    "{} The interrupted rollback is finished: the last {} put back.",
                    good("Done."),
                    count(*written, "setting"),
                ));
                (kept, refused)
            }
        };
        for address in kept {
            page.line(warn(format_args!("{address} stays as somebody else made it")));
        }
        show_not_taken(refused, page);
    }
}
