//! `frevin network`

use std::net::SocketAddr;
use std::path::PathBuf;
use std::time::Duration;

use clap::{Args, Subcommand};
use frevin_stats::probes::ProbeStats;
use schemars::JsonSchema;
use serde::Serialize;

use super::output::write_new;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::network::{
    Asked, Probing, ServerAnswers, Target, ask_all, parse_server, ping_all,
};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, count, dim, good, range_line, strong, warn};

/// Characters of a plot.
const PLOT_COLUMNS: usize = 60;

/// Measure what answers in the network
#[derive(Debug, Subcommand)]
pub(crate) enum NetworkCommand {
    Ping(PingArgs),
    NameServers(NameServersArgs),
}

/// How something is probed.
#[derive(Debug, Args)]
struct ProbeArgs {
    /// How many probes count
    #[arg(long, default_value_t = 30, value_parser = clap::value_parser!(u32).range(1..=1000))]
    count: u32,
    /// The time between probes, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 50, value_parser = clap::value_parser!(u64).range(0..=10_000))]
    pause_ms: u64,
    /// When a probe counts as lost, in milliseconds
    #[arg(long, value_name = "MS", default_value_t = 1000, value_parser = clap::value_parser!(u64).range(1..=10_000))]
    lost_after_ms: u64,
}

impl ProbeArgs {
    fn probing(&self) -> Probing {
        Probing {
            count: self.count,
            pause: Duration::from_millis(self.pause_ms),
            patience: Duration::from_millis(self.lost_after_ms),
        }
    }
}

/// Time how an address answers: average, spread and loss; several are ranked
#[derive(Debug, Args)]
pub(crate) struct PingArgs {
    /// Addresses or names, of a game's servers say; with :PORT a connection is timed, else an echo
    #[arg(required = true, value_name = "ADDRESS")]
    addresses: Vec<String>,
    #[command(flatten)]
    probes: ProbeArgs,
}

/// Rank name servers by how they answer
#[derive(Debug, Args)]
pub(crate) struct NameServersArgs {
    /// The servers' addresses, with a port where that is not 53
    #[arg(required = true, value_parser = parse_server)]
    servers: Vec<SocketAddr>,
    /// A name to ask for; may be given several times
    #[arg(long = "name", value_name = "NAME", default_values = ["example.com", "example.net", "example.org"])]
    names: Vec<String>,
    #[command(flatten)]
    probes: ProbeArgs,
    /// Write a profile that sets the first two for an adapter, to be saved and applied like any other
    #[arg(long, value_name = "FILE", requires = "adapter")]
    profile: Option<PathBuf>,
    /// The adapter that the profile is for, as `frevin inspect` shows it
    #[arg(long, value_name = "NAME", requires = "profile")]
    adapter: Option<String>,
}

pub(crate) fn run(context: &Context, command: &NetworkCommand) -> Result<Outcome, Failure> {
    match command {
        NetworkCommand::Ping(args) => {
            let [address] = &args.addresses[..] else { return rank_addresses(context, args) };
            let target = Target::find(address)?;
            let progress = context.progress(args.probes.count.into(), "probes");
            let answers = target.ping(args.probes.probing(), &progress)?;
            progress.finish_and_clear();
            let is_there = answers.answered > 0;
            let report = PingReport { address: address.clone(), of: target.describe(), answers };
            Ok(Outcome::with(&report, is_there))
        }
        NetworkCommand::NameServers(args) => rank(context, args),
    }
}

fn rank_addresses(context: &Context, args: &PingArgs) -> Result<Outcome, Failure> {
    let mut addresses = args.addresses.clone();
    addresses.sort();
    addresses.dedup();
    let targets =
        addresses.iter().map(|address| Target::find(address)).collect::<Result<Vec<_>, _>>()?;
    let probes = u64::from(args.probes.count) * targets.len() as u64;
    let progress = context.progress(probes, "probes");
    let answers = ping_all(&targets, args.probes.probing(), &progress)?;
    progress.finish_and_clear();
    let reports = addresses.into_iter().zip(&targets).zip(answers);
    let mut ranked: Vec<PingReport> = reports
        .map(|((address, target), answers)| PingReport { address, of: target.describe(), answers })
        .collect();
    ranked.sort_by(|a, b| a.answers.is_better_than(&b.answers));
    let is_any = ranked.iter().any(|one| one.answers.answered > 0);
    Ok(Outcome::with(&RankedReport { addresses: ranked }, is_any))
}

