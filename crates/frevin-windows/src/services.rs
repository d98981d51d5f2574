//! The service control manager.

use windows::Win32::Foundation::ERROR_MORE_DATA;
use windows::Win32::System::Services::{
    ChangeServiceConfig2W, ChangeServiceConfigW, CloseServiceHandle, ControlService,
    ENUM_SERVICE_STATUS_PROCESSW, ENUM_SERVICE_STATUSW, ENUM_SERVICE_TYPE, EnumDependentServicesW,
    EnumServicesStatusExW, OpenSCManagerW, OpenServiceW, QUERY_SERVICE_CONFIGW,
    QueryServiceConfig2W, QueryServiceConfigW, QueryServiceStatusEx, SC_ENUM_PROCESS_INFO,
    SC_HANDLE, SC_MANAGER_CONNECT, SC_MANAGER_ENUMERATE_SERVICE, SC_STATUS_PROCESS_INFO,
    SERVICE_CHANGE_CONFIG, SERVICE_CONFIG_DELAYED_AUTO_START_INFO, SERVICE_CONTROL_CONTINUE,
    SERVICE_CONTROL_PAUSE, SERVICE_CONTROL_STOP, SERVICE_DELAYED_AUTO_START_INFO,
    SERVICE_ENUMERATE_DEPENDENTS, SERVICE_ERROR, SERVICE_NO_CHANGE, SERVICE_PAUSE_CONTINUE,
    SERVICE_QUERY_CONFIG, SERVICE_QUERY_STATUS, SERVICE_START, SERVICE_START_TYPE,
    SERVICE_STATE_ALL, SERVICE_STATUS, SERVICE_STATUS_PROCESS, SERVICE_STOP, SERVICE_WIN32,
    StartServiceW,
};
use windows::core::PCWSTR;

use super::wide::{Wide, failed, text_at, texts_at};
use frevin_pc::windows::os_error::{OsError, found};
use frevin_pc::windows::services::{Doing, ServicesApi};

/// This PC's services.
pub(crate) struct ServiceManager;

struct Handle(SC_HANDLE);

impl Drop for Handle {
    fn drop(&mut self) {
        // SAFETY: the handle was opened by this program and is closed once.
        let _ = unsafe { CloseServiceHandle(self.0) };
    }
}

fn manager(access: u32) -> Result<Handle, OsError> {
    // SAFETY: no pointers but nulls, which mean this PC and its services.
    let handle = unsafe { OpenSCManagerW(PCWSTR::null(), PCWSTR::null(), access) };
    handle.map(Handle).map_err(failed("OpenSCManagerW"))
}

fn open(name: &str, access: u32) -> Result<Handle, OsError> {
    let manager = manager(SC_MANAGER_CONNECT)?;
    let name = Wide::new(name);
    // SAFETY: the manager is open and the name lives for the call.
    let handle = unsafe { OpenServiceW(manager.0, name.as_ptr(), access) };
    handle.map(Handle).map_err(failed("OpenServiceW"))
}

/// A buffer for structures that Windows fills: aligned for any of them.
struct Buffer(Vec<u64>);

impl Buffer {
    /// At least so many bytes.
    fn of(bytes: u32) -> Self {
        Self(vec![0; (bytes as usize).div_ceil(8).max(1)])
    }

    fn bytes(&mut self) -> &mut [u8] {
        let length = self.0.len() * 8;
        // SAFETY: the vector holds as many bytes, all of them set, and any byte may be any value.
        unsafe { std::slice::from_raw_parts_mut(self.0.as_mut_ptr().cast(), length) }
    }

    fn length(&self) -> u32 {
        u32::try_from(self.0.len() * 8).unwrap_or(u32::MAX)
    }
}

/// Runs `read` over the configuration of a service.
fn with_configuration<T>(
    name: &str,
    read: impl FnOnce(&QUERY_SERVICE_CONFIGW) -> T,
) -> Result<T, OsError> {
    let service = open(name, SERVICE_QUERY_CONFIG)?;
    let mut needed = 0;
    // SAFETY: no buffer of no length: only what is needed is told.
    let _ = unsafe { QueryServiceConfigW(service.0, None, 0, &raw mut needed) };
    let mut buffer = Buffer::of(needed);
    let place: *mut QUERY_SERVICE_CONFIGW = buffer.0.as_mut_ptr().cast();
    // SAFETY: the buffer is as long as is said, and aligned.
    unsafe { QueryServiceConfigW(service.0, Some(place), buffer.length(), &raw mut needed) }
        .map_err(failed("QueryServiceConfigW"))?;
    // SAFETY: Windows filled the structure; its texts lie in the buffer, which lives on.
    Ok(read(unsafe { &*place }))
}

