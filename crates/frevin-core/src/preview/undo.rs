//! The order in which a change is undone.

use super::order::rank_on;
use super::plan::{Action, Readings, Step};
use crate::setting::{Address, State};

/// One setting of a change, as it is undone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undoing {
    /// The setting.
    pub address: Address,
    /// What it goes back to.
    pub before: State,
    /// What the change makes it hold on the way: after each of its steps.
    pub during: Vec<State>,
}

/// The settings that `steps` write, each once, in the order in which they are to be undone: a
/// setting goes back to what its first step found.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn undoing<R: Readings>(steps: &[Step], readings: &R) -> Result<Vec<Undoing>, R::Error> {
    let mut settings: Vec<Undoing> = Vec::new();
    for step in steps.iter().filter(|step| step.action == Action::Write) {
        match settings.iter_mut().find(|known| known.address == step.address) {
            Some(known) => known.during.push(step.after.clone()),
            None => settings.push(Undoing {
                address: step.address.clone(),
                before: step.before.clone(),
                during: vec![step.after.clone()],
            }),
        }
    }
    settings.reverse();
    let mut ranked = Vec::new();
    for setting in settings {
        ranked.push((rank_on(readings, &setting.address, &setting.before)?, setting));
    }
    ranked.sort_by_key(|(rank, _)| *rank);
    Ok(ranked.into_iter().map(|(_, setting)| setting).collect())
}
