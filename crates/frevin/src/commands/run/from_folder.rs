//! Recording what another program writes into a folder.

use std::path::Path;
use std::time::{Duration, Instant};

use frevin_core::tweak::TweakId;
use frevin_ledger::NewVisit;

use super::{ImportReport, ImportedFile, RecordArgs, read};
use crate::failure::{Failure, Kind};
use crate::report::Answer;
use crate::session::Session;
use crate::workshop::measure::{imported_run, refuse_waiting, tweaks_in_force};
use crate::workshop::refuse_unfinished;
use crate::workshop::watched_folder::WatchedFolder;

/// What is known of the PC while the runs are made.
struct Conditions {
    pc: Option<String>,
    boot: Option<String>,
    tweaks: Vec<TweakId>,
    waits_for_restart: bool,
}

/// Waits for as many finished logs as there are to be runs, and keeps them as one visit.
pub(super) fn record(
    session: &Session,
    args: &RecordArgs,
    folder: &Path,
) -> Result<Answer, Failure> {
    let mut ledger = session.ledger()?;
    ledger.scene(&args.scene)?;
    let conditions = conditions(session, args)?;
    let mut watched = WatchedFolder::new(folder)?;
    let warm_up = usize::from(args.warm_up.unwrap_or(0));
    let wanted = warm_up + usize::from(args.runs);
    let unchanged_for = Duration::from_secs(args.unchanged_for.into());
    let deadline = Instant::now() + Duration::from_secs(args.give_up_after.into());
    let progress = session.progress(wanted as u64, "logs that are finished");
    let (mut runs, mut files, mut passed_over) = (Vec::new(), Vec::new(), Vec::new());
    while runs.len() < wanted {
        let Some(path) = watched.next(unchanged_for, deadline)? else {
            let message =
                format!("{} of {wanted} logs came within {} s", runs.len(), args.give_up_after);
            return Err(Failure::new(Kind::NotFound, message)
                .details(passed_over.into_iter().map(|file| format!("passed over {file}")))
                .hint("nothing was recorded; `frevin run import` takes the logs that are there")
                .hint("--give-up-after SECONDS waits longer"));
        };
        let reading = match read(&path, &args.log.options()) {
            // Other things are written into such folders too: one of them does not end the waiting.
            Err(failure) if failure.kind == Kind::BadInput => {
                passed_over.push(failure.message);
                continue;
            }
            reading => reading?,
        };
        // The name alone: the path to it is the owner's own business.
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let mut run = imported_run(name, reading.series.clone(), runs.len() < warm_up);
        run.boot.clone_from(&conditions.boot);
        run.waits_for_restart = conditions.waits_for_restart;
        runs.push(run);
        files.push(ImportedFile::new(path.display().to_string(), reading));
        progress.inc(1);
    }
    progress.finish_and_clear();
    let id = ledger.add_visit(&NewVisit {
        scene: &args.scene,
        pc: conditions.pc.as_deref(),
        state_name: &args.state,
        recorded_at: session.clock.now(),
        tweaks: &conditions.tweaks,
        runs: &runs,
    })?;
    Ok(Answer::done(&ImportReport { visit: ledger.visit(id)?, files, passed_over }))
}

/// The PC that is meant, if one is, has to be as its tweaks want it.
fn conditions(session: &Session, args: &RecordArgs) -> Result<Conditions, Failure> {
    let Some(pc) = session.pc_if_named()? else {
        let tweaks = Vec::new();
        return Ok(Conditions { pc: None, boot: None, tweaks, waits_for_restart: false });
    };
    let ledger = session.ledger()?;
    refuse_unfinished(&ledger, &*pc)?;
    let id = pc.identity().id.clone();
    let boot = pc.boot()?.0;
    let waiting = ledger.waiting_for_restart(&id, &boot)?;
    if !args.despite_waiting && !waiting.is_empty() {
        return Err(refuse_waiting(&waiting));
    }
    Ok(Conditions {
        tweaks: tweaks_in_force(&ledger, &id)?,
        waits_for_restart: !waiting.is_empty(),
        boot: Some(boot),
        pc: Some(id),
    })
}
