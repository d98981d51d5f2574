//! `frevin status`

use frevin_core::layers::ChangeId;
use frevin_core::setting::TakesEffect;
use frevin_core::sift::SiftId;
use frevin_core::trial::{Progress, TrialId};
use frevin_core::waiting::Waiting;
use frevin_pc::PcKind;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::operations::name_of_unfinished;
use crate::operations::trial::status as trial_status;
use crate::operations::waiting::waiting;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, bad, count, dim, good, show_waiting, warn, when};

/// How it stands with a PC.
#[derive(Debug, JsonSchema, Serialize)]
struct PcStatus {
    pc: String,
    kind: PcKind,
    /// A change or rollback that something cut off.
    unfinished: Option<String>,
    in_force: Vec<ChangeInForce>,
    waiting: Vec<Waiting>,
    trial: Option<TrialGoingOn>,
    sift: Option<SiftGoingOn>,
    held_for_a_game: Vec<HeldForAGame>,
    /// What to type next, the most urgent first.
    next: Vec<NextCommand>,
}

/// A change of which something is in force.
#[derive(Debug, JsonSchema, Serialize)]
struct ChangeInForce {
    change: ChangeId,
    title: String,
    since: Timestamp,
    /// Settings that it holds.
    settings: usize,
}

#[derive(Debug, JsonSchema, Serialize)]
struct TrialGoingOn {
    trial: TrialId,
    title: String,
    progress: Progress,
    pairs_made: usize,
    pair_limit: usize,
}

#[derive(Debug, JsonSchema, Serialize)]
struct SiftGoingOn {
    sift: SiftId,
    title: String,
}

#[derive(Debug, JsonSchema, Serialize)]
struct HeldForAGame {
    title: String,
    since: Timestamp,
}

/// A command, and what it is for.
#[derive(Debug, JsonSchema, Serialize)]
struct NextCommand {
    to: NextStep,
    command: String,
}

/// What a command is for.
#[derive(Debug, Clone, Copy, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
enum NextStep {
    PutBackWhatWasCutOff,
    GoOnWithTheTrial,
    GoOnWithTheSift,
    EndWhatIsHeld,
    HaveWhatWaitsTakeEffect,
    SeeWhetherItHelps,
    TakeItBack,
    LookForWhatIsWrong,
    SeeWhatThereIsToTry,
}

pub(crate) fn run(context: &Context) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    let ledger = context.ledger()?;
    let identity = pc.identity();
    let unfinished = ledger.unfinished(&identity.id)?.as_ref().map(name_of_unfinished);
    let in_force: Vec<ChangeInForce> = ledger
        .changes(&identity.id)?
        .into_iter()
        .filter(|change| change.layers_left > 0)
        .map(|change| ChangeInForce {
            change: change.id,
            title: change.title,
            since: change.begun_at,
            settings: change.layers_left,
        })
        .collect();
    let trial = match ledger.open_trial(&identity.id)? {
        None => None,
        Some(record) => {
            let status = trial_status(&ledger, &*pc, &record, false)?;
            Some(TrialGoingOn {
                trial: record.id,
                title: status.b,
                progress: status.progress,
                pairs_made: status.pairs_made,
                pair_limit: status.pair_limit,
            })
        }
    };
    let sift = ledger.open_sift(&identity.id)?;
    let sift = sift.map(|record| SiftGoingOn { sift: record.id, title: record.design.title });
    let held_for_a_game: Vec<HeldForAGame> = ledger
        .open_plays(&identity.id)?
        .into_iter()
        .map(|play| HeldForAGame { title: play.plan.title, since: play.begun_at })
        .collect();
    let mut status = PcStatus {
        pc: identity.name.clone(),
        kind: identity.kind,
        unfinished,
        in_force,
        waiting: waiting(&*pc, &ledger)?,
        trial,
        sift,
        held_for_a_game,
        next: Vec::new(),
    };
    status.next = status.next_commands();
    Ok(Outcome::yes(&status))
}

