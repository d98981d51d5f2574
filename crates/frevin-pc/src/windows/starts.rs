//! Starts of what settings wait for: the sign-in, programs, services, devices.

use std::collections::BTreeSet;

use frevin_core::ids::StartId;
use frevin_core::waiting::Start;

use super::os_error::OsError;
use crate::contract::{ProgramUse, StartLength};

/// A process that runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Process {
    /// Its number.
    pub id: u32,
    /// The name of its program's file.
    pub file: String,
    /// When Windows made it, as Windows writes it; nothing where this user may not ask.
    pub created: Option<u64>,
}

/// What Windows tells of starts.
pub trait StartsApi {
    /// What tells the owner's present sign-in from every other one since the PC started.
    fn sign_in(&self) -> Option<String>;
    /// The processes that run.
    fn processes(&self) -> Result<Vec<Process>, OsError>;
    /// What a process takes; nothing where it is gone, or this user may not ask.
    fn process_use(&self, id: u32) -> Option<ProgramUse>;
    /// The event that tells of the PC's latest start, as XML; nothing where there is none, or this user may not read it.
    fn latest_start_event(&self) -> Option<String>;
    /// The number of the process that a service runs in; nothing where it does not run.
    fn service_process(&self, name: &str) -> Result<Option<u32>, OsError>;
    /// When a device was last made ready, as Windows writes it.
    fn device_arrival(&self, id: &str) -> Option<u64>;
}

/// What the processes of a program take together, by the name of its file; nothing where none of them runs.
pub(super) fn use_of_program(
    starts: &dyn StartsApi,
    processes: &[Process],
    file: &str,
) -> Option<ProgramUse> {
    let own = processes.iter().filter(|process| process.file.eq_ignore_ascii_case(file));
    own.filter_map(|process| starts.process_use(process.id)).reduce(|all, one| ProgramUse {
        processes: all.processes + one.processes,
        memory_mib: all.memory_mib + one.memory_mib,
        processor_s: all.processor_s + one.processor_s,
    })
}

/// The length of a start, from the event with the number 100 of the log Microsoft-Windows-Diagnostics-Performance:
/// `MainPathBootTime` and `BootTime`, in milliseconds (known from practice; no document of its makers names them).
pub(super) fn start_length(event: &str) -> Option<StartLength> {
    let seconds = |name: &str| -> Option<f64> {
        let (_, behind) = ["'", "\""]
            .iter()
            .find_map(|quote| event.split_once(&format!("<Data Name={quote}{name}{quote}>")))?;
        let milliseconds: f64 = behind.split('<').next()?.trim().parse().ok()?;
        Some(milliseconds / 1000.0)
    };
    Some(StartLength { to_desktop_s: seconds("MainPathBootTime")?, whole_s: seconds("BootTime")? })
}

pub(super) fn of_sign_in(starts: &dyn StartsApi) -> Start {
    starts.sign_in().map_or(Start::Unknown, |sign_in| Start::Since(StartId::new(sign_in)))
}

/// The start of a program by the name of its file: of all processes of it together, so that it has
/// started anew once none of them is an old one.
pub(super) fn of_program(starts: &dyn StartsApi, file: &str) -> Start {
    let Ok(processes) = starts.processes() else { return Start::Unknown };
    let own = processes.iter().filter(|process| process.file.eq_ignore_ascii_case(file));
    let ids: BTreeSet<Option<String>> = own.map(start_of_process).collect();
    if ids.is_empty() {
        return Start::NotRunning;
    }
    let ids: Option<Vec<String>> = ids.into_iter().collect();
    ids.map_or(Start::Unknown, |ids| Start::Since(StartId::new(ids.join(" "))))
}

pub(super) fn of_service(starts: &dyn StartsApi, name: &str) -> Start {
    let id = match starts.service_process(name) {
        Ok(Some(id)) => id,
        Ok(None) => return Start::NotRunning,
        Err(_) => return Start::Unknown,
    };
    let Ok(processes) = starts.processes() else { return Start::Unknown };
    // Several services may share a process: one that starts anew in it is not seen, which errs
    // towards waiting.
    let found = processes.iter().find(|process| process.id == id);
    let start = found.and_then(start_of_process);
    start.map_or(Start::Unknown, |start| Start::Since(StartId::new(start)))
}

