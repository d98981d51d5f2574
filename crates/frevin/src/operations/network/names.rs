//! Asking name servers.

use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::str::FromStr as _;
use std::thread;
use std::time::Instant;

use frevin_stats::probes::ProbeStats;
use hickory_proto::op::{Message, MessageType, Query, ResponseCode};
use hickory_proto::rr::{Name, RecordType};
use indicatif::ProgressBar;
use serde::Serialize;

use super::Probing;
use crate::failure::{Failure, Kind};

/// The port of name servers (RFC 1035).
const PORT: u16 = 53;
/// The longest answer over UDP without extensions (RFC 1035).
const LONGEST_ANSWER: usize = 512;

/// What servers are asked for.
pub(crate) struct Asked {
    names: Vec<Name>,
}

impl Asked {
    pub(crate) fn new(names: &[String]) -> Result<Self, Failure> {
        let name = |text: &String| {
            let mut name = Name::from_str(text).map_err(|error| {
                Failure::new(Kind::Usage, format!("`{text}` is no name to ask for: {error}"))
            })?;
            // Whole names are asked for, as what comes back is one.
            name.set_fqdn(true);
            Ok::<_, Failure>(name)
        };
        Ok(Self { names: names.iter().map(name).collect::<Result<_, _>>()? })
    }
}

/// How a server answered.
#[derive(Debug, Clone, PartialEq, Serialize)]
pub(crate) struct ServerAnswers {
    pub(crate) server: SocketAddr,
    /// Times and losses; an answer that the server cannot or will not tell counts as lost.
    pub(crate) answers: ProbeStats,
    /// What it said in place of answers, the last of them.
    pub(crate) refusal: Option<String>,
}

/// An address, with a port where that is not 53.
pub(crate) fn parse_server(text: &str) -> Result<SocketAddr, String> {
    text.parse()
        .or_else(|_| text.parse::<IpAddr>().map(|ip| SocketAddr::new(ip, PORT)))
        .map_err(|_| "write an address, and a port behind it where that is not 53".to_owned())
}

/// Asks every server for a name in each round, the servers in turns, so that what happens to the
/// network meanwhile happens to all. The first round does not count: it fills what they keep.
pub(crate) fn ask_all(
    servers: &[SocketAddr],
    asked: &Asked,
    probing: Probing,
    progress: &ProgressBar,
) -> Vec<ServerAnswers> {
    let mut probes: Vec<Vec<Option<f64>>> = vec![Vec::new(); servers.len()];
    let mut refusals: Vec<Option<String>> = vec![None; servers.len()];
    for round in 0..=probing.count as usize {
        // A warm-up round asks for every name, so that none of them is new later.
        let names = if round == 0 {
            &asked.names[..]
        } else {
            &asked.names[round % asked.names.len()..][..1]
        };
        for turn in 0..servers.len() {
            let at = (turn + round) % servers.len();
            for name in names {
                thread::sleep(probing.pause);
                let answer = ask(servers[at], name, probing);
                if round == 0 {
                    continue;
                }
                probes[at].push(answer.as_ref().ok().copied().flatten());
                refusals[at] = answer.err().or(refusals[at].take());
                progress.inc(1);
            }
        }
    }
    let of_server =
        |((server, probes), refusal): ((&SocketAddr, Vec<Option<f64>>), Option<String>)| {
            ServerAnswers { server: *server, answers: ProbeStats::of(&probes), refusal }
        };
    servers.iter().zip(probes).zip(refusals).map(of_server).collect()
}

/// How long the answer took in milliseconds; nothing where none came in time.
fn ask(server: SocketAddr, name: &Name, probing: Probing) -> Result<Option<f64>, String> {
    let mut question = Message::query();
    question.metadata.recursion_desired = true;
    question.add_query(Query::query(name.clone(), RecordType::A));
    let bytes = question.to_vec().map_err(|error| error.to_string())?;
    let told = |error: io::Error| error.to_string();
    let any: IpAddr = if server.is_ipv4() { [0; 4].into() } else { [0_u16; 8].into() };
    let socket = UdpSocket::bind(SocketAddr::new(any, 0)).map_err(told)?;
    socket.connect(server).map_err(told)?;
    let begun = Instant::now();
    socket.send(&bytes).map_err(told)?;
    let mut buffer = [0; LONGEST_ANSWER];
    loop {
        let left = probing.patience.saturating_sub(begun.elapsed());
        if left.is_zero() {
            return Ok(None);
        }
        socket.set_read_timeout(Some(left)).map_err(told)?;
        let length = match socket.recv(&mut buffer) {
            Ok(length) => length,
            Err(error)
                if matches!(error.kind(), io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut) =>
            {
                return Ok(None);
            }
            Err(error) => return Err(told(error)),
        };
        let taken = begun.elapsed();
        let Ok(answer) = Message::from_vec(&buffer[..length]) else { continue };
        let is_ours = answer.metadata.id == question.metadata.id
            && answer.metadata.message_type == MessageType::Response
            && answer.queries == question.queries;
        if !is_ours {
            continue;
        }
        return match answer.metadata.response_code {
            ResponseCode::NoError | ResponseCode::NXDomain => {
                Ok(Some(taken.as_secs_f64() * 1000.0))
            }
            code => Err(code.to_string()),
        };
    }
}
