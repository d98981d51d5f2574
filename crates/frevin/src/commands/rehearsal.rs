//! `frevin rehearsal`

use std::path::PathBuf;
use std::time::Duration;

use clap::Subcommand;
use frevin_core::setting::{Address, State, TakesEffect};
use frevin_core::tweak::state_from_words;
use frevin_pc::rehearsal::{Clock, Event, Faults, RehearsalPc, StartedAnew, Template, create};
use frevin_pc::{Fingerprint, Pc, PcIdentity, fingerprint};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::restart::restart;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, count, dim, good, short, shown, warn};

/// PCs simulated in a folder, to learn, test and practise on
#[derive(Debug, Subcommand)]
pub(crate) enum RehearsalCommand {
    /// Make a PC in a new folder
    New {
        /// The folder
        folder: PathBuf,
        /// Which of the shipped PCs it is like
        #[arg(long, default_value = "desktop")]
        like: String,
        /// Its name [default: "Rehearsal" and what it is like]
        #[arg(long)]
        name: Option<String>,
        /// What chance on this PC comes from: the same seed, the same life
        #[arg(long, default_value_t = 1)]
        seed: u64,
        /// Mean this PC from now on where none is named
        #[arg(long)]
        make_default: bool,
    },
    /// Show the PC: its clock, what waits, what has happened, its fingerprint
    Show {
        /// How many of the latest events to show
        #[arg(long, default_value_t = 8)]
        events: usize,
    },
    /// Restart the PC: everything that waits takes effect
    Restart,
    /// Sign out and in: what waits for that takes effect, and what waits for programs
    SignOut,
    /// Start programs anew: what waits for that takes effect
    RestartPrograms,
    /// Restart services: what waits for that takes effect
    RestartServices,
    /// Switch devices off and on: what waits for that takes effect
    RestartDevices,
    /// Mend by hand what a finding of `frevin inspect` tells and no tweak mends; without a name, list them
    Mend {
        /// The finding
        finding: Option<String>,
    },
    /// Be a made-up game: run for some seconds and do nothing
    Game {
        /// How long
        #[arg(long, default_value_t = 60.0)]
        seconds: f64,
    },
    /// Update the operating system: it sets some settings anew, and restarts
    Update {
        /// Install this version of the graphics driver with it: what was measured before has aged
        #[arg(long, value_name = "VERSION")]
        graphics_driver: Option<String>,
    },
    /// Provoke faults on the writes to come, or be somebody else and write
    Fault {
        /// The power fails before the write after this many: 0 is the next one
        #[arg(long, value_name = "WRITES")]
        power_cut_after: Option<u64>,
        /// Refuse writes to this setting
        #[arg(long, value_name = "ADDRESS")]
        refuse: Vec<Address>,
        /// Accept writes to this setting and do nothing
        #[arg(long, value_name = "ADDRESS")]
        ignore: Vec<Address>,
        /// Run Frevin without an administrator's rights
        #[arg(long)]
        no_administrator: bool,
        /// Let a program of this name record what is shown
        #[arg(long, value_name = "NAME")]
        recorder: Option<String>,
        /// Write a setting now, as somebody else would
        #[arg(long, value_name = "ADDRESS=STATE")]
        others_write: Vec<String>,
        /// No more faults
        #[arg(long, conflicts_with_all = ["power_cut_after", "refuse", "ignore", "no_administrator", "recorder"])]
        none: bool,
    },
}

impl RehearsalCommand {
    /// Whether it is a made-up game.
    pub(crate) fn is_game(&self) -> bool {
        matches!(self, Self::Game { .. })
    }
}

/// A made-up game that has ended.
#[derive(Debug, JsonSchema, Serialize)]
struct GameReport {
    seconds: f64,
}

