//! The task scheduler.

use windows::Win32::Foundation::VARIANT_BOOL;
use windows::Win32::System::Com::{CLSCTX_INPROC_SERVER, CoCreateInstance};
use windows::Win32::System::TaskScheduler::{
    IRegisteredTask, ITaskFolder, ITaskService, TASK_CREATE_OR_UPDATE, TASK_ENUM_HIDDEN,
    TASK_LOGON_INTERACTIVE_TOKEN, TaskScheduler as TaskSchedulerClass,
};
use windows::Win32::System::Variant::VARIANT;
use windows::core::BSTR;

use super::com;
use super::wide::failed;
use frevin_pc::windows::os_error::{OsError, found};
use frevin_pc::windows::tasks::TasksApi;

/// This PC's scheduled tasks.
pub(crate) struct TaskScheduler;

fn service() -> Result<ITaskService, OsError> {
    com::begin();
    // SAFETY: the class is the one that the interface is documented of.
    let service: ITaskService =
        unsafe { CoCreateInstance(&TaskSchedulerClass, None, CLSCTX_INPROC_SERVER) }
            .map_err(failed("CoCreateInstance(TaskScheduler)"))?;
    let this_pc = VARIANT::default();
    // SAFETY: empty values mean this PC and this user.
    unsafe { service.Connect(&this_pc, &this_pc, &this_pc, &this_pc) }
        .map_err(failed("ITaskService::Connect"))?;
    Ok(service)
}

fn root(service: &ITaskService) -> Result<ITaskFolder, OsError> {
    // SAFETY: the service is connected.
    unsafe { service.GetFolder(&BSTR::from("\\")) }.map_err(failed("ITaskService::GetFolder"))
}

fn task(path: &str) -> Result<Option<IRegisteredTask>, OsError> {
    let root = root(&service()?)?;
    // SAFETY: the folder belongs to a connected service.
    found(unsafe { root.GetTask(&BSTR::from(path)) }.map_err(failed("ITaskFolder::GetTask")))
}

fn existing(path: &str) -> Result<IRegisteredTask, OsError> {
    task(path)?.ok_or_else(|| OsError::Said(format!("there is no task {path}")))
}

/// The paths of the tasks in a folder and below it. Folders that may not be looked into are passed
/// over, as the scheduler's own window does.
fn collect(folder: &ITaskFolder, paths: &mut Vec<String>) -> windows::core::Result<()> {
    // SAFETY: here and below, the folder belongs to a connected service; collections count from 1.
    let tasks = unsafe { folder.GetTasks(TASK_ENUM_HIDDEN.0) }?;
    // SAFETY: as above.
    for index in 1..=unsafe { tasks.Count() }? {
        // SAFETY: as above.
        let task = unsafe { tasks.get_Item(&VARIANT::from(index)) }?;
        // SAFETY: as above.
        paths.push(unsafe { task.Path() }?.to_string());
    }
    // SAFETY: as above.
    let folders = unsafe { folder.GetFolders(0) }?;
    // SAFETY: as above.
    for index in 1..=unsafe { folders.Count() }? {
        // SAFETY: as above.
        let below = unsafe { folders.get_Item(&VARIANT::from(index)) }?;
        let _ = collect(&below, paths);
    }
    Ok(())
}

impl TasksApi for TaskScheduler {
    fn is_enabled(&self, path: &str) -> Result<Option<bool>, OsError> {
        let Some(task) = task(path)? else { return Ok(None) };
        // SAFETY: the task belongs to a connected service.
        let enabled = unsafe { task.Enabled() }.map_err(failed("IRegisteredTask::Enabled"))?;
        Ok(Some(enabled.as_bool()))
    }

    fn set_enabled(&self, path: &str, enabled: bool) -> Result<(), OsError> {
        let task = existing(path)?;
        // SAFETY: the task belongs to a connected service.
        unsafe { task.SetEnabled(VARIANT_BOOL::from(enabled)) }
            .map_err(failed("IRegisteredTask::SetEnabled"))
    }

    fn paths(&self) -> Result<Vec<String>, OsError> {
        let mut paths = Vec::new();
        collect(&root(&service()?)?, &mut paths).map_err(failed("ITaskFolder::GetTasks"))?;
        Ok(paths)
    }

    fn register(&self, path: &str, definition: &str) -> Result<(), OsError> {
        let root = root(&service()?)?;
        let (path, definition) = (BSTR::from(path), BSTR::from(definition));
        let nobody_else = VARIANT::default();
        let how = TASK_CREATE_OR_UPDATE.0;
        // SAFETY: the folder belongs to a connected service; empty values mean this user and the usual access list.
        let registered = unsafe {
            root.RegisterTask(
                &path,
                &definition,
                how,
                &nobody_else,
                &nobody_else,
                TASK_LOGON_INTERACTIVE_TOKEN,
                &nobody_else,
            )
        };
        registered.map(drop).map_err(failed("ITaskFolder::RegisterTask"))
    }

    fn delete(&self, path: &str) -> Result<(), OsError> {
        let root = root(&service()?)?;
        // SAFETY: the folder belongs to a connected service; no flags are defined.
        unsafe { root.DeleteTask(&BSTR::from(path), 0) }.map_err(failed("ITaskFolder::DeleteTask"))
    }
}
