//! Event tracing: a session of Frevin's own, in real time.

use core::ffi::c_void;
use std::collections::BTreeSet;
use std::sync::{Mutex, PoisonError};
use std::thread;
use std::time::{Duration, Instant};

use frevin_frames::presents::{
    DIRECT3D_9, DXGI, EventRecord, GRAPHICS_KERNEL, LOST_EVENTS, TraceClock, is_of_use,
};
use uuid::Uuid;
use windows::Win32::Foundation::{ERROR_ALREADY_EXISTS, ERROR_SUCCESS, WIN32_ERROR};
use windows::Win32::System::Diagnostics::Etw::{
    CONTROLTRACE_HANDLE, CloseTrace, ControlTraceW, EVENT_CONTROL_CODE_ENABLE_PROVIDER,
    EVENT_HEADER_FLAG_64_BIT_HEADER, EVENT_RECORD, EVENT_TRACE_CONTROL_STOP, EVENT_TRACE_LOGFILEW,
    EVENT_TRACE_PROPERTIES, EVENT_TRACE_REAL_TIME_MODE, EnableTraceEx2, OpenTraceW,
    PROCESS_TRACE_MODE_EVENT_RECORD, PROCESS_TRACE_MODE_RAW_TIMESTAMP,
    PROCESS_TRACE_MODE_REAL_TIME, PROCESSTRACE_HANDLE, ProcessTrace, StartTraceW,
    TRACE_LEVEL_INFORMATION, WNODE_FLAG_TRACED_GUID,
};
use windows::core::{GUID, PWSTR};

use frevin_pc::windows::starts::StartsApi as _;

use super::starts::Starts;
use super::wide::{Wide, failed};
use frevin_pc::windows::os_error::OsError;
use frevin_pc::windows::presents::{TraceApi, Traced};

/// The session's name. One that a Frevin left behind when it was killed is ended by the next.
const SESSION: &str = "Frevin frame times";
/// The clock that the session is asked for: the performance counter.
const PERFORMANCE_COUNTER: u32 = 1;
/// Kilobytes of a buffer, and how many there are: some seconds of a busy PC.
const BUFFER_KIB: u32 = 256;
const BUFFERS: (u32, u32) = (16, 64);
/// The keyword of the graphics kernel under which it announces pictures.
const KERNEL_PRESENT_KEYWORD: u64 = 0x0800_0000;
/// How often it is looked at whether the session still runs.
const LOOK_EVERY: Duration = Duration::from_millis(50);
/// What `OpenTraceW` answers where it cannot.
const NO_TRACE: u64 = u64::MAX;

/// This PC's event tracing.
pub(crate) struct EventTracing;

fn done(call: &'static str, answer: WIN32_ERROR) -> Result<(), OsError> {
    if answer == ERROR_SUCCESS { Ok(()) } else { Err(OsError::code(call, answer.0)) }
}

/// What a session is asked to be, with room for its name behind it.
struct Properties {
    room: Vec<u64>,
}

impl Properties {
    fn new() -> Self {
        let bytes = size_of::<EVENT_TRACE_PROPERTIES>() + 2 * (SESSION.len() + 1);
        let mut properties = Self { room: vec![0; bytes.div_ceil(8)] };
        let length = u32::try_from(properties.room.len() * 8).unwrap_or(u32::MAX);
        let asked = properties.get();
        asked.Wnode.BufferSize = length;
        asked.Wnode.Flags = WNODE_FLAG_TRACED_GUID;
        asked.Wnode.ClientContext = PERFORMANCE_COUNTER;
        asked.LogFileMode = EVENT_TRACE_REAL_TIME_MODE;
        asked.BufferSize = BUFFER_KIB;
        (asked.MinimumBuffers, asked.MaximumBuffers) = BUFFERS;
        asked.FlushTimer = 1;
        asked.LoggerNameOffset = u32::try_from(size_of::<EVENT_TRACE_PROPERTIES>()).unwrap_or(0);
        properties
    }

    fn get(&mut self) -> &mut EVENT_TRACE_PROPERTIES {
        // SAFETY: the room is longer than the structure, aligned for it, and zero is a value of every field.
        unsafe { &mut *self.as_mut_ptr() }
    }

