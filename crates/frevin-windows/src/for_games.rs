//! Memory and the timer while a game runs.

use windows::Win32::Security::SE_PROF_SINGLE_PROCESS_NAME;
use windows::Win32::System::ProcessStatus::{GetPerformanceInfo, PERFORMANCE_INFORMATION};

use super::library::function;
use super::system::enable_privilege;
use super::wide::failed;
use frevin_core::playing::{MemoryState, TimerPeriod};
use frevin_pc::windows::for_games::ForGamesApi;
use frevin_pc::windows::os_error::OsError;

/// This PC's memory and timer.
pub(crate) struct ForGames;

/// `SystemMemoryListInformation` of `SYSTEM_INFORMATION_CLASS`: what is asked for and what is set by it is in no document,
/// and has been the same since Windows Vista. Nothing that is documented gives standby memory back.
const MEMORY_LISTS: i32 = 80;
/// `MemoryPurgeStandbyList` of `SYSTEM_MEMORY_LIST_COMMAND`.
const PURGE_STANDBY: u32 = 4;
/// The priorities by which pages are kept on standby.
const PRIORITIES: usize = 8;

/// `SYSTEM_MEMORY_LIST_INFORMATION`, in pages.
#[repr(C)]
#[derive(Default)]
struct MemoryLists {
    zeroed: usize,
    free: usize,
    modified: usize,
    modified_no_write: usize,
    bad: usize,
    standby: [usize; PRIORITIES],
    repurposed: [usize; PRIORITIES],
    modified_page_file: usize,
}

/// Both take a right that only administrators have, and that is off until it is asked for.
fn enable() -> Result<(), OsError> {
    match enable_privilege(SE_PROF_SINGLE_PROCESS_NAME)? {
        true => Ok(()),
        false => Err(OsError::Said("only an administrator may".to_owned())),
    }
}

fn refused(call: &str, status: i32) -> OsError {
    OsError::Said(format!("{call} answers {status:#x}"))
}

impl ForGamesApi for ForGames {
    fn memory(&self) -> Result<MemoryState, OsError> {
        let length = u32::try_from(size_of::<PERFORMANCE_INFORMATION>()).unwrap_or(u32::MAX);
        let mut of = PERFORMANCE_INFORMATION { cb: length, ..Default::default() };
        // SAFETY: the structure says how long it is.
        unsafe { GetPerformanceInfo(&raw mut of, length) }.map_err(failed("GetPerformanceInfo"))?;
        enable()?;
        let ask = function!(
            "ntdll.dll",
            fn NtQuerySystemInformation(i32, *mut MemoryLists, u32, *mut u32) -> i32
        )?;
        let mut lists = MemoryLists::default();
        let mut written = 0;
        let bytes = u32::try_from(size_of::<MemoryLists>()).unwrap_or(u32::MAX);
        // SAFETY: the structure is as long as is said, and what was written is told to a place of its own.
        let status = unsafe { ask(MEMORY_LISTS, &raw mut lists, bytes, &raw mut written) };
        if status < 0 {
            return Err(refused("NtQuerySystemInformation", status));
        }
        let mib = |pages: usize| (pages as u64).saturating_mul(of.PageSize as u64) >> 20;
        Ok(MemoryState {
            total_mib: mib(of.PhysicalTotal),
            free_mib: mib(lists.zeroed + lists.free),
            standby_mib: mib(lists.standby.iter().sum()),
            cached_mib: mib(of.SystemCache),
            committed_mib: mib(of.CommitTotal),
            commit_limit_mib: mib(of.CommitLimit),
        })
    }

    fn purge_standby(&self) -> Result<(), OsError> {
        enable()?;
        let set = function!(
            "ntdll.dll",
            fn NtSetSystemInformation(i32, *const u32, u32) -> i32
        )?;
        let command = PURGE_STANDBY;
        // SAFETY: the command is four bytes long, as is said.
        let status = unsafe { set(MEMORY_LISTS, &raw const command, 4) };
        if status < 0 { Err(refused("NtSetSystemInformation", status)) } else { Ok(()) }
    }

    fn ask_for_timer(&self, period: TimerPeriod) -> Result<TimerPeriod, OsError> {
        // `timeBeginPeriod`, which is documented, knows whole milliseconds only.
        let set = function!("ntdll.dll", fn NtSetTimerResolution(u32, u8, *mut u32) -> i32)?;
        let mut granted = 0;
        // SAFETY: what is granted is written to a place of its own.
        let status = unsafe { set(period.hundred_ns(), 1, &raw mut granted) };
        if status < 0 {
            return Err(refused("NtSetTimerResolution", status));
        }
        TimerPeriod::of_hundred_ns(granted).map_err(|error| OsError::Said(error.to_string()))
    }
}
