//! Measuring what answers in a network.

mod echo;
mod names;

use std::net::{SocketAddr, TcpStream, ToSocketAddrs};
use std::thread;
use std::time::{Duration, Instant};

use frevin_stats::probes::ProbeStats;
use indicatif::ProgressBar;

pub(crate) use self::names::{Asked, ServerAnswers, ask_all, parse_server};
use crate::failure::{Failure, Kind};

/// How often, how quickly after each other and with how much patience something is probed.
#[derive(Debug, Clone, Copy)]
pub(crate) struct Probing {
    pub(crate) count: u32,
    pub(crate) pause: Duration,
    pub(crate) patience: Duration,
}

/// Something that can be asked whether it is there.
#[derive(Debug, Clone)]
pub(crate) struct Target {
    address: SocketAddr,
    /// Whether a connection to its port is asked for, and not an echo.
    by_connection: bool,
}

impl Target {
    /// An address or a name, with a port where a connection to it is to be timed.
    pub(crate) fn find(text: &str) -> Result<Self, Failure> {
        let unknown = |reason: String| {
            Failure::new(Kind::NotFound, format!("`{text}` is no address: {reason}"))
                .hint("write an address or a name; with :PORT a connection is timed, else an echo")
        };
        if let Ok(ip) = text.parse() {
            return Ok(Self { address: SocketAddr::new(ip, 0), by_connection: false });
        }
        let (asked, by_connection) = match text.rsplit_once(':') {
            Some((_, port)) if port.parse::<u16>().is_ok() => (text.to_owned(), true),
            _ => (format!("{text}:0"), false),
        };
        let mut found = asked.to_socket_addrs().map_err(|error| unknown(error.to_string()))?;
        let address = found.next().ok_or_else(|| unknown("nothing is known of it".to_owned()))?;
        Ok(Self { address, by_connection })
    }

    /// Where the probes go, and what they are.
    pub(crate) fn describe(&self) -> String {
        if self.by_connection {
            format!("connections to {}", self.address)
        } else {
            format!("echoes from {}", self.address.ip())
        }
    }

    /// Probes it, one after another.
    pub(crate) fn ping(
        &self,
        probing: Probing,
        progress: &ProgressBar,
    ) -> Result<ProbeStats, Failure> {
        let mut prober = self.prober(probing.patience)?;
        let mut probes = Probes::default();
        for number in 0..probing.count {
            if number > 0 {
                thread::sleep(probing.pause);
            }
            probes.take(&prober().map_err(cannot)?);
            progress.inc(1);
        }
        Ok(probes.stats())
    }

    fn prober(&self, patience: Duration) -> Result<Prober, Failure> {
        let address = self.address;
        if self.by_connection {
            return Ok(Box::new(move || Ok(connect(address, patience))));
        }
        let mut echo = echo::prober(address.ip(), patience).map_err(cannot)?;
        Ok(Box::new(move || Ok(echo()?.map_or(Connection::Lost, Connection::Made))))
    }
}

/// Sends a probe and waits for its answer.
type Prober = Box<dyn FnMut() -> Result<Connection, String>>;

/// Probes that were sent to one target.
#[derive(Default)]
struct Probes {
    taken_ms: Vec<Option<f64>>,
    refused: u32,
}

impl Probes {
    fn take(&mut self, answer: &Connection) {
        self.taken_ms.push(answer.taken().map(|taken| taken.as_secs_f64() * 1000.0));
        self.refused += u32::from(matches!(answer, Connection::Refused(_)));
    }

    fn stats(&self) -> ProbeStats {
        ProbeStats::of(&self.taken_ms).with_refused(self.refused)
    }
}

/// Probes several targets in turns, so that what the network does meanwhile meets all alike. A first round,
/// which finds the ways, does not count.
pub(crate) fn ping_all(
    targets: &[Target],
    probing: Probing,
    progress: &ProgressBar,
) -> Result<Vec<ProbeStats>, Failure> {
    let mut probers = targets
        .iter()
        .map(|target| target.prober(probing.patience))
        .collect::<Result<Vec<_>, Failure>>()?;
    let mut probes: Vec<Probes> = targets.iter().map(|_| Probes::default()).collect();
    for round in 0..=probing.count {
        for (prober, probes) in probers.iter_mut().zip(&mut probes) {
            let answer = prober().map_err(cannot)?;
            if round > 0 {
                probes.take(&answer);
                progress.inc(1);
            }
        }
        if round < probing.count {
            thread::sleep(probing.pause);
        }
    }
    Ok(probes.iter().map(Probes::stats).collect())
}

fn cannot(reason: String) -> Failure {
    Failure::new(Kind::NotFound, format!("echoes cannot be asked for here: {reason}"))
        .hint("with :PORT after the address a connection is timed instead")
}

/// What came of asking for a connection.
enum Connection {
    Made(Duration),
    /// Something is there and says no: an answer in time, and no connection.
    Refused(Duration),
    Lost,
}

impl Connection {
    /// How long the answer took.
    fn taken(&self) -> Option<Duration> {
        match self {
            Self::Made(taken) | Self::Refused(taken) => Some(*taken),
            Self::Lost => None,
        }
    }
}

fn connect(address: SocketAddr, patience: Duration) -> Connection {
    let begun = Instant::now();
    match TcpStream::connect_timeout(&address, patience) {
        Ok(_) => Connection::Made(begun.elapsed()),
        Err(error) if error.kind() == std::io::ErrorKind::ConnectionRefused => {
            Connection::Refused(begun.elapsed())
        }
        Err(_) => Connection::Lost,
    }
}
