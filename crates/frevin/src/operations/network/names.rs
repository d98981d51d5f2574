//! Asking name servers.

use std::io;
use std::net::{IpAddr, SocketAddr, UdpSocket};
use std::thread;
use std::time::Instant;

use frevin_stats::probes::ProbeStats;
use indicatif::ProgressBar;
use schemars::JsonSchema;
use serde::Serialize;
use simple_dns::{CLASS, Name, Packet, PacketFlag, Question, RCODE, TYPE};
use uuid::Uuid;

use super::Probing;
use crate::failure::{Failure, Kind};

/// The port of name servers (RFC 1035).
const PORT: u16 = 53;
/// The longest answer over UDP without extensions (RFC 1035).
const LONGEST_ANSWER: usize = 512;

/// What servers are asked for.
pub(crate) struct Asked {
    names: Vec<Name<'static>>,
}

impl Asked {
    pub(crate) fn new(names: &[String]) -> Result<Self, Failure> {
        let name = |text: &String| {
            let is_plain =
                text.is_ascii() && !text.contains(|c: char| c.is_ascii_control() || c == ' ');
            let name = Name::new(text.trim_end_matches('.')).ok().filter(|_| is_plain);
            name.map(Name::into_owned).ok_or_else(|| {
                Failure::new(Kind::Usage, format!("`{text}` is no name to ask for"))
                    .hint("one in other letters is written as name servers know it: xn--…")
            })
        };
        Ok(Self { names: names.iter().map(name).collect::<Result<_, _>>()? })
    }
}

/// How a server answered.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
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
fn ask(server: SocketAddr, name: &Name<'_>, probing: Probing) -> Result<Option<f64>, String> {
    // A number that nobody can guess, so that an answer to it is one of the server's.
    let [first, second, ..] = *Uuid::new_v4().as_bytes();
    let mut question = Packet::new_query(u16::from_be_bytes([first, second]));
    question.set_flags(PacketFlag::RECURSION_DESIRED);
    question.questions.push(Question::new(name.clone(), TYPE::A.into(), CLASS::IN.into(), false));
    let bytes = question.build_bytes_vec().map_err(|error| error.to_string())?;
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
        let Ok(answer) = Packet::parse(&buffer[..length]) else { continue };
        let names = |packet: &Packet<'_>| -> Vec<String> {
            packet.questions.iter().map(|asked| asked.qname.to_string().to_lowercase()).collect()
        };
        let is_ours = answer.id() == question.id()
            && answer.has_flags(PacketFlag::RESPONSE)
            && names(&answer) == names(&question);
        if !is_ours {
            continue;
        }
        return match answer.rcode() {
            RCODE::NoError | RCODE::NameError => Ok(Some(taken.as_secs_f64() * 1000.0)),
            code => Err(refusal_in_words(code).to_owned()),
        };
    }
}

/// What a server said in place of an answer (RFC 1035, RFC 2136).
fn refusal_in_words(code: RCODE) -> &'static str {
    match code {
        RCODE::NoError => "no error",
        RCODE::FormatError => "it did not understand the question",
        RCODE::ServerFailure => "it failed to find out",
        RCODE::NameError => "there is no such name",
        RCODE::NotImplemented => "it does not answer such questions",
        RCODE::Refused => "it refused to answer",
        RCODE::YXDOMAIN | RCODE::YXRRSET | RCODE::NXRRSET => "it answers changes of names only",
        RCODE::NOTAUTH | RCODE::NOTZONE => "it is not in charge of that name",
        RCODE::BADVERS => "it speaks another version",
        RCODE::Reserved => "it answered with a number that nobody has given a meaning",
    }
}