fn rank(context: &Context, args: &NameServersArgs) -> Result<Outcome, Failure> {
    let mut servers = args.servers.clone();
    servers.sort();
    servers.dedup();
    let asked = Asked::new(&args.names)?;
    let probes = u64::from(args.probes.count) * servers.len() as u64;
    let progress = context.progress(probes, "questions");
    let mut ranked = ask_all(&servers, &asked, args.probes.probing(), &progress);
    progress.finish_and_clear();
    ranked.sort_by(|a, b| a.answers.is_better_than(&b.answers));
    let profile = match (&args.profile, &args.adapter) {
        (Some(file), Some(adapter)) => {
            write_new(file, profile(&ranked, adapter)?.as_bytes())?;
            Some(file.clone())
        }
        _ => None,
    };
    let is_any = ranked.iter().any(|server| server.answers.answered > 0);
    Ok(Outcome::with(
        &NameServersReport { names: args.names.clone(), servers: ranked, profile },
        is_any,
    ))
}

/// A profile as it is written, with what the choice rests on.
#[derive(JsonSchema, Serialize)]
struct WrittenProfile {
    format: u32,
    name: &'static str,
    purpose: &'static str,
    tweaks: [WrittenTweak; 1],
}

#[derive(JsonSchema, Serialize)]
struct WrittenTweak {
    r#use: &'static str,
    with: WrittenParameters,
    note: String,
}

#[derive(JsonSchema, Serialize)]
struct WrittenParameters {
    adapter: String,
    servers: Vec<String>,
}

fn profile(ranked: &[ServerAnswers], adapter: &str) -> Result<String, Failure> {
    let best: Vec<&ServerAnswers> =
        ranked.iter().filter(|server| server.answers.answered > 0).take(2).collect();
    if let Some(other) = best.iter().find(|server| server.server.port() != 53) {
        let message = format!("Windows asks name servers on port 53 only, not {}", other.server);
        return Err(Failure::new(Kind::BadInput, message).hint("no profile was written"));
    }
    if best.is_empty() {
        return Err(Failure::new(Kind::NotFound, "none of the servers answers")
            .hint("no profile was written"));
    }
    let measured = best.iter().filter_map(|server| {
        let times = server.answers.times?;
        Some(format!("{} {:.1} ms", server.server.ip(), times.median_ms))
    });
    let written = WrittenProfile {
        format: 1,
        name: "name-servers",
        purpose: "The name servers that answered fastest here",
        tweaks: [WrittenTweak {
            r#use: "network/name-servers",
            with: WrittenParameters {
                adapter: adapter.to_owned(),
                servers: best.iter().map(|server| server.server.ip().to_string()).collect(),
            },
            note: format!("Measured medians: {}", measured.collect::<Vec<_>>().join(", ")),
        }],
    };
    toml::to_string(&written).map_err(|error| Failure::new(Kind::Internal, error.to_string()))
}

#[derive(Debug, JsonSchema, Serialize)]
struct PingReport {
    address: String,
    of: String,
    answers: ProbeStats,
}

