//! Recovering: finishing what a crash left unfinished.
//!
//! A change is undone, a rollback is gone on with: both ways lead towards the PC's first state.
//! Writes are absolute, so that recovering is safe to repeat, and to be interrupted itself.

use std::path::PathBuf;

use frevin_core::layers::ChangeId;
use frevin_core::preview::{BackStep, OnOthers, in_writing_order, undoing};
use frevin_core::setting::{Address, State};
use frevin_ledger::{Change, Ledger, LedgerError, Rollback, Unfinished};
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use super::readings::PcReadings;
use super::rollback::{self, CarriedOut, NotTaken};
use super::undo_files;
use super::writing::{describe, put_back, went_with_its_container};
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// What recovering did.
#[derive(Debug, Clone, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "recovered")]
pub(crate) enum Recovered {
    /// There was nothing to do.
    Nothing,
    /// A change was undone.
    ChangeUndone {
        /// What the change was.
        title: String,
        /// How many settings had to be put back.
        written: usize,
        /// Settings left as others made them.
        kept: Vec<Address>,
        /// Settings that the PC would not put back, let go of since `--keep` said so.
        refused: Vec<NotTaken>,
    },
    /// A rollback was finished.
    RollbackFinished {
        /// How many settings were still to be put back.
        written: usize,
        /// Settings left as others made them.
        kept: Vec<Address>,
        /// Settings that the PC would not put back, let go of since `--keep` said so.
        refused: Vec<NotTaken>,
    },
}

/// Finishes the change or rollback of a PC that is unfinished, if there is one.
pub(crate) fn recover(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    on_others: OnOthers,
) -> Result<Recovered, Failure> {
    let _lock = context.lock(pc)?;
    match ledger.unfinished(&pc.identity().id)? {
        None => Ok(Recovered::Nothing),
        Some(Unfinished::Change(change)) => undo_change(context, pc, ledger, &change, on_others),
        Some(Unfinished::Rollback(rollback)) => {
            finish_rollback(context, pc, ledger, &rollback, on_others)
        }
    }
}

fn undo_change(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    change: &Change,
    on_others: OnOthers,
) -> Result<Recovered, Failure> {
    let settings = undoing(&change.steps, &PcReadings(pc))?;
    let mut sorted = Sorted::default();
    for setting in settings {
        let ours: Vec<&State> = setting.during.iter().collect();
        sorted.sort(pc, &setting.address, &setting.before, &ours, on_others)?;
    }
    let (written, kept, refused) = sorted.put_back(pc, on_others)?;
    ledger.abandon_change(change.id, context.clock.now())?;
    Ok(Recovered::ChangeUndone { title: change.title.clone(), written, kept, refused })
}

fn finish_rollback(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    unfinished: &Rollback,
    on_others: OnOthers,
) -> Result<Recovered, Failure> {
    let mut sorted = Sorted::default();
    for (address, before, after) in rollback::writes(&unfinished.steps) {
        sorted.sort(pc, address, after, &[before], on_others)?;
    }
    let kept = sorted.kept.clone();
    if !sorted.others.is_empty() {
        return Err(sorted.refuse_others());
    }
    let steps: Vec<BackStep> = rollback::writes(&unfinished.steps)
        .filter(|(address, ..)| sorted.to_write.iter().any(|(other, _)| other == *address))
        .map(|(address, before, after)| BackStep::Write {
            address: address.clone(),
            before: before.clone(),
            after: after.clone(),
        })
        .collect();
    let CarriedOut { refused, left_in_place: _ } =
        rollback::carry_out(context, pc, &steps, on_others)
            .map_err(|reason| not_taken("the PC does not take the way back").detail(reason))?;
    ledger.finish_rollback(unfinished.id, context.clock.now())?;
    let written = steps.len() - refused.len();
    Ok(Recovered::RollbackFinished { written, kept, refused })
}

fn not_taken(message: &str) -> Failure {
    Failure::new(Kind::Unfinished, message)
        .hint("find out what keeps the setting, then `frevin recover` again")
        .hint(
            "`frevin recover --keep` puts back all else, and lets go of what the PC does not take",
        )
}

