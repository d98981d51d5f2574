//! This PC, this user and this process.

use std::ptr::{null, null_mut};

use windows::Win32::Foundation::{
    CloseHandle, ERROR_ACCESS_DENIED, ERROR_NOT_ALL_ASSIGNED, GetLastError, HANDLE, HLOCAL, LUID,
    LocalFree, WAIT_ABANDONED, WAIT_OBJECT_0,
};
use windows::Win32::Security::Authorization::ConvertSidToStringSidW;
use windows::Win32::Security::{
    AdjustTokenPrivileges, GetTokenInformation, LUID_AND_ATTRIBUTES, LookupPrivilegeValueW,
    SE_PRIVILEGE_ENABLED, SE_SHUTDOWN_NAME, TOKEN_ADJUST_PRIVILEGES, TOKEN_ELEVATION,
    TOKEN_PRIVILEGES, TOKEN_QUERY, TOKEN_USER, TokenElevation, TokenUser,
};
use windows::Win32::System::Console::GetConsoleProcessList;
use windows::Win32::System::Shutdown::{
    InitiateShutdownW, SHTDN_REASON_FLAG_PLANNED, SHTDN_REASON_MAJOR_APPLICATION, SHUTDOWN_RESTART,
};
use windows::Win32::System::SystemInformation::{
    ComputerNamePhysicalDnsHostname, GetComputerNameExW,
};
use windows::Win32::System::Threading::{
    CreateMutexW, GetCurrentProcess, OpenProcess, OpenProcessToken,
    PROCESS_QUERY_LIMITED_INFORMATION, ReleaseMutex, WaitForSingleObject,
};
use windows::Win32::UI::WindowsAndMessaging::{
    GetShellWindow, GetWindowThreadProcessId, SW_SHOWNORMAL,
};
use windows::core::{PCWSTR, PWSTR};
use windows_sys::Win32::UI::Shell::ShellExecuteW;

use super::library::function;
use super::wide::{Wide, failed, text, text_at};
use frevin_pc::RestorePoint;
use frevin_pc::command_line;
use frevin_pc::windows::apis::SystemApi;
use frevin_pc::windows::os_error::OsError;

/// The PC that this program runs on.
pub(crate) struct ThisPc;

/// An open object of Windows' kernel.
pub(crate) struct Handle(pub(crate) HANDLE);

impl Drop for Handle {
    fn drop(&mut self) {
        // SAFETY: the handle was opened by this program and is closed once.
        let _ = unsafe { CloseHandle(self.0) };
    }
}

fn token() -> Option<Handle> {
    let mut token = HANDLE::default();
    // SAFETY: the process is this one, and the handle is written to a place of its own.
    unsafe { OpenProcessToken(GetCurrentProcess(), TOKEN_QUERY, &raw mut token) }.ok()?;
    Some(Handle(token))
}

/// The security identifier of the user that runs this program, as text.
pub(crate) fn user_sid() -> Option<String> {
    user_of(&token()?)
}

/// The security identifier of the user whose desktop is on the screen, where there is one.
fn signed_in_sid() -> Option<String> {
    // SAFETY: it takes nothing, and gives null where there is no desktop.
    let desktop = unsafe { GetShellWindow() };
    let mut process_id = 0;
    // SAFETY: a window that is not there any more has no thread, and a number is written to a place
    // of its own.
    let thread_id = unsafe { GetWindowThreadProcessId(desktop, Some(&raw mut process_id)) };
    if desktop.is_invalid() || thread_id == 0 {
        return None;
    }
    let access = PROCESS_QUERY_LIMITED_INFORMATION;
    // SAFETY: the right to ask who runs it is all that is asked for.
    let process = Handle(unsafe { OpenProcess(access, false, process_id) }.ok()?);
    let mut token = HANDLE::default();
    // SAFETY: the process is open, and the handle is written to a place of its own.
    unsafe { OpenProcessToken(process.0, TOKEN_QUERY, &raw mut token) }.ok()?;
    user_of(&Handle(token))
}

fn user_of(token: &Handle) -> Option<String> {
    // A user's identifier and the structure before it are far shorter than this.
    let mut buffer = [0_u64; 64];
    let mut length = 0;
    // SAFETY: the buffer is as long as is said, and aligned for the structure.
    unsafe {
        GetTokenInformation(
            token.0,
            TokenUser,
            Some(buffer.as_mut_ptr().cast()),
            u32::try_from(size_of_val(&buffer)).ok()?,
            &raw mut length,
        )
    }
    .ok()?;
    // SAFETY: Windows filled the structure; the identifier lies in the buffer.
    let user = unsafe { &*buffer.as_ptr().cast::<TOKEN_USER>() };
    sid_text(user.User.Sid)
}

