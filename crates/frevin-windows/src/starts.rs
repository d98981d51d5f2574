//! What runs since when.

use std::ffi::c_void;
use std::time::Duration;

use windows::Win32::Devices::DeviceAndDriverInstallation::{
    CM_LOCATE_DEVNODE_NORMAL, CM_Locate_DevNodeW, CR_SUCCESS,
};
use windows::Win32::Foundation::{DEVPROPKEY, FILETIME, HANDLE};
use windows::Win32::System::Diagnostics::ToolHelp::{
    CreateToolhelp32Snapshot, PROCESSENTRY32W, Process32FirstW, Process32NextW, TH32CS_SNAPPROCESS,
};
use windows::Win32::System::ProcessStatus::{GetProcessMemoryInfo, PROCESS_MEMORY_COUNTERS_EX};
use windows::Win32::System::Threading::{
    GetProcessTimes, OpenProcess, PROCESS_QUERY_LIMITED_INFORMATION,
};
use windows::core::{BOOL, GUID, PWSTR};

use super::event_log;
use super::game_process::ProcessSeen;
use super::library::function;
use super::services;
use super::system::Handle;
use super::wide::{Wide, failed, text};
use frevin_pc::ProgramUse;
use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::starts::{Process, StartsApi};

/// This PC's starts.
pub(crate) struct Starts;

/// `WTS_CURRENT_SERVER_HANDLE`, `WTS_CURRENT_SESSION` and `WTSSessionInfo` ("WTSQuerySessionInformationW
/// function" in the Windows documentation).
const THIS_SERVER: HANDLE = HANDLE(std::ptr::null_mut());
const THIS_SESSION: u32 = u32::MAX;
const SESSION_INFO: i32 = 24;
/// Where `WTSINFOW` holds the moment of the sign-in, and how long it is: two numbers of four bytes,
/// six counters of four bytes, names of 32, 17 and 21 UTF-16 units, then moments of eight bytes, of
/// which the sign-in's is the fourth.
const LOGON_TIME_AT: usize = 200;
const SESSION_INFO_BYTES: usize = 216;

/// `DEVPKEY_Device_LastArrivalDate`.
const LAST_ARRIVAL: DEVPROPKEY =
    DEVPROPKEY { fmtid: GUID::from_u128(0x83da6326_97a6_4088_9453_a1923f573b29), pid: 102 };

/// The memory that a process holds of its own ("PROCESS_MEMORY_COUNTERS_EX structure" in the Windows documentation).
fn private_bytes(id: u32) -> Option<u64> {
    // SAFETY: the right to ask about it is all that is asked for.
    let process =
        Handle(unsafe { OpenProcess(PROCESS_QUERY_LIMITED_INFORMATION, false, id) }.ok()?);
    let mut counters = PROCESS_MEMORY_COUNTERS_EX::default();
    let size = u32::try_from(size_of::<PROCESS_MEMORY_COUNTERS_EX>()).ok()?;
    // SAFETY: the process is open, and the structure is as long as is said.
    unsafe { GetProcessMemoryInfo(process.0, (&raw mut counters).cast(), size) }.ok()?;
    u64::try_from(counters.PrivateUsage).ok()
}

/// When a process was made, and the processor time that it has had.
fn times(id: u32) -> Option<(u64, Duration)> {
    // SAFETY: the right to ask about it is all that is asked for.
    let process =
        Handle(unsafe { OpenProcess(PROCESS_QUERY_LIMITED_INFORMATION, false, id) }.ok()?);
    let [mut created, mut exited, mut kernel, mut user] = [FILETIME::default(); 4];
    // SAFETY: the process is open, and four times are written to places of their own.
    unsafe {
        GetProcessTimes(
            process.0,
            &raw mut created,
            &raw mut exited,
            &raw mut kernel,
            &raw mut user,
        )
    }
    .ok()?;
    // In units of a ten-millionth of a second.
    let had = (moment(kernel) + moment(user)).saturating_mul(100);
    Some((moment(created), Duration::from_nanos(had)))
}

fn moment(time: FILETIME) -> u64 {
    u64::from(time.dwHighDateTime) << 32 | u64::from(time.dwLowDateTime)
}

/// The processes that run, each with the one that made it.
pub(crate) fn with_parents() -> Result<Vec<ProcessSeen>, OsError> {
    listed(|entry| {
        let id = entry.th32ProcessID;
        let (created, processor_time) = times(id).unzip();
        let (parent, file) = (entry.th32ParentProcessID, text(&entry.szExeFile));
        ProcessSeen { id, parent, file, created, processor_time }
    })
}

