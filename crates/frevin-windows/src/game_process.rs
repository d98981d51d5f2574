//! Processes of games: which run, their priority class, the processors that they may run on.
//!
//! A process is opened for each deed, with the right to be asked about or to have its priority set, and closed at once.

use std::time::Duration;

use frevin_core::playing::{
    LogicalProcessor, MemoryPriority, PriorityClass, ProcessBefore, ProcessHolds,
};
use frevin_pc::windows::os_error::OsError;
use windows::Win32::System::SystemInformation::{
    GetLogicalProcessorInformationEx, RelationProcessorCore,
    SYSTEM_LOGICAL_PROCESSOR_INFORMATION_EX,
};
use windows::Win32::System::Threading::{
    ABOVE_NORMAL_PRIORITY_CLASS, BELOW_NORMAL_PRIORITY_CLASS, GetPriorityClass,
    GetProcessAffinityMask, GetProcessInformation, HIGH_PRIORITY_CLASS, IDLE_PRIORITY_CLASS,
    MEMORY_PRIORITY, MEMORY_PRIORITY_BELOW_NORMAL, MEMORY_PRIORITY_INFORMATION,
    MEMORY_PRIORITY_LOW, MEMORY_PRIORITY_MEDIUM, MEMORY_PRIORITY_NORMAL, MEMORY_PRIORITY_VERY_LOW,
    NORMAL_PRIORITY_CLASS, OpenProcess, PROCESS_ACCESS_RIGHTS, PROCESS_CREATION_FLAGS,
    PROCESS_INFORMATION_CLASS, PROCESS_POWER_THROTTLING_CURRENT_VERSION,
    PROCESS_POWER_THROTTLING_EXECUTION_SPEED, PROCESS_POWER_THROTTLING_IGNORE_TIMER_RESOLUTION,
    PROCESS_POWER_THROTTLING_STATE, PROCESS_QUERY_LIMITED_INFORMATION, PROCESS_SET_INFORMATION,
    ProcessMemoryPriority, ProcessPowerThrottling, SetPriorityClass, SetProcessAffinityMask,
    SetProcessInformation,
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
    /// The processor time that it has had; nothing where this user may not ask.
    pub processor_time: Option<Duration>,
}

/// The processes that run.
///
/// # Errors
/// Where Windows does not list them.
pub fn running() -> Result<Vec<ProcessSeen>, OsError> {
    starts::with_parents()
}

/// The names of the files of the processes that run, by their numbers. No process is opened.
///
/// # Errors
/// Where Windows does not list them.
pub fn names() -> Result<Vec<(u32, String)>, OsError> {
    starts::names()
}

fn opened_with(access: PROCESS_ACCESS_RIGHTS, id: u32) -> Result<Handle, OsError> {
    // SAFETY: it takes numbers; the handle is closed once.
    let process = unsafe { OpenProcess(access, false, id) };
    process.map(Handle).map_err(failed("OpenProcess"))
}

fn opened(id: u32) -> Result<Handle, OsError> {
    opened_with(PROCESS_SET_INFORMATION, id)
}

fn length<T>() -> u32 {
    u32::try_from(size_of::<T>()).unwrap_or(u32::MAX)
}

fn ask<T>(process: &Handle, class: PROCESS_INFORMATION_CLASS, mut answer: T) -> Option<T> {
    // SAFETY: the process is open, and the answer is of the class's own type and length.
    let asked =
        unsafe { GetProcessInformation(process.0, class, (&raw mut answer).cast(), length::<T>()) };
    asked.ok().map(|()| answer)
}

fn set<T>(process: &Handle, class: PROCESS_INFORMATION_CLASS, to: &T) -> Result<(), OsError> {
    // SAFETY: the process is open, and what is given is of the class's own type and length.
    unsafe { SetProcessInformation(process.0, class, std::ptr::from_ref(to).cast(), length::<T>()) }
        .map_err(failed("SetProcessInformation"))
}