/// A security identifier as text.
pub(crate) fn sid_text(sid: windows::Win32::Security::PSID) -> Option<String> {
    let mut written = PWSTR::null();
    // SAFETY: the identifier is one that Windows gave and still stands; the text is freed below.
    unsafe { ConvertSidToStringSidW(sid, &raw mut written) }.ok()?;
    // SAFETY: Windows gave a text of its own making.
    let sid = unsafe { text_at(written) };
    // SAFETY: as above; it is freed once.
    unsafe { LocalFree(Some(HLOCAL(written.0.cast()))) };
    Some(sid)
}

/// The turn of this process, given back when it is dropped.
struct Turn(Handle);

// SAFETY: a handle is a number that means the same on every thread of the process.
unsafe impl Send for Turn {}

impl Drop for Turn {
    fn drop(&mut self) {
        // SAFETY: the mutex is open. Given back on another thread than it was taken on, it stays
        // with the process until that ends; that is no harm but a longer wait of others.
        let _ = unsafe { ReleaseMutex(self.0.0) };
    }
}

/// Gives this process the right to restart the PC, which its user has and processes do not use by themselves.
fn allow_shutdown() -> Result<(), OsError> {
    enable_privilege(SE_SHUTDOWN_NAME).map(drop)
}

/// Switches a right on that a user has and processes do not use by themselves; whether it has it.
pub(crate) fn enable_privilege(name: PCWSTR) -> Result<bool, OsError> {
    let mut token = HANDLE::default();
    let access = TOKEN_ADJUST_PRIVILEGES | TOKEN_QUERY;
    // SAFETY: the process is this one, and the handle is written to a place of its own.
    unsafe { OpenProcessToken(GetCurrentProcess(), access, &raw mut token) }
        .map_err(failed("OpenProcessToken"))?;
    let token = Handle(token);
    let mut luid = LUID::default();
    // SAFETY: the name is a constant, and the number is written to a place of its own.
    unsafe { LookupPrivilegeValueW(PCWSTR::null(), name, &raw mut luid) }
        .map_err(failed("LookupPrivilegeValueW"))?;
    let wanted = TOKEN_PRIVILEGES {
        PrivilegeCount: 1,
        Privileges: [LUID_AND_ATTRIBUTES { Luid: luid, Attributes: SE_PRIVILEGE_ENABLED }],
    };
    // SAFETY: the token is open, and the structure holds as many privileges as it says.
    unsafe { AdjustTokenPrivileges(token.0, false, Some(&raw const wanted), 0, None, None) }
        .map_err(failed("AdjustTokenPrivileges"))?;
    // SAFETY: it reads what the call before left, which succeeds where it gave nothing too.
    Ok(unsafe { GetLastError() } != ERROR_NOT_ALL_ASSIGNED)
}

/// Whether this process is the only one in its console: Windows made it for this program, and closes it with it.
pub fn owns_its_window() -> bool {
    let mut processes = [0_u32; 2];
    // SAFETY: there is room for as many numbers as the slice has.
    unsafe { GetConsoleProcessList(&mut processes) == 1 }
}

/// Starts this program again with an administrator's rights, which Windows asks its user for.
///
/// # Errors
/// Where the user refuses, and where it cannot be started.
pub fn start_as_administrator(arguments: &[String]) -> std::io::Result<()> {
    /// An answer up to this one is an error ("ShellExecuteW function").
    const LAST_ERROR: usize = 32;
    let program = Wide::new(&std::env::current_exe()?.to_string_lossy());
    let (verb, line) = (Wide::new("runas"), Wide::new(&command_line(arguments)));
    // SAFETY: the texts live for the call.
    let answer = unsafe {
        ShellExecuteW(
            null_mut(),
            verb.as_ptr().0,
            program.as_ptr().0,
            line.as_ptr().0,
            null(),
            SW_SHOWNORMAL.0,
        )
    };
    match answer as usize {
        ..=LAST_ERROR => Err(std::io::Error::last_os_error()),
        _ => Ok(()),
    }
}

/// `RESTOREPOINTINFOW` and `STATEMGRSTATUS` ("SRSetRestorePointW function" in the Windows
/// documentation), packed as they are declared.
#[repr(C, packed)]
struct RestorePointInfo {
    event: u32,
    kind: u32,
    sequence: i64,
    description: [u16; 256],
}

#[repr(C, packed)]
struct StateManagerStatus {
    status: u32,
    sequence: i64,
}

impl SystemApi for ThisPc {
    fn user_id(&self) -> Option<String> {
        user_sid()
    }

    fn name(&self) -> String {
        let mut buffer = [0_u16; 256];
        let mut length = 255;
        let place = PWSTR(buffer.as_mut_ptr());
        // SAFETY: the buffer holds at least as many characters as `length` says.
        let asked = unsafe {
            GetComputerNameExW(ComputerNamePhysicalDnsHostname, Some(place), &raw mut length)
        };
        match asked {
            Ok(()) => text(&buffer),
            Err(_) => "this PC".to_owned(),
        }
    }