fn tell(name: &str, control: u32, access: u32) -> Result<(), OsError> {
    let service = open(name, access)?;
    let mut status = SERVICE_STATUS::default();
    // SAFETY: the handle is open, and the status is written to a place of its own.
    unsafe { ControlService(service.0, control, &raw mut status) }.map_err(failed("ControlService"))
}

/// What a service is doing, and in which process; nothing where there is no such service.
fn status(name: &str) -> Result<Option<SERVICE_STATUS_PROCESS>, OsError> {
    let Some(service) = found(open(name, SERVICE_QUERY_STATUS))? else { return Ok(None) };
    let level = SC_STATUS_PROCESS_INFO;
    let mut needed = 0;
    let mut buffer = Buffer::of(u32::try_from(size_of::<SERVICE_STATUS_PROCESS>()).unwrap_or(64));
    // SAFETY: the handle is open and the buffer is a slice.
    unsafe { QueryServiceStatusEx(service.0, level, Some(buffer.bytes()), &raw mut needed) }
        .map_err(failed("QueryServiceStatusEx"))?;
    // SAFETY: Windows filled the structure of this level, and the buffer is aligned for it.
    Ok(Some(unsafe { *buffer.0.as_ptr().cast::<SERVICE_STATUS_PROCESS>() }))
}

/// The number of the process that a service runs in; nothing where it does not run.
pub(crate) fn process_of(name: &str) -> Result<Option<u32>, OsError> {
    let process = status(name)?.map(|status| status.dwProcessId);
    Ok(process.filter(|id| *id != 0))
}

impl ServicesApi for ServiceManager {
    fn start_type(&self, name: &str) -> Result<Option<u32>, OsError> {
        found(with_configuration(name, |configuration| configuration.dwStartType.0))
    }

    fn is_delayed(&self, name: &str) -> Result<Option<bool>, OsError> {
        let Some(service) = found(open(name, SERVICE_QUERY_CONFIG))? else { return Ok(None) };
        let mut buffer = Buffer::of(8);
        let mut needed = 0;
        let level = SERVICE_CONFIG_DELAYED_AUTO_START_INFO;
        // SAFETY: the handle is open and the buffer is a slice.
        unsafe { QueryServiceConfig2W(service.0, level, Some(buffer.bytes()), &raw mut needed) }
            .map_err(failed("QueryServiceConfig2W"))?;
        Ok(Some(buffer.bytes()[..4] != [0; 4]))
    }

    fn set_start_type(&self, name: &str, number: u32) -> Result<(), OsError> {
        let service = open(name, SERVICE_CHANGE_CONFIG)?;
        // SAFETY: the handle is open; everything else is to stay as it is.
        unsafe {
            ChangeServiceConfigW(
                service.0,
                ENUM_SERVICE_TYPE(SERVICE_NO_CHANGE),
                SERVICE_START_TYPE(number),
                SERVICE_ERROR(SERVICE_NO_CHANGE),
                PCWSTR::null(),
                PCWSTR::null(),
                None,
                PCWSTR::null(),
                PCWSTR::null(),
                PCWSTR::null(),
                PCWSTR::null(),
            )
        }
        .map_err(failed("ChangeServiceConfigW"))
    }

    fn set_delayed(&self, name: &str, delayed: bool) -> Result<(), OsError> {
        let service = open(name, SERVICE_CHANGE_CONFIG)?;
        let info = SERVICE_DELAYED_AUTO_START_INFO { fDelayedAutostart: delayed.into() };
        let level = SERVICE_CONFIG_DELAYED_AUTO_START_INFO;
        // SAFETY: the handle is open and the structure is the one of this level.
        unsafe { ChangeServiceConfig2W(service.0, level, Some((&raw const info).cast())) }
            .map_err(failed("ChangeServiceConfig2W"))
    }