/// What a PC would go back to from its undo files, without the ledger.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub(crate) struct Rescue {
    /// The settings that would be put back, with what each holds now and held first.
    pub(crate) settings: Vec<RescuedSetting>,
    /// Settings that hold what somebody else wrote.
    pub(crate) others: Vec<RescuedSetting>,
    /// Changes that it was read of.
    pub(crate) changes: Vec<i64>,
    /// Undo files that cannot be used, and why: what they alone tell of is not put back.
    pub(crate) unusable: Vec<(PathBuf, String)>,
}

/// A setting as undo files tell it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub(crate) struct RescuedSetting {
    pub(crate) address: Address,
    pub(crate) now: State,
    /// What it held before the first change that is told of.
    pub(crate) at_first: State,
}

/// The ledger; nothing where it is damaged. One that a newer Frevin wrote, or that cannot be read now, is
/// not.
fn ledger_unless_damaged(context: &Context) -> Result<Option<Ledger>, Failure> {
    match Ledger::open(context.home()) {
        Ok(ledger) => Ok(Some(ledger)),
        Err(LedgerError::Damaged { .. } | LedgerError::Altered { .. }) => Ok(None),
        Err(other) => Err(other.into()),
    }
}

/// Reads what a PC goes back to without its ledger. Where the ledger is as it was written, only changes
/// count that it does not know: it knows better about all others.
pub(crate) fn plan_rescue(context: &Context, pc: &dyn Pc) -> Result<Rescue, Failure> {
    let id = &pc.identity().id;
    let (mut copies, unusable) = undo_files::read_copies(&context.undo_folder(pc), id)?;
    if let Some(ledger) = ledger_unless_damaged(context)? {
        let known: Vec<i64> = ledger.changes(id)?.iter().map(|change| change.id.0).collect();
        copies.retain(|change, _| !known.contains(change));
    }
    let mut first: Vec<(Address, State, Vec<State>)> = Vec::new();
    for copy in copies.values() {
        // Settings stand in the order in which they are undone: the first written is the last.
        for setting in copy.settings.iter().rev() {
            let ours = setting.during.iter().cloned();
            match first.iter_mut().find(|(address, ..)| *address == setting.address) {
                Some((_, _, known)) => known.extend(ours),
                None => {
                    first.push((setting.address.clone(), setting.before.clone(), ours.collect()));
                }
            }
        }
    }
    let befores: Vec<(Address, State)> =
        first.iter().map(|(address, at_first, _)| (address.clone(), at_first.clone())).collect();
    let mut rescue = Rescue {
        settings: Vec::new(),
        others: Vec::new(),
        changes: copies.keys().copied().collect(),
        unusable,
    };
    for (address, at_first) in in_writing_order(befores, &PcReadings(pc))? {
        let now = pc.read(&address)?;
        if now == at_first || went_with_its_container(pc, &address) {
            continue;
        }
        let ours = first.iter().find(|(known, ..)| *known == address).map(|(_, _, ours)| ours);
        let between: Vec<&State> = ours.into_iter().flatten().chain([&at_first]).collect();
        let is_ours = between.contains(&&now) || now.lies_between(&between);
        let setting = RescuedSetting { address, now: now.clone(), at_first: at_first.clone() };
        if is_ours { rescue.settings.push(setting) } else { rescue.others.push(setting) }
    }
    Ok(rescue)
}

/// What was put back without the ledger.
#[derive(Debug, Clone, JsonSchema, Serialize)]
pub(crate) struct Rescued {
    pub(crate) written: usize,
    pub(crate) refused: Vec<NotTaken>,
    /// Where the ledger is that was damaged; a new one is begun.
    pub(crate) damaged_ledger: Option<PathBuf>,
}

