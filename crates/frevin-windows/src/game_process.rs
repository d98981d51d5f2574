//! Processes of games: which run, their priority class, the processors that they may run on.
//!
//! A process is opened for each deed, with the right to set its priority and no other, and closed at once.

use frevin_core::playing::{LogicalProcessor, PriorityClass};
use frevin_pc::windows::os_error::OsError;
use windows::Win32::System::SystemInformation::{
    GetLogicalProcessorInformationEx, RelationProcessorCore,
    SYSTEM_LOGICAL_PROCESSOR_INFORMATION_EX,
};
use windows::Win32::System::Threading::{
    ABOVE_NORMAL_PRIORITY_CLASS, BELOW_NORMAL_PRIORITY_CLASS, HIGH_PRIORITY_CLASS,
    IDLE_PRIORITY_CLASS, NORMAL_PRIORITY_CLASS, OpenProcess, PROCESS_SET_INFORMATION,
    SetPriorityClass, SetProcessAffinityMask,
};

use super::starts;
use super::system::Handle;
use super::wide::failed;

/// A process that runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ProcessSeen {
    /// Its number.
    pub id: u32,
    /// The number of the process that made it.
    pub parent: u32,
    /// The name of its program's file.
    pub file: String,
    /// When Windows made it; nothing where this user may not ask.
    pub created: Option<u64>,
}

/// The processes that run.
///
/// # Errors
/// Where Windows does not list them.
pub fn running() -> Result<Vec<ProcessSeen>, OsError> {
    starts::with_parents()
}

fn opened(id: u32) -> Result<Handle, OsError> {
    // SAFETY: the right to set what is asked for here is all that is asked for.
    let process = unsafe { OpenProcess(PROCESS_SET_INFORMATION, false, id) };
    process.map(Handle).map_err(failed("OpenProcess"))
}

/// Sets the priority class of a process.
///
/// # Errors
/// Where the process has ended, or does not allow it.
pub fn set_priority(id: u32, class: PriorityClass) -> Result<(), OsError> {
    let class = match class {
        PriorityClass::Idle => IDLE_PRIORITY_CLASS,
        PriorityClass::BelowNormal => BELOW_NORMAL_PRIORITY_CLASS,
        PriorityClass::Normal => NORMAL_PRIORITY_CLASS,
        PriorityClass::AboveNormal => ABOVE_NORMAL_PRIORITY_CLASS,
        PriorityClass::High => HIGH_PRIORITY_CLASS,
    };
    let process = opened(id)?;
    // SAFETY: the process is open.
    unsafe { SetPriorityClass(process.0, class) }.map_err(failed("SetPriorityClass"))
}

/// Lets a process run on these processors only, of the first group of at most 64.
///
/// # Errors
/// Where the process has ended or does not allow it, or a number is beyond the first group.
pub fn set_processors(id: u32, numbers: &[u32]) -> Result<(), OsError> {
    let mut mask = 0_usize;
    for number in numbers {
        let bit = 1_usize.checked_shl(*number).ok_or_else(|| {
            OsError::Said("only processors of the first group of 64 can be chosen".to_owned())
        })?;
        mask |= bit;
    }
    let process = opened(id)?;
    // SAFETY: the process is open.
    unsafe { SetProcessAffinityMask(process.0, mask) }.map_err(failed("SetProcessAffinityMask"))
}

/// The processors of the first group.
///
/// # Errors
/// Where Windows does not tell them.
pub fn processors() -> Result<Vec<LogicalProcessor>, OsError> {
    let mut bytes = 0;
    // SAFETY: no buffer of no length: only what is needed is told.
    let _ =
        unsafe { GetLogicalProcessorInformationEx(RelationProcessorCore, None, &raw mut bytes) };
    let mut buffer = vec![0_u64; (bytes as usize).div_ceil(8).max(1)];
    let place = buffer.as_mut_ptr().cast();
    // SAFETY: the buffer is as long as is said, and aligned.
    unsafe { GetLogicalProcessorInformationEx(RelationProcessorCore, Some(place), &raw mut bytes) }
        .map_err(failed("GetLogicalProcessorInformationEx"))?;
    let mut found = Vec::new();
    let (mut at, mut core) = (0, 0);
    while at < bytes as usize {
        // SAFETY: entries follow each other, each as long as it says, up to `bytes`, which is within the buffer. Only
        // fields of a core are read, by pointer, and a core has at least one group.
        let (size, class, mask, group) = unsafe {
            let entry: *const SYSTEM_LOGICAL_PROCESSOR_INFORMATION_EX =
                buffer.as_ptr().cast::<u8>().add(at).cast();
            let of = &raw const (*entry).Anonymous.Processor;
            (
                (&raw const (*entry).Size).read(),
                (&raw const (*of).EfficiencyClass).read(),
                (&raw const (*of).GroupMask[0].Mask).read(),
                (&raw const (*of).GroupMask[0].Group).read(),
            )
        };
        let own = (0..usize::BITS).filter(|number| group == 0 && mask >> number & 1 == 1);
        found.extend(own.map(|number| LogicalProcessor {
            number,
            core,
            // The greater the class, the faster the core ("PROCESSOR_RELATIONSHIP").
            speed_class: class.into(),
        }));
        if size == 0 {
            break;
        }
        at += size as usize;
        core += 1;
    }
    Ok(found)
}
