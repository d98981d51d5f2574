//! Scheduled tasks.

use frevin_core::setting::{State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{OWN_TASK, WriteError, Written};

/// The task scheduler as Windows offers it.
pub trait TasksApi {
    /// Whether the task at a path is enabled; nothing where there is no such task.
    fn is_enabled(&self, path: &str) -> Result<Option<bool>, OsError>;
    /// Enables or disables a task, the way of its own.
    fn set_enabled(&self, path: &str, enabled: bool) -> Result<(), OsError>;
    /// The paths of all tasks.
    fn paths(&self) -> Result<Vec<String>, OsError>;
    /// Makes a task from a definition in the scheduler's own XML, or makes it anew.
    fn register(&self, path: &str, definition: &str) -> Result<(), OsError>;
    /// Takes a task away.
    fn delete(&self, path: &str) -> Result<(), OsError>;
}

/// A task that is off, without anything that would start it; if somebody did, it would end at once.
const OWN_DEFINITION: &str = r#"<?xml version="1.0" encoding="UTF-16"?>
<Task version="1.2" xmlns="http://schemas.microsoft.com/windows/2004/02/mit/task">
  <RegistrationInfo><Description>Frevin tries out how tasks are switched. It does nothing, and may be deleted.</Description></RegistrationInfo>
  <Triggers />
  <Settings><AllowStartOnDemand>false</AllowStartOnDemand><Enabled>false</Enabled></Settings>
  <Actions><Exec><Command>cmd.exe</Command><Arguments>/c exit</Arguments></Exec></Actions>
</Task>"#;

/// Makes the task that Frevin has for its own, or takes it away.
pub(super) fn own_task(tasks: &dyn TasksApi, is_there: bool) -> Result<(), OsError> {
    match is_there {
        true => tasks.register(OWN_TASK, OWN_DEFINITION),
        false if tasks.is_enabled(OWN_TASK)?.is_none() => Ok(()),
        false => tasks.delete(OWN_TASK),
    }
}

pub(super) fn read(tasks: &dyn TasksApi, path: &str) -> State {
    state_of(tasks.is_enabled(path).map(|enabled| enabled.map(|on| Value::Flag(on).into())))
}

pub(super) fn write(
    tasks: &dyn TasksApi,
    path: &str,
    enabled: bool,
) -> Result<Written, WriteError> {
    let no_such = || WriteError::Refused(format!("there is no task {path}"));
    if tasks.is_enabled(path).map_err(OsError::before_write)?.ok_or_else(no_such)? == enabled {
        return Ok(Written::Done);
    }
    tasks.set_enabled(path, enabled)?;
    // Some schedulers, and some tasks that belong to Windows itself, accept that and do nothing.
    if tasks.is_enabled(path)? == Some(enabled) {
        return Ok(Written::Done);
    }
    Err(WriteError::Refused(format!("the scheduler accepted it and left {path} as it was")))
}