/// Puts a PC back as `shown`. With [`OnOthers::Force`] what others wrote goes back too, with
/// [`OnOthers::Keep`] it stays.
pub(crate) fn rescue(
    context: &Context,
    pc: &mut dyn Pc,
    shown: &Rescue,
    on_others: OnOthers,
) -> Result<Rescued, Failure> {
    let _lock = context.lock(pc)?;
    if plan_rescue(context, pc)? != *shown {
        let message = "nothing was changed: the PC is no longer as shown";
        return Err(Failure::new(Kind::ChangedByOthers, message).hint("try it once more"));
    }
    let mut sorted = Sorted::default();
    for setting in &shown.settings {
        sorted.to_write.push((setting.address.clone(), setting.at_first.clone()));
    }
    for RescuedSetting { address, now, at_first } in &shown.others {
        match on_others {
            OnOthers::Stop => sorted.others.push((address.clone(), now.clone(), at_first.clone())),
            OnOthers::Keep => sorted.kept.push(address.clone()),
            OnOthers::Force => sorted.to_write.push((address.clone(), at_first.clone())),
        }
    }
    let (written, _, refused) = sorted.put_back(pc, on_others)?;
    let damaged_ledger = match ledger_unless_damaged(context)? {
        Some(_) => None,
        None => {
            let last = undo_files::last_change(&context.home().join("undo"))?;
            Ledger::begin_anew(context.home(), ChangeId(last))?
        }
    };
    undo_files::note_put_back(&context.undo_folder(pc), &shown.changes)?;
    Ok(Rescued { written, refused, damaged_ledger })
}

/// The settings of something unfinished, sorted by what is to be done about them.
#[derive(Default)]
struct Sorted {
    to_write: Vec<(Address, State)>,
    kept: Vec<Address>,
    others: Vec<(Address, State, State)>,
}

impl Sorted {
    fn sort(
        &mut self,
        pc: &dyn Pc,
        address: &Address,
        target: &State,
        ours: &[&State],
        on_others: OnOthers,
    ) -> Result<(), Failure> {
        let held = pc.read(address)?;
        if held == *target || went_with_its_container(pc, address) {
            return Ok(());
        }
        let between: Vec<&State> = ours.iter().copied().chain([target]).collect();
        match on_others {
            _ if ours.contains(&&held) || held.lies_between(&between) => {
                self.to_write.push((address.clone(), target.clone()))
            }
            OnOthers::Force => self.to_write.push((address.clone(), target.clone())),
            OnOthers::Keep => self.kept.push(address.clone()),
            OnOthers::Stop => self.others.push((address.clone(), held, target.clone())),
        }
        Ok(())
    }

    fn refuse_others(&self) -> Failure {
        let line = |(address, held, target): &(Address, State, State)| {
            format!("{address}: it holds {held}, and was {target} at first")
        };
        Failure::new(Kind::Unfinished, "somebody else has changed settings since the interruption")
            .details(self.others.iter().map(line))
            .hint("`frevin recover --keep` leaves what they wrote")
            .hint("`frevin recover --force` puts back what was there at first")
    }

    /// How many settings were put back, those left to others, and those that the PC refused.
    fn put_back(
        self,
        pc: &mut dyn Pc,
        on_others: OnOthers,
    ) -> Result<(usize, Vec<Address>, Vec<NotTaken>), Failure> {
        if !self.others.is_empty() {
            return Err(self.refuse_others());
        }
        let states = put_back(pc, &self.to_write);
        pc.flush()?;
        let mut refused = Vec::new();
        for (last, (_, was)) in states.iter().zip(&self.to_write) {
            if !last.is_resolved {
                let reason = last.obstacle.clone();
                refused.push(NotTaken {
                    address: last.address.clone(),
                    was: was.clone(),
                    reason: reason.unwrap_or_else(|| format!("it holds {}", last.state)),
                });
            }
        }
        match on_others {
            OnOthers::Stop | OnOthers::Force if !refused.is_empty() => {
                Err(not_taken("the PC does not take all of the way back")
                    .details(describe(&states)))
            }
            OnOthers::Stop | OnOthers::Force | OnOthers::Keep => {
                Ok((self.to_write.len() - refused.len(), self.kept, refused))
            }
        }
    }
}