pub(super) fn of_device(starts: &dyn StartsApi, id: &str) -> Start {
    let arrival = starts.device_arrival(id);
    arrival.map_or(Start::Unknown, |arrival| Start::Since(StartId::new(arrival.to_string())))
}

/// A process and the moment it was made: numbers of processes are given again.
fn start_of_process(process: &Process) -> Option<String> {
    Some(format!("{}@{}", process.id, process.created?))
}

#[cfg(test)]
mod tests {
    use super::*;

    struct Recorded(Vec<Process>);

    impl StartsApi for Recorded {
        fn sign_in(&self) -> Option<String> {
            None
        }

        fn processes(&self) -> Result<Vec<Process>, OsError> {
            Ok(self.0.clone())
        }

        fn process_use(&self, id: u32) -> Option<ProgramUse> {
            // The last of them has ended meanwhile.
            (id < 3).then_some(ProgramUse { processes: 1, memory_mib: 40, processor_s: 0.5 })
        }

        fn latest_start_event(&self) -> Option<String> {
            None
        }

        fn service_process(&self, name: &str) -> Result<Option<u32>, OsError> {
            match name {
                "running" => Ok(Some(7)),
                "stopped" => Ok(None),
                _ => Err(OsError::code("OpenServiceW", 1060)),
            }
        }

        fn device_arrival(&self, id: &str) -> Option<u64> {
            (id == "there").then_some(4)
        }
    }

    fn process(id: u32, file: &str, created: Option<u64>) -> Process {
        Process { id, file: file.to_owned(), created }
    }

    #[test]
    fn a_program_has_started_anew_once_none_of_its_processes_is_an_old_one() {
        let of = |processes: &[Process]| of_program(&Recorded(processes.to_vec()), "game.exe");
        let (old, new) = (process(7, "Game.EXE", Some(1)), process(7, "Game.EXE", Some(2)));
        assert_eq!(of(&[process(3, "other.exe", None)]), Start::NotRunning);
        assert_eq!(of(&[process(7, "game.exe", None)]), Start::Unknown);
        assert_ne!(
            of(std::slice::from_ref(&old)),
            of(&[new]),
            "numbers of processes are given again"
        );
        let helper = process(9, "game.exe", Some(3));
        assert_eq!(of(&[helper.clone(), old.clone()]), of(&[old, helper]));
    }

    #[test]
    fn services_and_devices_tell_what_they_can() {
        let windows = Recorded(vec![process(7, "svchost.exe", Some(5))]);
        assert_eq!(of_service(&windows, "running"), Start::Since(StartId::new("7@5")));
        assert_eq!(of_service(&windows, "stopped"), Start::NotRunning);
        assert_eq!(of_service(&windows, "none"), Start::Unknown);
        assert_eq!(of_device(&windows, "there"), Start::Since(StartId::new("4")));
        assert_eq!(of_device(&windows, "gone"), Start::Unknown);
        assert_eq!(of_sign_in(&windows), Start::Unknown);
    }

    #[test]
    fn the_processes_of_a_program_are_counted_together() {
        let processes = [(1, "Chat.exe"), (2, "chat.exe"), (3, "chat.exe"), (1, "other.exe")]
            .map(|(id, file)| process(id, file, None));
        let starts = Recorded(processes.to_vec());
        let both = ProgramUse { processes: 2, memory_mib: 80, processor_s: 1.0 };
        assert_eq!(use_of_program(&starts, &processes, "CHAT.EXE"), Some(both));
        assert_eq!(use_of_program(&starts, &processes, "gone.exe"), None);
    }

    #[test]
    fn the_length_of_a_start_is_read_from_its_event() {
        let event = "<Event><System><EventID>100</EventID></System><EventData>\
            <Data Name='BootTime'>52340</Data><Data Name='MainPathBootTime'>21140</Data></EventData></Event>";
        let length = StartLength { to_desktop_s: 21.14, whole_s: 52.34 };
        assert_eq!(start_length(event), Some(length));
        assert_eq!(start_length(&event.replace('\'', "\"")), Some(length));
        assert_eq!(start_length(&event.replace("21140", "soon")), None);
        assert_eq!(start_length("<Event/>"), None);
    }
}
