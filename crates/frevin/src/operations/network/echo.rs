//! Echo requests (ICMP, RFC 792), as far as the system lets programs send them.

use std::net::IpAddr;
use std::time::Duration;

type Prober = Box<dyn FnMut() -> Result<Option<Duration>, String>>;

/// Asks an address for an echo each time it is called: how long that took, or nothing where none came.
#[cfg(windows)]
pub(super) fn prober(address: IpAddr, patience: Duration) -> Result<Prober, String> {
    let IpAddr::V4(address) = address else {
        return Err("they are asked for over IPv4 only".to_owned());
    };
    Ok(Box::new(move || frevin_windows::echo(address, patience)))
}

/// Asks an address for an echo each time it is called: how long that took, or nothing where none came.
#[cfg(not(windows))]
pub(super) fn prober(address: IpAddr, patience: Duration) -> Result<Prober, String> {
    use std::io::{Read as _, Write as _};
    use std::net::SocketAddr;
    use std::time::Instant;

    use socket2::{Domain, Protocol, Socket, Type};

    if !address.is_ipv4() {
        return Err("they are asked for over IPv4 only".to_owned());
    }
    // Echoes of its own are what a system may let every program have; all of them only the owner.
    let mut socket = Socket::new(Domain::IPV4, Type::DGRAM, Some(Protocol::ICMPV4))
        .or_else(|_| Socket::new(Domain::IPV4, Type::RAW, Some(Protocol::ICMPV4)))
        .map_err(|error| error.to_string())?;
    socket.connect(&SocketAddr::new(address, 0).into()).map_err(|error| error.to_string())?;
    let mut number = 0_u16;
    Ok(Box::new(move || {
        number = number.wrapping_add(1);
        let message = request(number);
        let begun = Instant::now();
        socket.write_all(&message).map_err(|error| error.to_string())?;
        loop {
            let Some(left) = patience.checked_sub(begun.elapsed()).filter(|left| !left.is_zero())
            else {
                return Ok(None);
            };
            socket.set_read_timeout(Some(left)).map_err(|error| error.to_string())?;
            let mut buffer = [0; 256];
            match socket.read(&mut buffer) {
                Ok(length) if is_reply(&buffer[..length], &message) => {
                    return Ok(Some(begun.elapsed()));
                }
                Ok(_) => {}
                Err(error) if error.kind() == std::io::ErrorKind::WouldBlock => return Ok(None),
                Err(error) => return Err(error.to_string()),
            }
        }
    }))
}

/// An echo request with this number: type 8, code 0, checksum, identifier, number, and some content.
#[cfg(not(windows))]
fn request(number: u16) -> Vec<u8> {
    let mut message = vec![8, 0, 0, 0, 0xf2, 0x71];
    message.extend(number.to_be_bytes());
    message.extend(b"frevin measures ");
    // The complement of the sum of all 16-bit words, carries added (RFC 1071).
    let sum: u32 =
        message.as_chunks::<2>().0.iter().map(|word| u32::from(u16::from_be_bytes(*word))).sum();
    let sum = (sum & 0xffff) + (sum >> 16);
    let checksum = !((sum & 0xffff) + (sum >> 16)) as u16;
    message[2..4].copy_from_slice(&checksum.to_be_bytes());
    message
}

/// Whether a message is the reply to a request, with or without the header that it travelled under.
#[cfg(not(windows))]
fn is_reply(message: &[u8], request: &[u8]) -> bool {
    let header = match message.first() {
        Some(first) if first >> 4 == 4 => usize::from(first & 0xf) * 4,
        _ => 0,
    };
    // The system may have put an identifier of its own in place of ours: number and content say enough.
    let reply = message.get(header..).unwrap_or_default();
    reply.first() == Some(&0) && reply.get(6..) == request.get(6..)
}