    fn is_administrator(&self) -> bool {
        let Some(token) = token() else { return false };
        let mut elevation = TOKEN_ELEVATION::default();
        let mut length = 0;
        let size = u32::try_from(size_of::<TOKEN_ELEVATION>()).unwrap_or(4);
        // SAFETY: the structure is the one of this class and as long as is said.
        let asked = unsafe {
            GetTokenInformation(
                token.0,
                TokenElevation,
                Some((&raw mut elevation).cast()),
                size,
                &raw mut length,
            )
        };
        asked.is_ok() && elevation.TokenIsElevated != 0
    }

    fn runs_as_another_user(&self) -> bool {
        // Where nobody can be told to be signed in, nobody else is.
        signed_in_sid().is_some_and(|signed_in| user_sid().is_some_and(|user| user != signed_in))
    }

    fn take_turn(&self) -> std::io::Result<Option<Box<dyn Send>>> {
        let name = Wide::new(r"Global\frevin-changes-this-pc");
        // SAFETY: the name lives for the call.
        let mutex = match unsafe { CreateMutexW(None, false, name.as_ptr()) } {
            Ok(mutex) => Handle(mutex),
            // Another user's Frevin has it.
            Err(error) if error.code() == ERROR_ACCESS_DENIED.to_hresult() => return Ok(None),
            Err(error) => return Err(error.into()),
        };
        // SAFETY: the mutex is open.
        let answer = unsafe { WaitForSingleObject(mutex.0, 0) };
        // Abandoned: whoever had it ended without giving it back.
        let is_ours = answer == WAIT_OBJECT_0 || answer == WAIT_ABANDONED;
        Ok(is_ours.then(|| Box::new(Turn(mutex)) as Box<dyn Send>))
    }

    fn restart(&self) -> Result<(), OsError> {
        /// Long enough to see the message, and to type `shutdown /a`.
        const SECONDS: u32 = 30;
        allow_shutdown()?;
        let message = Wide::new("Frevin goes on with a trial. To stop the restart: shutdown /a");
        // A restart that was planned, of an application ("System Shutdown Reason Codes").
        let reason = SHTDN_REASON_MAJOR_APPLICATION | SHTDN_REASON_FLAG_PLANNED;
        // SAFETY: the message lives for the call; no other PC is meant.
        let answer = unsafe {
            InitiateShutdownW(PCWSTR::null(), message.as_ptr(), SECONDS, SHUTDOWN_RESTART, reason)
        };
        if answer == 0 { Ok(()) } else { Err(OsError::code("InitiateShutdownW", answer)) }
    }

    fn restore_point(&self, description: &str) -> RestorePoint {
        let set = function!(
            "srclient.dll",
            fn SRSetRestorePointW(*const RestorePointInfo, *mut StateManagerStatus) -> i32
        );
        let Ok(set) = set else { return RestorePoint::NotOffered };
        /// `BEGIN_SYSTEM_CHANGE`, `END_SYSTEM_CHANGE`, `MODIFY_SETTINGS`, `ERROR_SERVICE_DISABLED`.
        const BEGIN: u32 = 100;
        const END: u32 = 101;
        const MODIFY_SETTINGS: u32 = 12;
        const SWITCHED_OFF: u32 = 1058;
        let mut info = RestorePointInfo {
            event: BEGIN,
            kind: MODIFY_SETTINGS,
            sequence: 0,
            description: [0; 256],
        };
        let mut written = [0; 256];
        // The last character stays zero.
        for (place, unit) in written[..255].iter_mut().zip(description.encode_utf16()) {
            *place = unit;
        }
        info.description = written;
        let mut status = StateManagerStatus { status: 0, sequence: 0 };
        // SAFETY: both structures are laid out as the function declares them.
        let is_made = unsafe { set(&raw const info, &raw mut status) } != 0;
        match (is_made, status.status, status.sequence) {
            // Windows passes a point over that would be the second within 24 hours, and says that all went
            // well. Without a number none was made.
            (true, _, ..=0) => RestorePoint::Refused {
                reason: "Windows made none: it makes one in 24 hours".to_owned(),
            },
            (true, _, number) => {
                // The point is of the moment before the change: it is closed at once.
                (info.event, info.sequence) = (END, number);
                let mut closed = StateManagerStatus { status: 0, sequence: 0 };
                // SAFETY: as above.
                let _ = unsafe { set(&raw const info, &raw mut closed) };
                RestorePoint::Made { number: u32::try_from(number).unwrap_or_default() }
            }
            (false, SWITCHED_OFF, _) => RestorePoint::SwitchedOff,
            (false, 0, _) => RestorePoint::NotOffered,
            (false, code, _) => RestorePoint::Refused { reason: format!("Windows answers {code}") },
        }
    }
}
