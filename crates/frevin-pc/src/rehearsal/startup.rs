//! What starts with a rehearsal PC, and what that costs.

use frevin_core::setting::{Address, ObjectPart, State, Value};
use serde::Deserialize;

use super::folder::Folder;
use crate::contract::{PcError, ProgramUse, StartLength, StartupCosts, StartupEntry};

const STARTUP: &str = "startup.toml";

/// What `startup.toml` holds. A PC of an earlier version has none, and tells nothing.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Starts {
    /// A start with none of the entries on, until the desktop is there.
    to_desktop_s: f64,
    /// The same until it is done.
    whole_s: f64,
    #[serde(default)]
    entries: Vec<Started>,
}

/// The program of an entry.
#[derive(Debug, Deserialize)]
#[serde(deny_unknown_fields)]
struct Started {
    entry: String,
    program: String,
    takes: ProgramUse,
    /// What it adds to a start.
    adds_s: f64,
}

/// The entries among `addresses`, each with what its program takes where the entry is on.
pub(super) fn startup(
    folder: &Folder,
    addresses: &[Address],
    read: impl Fn(&Address) -> State,
) -> Result<StartupCosts, PcError> {
    let known: Option<Starts> = match folder.path(STARTUP).exists() {
        true => Some(folder.read_toml(STARTUP)?),
        false => None,
    };
    let mut costs = StartupCosts::default();
    let mut added_s = 0.0;
    for address in addresses {
        let Address::Object(setting) = address else { continue };
        if setting.part() != ObjectPart::StartupEnabled {
            continue;
        }
        let entry = setting.object().as_str().to_owned();
        let is_on = match read(address) {
            State::Value(Value::Flag(is_on)) => Some(is_on),
            _ => None,
        };
        let starts = known.iter().flat_map(|known| &known.entries).find(|one| one.entry == entry);
        let running = starts.filter(|_| is_on == Some(true));
        added_s += running.map_or(0.0, |started| started.adds_s);
        costs.entries.push(StartupEntry {
            program: starts.map(|started| started.program.clone()),
            running: running.map(|started| started.takes),
            entry,
            is_on,
        });
    }
    costs.latest_start = known.map(|known| StartLength {
        to_desktop_s: known.to_desktop_s,
        whole_s: known.whole_s + added_s,
    });
    Ok(costs)
}
