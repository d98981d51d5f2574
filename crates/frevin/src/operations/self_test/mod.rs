//! The self-test: whether Frevin keeps its promises on this very PC, found out in places of its own.

mod places;
mod reading;
mod surroundings;
mod whole;

use frevin_pc::{Pc, PcKind};
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::operations::refuse_unfinished;
use crate::operations::trial::refuse_open;

pub(crate) use reading::KindRead;

/// What is looked at.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub(crate) enum Look {
    /// Registry data of every type and odd lengths: written, read back to the byte, taken away.
    RegistryData,
    /// A pair, a word and bits of a registry value, with the rest of it left alone.
    RegistryParts,
    /// A system parameter, set to what it holds.
    SystemParameter,
    /// Files in a scratch folder, set aside and brought back, and a settings file, changed and put back.
    ScratchFiles,
    /// A scheduled task of Frevin's own, which nothing starts: made, switched on and off, taken away.
    ScheduledTask,
    /// A copy of the power plan in force, which is never put in force itself.
    PowerPlanCopy,
    /// Two changes over one setting, taken back in the order in which they were made.
    ChangesOverEachOther,
    /// A change killed at some moments, each time put back exactly.
    Killed,
    /// The undo file of a change, imported by Windows' own command.
    UndoFile,
    /// An administrator's rights.
    Rights,
    /// Who else could write in Frevin's home.
    OwnFolder,
    /// The clock, against a timer that nobody can set.
    Clock,
    /// Room for a ledger and its frames.
    FreeRoom,
    /// Frames of the test loop, and how evenly they come.
    Frames,
    /// Pictures of a window of Frevin's own, traced as a game's are: whether their frame times are those that were shown.
    TracedFrames,
    /// Whether anything of the self-test is left.
    NothingLeft,
}

/// What came of a look.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case", tag = "came")]
pub(crate) enum Came {
    /// It is as promised.
    Passed {
        /// What was seen, where there is something to say.
        seen: Option<String>,
    },
    /// It is not.
    Failed {
        /// What was seen instead.
        seen: String,
    },
    /// It cannot be looked at here.
    NotPossible {
        /// Why.
        reason: String,
    },
}

/// One look and what came of it.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub(crate) struct Looked {
    pub(crate) look: Look,
    #[serde(flatten)]
    pub(crate) came: Came,
}

/// What the self-test found.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub(crate) struct SelfTestReport {
    pub(crate) frevin: &'static str,
    pub(crate) pc: PcKind,
    /// The build of Windows.
    pub(crate) build: u32,
    pub(crate) at: Timestamp,
    /// Whether nothing failed.
    pub(crate) has_passed: bool,
    /// Every setting that a fitting tweak names, by kind: how many could be read.
    pub(crate) read: Vec<KindRead>,
    pub(crate) looked: Vec<Looked>,
}

/// The registry key that the self-test has for its own, and takes away again.
pub(crate) const OWN_KEY: &str = r"HKCU\Software\Frevin self-test";

/// Carries it out. Nothing but places of its own is written.
pub(crate) fn self_test(context: &Context) -> Result<SelfTestReport, Failure> {
    let mut pc = context.restartable_pc()?;
    {
        let ledger = context.ledger()?;
        refuse_unfinished(&ledger, &*pc)?;
        refuse_open(&ledger, &*pc)?;
        crate::operations::play::refuse_playing(&ledger, &*pc)?;
    }
    let facts = context.facts(&*pc)?;
    let progress = context.progress(16, "testing");
    let mut looked = Vec::new();
    let mut note = |look: Look, came: Came| {
        progress.inc(1);
        looked.push(Looked { look, came });
    };
    let read = reading::read_all(context, &*pc, &facts)?;
    {
        let _lock = context.lock(&mut *pc)?;
        places::clear(&mut *pc)?;
        note(Look::RegistryData, places::registry_data(&mut *pc));
        note(Look::RegistryParts, places::registry_parts(&mut *pc));
        places::clear(&mut *pc)?;
        note(Look::SystemParameter, places::system_parameter(&mut *pc));
        note(Look::ScratchFiles, places::scratch_files(&*pc));
        note(Look::ScheduledTask, places::scheduled_task(&mut *pc));
        note(Look::PowerPlanCopy, places::power_plan_copy(&mut *pc, &facts));
    }
    let own_home = whole::OwnHome::make(context)?;
    note(Look::ChangesOverEachOther, own_home.changes_over_each_other());
    note(Look::Killed, own_home.killed());
    note(Look::UndoFile, own_home.undo_file());
    drop(own_home);
    note(Look::Rights, surroundings::rights(&*pc));
    note(Look::OwnFolder, surroundings::own_folder(context));
    note(Look::Clock, surroundings::clock(context));
    note(Look::FreeRoom, surroundings::free_room(context));
    note(Look::Frames, surroundings::frames());
    note(Look::TracedFrames, surroundings::traced_frames(&*pc));
    note(Look::NothingLeft, places::nothing_left(&*context.pc()?));
    progress.finish_and_clear();
    let has_passed = !looked.iter().any(|one| matches!(one.came, Came::Failed { .. }));
    let build = facts.windows.build;
    context.configure_self_test(&*pc, build, has_passed)?;
    Ok(SelfTestReport {
        frevin: env!("CARGO_PKG_VERSION"),
        pc: pc.identity().kind,
        build,
        at: context.clock.now(),
        has_passed,
        read,
        looked,
    })
}

/// Whether a live PC has had no self-test of this build of Windows, and its owner has not been told so yet. From now on
/// they have been.
pub(crate) fn is_first_told_untested(
    context: &Context,
    pc: &dyn Pc,
    build: u32,
) -> Result<bool, Failure> {
    if pc.identity().kind != PcKind::Live || context.has_self_test(pc, build)? {
        return Ok(false);
    }
    context.configure_self_test(pc, build, false)?;
    Ok(true)
}