    /// For Windows, which writes the session's name behind the structure: a pointer to all of the room.
    fn as_mut_ptr(&mut self) -> *mut EVENT_TRACE_PROPERTIES {
        self.room.as_mut_ptr().cast()
    }
}

/// A session that runs, and ends with this.
struct Session {
    handle: CONTROLTRACE_HANDLE,
    name: Wide,
}

impl Session {
    fn start() -> Result<Self, OsError> {
        let name = Wide::new(SESSION);
        let mut handle = CONTROLTRACE_HANDLE::default();
        let mut start = || {
            let mut properties = Properties::new();
            // SAFETY: the name lives for the call, and the properties have room for it.
            unsafe { StartTraceW(&raw mut handle, name.as_ptr(), properties.as_mut_ptr()) }
        };
        let mut answer = start();
        if answer == ERROR_ALREADY_EXISTS {
            stop(CONTROLTRACE_HANDLE::default(), &name)?;
            answer = start();
        }
        done("StartTraceW", answer)?;
        Ok(Self { handle, name })
    }

    fn enable(&self, provider: Uuid, keywords: u64) -> Result<(), OsError> {
        let provider = GUID::from_u128(provider.as_u128());
        let level = u8::try_from(TRACE_LEVEL_INFORMATION).unwrap_or(4);
        let enable = EVENT_CONTROL_CODE_ENABLE_PROVIDER.0;
        // SAFETY: the session runs, and the identifier lives for the call.
        let answer = unsafe {
            EnableTraceEx2(self.handle, &raw const provider, enable, level, keywords, 0, 0, None)
        };
        done("EnableTraceEx2", answer)
    }

    /// Ends it; how many events were lost.
    fn end(self) -> Result<u64, OsError> {
        let lost = stop(self.handle, &self.name);
        std::mem::forget(self);
        lost
    }
}

impl Drop for Session {
    fn drop(&mut self) {
        // It can only be ended here after something else failed, which is what is told.
        let _ = stop(self.handle, &self.name);
    }
}

fn stop(handle: CONTROLTRACE_HANDLE, name: &Wide) -> Result<u64, OsError> {
    let mut properties = Properties::new();
    // SAFETY: the name lives for the call, and the properties have room for it.
    let answer = unsafe {
        ControlTraceW(handle, name.as_ptr(), properties.as_mut_ptr(), EVENT_TRACE_CONTROL_STOP)
    };
    done("ControlTraceW", answer)?;
    let ended = properties.get();
    Ok(u64::from(ended.EventsLost) + u64::from(ended.RealTimeBuffersLost))
}

/// What events are kept of, and where.
struct Wanted {
    processes: BTreeSet<u32>,
    records: Mutex<Vec<EventRecord>>,
}

/// Called for each event, on the thread that goes through them.
unsafe extern "system" fn take(event: *mut EVENT_RECORD) {
    // SAFETY: Windows hands over a record that lives for the call.
    let Some(event) = (unsafe { event.as_ref() }) else { return };
    let provider = Uuid::from_u128(event.EventHeader.ProviderId.to_u128());
    let id = event.EventHeader.EventDescriptor.Id;
    if event.UserContext.is_null() || !is_of_use(provider, id) {
        return;
    }
    // SAFETY: the context is what is wanted, which outlives the trace, given when it was opened.
    let wanted = unsafe { &*event.UserContext.cast::<Wanted>() };
    let process = event.EventHeader.ProcessId;
    // A busy PC says this of all its programs: what is not of the one meant is not kept.
    if provider != LOST_EVENTS && !wanted.processes.contains(&process) {
        return;
    }
    let payload = if event.UserData.is_null() {
        Vec::new()
    } else {
        // SAFETY: the payload is as long as is said, and lives for the call.
        let bytes = unsafe {
            std::slice::from_raw_parts(event.UserData.cast::<u8>(), event.UserDataLength.into())
        };
        bytes.to_vec()
    };
    let flags = u32::from(event.EventHeader.Flags);
    let record = EventRecord {
        provider,
        event: id,
        process,
        ticks: event.EventHeader.TimeStamp,
        is_64_bit: flags & EVENT_HEADER_FLAG_64_BIT_HEADER != 0,
        payload,
    };
    wanted.records.lock().unwrap_or_else(PoisonError::into_inner).push(record);
}