impl PcStatus {
    fn next_commands(&self) -> Vec<NextCommand> {
        let mut next = Vec::new();
        let mut say = |to, command: String| next.push(NextCommand { to, command });
        if self.unfinished.is_some() {
            say(NextStep::PutBackWhatWasCutOff, "frevin recover".to_owned());
            return next;
        }
        if self.trial.is_some() {
            say(NextStep::GoOnWithTheTrial, "frevin trial resume".to_owned());
        }
        if self.sift.is_some() {
            say(NextStep::GoOnWithTheSift, "frevin sift resume".to_owned());
        }
        if !self.held_for_a_game.is_empty() {
            say(NextStep::EndWhatIsHeld, "frevin play stop".to_owned());
        }
        if !next.is_empty() {
            return next;
        }
        let mut say = |to, command: String| next.push(NextCommand { to, command });
        if let (PcKind::Rehearsal, Some(moment)) =
            (self.kind, self.waiting.iter().map(|one| one.waits_for).max())
        {
            let how = match moment {
                TakesEffect::SignOut => "sign-out",
                TakesEffect::Now
                | TakesEffect::ServiceRestart
                | TakesEffect::DeviceRestart
                | TakesEffect::ProgramRestart
                | TakesEffect::Restart => "restart",
            };
            say(NextStep::HaveWhatWaitsTakeEffect, format!("frevin rehearsal {how}"));
        }
        match self.in_force.last() {
            Some(last) => {
                let id = last.change;
                say(NextStep::SeeWhetherItHelps, format!("frevin trial start --without {id}"));
                say(NextStep::TakeItBack, format!("frevin rollback {id}"));
            }
            None => {
                say(NextStep::LookForWhatIsWrong, "frevin inspect".to_owned());
                say(NextStep::SeeWhatThereIsToTry, "frevin tweak list --fitting".to_owned());
            }
        }
        next
    }
}

fn step_in_words(step: NextStep) -> &'static str {
    match step {
        NextStep::PutBackWhatWasCutOff => "put back what was cut off",
        NextStep::GoOnWithTheTrial => "go on with the trial",
        NextStep::GoOnWithTheSift => "go on with the sift",
        NextStep::EndWhatIsHeld => "end what is held for the game",
        NextStep::HaveWhatWaitsTakeEffect => "have what waits take effect",
        NextStep::SeeWhetherItHelps => "see whether it helps",
        NextStep::TakeItBack => "take it back",
        NextStep::LookForWhatIsWrong => "look for what is wrong",
        NextStep::SeeWhatThereIsToTry => "see what there is to try",
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<PcStatus>("status");
}

impl View for PcStatus {
    fn show(&self, page: &mut Page) {
        page.heading(&self.pc);
        if let Some(unfinished) = &self.unfinished {
            page.line(bad(format_args!("  Unfinished: {unfinished} was cut off.")));
        }
        if self.in_force.is_empty() {
            page.line("  Nothing that Frevin changed is in force.");
        } else {
            let changes = count(self.in_force.len(), "change");
            page.line(format_args!("  {}", good(format_args!("{changes} in force"))));
            let mut table = Table::new([">change", "what", "since", ">settings"]);
            for one in &self.in_force {
                table.row([
                    one.change.to_string(),
                    one.title.clone(),
                    when(one.since),
                    one.settings.to_string(),
                ]);
            }
            page.table(table);
        }
        show_waiting(&self.waiting, page);
        if let Some(trial) = &self.trial {
            let TrialGoingOn { trial: id, title, pairs_made, pair_limit, .. } = trial;
            let stand = match trial.progress {
                Progress::Paused => "paused",
                Progress::WayBackOpen => "decided, and the PC not yet where the verdict wants it",
                Progress::GivenUp => "given up, and the PC not yet put back",
                Progress::Going | Progress::Ended => "going on",
            };
            page.line(warn(format_args!(
                "Trial {id} of {title}: {stand}, {pairs_made} of at most {pair_limit} pairs made."
            )));
        }
        if let Some(SiftGoingOn { sift, title }) = &self.sift {
            page.line(warn(format_args!("Sift {sift} of {title} is not over.")));
        }
        for HeldForAGame { title, since } in &self.held_for_a_game {
            page.line(warn(format_args!("Held for a game since {}: {title}.", when(*since))));
        }
        page.heading("Next");
        let next = self.next.iter();
        page.pairs(next.map(|next| (step_in_words(next.to), next.command.clone())));
        page.line(dim("  `frevin log` tells what was done so far."));
    }
}
