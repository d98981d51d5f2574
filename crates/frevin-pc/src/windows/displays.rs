//! Displays.

use std::thread;
use std::time::{Duration, Instant};

use frevin_core::setting::{ColourRamp, DisplayMode, State, Value};

use super::os_error::{OsError, state_of};
use crate::contract::{WriteError, Written};

/// A display that shows the desktop.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct DisplaySeen {
    /// Windows' name for where it is connected, `\\.\DISPLAY1`.
    pub device: String,
    /// The name that the owner knows it by.
    pub name: String,
    /// The mode it is in.
    pub mode: DisplayMode,
    /// The modes it offers.
    pub modes: Vec<DisplayMode>,
    /// The scaling of text and windows, in percent; nothing where Windows does not tell.
    pub scaling_percent: Option<u32>,
}

/// The displays as Windows offers them.
pub trait DisplaysApi {
    /// Those that show the desktop.
    fn displays(&self) -> Result<Vec<DisplaySeen>, OsError>;
    /// Asks the driver whether it takes a mode, then sets it, for good.
    fn set_mode(&self, device: &str, mode: DisplayMode) -> Result<(), OsError>;
    /// What a display makes of colours.
    fn ramp(&self, device: &str) -> Result<ColourRamp, OsError>;
    /// Sets that, until sign-out.
    fn set_ramp(&self, device: &str, ramp: &ColourRamp) -> Result<(), OsError>;
}

/// The displays, each under a name of its own: where two are called the same, the second is "2".
pub(super) fn named(displays: &dyn DisplaysApi) -> Result<Vec<DisplaySeen>, OsError> {
    let mut named: Vec<DisplaySeen> = Vec::new();
    for mut display in displays.displays()? {
        let is_taken = |name: &str| named.iter().any(|other| other.name == name);
        let first = display.name.clone();
        for number in 2.. {
            if !is_taken(&display.name) {
                break;
            }
            display.name = format!("{first} {number}");
        }
        named.push(display);
    }
    Ok(named)
}

fn find(displays: &dyn DisplaysApi, name: &str) -> Result<Option<DisplaySeen>, OsError> {
    let is_it = |display: &DisplaySeen| display.name.eq_ignore_ascii_case(name);
    Ok(named(displays)?.into_iter().find(is_it))
}

pub(super) fn read_mode(displays: &dyn DisplaysApi, name: &str) -> State {
    let display = find(displays, name);
    state_of(display.map(|display| display.map(|display| Value::Mode(display.mode).into())))
}

pub(super) fn read_scaling(displays: &dyn DisplaysApi, name: &str) -> State {
    state_of(find(displays, name).map(|display| {
        let percent = display?.scaling_percent;
        let unknown = || State::Unreadable("Windows does not tell the scaling".to_owned());
        Some(percent.map_or_else(unknown, |percent| Value::Number(percent).into()))
    }))
}

/// Colours that are shown as they are, are no ramp of anybody's.
pub(super) fn read_colours(displays: &dyn DisplaysApi, name: &str) -> State {
    let ramp = find(displays, name)
        .and_then(|display| display.map(|display| displays.ramp(&display.device)).transpose());
    state_of(
        ramp.map(|ramp| {
            ramp.filter(|ramp| !ramp.is_plain()).map(|ramp| Value::Colours(ramp).into())
        }),
    )
}

pub(super) fn write_colours(
    displays: &dyn DisplaysApi,
    name: &str,
    ramp: &ColourRamp,
) -> Result<Written, WriteError> {
    let display = find(displays, name)
        .map_err(OsError::before_write)?
        .ok_or_else(|| WriteError::Refused(format!("there is no {name}")))?;
    displays.set_ramp(&display.device, ramp)?;
    Ok(Written::Done)
}

/// The longest wait for a display, or a mode of it, that is not there: its driver makes the list of
/// modes anew after it starts and when a display is plugged in, and the list is short meanwhile.
const LONGEST_WAIT: Duration = Duration::from_secs(3);
const LOOK_EVERY: Duration = Duration::from_millis(100);

/// Sets a mode, for good. A display or a mode that is not there is waited for: no longer than `patience`.
pub(super) fn write_mode(
    displays: &dyn DisplaysApi,
    name: &str,
    mode: DisplayMode,
    patience: Duration,
) -> Result<Written, WriteError> {
    let begun = Instant::now();
    loop {
        let reason = match find(displays, name).map_err(OsError::before_write)? {
            Some(display) if display.mode == mode => return Ok(Written::Done),
            Some(display) if display.modes.contains(&mode) => {
                displays.set_mode(&display.device, mode)?;
                return Ok(Written::Done);
            }
            // A mode that the display does not offer can leave it black.
            Some(_) => format!("{name} does not offer {mode}"),
            None => format!("there is no {name}"),
        };
        if begun.elapsed() >= patience.min(LONGEST_WAIT) {
            return Err(WriteError::Refused(reason));
        }
        thread::sleep(LOOK_EVERY.min(patience));
    }
}

pub(super) fn write_scaling(
    displays: &dyn DisplaysApi,
    name: &str,
    percent: u32,
) -> Result<Written, WriteError> {
    match read_scaling(displays, name) {
        State::Value(Value::Number(held)) if held == percent => Ok(Written::Done),
        State::Absent => Err(WriteError::Refused(format!("there is no {name}"))),
        _ => Err(WriteError::Refused(
            "Windows offers programs no way to set the scaling; its own settings do".to_owned(),
        )),
    }
}