/// The names of their files, without a look at the processes themselves.
pub(crate) fn names() -> Result<Vec<(u32, String)>, OsError> {
    listed(|entry| (entry.th32ProcessID, text(&entry.szExeFile)))
}

fn listed<T>(of: impl Fn(&PROCESSENTRY32W) -> T) -> Result<Vec<T>, OsError> {
    // SAFETY: it takes numbers.
    let snapshot = unsafe { CreateToolhelp32Snapshot(TH32CS_SNAPPROCESS, 0) };
    let snapshot = Handle(snapshot.map_err(failed("CreateToolhelp32Snapshot"))?);
    let length = u32::try_from(size_of::<PROCESSENTRY32W>()).unwrap_or(u32::MAX);
    let mut entry = PROCESSENTRY32W { dwSize: length, ..PROCESSENTRY32W::default() };
    let mut found = Vec::new();
    // SAFETY: the entry says how long it is.
    let mut next = unsafe { Process32FirstW(snapshot.0, &raw mut entry) };
    while next.is_ok() {
        found.push(of(&entry));
        // SAFETY: as above.
        next = unsafe { Process32NextW(snapshot.0, &raw mut entry) };
    }
    Ok(found)
}

impl StartsApi for Starts {
    fn sign_in(&self) -> Option<String> {
        let query = function!(
            "wtsapi32.dll",
            fn WTSQuerySessionInformationW(HANDLE, u32, i32, *mut PWSTR, *mut u32) -> BOOL
        )
        .ok()?;
        let free = function!("wtsapi32.dll", fn WTSFreeMemory(*mut c_void) -> ()).ok()?;
        let (mut buffer, mut length) = (PWSTR::null(), 0);
        // SAFETY: a pointer and a length are written to places of their own.
        let answer = unsafe {
            query(THIS_SERVER, THIS_SESSION, SESSION_INFO, &raw mut buffer, &raw mut length)
        };
        if !answer.as_bool() || buffer.is_null() {
            return None;
        }
        let signed_in = (length as usize >= SESSION_INFO_BYTES).then(|| {
            // SAFETY: Windows gave so many bytes; the eight lie among them, aligned or not.
            unsafe { buffer.0.cast::<u8>().add(LOGON_TIME_AT).cast::<u64>().read_unaligned() }
        });
        // SAFETY: what was given is given back once.
        unsafe { free(buffer.0.cast()) };
        signed_in.filter(|time| *time != 0).map(|time| time.to_string())
    }

    fn processes(&self) -> Result<Vec<Process>, OsError> {
        let process =
            |seen: ProcessSeen| Process { id: seen.id, file: seen.file, created: seen.created };
        Ok(with_parents()?.into_iter().map(process).collect())
    }

    fn process_use(&self, id: u32) -> Option<ProgramUse> {
        let (_, processor_time) = times(id)?;
        Some(ProgramUse {
            processes: 1,
            memory_mib: private_bytes(id)? / (1 << 20),
            processor_s: processor_time.as_secs_f64(),
        })
    }

    fn latest_start_event(&self) -> Option<String> {
        event_log::latest(
            "Microsoft-Windows-Diagnostics-Performance/Operational",
            "*[System[(EventID=100)]]",
        )
    }

    fn service_process(&self, name: &str) -> Result<Option<u32>, OsError> {
        services::process_of(name)
    }

    fn device_arrival(&self, id: &str) -> Option<u64> {
        let property = function!(
            "cfgmgr32.dll",
            fn CM_Get_DevNode_PropertyW(u32, *const DEVPROPKEY, *mut u32, *mut u8, *mut u32, u32) -> u32
        )
        .ok()?;
        let id = Wide::new(id);
        let mut node = 0;
        // SAFETY: the identifier lives for the call, and a number is written to a place of its own.
        let answer =
            unsafe { CM_Locate_DevNodeW(&raw mut node, id.as_ptr(), CM_LOCATE_DEVNODE_NORMAL) };
        if answer != CR_SUCCESS {
            return None;
        }
        let key = LAST_ARRIVAL;
        let mut time = [0_u8; 8];
        let (mut kind, mut length) = (0, 8);
        // SAFETY: the key lives for the call, the buffer is as long as is said.
        let answer = unsafe {
            property(node, &raw const key, &raw mut kind, time.as_mut_ptr(), &raw mut length, 0)
        };
        (answer == 0 && length == 8).then(|| u64::from_le_bytes(time))
    }
}
