//! `frevin device`

use clap::Subcommand;
use frevin_core::facts::Facts;
use frevin_core::setting::{Address, State, TakesEffect, WinName, concern};
use frevin_pc::{DeviceRestarted, Pc};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::waiting::waiting;
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, dim, good, shown, strong, warn};

/// Devices: how each interrupts the processor, what waits for it, and starting one anew
#[derive(Debug, Subcommand)]
pub(crate) enum DeviceCommand {
    /// List graphics processors and network adapters, with how each interrupts
    List,
    /// Switch a network adapter or a sound device off and on, so that it reads its settings anew
    ///
    /// Other devices are refused: without a display, a drive or a keyboard nobody could go on.
    Restart {
        /// The adapter's name, or the instance identifier of the device
        device: String,
    },
}

/// What kind of device one is.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
enum DeviceKind {
    Graphics,
    Network,
}

#[derive(Debug, JsonSchema, Serialize)]
struct DeviceRow {
    name: String,
    kind: DeviceKind,
    device_id: String,
    message_signalled_interrupts: State,
    interrupt_priority: State,
    /// How many settings wait for it to start anew.
    waiting: usize,
}

#[derive(Debug, JsonSchema, Serialize)]
struct DevicesReport {
    devices: Vec<DeviceRow>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct DeviceReport {
    restarted: String,
    /// Settings that took effect by it, where the PC tells.
    took_effect: Vec<Address>,
}

pub(crate) fn run(context: &Context, command: &DeviceCommand) -> Result<Outcome, Failure> {
    match command {
        DeviceCommand::List => list(context),
        DeviceCommand::Restart { device } => restart(context, device),
    }
}

fn list(context: &Context) -> Result<Outcome, Failure> {
    let pc = context.pc()?;
    let facts = context.facts(&*pc)?;
    let waits: Vec<Address> = waiting(&*pc, &context.ledger()?)?
        .into_iter()
        .filter(|one| one.waits_for == TakesEffect::DeviceRestart)
        .map(|one| one.address)
        .collect();
    let devices = devices_of(&facts)
        .map(|(name, kind, device_id)| row(&*pc, &waits, name, kind, device_id))
        .collect::<Result<_, Failure>>()?;
    Ok(Outcome::yes(&DevicesReport { devices }))
}

/// The devices that facts know the identifiers of.
fn devices_of(facts: &Facts) -> impl Iterator<Item = (&str, DeviceKind, &str)> {
    let cards = facts.graphics.iter().filter_map(|card| {
        Some((card.name.as_str(), DeviceKind::Graphics, card.device_id.as_deref()?))
    });
    let adapters = facts.adapters.iter().filter_map(|adapter| {
        Some((adapter.name.as_str(), DeviceKind::Network, adapter.device_id.as_deref()?))
    });
    cards.chain(adapters)
}

fn row(
    pc: &dyn Pc,
    waits: &[Address],
    name: &str,
    kind: DeviceKind,
    device_id: &str,
) -> Result<DeviceRow, Failure> {
    let read = |part: &str| -> Result<State, Failure> {
        // An identifier that no address can have is nobody's setting.
        match format!("device:{device_id}#{part}").parse() {
            Ok(address) => Ok(pc.read(&address)?),
            Err(_) => Ok(State::Absent),
        }
    };
    let is_of_it = |address: &&Address| {
        let names = [WinName::from(name), WinName::from(device_id)];
        matches!(concern(address), Some(frevin_core::setting::Concern::Device(of)) if names.contains(&of))
    };
    Ok(DeviceRow {
        message_signalled_interrupts: read("message-signalled-interrupts")?,
        interrupt_priority: read("interrupt-priority")?,
        waiting: waits.iter().filter(is_of_it).count(),
        name: name.to_owned(),
        kind,
        device_id: device_id.to_owned(),
    })
}

fn restart(context: &Context, device: &str) -> Result<Outcome, Failure> {
    let mut pc = context.restartable_pc()?;
    let question = format!("{device} will be gone for some seconds. Restart it?");
    context.confirm(&Page::default(), &question)?;
    let lock = context.lock(&mut *pc)?;
    match pc.restart_device(&lock, &WinName::from(device))? {
        DeviceRestarted::Done { took_effect } => {
            Ok(Outcome::done(&DeviceReport { restarted: device.to_owned(), took_effect }))
        }
        DeviceRestarted::NotThere => {
            let message = format!("this PC has no device `{device}`");
            Err(Failure::new(Kind::NotFound, message)
                .hint("`frevin device list` shows adapters and graphics processors"))
        }
        DeviceRestarted::NotSafe => {
            let message = format!("`{device}` was not restarted: it could not be spared");
            Err(Failure::new(Kind::Guarded, message)
                .hint("only network adapters and sound devices are; restart the PC for others"))
        }
        DeviceRestarted::Denied { reason } => {
            let message = format!("`{device}` was not restarted: {reason}");
            Err(Failure::new(Kind::Guarded, message).hint("start Frevin as an administrator"))
        }
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<DevicesReport>("device list");
    schemas.prints::<DeviceReport>("device restart");
}

impl View for DevicesReport {
    fn show(&self, page: &mut Page) {
        if self.devices.is_empty() {
            page.line("No device of a card or an adapter is known on this PC.");
            return;
        }
        let mut table = Table::new(["device", "interrupts by message", "priority", "waits"]);
        for device in &self.devices {
            let kind = match device.kind {
                DeviceKind::Graphics => "graphics",
                DeviceKind::Network => "network",
            };
            let waits = match device.waiting {
                0 => String::new(),
                count => warn(count),
            };
            table.row([
                format!("{}  {}", strong(&device.name), dim(kind)),
                shown(&device.message_signalled_interrupts),
                shown(&device.interrupt_priority),
                waits,
            ]);
        }
        page.table(table);
        page.line(dim("absent: the driver decides."));
        if self.devices.iter().any(|device| device.waiting > 0) {
            page.pairs([("start one anew", "frevin device restart NAME")]);
        }
    }
}

impl View for DeviceReport {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{} {} was switched off and on.", good("Done."), self.restarted));
        if !self.took_effect.is_empty() {
            crate::view::restarted::show_took_effect(&self.took_effect, page);
        }
    }
}
