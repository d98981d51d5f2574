//! Scheduled tasks.

use frevin_core::setting::{State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// The task scheduler as Windows offers it.
pub trait TasksApi {
    /// Whether the task at a path is enabled; nothing where there is no such task.
    fn is_enabled(&self, path: &str) -> Result<Option<bool>, OsError>;
    /// Enables or disables a task, the way of its own.
    fn set_enabled(&self, path: &str, enabled: bool) -> Result<(), OsError>;
    /// The paths of all tasks.
    fn paths(&self) -> Result<Vec<String>, OsError>;
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