#[derive(Debug, JsonSchema, Serialize)]
struct NewReport {
    pc: PcIdentity,
    folder: PathBuf,
    is_default: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ShowReport {
    pc: PcIdentity,
    folder: PathBuf,
    clock: Clock,
    waiting: Vec<(Address, TakesEffect)>,
    faults: Faults,
    fingerprint: Fingerprint,
    events: Vec<Event>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct UpdateReport {
    set_anew: Vec<Address>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct MendReport {
    /// The finding that was mended.
    mended: Option<String>,
    /// The findings that are mended by hand on this PC.
    by_hand: Vec<String>,
    /// Settings that are otherwise now.
    wrote: Vec<Address>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct FaultReport {
    faults: Faults,
    /// What somebody else wrote just now.
    others_wrote: Vec<Address>,
}

pub(crate) fn run(context: &Context, command: &RehearsalCommand) -> Result<Outcome, Failure> {
    match command {
        RehearsalCommand::Game { seconds } => {
            let length = Duration::try_from_secs_f64(*seconds).unwrap_or_default();
            std::thread::sleep(length);
            Ok(Outcome::done(&GameReport { seconds: *seconds }))
        }
        RehearsalCommand::New { folder, like, name, seed, make_default } => {
            let template = Template::named(like).ok_or_else(|| {
                let known: Vec<_> = Template::all().into_iter().map(Template::name).collect();
                Failure::new(Kind::NotFound, format!("there is no shipped PC `{like}`"))
                    .hint(format!("there are {}", known.join(", ")))
            })?;
            let name = name.clone().unwrap_or_else(|| {
                let name = if like == "old-pc" { "old PC" } else { like.as_str() };
                format!("Rehearsal {name}")
            });
            let pc = create(folder, template, &name, *seed)?;
            if *make_default {
                context.configure_pc(pc.folder())?;
            }
            Ok(Outcome::done(&NewReport {
                pc: pc.identity().clone(),
                folder: folder.clone(),
                is_default: *make_default,
            }))
        }
        RehearsalCommand::Show { events } => {
            let pc = context.rehearsal_pc()?;
            let all = pc.events()?;
            Ok(Outcome::yes(&ShowReport {
                pc: pc.identity().clone(),
                folder: pc.folder().to_owned(),
                clock: pc.clock()?,
                waiting: pc.waiting(),
                faults: pc.faults()?,
                fingerprint: fingerprint(&pc)?,
                events: all[all.len().saturating_sub(*events)..].to_vec(),
            }))
        }
        RehearsalCommand::Restart => started_anew(context, TakesEffect::Restart),
        RehearsalCommand::SignOut => started_anew(context, TakesEffect::SignOut),
        RehearsalCommand::RestartPrograms => started_anew(context, TakesEffect::ProgramRestart),
        RehearsalCommand::RestartServices => started_anew(context, TakesEffect::ServiceRestart),
        RehearsalCommand::RestartDevices => started_anew(context, TakesEffect::DeviceRestart),
        RehearsalCommand::Mend { finding } => mend(context, finding.as_deref()),
        RehearsalCommand::Update { graphics_driver } => {
            let mut pc = context.rehearsal_pc()?;
            let lock = context.lock(&mut pc)?;
            if let Some(version) = graphics_driver {
                pc.install_graphics_driver(&lock, version)?;
            }
            Ok(Outcome::done(&UpdateReport { set_anew: pc.update(&lock)? }))
        }
        RehearsalCommand::Fault {
            power_cut_after,
            refuse,
            ignore,
            no_administrator,
            others_write,
            none,
            recorder,
        } => {
            let mut pc = context.rehearsal_pc()?;
            let others_wrote = write_as_others(context, &mut pc, others_write)?;
            let faults = Faults {
                no_administrator: *no_administrator,
                recorder: recorder.clone(),
                power_cut_after_writes: *power_cut_after,
                refuse: refuse.iter().cloned().collect(),
                ignore: ignore.iter().cloned().collect(),
            };
            if !none && faults == Faults::default() {
                return Ok(Outcome::yes(&FaultReport { faults: pc.faults()?, others_wrote }));
            }
            pc.set_faults(&faults)?;
            Ok(Outcome::done(&FaultReport { faults, others_wrote }))
        }
    }
}

fn mend(context: &Context, finding: Option<&str>) -> Result<Outcome, Failure> {
    let mut pc = context.rehearsal_pc()?;
    let mends = pc.mends()?;
    let known: Vec<String> = mends.keys().cloned().collect();
    let Some(finding) = finding else {
        return Ok(Outcome::yes(&MendReport { mended: None, by_hand: known, wrote: Vec::new() }));
    };
    let mend = mends.get(finding).ok_or_else(|| {
        Failure::new(Kind::NotFound, format!("`{finding}` is not mended by hand on this PC"))
            .hint(format!("what is: {}", known.join(", ")))
    })?;
    let lock = context.lock(&mut pc)?;
    pc.mend_by_hand(&lock, mend)?;
    drop(lock);
    let writes: Vec<String> =
        mend.settings.iter().map(|(address, words)| format!("{address}={words}")).collect();
    let wrote = write_as_others(context, &mut pc, &writes)?;
    let mended = Some(finding.to_owned());
    Ok(Outcome::done(&MendReport { mended, by_hand: known, wrote }))
}

fn started_anew(context: &Context, moment: TakesEffect) -> Result<Outcome, Failure> {
    Ok(Outcome::done(&restart(context, &mut context.rehearsal_pc()?, moment)?))
}

fn write_as_others(
    context: &Context,
    pc: &mut RehearsalPc,
    writes: &[String],
) -> Result<Vec<Address>, Failure> {
    let lock = context.lock(pc)?;
    let mut written = Vec::new();
    for write in writes {
        let usage = |message: String| Failure::new(Kind::Usage, message);
        // A value's name may hold the sign, a state written here does not.
        let (address, words) = write
            .rsplit_once('=')
            .ok_or_else(|| usage(format!("`{write}` is not ADDRESS=STATE")))?;
        let address: Address =
            address.parse().map_err(|error| usage(format!("`{address}`: {error}")))?;
        let state = state_from_words(&address, words).map_err(usage)?;
        pc.write_as_somebody_else(&lock, &address, &state)
            .map_err(|error| Failure::new(Kind::RefusedAndUndone, format!("{address}: {error}")))?;
        written.push(address);
    }
    Ok(written)
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<NewReport>("rehearsal new");
    schemas.prints::<ShowReport>("rehearsal show");
    schemas.prints::<GameReport>("rehearsal game");
    schemas.prints::<UpdateReport>("rehearsal update");
    schemas.prints::<FaultReport>("rehearsal fault");
    schemas.prints::<MendReport>("rehearsal mend");
    for command in [
        "rehearsal restart",
        "rehearsal restart-programs",
        "rehearsal restart-services",
        "rehearsal restart-devices",
        "rehearsal sign-out",
    ] {
        schemas.prints::<crate::operations::restart::RestartReport>(command);
    }
}

impl View for GameReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("It was played for {} s.", self.seconds));
    }
}

impl View for NewReport {
    fn show(&self, page: &mut Page) {
        let folder = self.folder.display();
        page.line(format_args!("{} `{}` is a PC in {folder}.", good("Done."), self.pc.name));
        let pc = if self.is_default { String::new() } else { format!(" --pc {folder}") };
        page.pairs([
            ("look at it", format!("frevin inspect{pc}")),
            ("see what fits", format!("frevin tweak list --fitting{pc}")),
        ]);
    }
}

impl View for UpdateReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{} The PC has restarted.", good("Updated.")));
        if self.set_anew.is_empty() {
            page.line("The update found every setting as it wants it.");
            return;
        }
        page.line(format_args!("The update set {} anew:", count(self.set_anew.len(), "setting")));
        self.set_anew.iter().for_each(|address| page.line(format_args!("  {}", short(address))));
    }
}

