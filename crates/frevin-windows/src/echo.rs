//! Echo requests, which Windows sends for every program.

use std::net::Ipv4Addr;
use std::time::{Duration, Instant};

use windows::Win32::NetworkManagement::IpHelper::{
    ICMP_ECHO_REPLY, IcmpCloseHandle, IcmpCreateFile, IcmpSendEcho,
};

/// What is sent along.
const CONTENT: &[u8] = b"frevin measures ";

/// Asks an address for an echo: how long that took, or nothing where none came in time.
///
/// # Errors
/// Where Windows does not send it.
pub fn echo(address: Ipv4Addr, patience: Duration) -> Result<Option<Duration>, String> {
    // SAFETY: it takes nothing.
    let handle = unsafe { IcmpCreateFile() }.map_err(|error| error.message())?;
    // Windows asks for room for the reply, what was sent, and 8 bytes of an error.
    let mut reply = vec![0_u64; (size_of::<ICMP_ECHO_REPLY>() + CONTENT.len() + 8).div_ceil(8) + 1];
    let room = u32::try_from(reply.len() * 8).unwrap_or(u32::MAX);
    let patience_ms = u32::try_from(patience.as_millis()).unwrap_or(u32::MAX);
    let begun = Instant::now();
    // SAFETY: both buffers live for the call and are as long as is said.
    let replies = unsafe {
        IcmpSendEcho(
            handle,
            u32::from_ne_bytes(address.octets()),
            CONTENT.as_ptr().cast(),
            u16::try_from(CONTENT.len()).unwrap_or(0),
            None,
            reply.as_mut_ptr().cast(),
            room,
            patience_ms,
        )
    };
    let taken = begun.elapsed();
    // SAFETY: the handle is open, and used no more.
    let _ = unsafe { IcmpCloseHandle(handle) };
    // SAFETY: the buffer is longer than a reply and aligned for it; zero is a value of every field.
    let status = unsafe { (*reply.as_ptr().cast::<ICMP_ECHO_REPLY>()).Status };
    Ok((replies > 0 && status == 0).then_some(taken))
}