/// What events of a session are gone through with, and its clock.
fn open(name: &mut [u16], wanted: &Wanted) -> Result<(PROCESSTRACE_HANDLE, TraceClock), OsError> {
    let mut log = EVENT_TRACE_LOGFILEW {
        LoggerName: PWSTR(name.as_mut_ptr()),
        Context: core::ptr::from_ref(wanted).cast_mut().cast::<c_void>(),
        ..EVENT_TRACE_LOGFILEW::default()
    };
    log.Anonymous1.ProcessTraceMode = PROCESS_TRACE_MODE_REAL_TIME
        | PROCESS_TRACE_MODE_EVENT_RECORD
        | PROCESS_TRACE_MODE_RAW_TIMESTAMP;
    log.Anonymous2.EventRecordCallback = Some(take);
    // SAFETY: the name and the list outlive the handle, which is closed before they go.
    let handle = unsafe { OpenTraceW(&raw mut log) };
    if handle.Value == NO_TRACE {
        let error = failed("OpenTraceW")(windows::core::Error::from_thread());
        // Who may begin a session may read it: where that is denied, there is none behind the functions.
        let is_stub = error.is_denial();
        return Err(if is_stub { OsError::NotOffered { call: "OpenTraceW" } } else { error });
    }
    // SAFETY: of the union that is what an opened trace has.
    let mhz = unsafe { log.LogfileHeader.Anonymous2.Anonymous.CpuSpeedInMHz };
    let clock = match log.LogfileHeader.ReservedFlags {
        2 => TraceClock::SystemTime,
        3 => TraceClock::ProcessorCycles { mhz },
        _ => TraceClock::PerformanceCounter { per_second: log.LogfileHeader.PerfFreq },
    };
    Ok((handle, clock))
}

impl TraceApi for EventTracing {
    fn processes(&self) -> Result<Vec<(u32, String)>, OsError> {
        let processes = Starts.processes()?.into_iter();
        Ok(processes.map(|process| (process.id, process.file)).collect())
    }

    fn trace(&self, processes: &BTreeSet<u32>, length: Duration) -> Result<Traced, OsError> {
        let wanted = Wanted { processes: processes.clone(), records: Mutex::new(Vec::new()) };
        let session = Session::start()?;
        session.enable(DXGI, 0)?;
        session.enable(DIRECT3D_9, 0)?;
        session.enable(GRAPHICS_KERNEL, KERNEL_PRESENT_KEYWORD)?;
        let mut name: Vec<u16> = SESSION.encode_utf16().chain([0]).collect();
        let (handle, clock) = open(&mut name, &wanted)?;
        let (lost, gone_through) = thread::scope(|scope| {
            // SAFETY: the handle is open until the scope has ended.
            let thread = scope.spawn(move || unsafe { ProcessTrace(&[handle], None, None) });
            let begun = Instant::now();
            while begun.elapsed() < length && !thread.is_finished() {
                thread::sleep(LOOK_EVERY.min(length.saturating_sub(begun.elapsed())));
            }
            // Ending the session ends the thread, once it has gone through what is left. Where the session
            // cannot be ended, closing the trace does, or the thread would never return.
            let lost = session.end();
            if lost.is_err() {
                // SAFETY: the handle is open; closing it while it is gone through is allowed.
                let _ = unsafe { CloseTrace(handle) };
            }
            (lost, thread.join())
        });
        // SAFETY: nothing goes through it any more.
        let _ = unsafe { CloseTrace(handle) };
        let answer =
            gone_through.map_err(|_| OsError::Said("the thread that traces stopped".into()))?;
        done("ProcessTrace", answer)?;
        let records = wanted.records.into_inner().unwrap_or_else(PoisonError::into_inner);
        let lost_in_time = records.iter().filter(|record| record.provider == LOST_EVENTS).count();
        Ok(Traced { records, clock, lost: lost?.max(lost_in_time as u64) })
    }
}
