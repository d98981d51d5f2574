//! Processes of this PC: which run, and what is held of them.

use frevin_core::playing::{LogicalProcessor, PriorityClass};

/// A process that runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Running {
    pub(super) id: u32,
    pub(super) parent: u32,
    /// The name of its program's file.
    pub(super) file: String,
    /// When it was made, as the operating system writes it: a number is given again after its process has ended.
    pub(super) made: u64,
}

#[cfg(target_os = "linux")]
mod system {
    use rustix::process::{Pid, set_child_subreaper, setpriority_process};
    use rustix::thread::{CpuSet, sched_setaffinity};

    use super::{LogicalProcessor, PriorityClass, Running};

    /// Lets what a launcher leaves behind become this process's own, so that it can be followed; whether it does.
    /// Where it cannot be had, launchers are followed while they run.
    pub(in super::super) fn adopt_what_is_left() -> bool {
        set_child_subreaper(Some(rustix::process::getpid())).is_ok()
    }

    pub(in super::super) fn running() -> Vec<Running> {
        let Ok(entries) = std::fs::read_dir("/proc") else { return Vec::new() };
        let ids = entries.flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok());
        ids.filter_map(process).collect()
    }

    /// A process that runs; nothing of one that has ended and waits to be asked for how.
    fn process(id: u32) -> Option<Running> {
        let stat = std::fs::read_to_string(format!("/proc/{id}/stat")).ok()?;
        // `ID (NAME) STATE PARENT …`, in which the name may hold anything (proc_pid_stat(5)).
        let (before, after) = stat.rsplit_once(')')?;
        let fields: Vec<&str> = after.split_whitespace().collect();
        if ["Z", "X"].contains(fields.first()?) {
            return None;
        }
        let program = std::fs::read_link(format!("/proc/{id}/exe")).ok();
        let name = program.as_deref().and_then(std::path::Path::file_name);
        let short = before.split_once('(').map_or("", |(_, name)| name);
        Some(Running {
            id,
            parent: fields.get(1)?.parse().ok()?,
            file: name.map_or_else(|| short.to_owned(), |name| name.to_string_lossy().into_owned()),
            made: fields.get(19)?.parse().ok()?,
        })
    }

    pub(in super::super) fn processors() -> Vec<LogicalProcessor> {
        let read = |number: u32, file: &str| -> Option<u32> {
            let path = format!("/sys/devices/system/cpu/cpu{number}/{file}");
            std::fs::read_to_string(path).ok()?.trim().parse().ok()
        };
        let there = |number: &u32| {
            std::path::Path::new(&format!("/sys/devices/system/cpu/cpu{number}")).exists()
        };
        let processor = |number: u32| LogicalProcessor {
            number,
            core: read(number, "topology/core_id").unwrap_or(number),
            speed_class: read(number, "cpu_capacity").unwrap_or(0),
        };
        (0..1024).take_while(there).map(processor).collect()
    }

    /// Each thread by itself: those made later take after theirs.
    fn threads(id: u32) -> Vec<Pid> {
        let Ok(entries) = std::fs::read_dir(format!("/proc/{id}/task")) else { return Vec::new() };
        let ids = entries.flatten().filter_map(|entry| entry.file_name().to_str()?.parse().ok());
        ids.filter_map(Pid::from_raw).collect()
    }

    pub(in super::super) fn set_priority(id: u32, class: PriorityClass) -> Result<(), String> {
        let nice = match class {
            PriorityClass::Idle => 19,
            PriorityClass::BelowNormal => 5,
            PriorityClass::Normal => 0,
            PriorityClass::AboveNormal => -5,
            PriorityClass::High => -10,
        };
        for thread in threads(id) {
            setpriority_process(Some(thread), nice).map_err(|error| error.to_string())?;
        }
        Ok(())
    }

    pub(in super::super) fn set_processors(id: u32, numbers: &[u32]) -> Result<(), String> {
        let mut set = CpuSet::new();
        for number in numbers {
            set.set(*number as usize);
        }
        for thread in threads(id) {
            sched_setaffinity(Some(thread), &set).map_err(|error| error.to_string())?;
        }
        Ok(())
    }
}

#[cfg(windows)]
mod system {
    use super::{LogicalProcessor, PriorityClass, Running};

    /// What a launcher leaves behind keeps the number of the launcher as its parent's.
    pub(in super::super) fn adopt_what_is_left() -> bool {
        false
    }

    pub(in super::super) fn running() -> Vec<Running> {
        let found = frevin_windows::game_process::running().unwrap_or_default();
        let process = |one: frevin_windows::game_process::ProcessSeen| Running {
            id: one.id,
            parent: one.parent,
            file: one.file,
            made: one.created.unwrap_or(0),
        };
        found.into_iter().map(process).collect()
    }

    pub(in super::super) fn processors() -> Vec<LogicalProcessor> {
        frevin_windows::game_process::processors().unwrap_or_default()
    }

    pub(in super::super) fn set_priority(id: u32, class: PriorityClass) -> Result<(), String> {
        frevin_windows::game_process::set_priority(id, class).map_err(|error| error.to_string())
    }

    pub(in super::super) fn set_processors(id: u32, numbers: &[u32]) -> Result<(), String> {
        frevin_windows::game_process::set_processors(id, numbers).map_err(|error| error.to_string())
    }
}

#[cfg(not(any(windows, target_os = "linux")))]
mod system {
    use super::{LogicalProcessor, PriorityClass, Running};

    pub(in super::super) fn adopt_what_is_left() -> bool {
        false
    }

    pub(in super::super) fn running() -> Vec<Running> {
        Vec::new()
    }

    pub(in super::super) fn processors() -> Vec<LogicalProcessor> {
        Vec::new()
    }

    pub(in super::super) fn set_priority(_: u32, _: PriorityClass) -> Result<(), String> {
        Err("this operating system's processes are not known".to_owned())
    }

    pub(in super::super) fn set_processors(_: u32, _: &[u32]) -> Result<(), String> {
        Err("this operating system's processes are not known".to_owned())
    }
}

pub(super) use system::{adopt_what_is_left, processors, running, set_priority, set_processors};
