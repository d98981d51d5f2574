//! Recording what another program writes into a folder.

use std::path::Path;
use std::time::{Duration, Instant};

use frevin_core::profile::SceneName;
use frevin_ledger::{NewVisit, RunSource};

use super::RecordArgs;
use super::import::{ImportReport, ImportedFile, read};
use crate::failure::{Failure, Kind};
use crate::report::Answer;
use crate::session::Session;
use crate::workshop::measure::{conditions, run_of};
use crate::workshop::network::Target;
use crate::workshop::watched_folder::WatchedFolder;

/// Waits for as many finished logs as there are to be runs, and keeps them as one visit.
pub(super) fn record(
    session: &Session,
    args: &RecordArgs,
    scene: &SceneName,
    folder: &Path,
) -> Result<Answer, Failure> {
    let mut ledger = session.ledger()?;
    ledger.scene(scene)?;
    let ping = args.ping.as_deref().map(Target::find).transpose()?;
    let conditions = conditions(session, args.despite_waiting, args.told.told(), ping.as_ref())?;
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
        let (frames, reading) = match read(session, &path, &args.log.options()) {
            // Other things are written into such folders too: one of them does not end the waiting.
            Err(failure) if failure.kind == Kind::BadInput => {
                passed_over.push(failure.message);
                continue;
            }
            reading => reading?,
        };
        // The name alone: the path to it is the owner's own business.
        let name = path.file_name().unwrap_or_default().to_string_lossy().into_owned();
        let run = run_of(RunSource::LogFile(name), frames, runs.len() < warm_up, &conditions.told);
        runs.push(conditions.mark(run));
        files.push(ImportedFile::new(path.display().to_string(), reading));
        progress.inc(1);
    }
    progress.finish_and_clear();
    let (pc, tweaks) = (conditions.pc.clone(), conditions.tweaks.clone());
    let around = conditions.around(ping.as_ref())?;
    let id = ledger.add_visit(&NewVisit {
        scene,
        pc: pc.as_deref(),
        state_name: &args.state,
        recorded_at: session.clock.now(),
        tweaks: &tweaks,
        surroundings: around.as_ref(),
        runs: &runs,
    })?;
    Ok(Answer::done(&ImportReport { visit: ledger.visit(id)?, files, passed_over }))
}
