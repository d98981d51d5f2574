//! Processes of this PC: which run, and what is held of them.

use std::time::Duration;

use frevin_core::playing::{
    LogicalProcessor, MemoryPriority, PriorityClass, ProcessBefore, ProcessHolds, ProcessKey,
};

/// A process that runs.
#[derive(Debug, Clone, PartialEq, Eq)]
pub(super) struct Running {
    pub(super) id: u32,
    pub(super) parent: u32,
    /// The name of its program's file.
    pub(super) file: String,
    /// When it was made, as the operating system writes it: a number is given again after its process has ended.
    pub(super) made: u64,
    /// The processor time that it has had; nothing where it is not told.
    pub(super) processor_time: Option<Duration>,
    /// Whether it belongs to the user of this program, as far as the operating system tells.
    pub(super) is_own_users: bool,
}

impl Running {
    pub(super) fn key(&self) -> ProcessKey {
        ProcessKey { id: self.id, made: self.made }
    }
}

#[cfg(target_os = "linux")]
mod system {
    use std::collections::{BTreeMap, BTreeSet};
    use std::os::unix::fs::MetadataExt as _;
    use std::sync::OnceLock;
    use std::time::Duration;

    use rustix::process::{Pid, getpriority_process, set_child_subreaper, setpriority_process};
    use rustix::thread::{CpuSet, sched_getaffinity, sched_setaffinity};

    use super::{
        LogicalProcessor, MemoryPriority, PriorityClass, ProcessBefore, ProcessHolds, Running,
    };

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

