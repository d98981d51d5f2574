//! Trials: begun, driven by their machine, told.

mod begin;
mod drive;
mod in_play;
mod report;
mod status;

pub(crate) use begin::{Arms, AskedInPlay, Beginning, Request, design, in_play};
pub(crate) use drive::{Driver, PROBES_A_RUN, Stopped, no_latency, pings, probing};
pub(crate) use report::{
    InPlayReport, LevelReport, PairReport, SideReport, TrialList, TrialReport, is_taken_back_since,
    report,
};
pub(crate) use status::{Next, StatusReport, status};

use std::time::Duration;

use frevin_core::trial::{Action, Event, Pace, Progress, TrialId};
use frevin_ledger::{Ledger, TrialRecord};
use frevin_pc::Pc;

use crate::context::Context;
use crate::failure::{Failure, Kind};

/// What a run takes besides its length: a scene is loaded, a recording begun.
const AROUND_A_RUN: Duration = Duration::from_secs(10);
/// A restart until the first run can begin, on a PC of which none was timed.
const RESTART: Duration = Duration::from_secs(90);

/// How long the parts of trials take on a PC: a restart by those that earlier trials have timed.
pub(crate) fn pace(earlier: &[TrialRecord], run_seconds: u32) -> Pace {
    let mut restarts: Vec<Duration> = earlier.iter().flat_map(timed_restarts).collect();
    restarts.sort();
    let restart = restarts.get(restarts.len() / 2).copied().unwrap_or(RESTART);
    Pace { run: Duration::from_secs(run_seconds.into()) + AROUND_A_RUN, restart }
}

/// From the request of a restart to its acknowledgement; what took longer than a quarter of an hour was
/// no restart alone.
fn timed_restarts(record: &TrialRecord) -> impl Iterator<Item = Duration> {
    const LONGEST: Duration = Duration::from_secs(900);
    let pairs =
        record.events.windows(2).filter_map(|events| match (&events[0].event, &events[1].event) {
            (Event::Began { action: Action::Restart, .. }, Event::Restarted { .. }) => {
                Duration::try_from(events[0].at.until(events[1].at).ok()?).ok()
            }
            _ => None,
        });
    pairs.filter(|took| *took > Duration::from_secs(1) && *took < LONGEST)
}

/// The trial that is meant: the one that is named, else the latest of the PC.
pub(crate) fn find(
    ledger: &Ledger,
    pc: &dyn Pc,
    id: Option<TrialId>,
) -> Result<TrialRecord, Failure> {
    match id {
        Some(id) => Ok(ledger.trial(id)?),
        None => ledger.trials(&pc.identity().id)?.pop().ok_or_else(none_yet),
    }
}

/// The trial of a PC that has not ended.
pub(crate) fn open(ledger: &Ledger, pc: &dyn Pc) -> Result<TrialRecord, Failure> {
    ledger.open_trial(&pc.identity().id)?.ok_or_else(|| {
        Failure::new(Kind::NotFound, "no trial of this PC is going on").hint(
            "`frevin trial start` begins one, `frevin trial list` shows those that have ended",
        )
    })
}

/// Refuses where a trial of the PC is going on: its two states have to stay what they are.
pub(crate) fn refuse_open(ledger: &Ledger, pc: &dyn Pc) -> Result<(), Failure> {
    crate::operations::sift::refuse_open(ledger, pc)?;
    let Some(record) = ledger.open_trial(&pc.identity().id)? else { return Ok(()) };
    let message = format!("nothing was changed: trial {} of this PC is not over", record.id);
    Err(Failure::new(Kind::Guarded, message)
        .detail(format!("it compares {} with {}", record.design.b.title, record.design.a.title))
        .hint("`frevin trial resume` goes on with it")
        .hint("`frevin trial abandon` gives it up, and puts the PC back"))
}

/// What the owner is told at every command, where the PC is not where the verdict of a trial wants it.
pub(crate) fn reminder(context: &Context) -> Result<Option<String>, Failure> {
    if !context.home().join("ledger.sqlite3").exists() {
        return Ok(None);
    }
    let Some(pc) = context.pc_if_named()? else { return Ok(None) };
    let Some(record) = context.ledger()?.open_trial(&pc.identity().id)? else { return Ok(None) };
    let said = match record.trial().progress() {
        Progress::WayBackOpen => "is decided, and the PC is not yet where its verdict wants it",
        Progress::GivenUp => "is given up, and the PC is not yet put back",
        Progress::Going | Progress::Paused | Progress::Ended => return Ok(None),
    };
    Ok(Some(format!("Trial {} {said}: `frevin trial resume` tries again.", record.id)))
}

fn none_yet() -> Failure {
    Failure::new(Kind::NotFound, "there is no trial of this PC yet")
        .hint("`frevin trial start PROFILE --scene SCENE` begins one")
}