/// What a process has now of what is to be held, as far as Windows tells.
///
/// # Errors
/// Where the process has ended, or may not be asked.
pub fn before(id: u32, holds: &ProcessHolds) -> Result<ProcessBefore, OsError> {
    let process = opened_with(PROCESS_QUERY_LIMITED_INFORMATION, id)?;
    // SAFETY: the process is open.
    let class = unsafe { GetPriorityClass(process.0) };
    let (mut mask, mut all) = (0, 0);
    // SAFETY: the process is open, and both masks are written to places of their own.
    let asked = unsafe { GetProcessAffinityMask(process.0, &raw mut mask, &raw mut all) };
    let numbers = (0..usize::BITS).filter(|number| mask >> number & 1 == 1).collect();
    let throttling = || {
        let empty = PROCESS_POWER_THROTTLING_STATE {
            Version: PROCESS_POWER_THROTTLING_CURRENT_VERSION,
            ..Default::default()
        };
        let state = ask(&process, ProcessPowerThrottling, empty);
        // Where nothing is told, Windows decides by itself, as it does at first.
        state.map_or((0, 0), |state| (state.ControlMask, state.StateMask))
    };
    let memory = || {
        let told = ask(&process, ProcessMemoryPriority, MEMORY_PRIORITY_INFORMATION::default());
        told.map_or(MEMORY_PRIORITY_NORMAL, |memory| memory.MemoryPriority).0
    };
    Ok(ProcessBefore {
        priority: (class != 0 && holds.priority.is_some()).then(|| class.into()),
        processors: (asked.is_ok() && holds.processors.is_some()).then_some(numbers),
        throttling: holds.unthrottled.then(throttling),
        memory_priority: holds.memory_priority.is_some().then(memory),
    })
}

/// Whether a process has at least the priority class that programs begin with.
pub fn is_normal_or_above(had: &ProcessBefore) -> bool {
    let classes = [NORMAL_PRIORITY_CLASS, ABOVE_NORMAL_PRIORITY_CLASS, HIGH_PRIORITY_CLASS];
    classes.iter().any(|class| had.priority == Some(class.0.into()))
}

/// Gives a process what it had.
///
/// # Errors
/// Where the process has ended, or does not allow it.
pub fn put_back(id: u32, before: &ProcessBefore) -> Result<(), OsError> {
    if let Some(class) = before.priority.and_then(|class| u32::try_from(class).ok()) {
        let process = opened(id)?;
        // SAFETY: the process is open.
        unsafe { SetPriorityClass(process.0, PROCESS_CREATION_FLAGS(class)) }
            .map_err(failed("SetPriorityClass"))?;
    }
    if let Some(numbers) = &before.processors {
        set_processors(id, numbers)?;
    }
    if let Some((control, state)) = before.throttling {
        set_throttling(id, control, state)?;
    }
    if let Some(priority) = before.memory_priority {
        set_memory(id, MEMORY_PRIORITY(priority))?;
    }
    Ok(())
}

fn set_throttling(id: u32, control: u32, state: u32) -> Result<(), OsError> {
    let state = PROCESS_POWER_THROTTLING_STATE {
        Version: PROCESS_POWER_THROTTLING_CURRENT_VERSION,
        ControlMask: control,
        StateMask: state,
    };
    set(&opened(id)?, ProcessPowerThrottling, &state)
}

fn set_memory(id: u32, priority: MEMORY_PRIORITY) -> Result<(), OsError> {
    let memory = MEMORY_PRIORITY_INFORMATION { MemoryPriority: priority };
    set(&opened(id)?, ProcessMemoryPriority, &memory)
}

/// Lets a process never be run slower to save power, and lets its requests for a finer timer count while it is not seen.
///
/// # Errors
/// Where the process has ended or does not allow it, or Windows is older than this.
pub fn unthrottle(id: u32) -> Result<(), OsError> {
    let control =
        PROCESS_POWER_THROTTLING_EXECUTION_SPEED | PROCESS_POWER_THROTTLING_IGNORE_TIMER_RESOLUTION;
    // Windows 10 knows the first of them only.
    set_throttling(id, control, 0)
        .or_else(|_| set_throttling(id, PROCESS_POWER_THROTTLING_EXECUTION_SPEED, 0))
}

/// Sets how long the pages of a process are kept where memory is short.
///
/// # Errors
/// Where the process has ended, or does not allow it.
pub fn set_memory_priority(id: u32, priority: MemoryPriority) -> Result<(), OsError> {
    set_memory(
        id,
        match priority {
            MemoryPriority::VeryLow => MEMORY_PRIORITY_VERY_LOW,
            MemoryPriority::Low => MEMORY_PRIORITY_LOW,
            MemoryPriority::Medium => MEMORY_PRIORITY_MEDIUM,
            MemoryPriority::BelowNormal => MEMORY_PRIORITY_BELOW_NORMAL,
            MemoryPriority::Normal => MEMORY_PRIORITY_NORMAL,
        },
    )
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