    /// Brings a list of processes up to date, by the names of their files in small letters, without an ending: only new
    /// ones are asked.
    pub(in super::super) fn names(known: &mut BTreeMap<u32, String>) {
        let Ok(entries) = std::fs::read_dir("/proc") else { return };
        let ids: BTreeSet<u32> = entries
            .flatten()
            .filter_map(|entry| entry.file_name().to_str()?.parse().ok())
            .collect();
        known.retain(|id, _| ids.contains(id));
        for id in ids {
            known.entry(id).or_insert_with(|| {
                let program = std::fs::read_link(format!("/proc/{id}/exe")).unwrap_or_default();
                program
                    .file_stem()
                    .map(|name| name.to_string_lossy().to_lowercase())
                    .unwrap_or_default()
            });
        }
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
            made: made_in_this_start(fields.get(19)?.parse().ok()?),
            processor_time: ticks(&fields),
            is_own_users: std::fs::metadata(format!("/proc/{id}"))
                .is_ok_and(|of| of.uid() == rustix::process::geteuid().as_raw()),
        })
    }

    /// The time in user mode and in the kernel.
    fn ticks(fields: &[&str]) -> Option<Duration> {
        let ticks: u64 =
            fields.get(11)?.parse::<u64>().ok()? + fields.get(12)?.parse::<u64>().ok()?;
        let a_second = rustix::param::clock_ticks_per_second().max(1);
        Some(Duration::from_millis(ticks.saturating_mul(1000) / a_second))
    }

    /// When a process was made, which the system counts from its start: with something of the start, so that one of
    /// another start is not taken for it.
    fn made_in_this_start(ticks: u64) -> u64 {
        static START: OnceLock<u64> = OnceLock::new();
        let start = START.get_or_init(|| {
            let id = std::fs::read_to_string("/proc/sys/kernel/random/boot_id").unwrap_or_default();
            u64::from_str_radix(id.get(..4).unwrap_or_default(), 16).unwrap_or(0)
        });
        // So few bits that the number is kept whole where it is written down.
        start << 36 | ticks & 0xf_ffff_ffff
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

    pub(in super::super) fn before(id: u32, holds: &ProcessHolds) -> Result<ProcessBefore, String> {
        let first = Pid::from_raw(id.cast_signed());
        let nice = getpriority_process(first).map_err(|error| error.to_string())?;
        let set = sched_getaffinity(first).map_err(|error| error.to_string())?;
        let numbers = (0..1024_u32).filter(|number| set.is_set(*number as usize)).collect();
        Ok(ProcessBefore {
            priority: holds.priority.is_some().then(|| nice.into()),
            processors: holds.processors.is_some().then_some(numbers),
            ..ProcessBefore::default()
        })
    }

    pub(in super::super) fn put_back(id: u32, before: &ProcessBefore) -> Result<(), String> {
        if let Some(nice) = before.priority.and_then(|nice| i32::try_from(nice).ok()) {
            set_nice(id, nice)?;
        }
        before.processors.as_ref().map_or(Ok(()), |numbers| set_processors(id, numbers))
    }

    pub(in super::super) fn unthrottle(_: u32) -> Result<(), String> {
        Err("this operating system runs no program slower by itself".to_owned())
    }

    pub(in super::super) fn set_memory_priority(_: u32, _: MemoryPriority) -> Result<(), String> {
        Err("this operating system has none for a process".to_owned())
    }

    /// Whether a process has more than what others are lowered to.
    pub(in super::super) fn is_above_lowered(had: &ProcessBefore) -> bool {
        had.priority.is_some_and(|nice| nice < 5)
    }

    /// Whether what is lowered can be put back: not everybody may raise.
    pub(in super::super) fn can_raise() -> bool {
        rustix::process::geteuid().is_root()
    }

    pub(in super::super) fn set_priority(id: u32, class: PriorityClass) -> Result<(), String> {
        let nice = match class {
            PriorityClass::Idle => 19,
            PriorityClass::BelowNormal => 5,
            PriorityClass::Normal => 0,
            PriorityClass::AboveNormal => -5,
            PriorityClass::High => -10,
        };
        set_nice(id, nice)
    }

    fn set_nice(id: u32, nice: i32) -> Result<(), String> {
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
    use std::collections::BTreeMap;

    use super::{
        LogicalProcessor, MemoryPriority, PriorityClass, ProcessBefore, ProcessHolds, Running,
    };

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
            // What may be asked is this user's, or this is an administrator.
            is_own_users: one.created.is_some(),
            processor_time: one.processor_time,
        };
        found.into_iter().map(process).collect()
    }

    pub(in super::super) fn processors() -> Vec<LogicalProcessor> {
        frevin_windows::game_process::processors().unwrap_or_default()
    }

    pub(in super::super) fn names(known: &mut BTreeMap<u32, String>) {
        let now = frevin_windows::game_process::names().unwrap_or_default();
        let bare = |file: String| {
            let file = file.to_lowercase();
            file.strip_suffix(".exe").map(ToOwned::to_owned).unwrap_or(file)
        };
        *known = now.into_iter().map(|(id, file)| (id, bare(file))).collect();
    }

    pub(in super::super) fn set_priority(id: u32, class: PriorityClass) -> Result<(), String> {
        frevin_windows::game_process::set_priority(id, class).map_err(|error| error.to_string())
    }

    pub(in super::super) fn set_processors(id: u32, numbers: &[u32]) -> Result<(), String> {
        frevin_windows::game_process::set_processors(id, numbers).map_err(|error| error.to_string())
    }

    pub(in super::super) fn before(id: u32, holds: &ProcessHolds) -> Result<ProcessBefore, String> {
        frevin_windows::game_process::before(id, holds).map_err(|error| error.to_string())
    }

    pub(in super::super) fn put_back(id: u32, before: &ProcessBefore) -> Result<(), String> {
        frevin_windows::game_process::put_back(id, before).map_err(|error| error.to_string())
    }

    pub(in super::super) fn unthrottle(id: u32) -> Result<(), String> {
        frevin_windows::game_process::unthrottle(id).map_err(|error| error.to_string())
    }

    pub(in super::super) fn set_memory_priority(
        id: u32,
        priority: MemoryPriority,
    ) -> Result<(), String> {
        frevin_windows::game_process::set_memory_priority(id, priority)
            .map_err(|error| error.to_string())
    }

    /// Whether a process has more than what others are lowered to.
    pub(in super::super) fn is_above_lowered(had: &ProcessBefore) -> bool {
        frevin_windows::game_process::is_normal_or_above(had)
    }

    /// Whether what is lowered can be put back.
    pub(in super::super) fn can_raise() -> bool {
        true
    }
}

#[cfg(not(any(windows, target_os = "linux")))]
mod system {
    use std::collections::BTreeMap;

    use super::{
        LogicalProcessor, MemoryPriority, PriorityClass, ProcessBefore, ProcessHolds, Running,
    };

    const UNKNOWN: &str = "this operating system's processes are not known";

    pub(in super::super) fn before(_: u32, _: &ProcessHolds) -> Result<ProcessBefore, String> {
        Err(UNKNOWN.to_owned())
    }