#[derive(Debug, JsonSchema, Serialize)]
struct RankedReport {
    /// The best first.
    addresses: Vec<PingReport>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct NameServersReport {
    names: Vec<String>,
    /// The best first.
    servers: Vec<ServerAnswers>,
    /// The profile that was written.
    profile: Option<PathBuf>,
}

fn lost(answers: &ProbeStats) -> String {
    let share = 100.0 * answers.loss();
    if answers.answered == answers.sent { "none".to_owned() } else { warn(format!("{share:.0} %")) }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<PingReport>("network ping");
    schemas.prints::<RankedReport>("network ping");
    schemas.prints::<NameServersReport>("network name-servers");
}

impl View for PingReport {
    fn show(&self, page: &mut Page) {
        let answers = &self.answers;
        page.heading(format_args!("{}: {} {}", self.address, answers.sent, self.of));
        let Some(times) = &answers.times else {
            page.line(warn("Nothing answers."));
            return;
        };
        page.pairs([
            ("average", format!("{:.2} ms", times.average_ms)),
            (
                "median",
                format!(
                    "{:.2} ms  {}",
                    times.median_ms,
                    dim(format_args!(
                        "95 % interval {:.2} to {:.2} ms",
                        times.median_from_ms, times.median_to_ms
                    ))
                ),
            ),
            ("spread", format!("{:.2} ms", times.spread_ms)),
            (
                "shortest and longest",
                format!("{:.2} and {:.2} ms", times.shortest_ms, times.longest_ms),
            ),
            (if answers.refused > 0 { "without any answer" } else { "lost" }, lost(answers)),
        ]);
        if answers.refused > 0 {
            page.line(warn(format_args!(
                "{} of {} were refused: something is there and answers, and nothing listens on that port.",
                answers.refused, answers.sent
            )));
        }
    }
}

impl View for RankedReport {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("{} addresses, in turns", self.addresses.len()));
        let ranked = self.addresses.iter().map(|one| Ranked {
            name: one.address.clone(),
            answers: one.answers,
            remark: if one.answers.refused > 0 { "refuses".to_owned() } else { String::new() },
        });
        show_ranking("address", &ranked.collect::<Vec<_>>(), page);
    }
}

/// Something that was asked, as it is ranked.
struct Ranked {
    name: String,
    answers: ProbeStats,
    remark: String,
}

impl Ranked {
    fn of_server(server: &ServerAnswers) -> Self {
        Self {
            name: server.server.to_string(),
            answers: server.answers,
            remark: server.refusal.clone().unwrap_or_default(),
        }
    }
}

/// A row for each, the best first, and their medians on one scale.
fn show_ranking(what: &'static str, ranked: &[Ranked], page: &mut Page) {
    let mut table =
        Table::new(["", what, ">average", ">median", ">spread", ">longest", ">lost", ""]);
    let first = ranked.first().map(|one| one.answers);
    for (index, Ranked { name, answers, remark }) in ranked.iter().enumerate() {
        let address = strong(name);
        let Some(times) = &answers.times else {
            let why = if remark.is_empty() { "does not answer" } else { remark };
            let none = String::new;
            let cells = [none(), none(), none(), none(), lost(answers), warn(why)];
            table.row([vec![dim("–"), address], cells.to_vec()].concat());
            continue;
        };
        let is_even = index > 0 && first.is_some_and(|first| first.is_as_good_as(answers));
        let remark = if is_even {
            dim("no slower than the first, as far as this shows")
        } else {
            remark.clone()
        };
        let ms = |ms: f64| format!("{ms:.2} ms");
        table.row([
            (index + 1).to_string(),
            address,
            ms(times.average_ms),
            ms(times.median_ms),
            ms(times.spread_ms),
            ms(times.longest_ms),
            lost(answers),
            remark,
        ]);
    }
    page.table(table);
    let ends = ranked.iter().filter_map(|one| one.answers.times);
    let top_ms = ends.map(|times| times.median_to_ms).fold(0.0, f64::max);
    if top_ms > 0.0 {
        page.heading("Medians and their 95 % intervals");
        page.pairs(ranked.iter().filter_map(|one| {
            let times = one.answers.times?;
            let ends = (times.median_from_ms / top_ms, times.median_to_ms / top_ms);
            let line = range_line(ends.0, times.median_ms / top_ms, ends.1, PLOT_COLUMNS);
            Some((one.name.clone(), line))
        }));
        page.line(dim(format_args!("  0 to {top_ms:.2} ms   ● median  ├─┤ interval")));
    }
}

impl View for NameServersReport {
    fn show(&self, page: &mut Page) {
        let names = self.names.join(", ");
        page.heading(format_args!(
            "{} asked for {names}",
            count(self.servers.len(), "name server")
        ));
        let ranked: Vec<Ranked> = self.servers.iter().map(Ranked::of_server).collect();
        show_ranking("server", &ranked, page);
        if let Some(file) = &self.profile {
            let file = file.display();
            page.line(format_args!(
                "{} A profile is in {file}: `frevin profile save {file}`.",
                good("Done.")
            ));
        }
    }
}