impl View for MendReport {
    fn show(&self, page: &mut Page) {
        match &self.mended {
            Some(finding) => {
                page.line(format_args!("{} {finding} was mended by hand.", good("Done.")));
                page.pairs([("look again", "frevin inspect")]);
            }
            None if self.by_hand.is_empty() => {
                page.line("Nothing is mended by hand on this PC.");
            }
            None => {
                page.line("What can be mended by hand on this PC:");
                self.by_hand.iter().for_each(|finding| page.line(format_args!("  {finding}")));
            }
        }
    }
}

impl View for FaultReport {
    fn show(&self, page: &mut Page) {
        for address in &self.others_wrote {
            page.line(format_args!("Somebody else wrote {}.", short(address)));
        }
        if !self.others_wrote.is_empty() && self.faults == Faults::default() {
            return;
        }
        if self.faults == Faults::default() {
            page.line("No faults are to come.");
            return;
        }
        if let Some(writes) = self.faults.power_cut_after_writes {
            page.line(warn(format_args!(
                "The power will fail after {}.",
                count(usize::try_from(writes).unwrap_or(usize::MAX), "write")
            )));
        }
        if let Some(recorder) = &self.faults.recorder {
            page.line(format_args!("  {recorder} records what is shown"));
        }
        if self.faults.no_administrator {
            page.line(warn("Frevin has no administrator's rights on this PC."));
        }
        for address in &self.faults.refuse {
            page.line(warn(format_args!("Writes to {address} will be refused.")));
        }
        for address in &self.faults.ignore {
            page.line(warn(format_args!("Writes to {address} will do nothing.")));
        }
    }
}

impl View for ShowReport {
    fn show(&self, page: &mut Page) {
        page.heading(format_args!("{} in {}", self.pc.name, self.folder.display()));
        page.pairs([
            ("starts", self.clock.boots.to_string()),
            (
                "runs",
                format!("{}, {} since the last start", self.clock.runs, self.clock.runs_since_boot),
            ),
            ("played", format!("{:.0} min", self.clock.played_seconds / 60.0)),
            ("fingerprint", self.fingerprint.to_string()),
        ]);
        if !self.waiting.is_empty() {
            page.heading("Waiting");
            for (address, moment) in &self.waiting {
                let what = dim(format_args!("for a {moment}"));
                page.line(format_args!("  {} {what}", short(address)));
            }
        }
        if self.faults != Faults::default() {
            page.heading("Faults to come");
            FaultReport { faults: self.faults.clone(), others_wrote: Vec::new() }.show(page);
        }
        if self.events.is_empty() {
            return;
        }
        page.heading("Latest events");
        let mut table = Table::new([">start", "event", "before", "after"]);
        for event in &self.events {
            table.row(match event {
                Event::Started { boot } => {
                    [boot.to_string(), "started".into(), String::new(), String::new()]
                }
                Event::StartedAnew { boot, what } => {
                    let what = match what {
                        StartedAnew::SignIn => "signed out and in",
                        StartedAnew::Programs => "programs started anew",
                        StartedAnew::Services => "services restarted",
                        StartedAnew::Devices => "devices switched off and on",
                    };
                    [boot.to_string(), what.into(), String::new(), String::new()]
                }
                Event::Played { boot, scene } => {
                    [boot.to_string(), format!("played {scene}"), String::new(), String::new()]
                }
                Event::Written { boot, address, before, after } => {
                    let cell = |state: &State| shown(state);
                    [boot.to_string(), short(address), dim(cell(before)), cell(after)]
                }
            });
        }
        page.table(table);
    }
}
