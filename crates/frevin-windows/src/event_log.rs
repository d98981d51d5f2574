//! Windows' event logs.

use windows::Win32::System::EventLog::{
    EVT_HANDLE, EvtClose, EvtNext, EvtQuery, EvtQueryChannelPath, EvtQueryReverseDirection,
    EvtRender, EvtRenderEventXml,
};

use super::wide::Wide;

/// A handle of the event log, which is closed at its end.
struct Event(EVT_HANDLE);

impl Drop for Event {
    fn drop(&mut self) {
        // SAFETY: it is open, and closed once. What closing it answers changes nothing.
        let _ = unsafe { EvtClose(self.0) };
    }
}

/// The latest event of a log that a query asks for, as XML ("EvtQuery function" in the Windows documentation); nothing where
/// there is none, or this user may not read it.
pub(crate) fn latest(log: &str, query: &str) -> Option<String> {
    const WAIT_MS: u32 = 2000;
    let (log, query) = (Wide::new(log), Wide::new(query));
    let flags = EvtQueryChannelPath.0 | EvtQueryReverseDirection.0;
    // SAFETY: both texts live for the call.
    let found = unsafe { EvtQuery(None, log.as_ptr(), query.as_ptr(), flags) }.ok()?;
    let found = Event(found);
    let (mut events, mut count) = ([0_isize; 1], 0_u32);
    // SAFETY: the result is open, and there is room for the one event that is asked for.
    unsafe { EvtNext(found.0, &mut events, WAIT_MS, 0, &raw mut count) }.ok()?;
    if count == 0 {
        return None;
    }
    let event = Event(EVT_HANDLE(events[0]));
    let (mut used_bytes, mut properties) = (0_u32, 0_u32);
    // SAFETY: with no room it says how much is needed, and fails.
    let _ = unsafe {
        EvtRender(
            None,
            event.0,
            EvtRenderEventXml.0,
            0,
            None,
            &raw mut used_bytes,
            &raw mut properties,
        )
    };
    let mut text = vec![0_u16; usize::try_from(used_bytes).ok()?.div_ceil(2)];
    let room = u32::try_from(text.len() * 2).ok()?;
    // SAFETY: the room is as long as is said.
    unsafe {
        EvtRender(
            None,
            event.0,
            EvtRenderEventXml.0,
            room,
            Some(text.as_mut_ptr().cast()),
            &raw mut used_bytes,
            &raw mut properties,
        )
    }
    .ok()?;
    let end = text.iter().position(|unit| *unit == 0).unwrap_or(text.len());
    Some(String::from_utf16_lossy(&text[..end]))
}