    fn doing(&self, name: &str) -> Result<Option<Doing>, OsError> {
        Ok(status(name)?.map(|status| Doing::from_number(status.dwCurrentState.0)))
    }

    fn start(&self, name: &str) -> Result<(), OsError> {
        let service = open(name, SERVICE_START)?;
        // SAFETY: the handle is open, and no arguments are given.
        unsafe { StartServiceW(service.0, None) }.map_err(failed("StartServiceW"))
    }

    fn stop(&self, name: &str) -> Result<(), OsError> {
        tell(name, SERVICE_CONTROL_STOP, SERVICE_STOP)
    }

    fn pause(&self, name: &str) -> Result<(), OsError> {
        tell(name, SERVICE_CONTROL_PAUSE, SERVICE_PAUSE_CONTINUE)
    }

    fn go_on(&self, name: &str) -> Result<(), OsError> {
        tell(name, SERVICE_CONTROL_CONTINUE, SERVICE_PAUSE_CONTINUE)
    }

    fn dependents(&self, name: &str) -> Result<Vec<String>, OsError> {
        let service = open(name, SERVICE_ENUMERATE_DEPENDENTS)?;
        let (mut needed, mut count) = (0, 0);
        let all = SERVICE_STATE_ALL;
        // SAFETY: no buffer of no length: only what is needed is told.
        let first = unsafe {
            EnumDependentServicesW(service.0, all, None, 0, &raw mut needed, &raw mut count)
        };
        if first.is_ok() {
            return Ok(Vec::new());
        }
        let mut buffer = Buffer::of(needed);
        let place: *mut ENUM_SERVICE_STATUSW = buffer.0.as_mut_ptr().cast();
        let length = buffer.length();
        // SAFETY: the buffer is as long as is said, and aligned.
        unsafe {
            EnumDependentServicesW(
                service.0,
                all,
                Some(place),
                length,
                &raw mut needed,
                &raw mut count,
            )
        }
        .map_err(failed("EnumDependentServicesW"))?;
        // SAFETY: Windows filled as many structures as it counts; their texts lie in the buffer.
        let found = unsafe { std::slice::from_raw_parts(place, count as usize) };
        // SAFETY: as above.
        Ok(found.iter().map(|service| unsafe { text_at(service.lpServiceName) }).collect())
    }

    fn needs(&self, name: &str) -> Result<Vec<String>, OsError> {
        let needed = with_configuration(name, |configuration| {
            // SAFETY: the dependencies are texts one after the other, ended by an empty one.
            unsafe { texts_at(configuration.lpDependencies) }
        })?;
        // A plus stands before the name of a group of services.
        Ok(needed.into_iter().filter(|name| !name.starts_with('+')).collect())
    }

    fn names(&self) -> Result<Vec<String>, OsError> {
        let manager = manager(SC_MANAGER_ENUMERATE_SERVICE)?;
        let mut buffer = Buffer::of(256 << 10);
        let mut names = Vec::new();
        let mut resume = 0;
        loop {
            let (mut needed, mut count) = (0, 0);
            // SAFETY: the handle is open and the buffer is a slice.
            let answer = unsafe {
                EnumServicesStatusExW(
                    manager.0,
                    SC_ENUM_PROCESS_INFO,
                    SERVICE_WIN32,
                    SERVICE_STATE_ALL,
                    Some(buffer.bytes()),
                    &raw mut needed,
                    &raw mut count,
                    Some(&raw mut resume),
                    PCWSTR::null(),
                )
            };
            let is_partial = match answer {
                Ok(()) => false,
                Err(error) if error.code() == ERROR_MORE_DATA.to_hresult() => true,
                Err(error) => return Err(failed("EnumServicesStatusExW")(error)),
            };
            // SAFETY: Windows filled as many structures as it counts; their texts lie in the buffer.
            let found = unsafe {
                std::slice::from_raw_parts(
                    buffer.0.as_ptr().cast::<ENUM_SERVICE_STATUS_PROCESSW>(),
                    count as usize,
                )
            };
            // SAFETY: as above.
            names.extend(found.iter().map(|service| unsafe { text_at(service.lpServiceName) }));
            if !is_partial || count == 0 {
                return Ok(names);
            }
        }
    }
}