    pub(in super::super) fn put_back(_: u32, _: &ProcessBefore) -> Result<(), String> {
        Err(UNKNOWN.to_owned())
    }

    pub(in super::super) fn unthrottle(_: u32) -> Result<(), String> {
        Err(UNKNOWN.to_owned())
    }

    pub(in super::super) fn set_memory_priority(_: u32, _: MemoryPriority) -> Result<(), String> {
        Err(UNKNOWN.to_owned())
    }

    pub(in super::super) fn can_raise() -> bool {
        false
    }

    pub(in super::super) fn names(_: &mut BTreeMap<u32, String>) {}

    pub(in super::super) fn is_above_lowered(_: &ProcessBefore) -> bool {
        false
    }

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
        Err(UNKNOWN.to_owned())
    }

    pub(in super::super) fn set_processors(_: u32, _: &[u32]) -> Result<(), String> {
        Err(UNKNOWN.to_owned())
    }
}

pub(super) use system::{
    adopt_what_is_left, before, can_raise, is_above_lowered, names, processors, put_back, running,
    set_memory_priority, set_priority, set_processors, unthrottle,
};

#[cfg(all(test, target_os = "linux"))]
mod tests {
    #![allow(clippy::unwrap_used, reason = "a test may fail")]
    use super::*;
    use std::process::{Child, Command, Stdio};

    struct Sleeper(Child);

    impl Sleeper {
        fn begin() -> Self {
            Self(Command::new("/bin/sleep").arg("30").stdin(Stdio::null()).spawn().unwrap())
        }
    }

    impl Drop for Sleeper {
        fn drop(&mut self) {
            let _ = self.0.kill();
            let _ = self.0.wait();
        }
    }

    fn all() -> ProcessHolds {
        ProcessHolds {
            priority: Some(PriorityClass::BelowNormal),
            processors: Some("0".parse().unwrap()),
            ..ProcessHolds::default()
        }
    }

    #[test]
    fn a_process_is_listed_with_its_parent_and_told_from_one_of_another_start() {
        let sleeper = Sleeper::begin();
        let id = sleeper.0.id();
        let listed = running().into_iter().find(|one| one.id == id).unwrap();
        assert_eq!((listed.parent, listed.is_own_users), (std::process::id(), true));
        assert!(listed.processor_time.unwrap() < Duration::from_secs(5));
        assert!(listed.made < 1 << 53, "a number that every reader of JSON keeps whole");
        let again = running().into_iter().find(|one| one.id == id).unwrap();
        assert_eq!(again.key(), listed.key());
        drop(sleeper);
        assert!(running().iter().all(|one| one.key() != listed.key()));
    }

    #[test]
    fn what_a_process_had_is_asked_only_where_it_is_to_be_held_and_comes_back() {
        let sleeper = Sleeper::begin();
        let id = sleeper.0.id();
        assert_eq!(before(id, &ProcessHolds::default()).unwrap(), ProcessBefore::default());
        let had = before(id, &all()).unwrap();
        assert!(had.priority.is_some() && !had.processors.as_ref().unwrap().is_empty());
        set_processors(id, &[0]).unwrap();
        assert_eq!(before(id, &all()).unwrap().processors, Some(vec![0]));
        if can_raise() {
            set_priority(id, PriorityClass::BelowNormal).unwrap();
            assert_eq!(before(id, &all()).unwrap().priority, Some(5));
        }
        put_back(id, &had).unwrap();
        assert_eq!(before(id, &all()).unwrap(), had);
        assert!(unthrottle(id).is_err() && set_memory_priority(id, MemoryPriority::Low).is_err());
    }

    #[test]
    fn a_process_that_has_ended_is_an_error_and_nothing_else() {
        let sleeper = Sleeper::begin();
        let id = sleeper.0.id();
        drop(sleeper);
        assert!(before(id, &all()).is_err());
    }

    #[test]
    fn only_what_has_more_than_lowered_programs_is_lowered() {
        let nice = |nice| ProcessBefore { priority: Some(nice), ..ProcessBefore::default() };
        assert!(is_above_lowered(&nice(0)) && is_above_lowered(&nice(-10)));
        assert!(!is_above_lowered(&nice(5)) && !is_above_lowered(&nice(19)));
        assert!(!is_above_lowered(&ProcessBefore::default()), "who could not be asked is let be");
        assert!(!processors().is_empty());
    }
}
