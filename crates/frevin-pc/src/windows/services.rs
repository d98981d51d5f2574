//! Services.

use std::time::{Duration, Instant};

use frevin_core::setting::{RunState, ServiceStart, StartType, State, Value, WinName};

use super::os_error::{OsError, state_of};
use crate::contract::{PcError, WriteError, Written};

/// What a service is doing, by Windows' numbers ("SERVICE_STATUS" in the Windows documentation).
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Doing {
    /// `SERVICE_STOPPED`.
    Stopped,
    /// `SERVICE_RUNNING`.
    Running,
    /// `SERVICE_PAUSED`.
    Paused,
    /// On its way from one to another; its number.
    Between(u32),
}

impl Doing {
    /// The meaning of Windows' number.
    pub fn from_number(number: u32) -> Self {
        match number {
            1 => Self::Stopped,
            4 => Self::Running,
            7 => Self::Paused,
            other => Self::Between(other),
        }
    }

    fn in_words(self) -> &'static str {
        match self {
            Self::Stopped => "is stopped",
            Self::Running => "runs",
            Self::Paused => "is paused",
            Self::Between(2) => "is starting",
            Self::Between(3) => "is stopping",
            Self::Between(5) => "is being continued",
            Self::Between(6) => "is being paused",
            Self::Between(_) => "is in a state that Windows does not document",
        }
    }
}

/// The services as Windows offers them. Everything answers nothing where there is no such service.
pub trait ServicesApi {
    /// Windows' number of the start type.
    fn start_type(&self, name: &str) -> Result<Option<u32>, OsError>;
    /// Whether an automatic start is delayed.
    fn is_delayed(&self, name: &str) -> Result<Option<bool>, OsError>;
    /// Sets the number of the start type.
    fn set_start_type(&self, name: &str, number: u32) -> Result<(), OsError>;
    /// Sets whether an automatic start is delayed.
    fn set_delayed(&self, name: &str, delayed: bool) -> Result<(), OsError>;
    /// What it is doing.
    fn doing(&self, name: &str) -> Result<Option<Doing>, OsError>;
    /// Tells it to start.
    fn start(&self, name: &str) -> Result<(), OsError>;
    /// Tells it to stop.
    fn stop(&self, name: &str) -> Result<(), OsError>;
    /// Tells it to pause.
    fn pause(&self, name: &str) -> Result<(), OsError>;
    /// Tells it to go on from a pause.
    fn go_on(&self, name: &str) -> Result<(), OsError>;
    /// What needs it, each after those that need that one.
    fn dependents(&self, name: &str) -> Result<Vec<String>, OsError>;
    /// What it needs, directly.
    fn needs(&self, name: &str) -> Result<Vec<String>, OsError>;
    /// The names of all services that are not drivers.
    fn names(&self) -> Result<Vec<String>, OsError>;
}

/// How often a service that is on its way is looked at.
const PAUSE: Duration = Duration::from_millis(50);

pub(super) fn read_start(services: &dyn ServicesApi, name: &WinName) -> State {
    let start = || {
        let Some(number) = services.start_type(name.as_str())? else { return Ok(None) };
        let delayed = match services.is_delayed(name.as_str()) {
            // A Windows that does not know of delays delays nothing.
            Err(error) if error.is_unknown_level() => false,
            delayed => delayed?.unwrap_or(false),
        };
        Ok(Some(Value::Start(ServiceStart { start_type: start_type(number), delayed }).into()))
    };
    state_of(start())
}

fn start_type(number: u32) -> StartType {
    match number {
        0 => StartType::Boot,
        1 => StartType::System,
        2 => StartType::Automatic,
        3 => StartType::Manual,
        4 => StartType::Disabled,
        other => StartType::Unknown(other),
    }
}

fn start_number(start_type: StartType) -> u32 {
    match start_type {
        StartType::Boot => 0,
        StartType::System => 1,
        StartType::Automatic => 2,
        StartType::Manual => 3,
        StartType::Disabled => 4,
        StartType::Unknown(number) => number,
    }
}

pub(super) fn write_start(
    services: &dyn ServicesApi,
    name: &WinName,
    state: &State,
) -> Result<Written, WriteError> {
    let State::Value(Value::Start(wanted)) = state else {
        return Err(WriteError::Refused(format!("a start type cannot be {state}")));
    };
    let held = match read_start(services, name) {
        State::Value(Value::Start(held)) => held,
        State::Unreadable(reason) => return Err(WriteError::Refused(reason)),
        _ => return Err(no_such(name)),
    };
    let name = name.as_str();
    // Windows takes a delay for services that start by themselves, and keeps it for the others: so
    // it is written while the service is automatic.
    let is_automatic = |start: &ServiceStart| start.start_type == StartType::Automatic;
    if held.delayed != wanted.delayed && is_automatic(&held) {
        services.set_delayed(name, wanted.delayed)?;
    }
    if held.start_type != wanted.start_type {
        services.set_start_type(name, start_number(wanted.start_type))?;
    }
    if held.delayed != wanted.delayed && !is_automatic(&held) {
        services.set_delayed(name, wanted.delayed).or_else(|error| {
            // All of it, or nothing.
            services.set_start_type(name, start_number(held.start_type))?;
            Err(error)
        })?;
    }
    Ok(Written::Done)
}

pub(super) fn read_run(services: &dyn ServicesApi, name: &WinName) -> State {
    state_of(services.doing(name.as_str()).map(|doing| {
        Some(match doing? {
            Doing::Stopped => Value::Run(RunState::Stopped).into(),
            Doing::Running => Value::Run(RunState::Running).into(),
            Doing::Paused => Value::Run(RunState::Paused).into(),
            between @ Doing::Between(_) => State::Unreadable(format!("it {}", between.in_words())),
        })
    }))
}

/// Brings a service to run, to stop or to pause, and waits until it does.
pub(super) fn write_run(
    services: &dyn ServicesApi,
    name: &WinName,
    state: &State,
    patience: Duration,
) -> Result<Written, WriteError> {
    let State::Value(Value::Run(wanted)) = state else {
        return Err(WriteError::Refused(format!("a service cannot be {state}")));
    };
    let wanted = match wanted {
        RunState::Running => Doing::Running,
        RunState::Stopped => Doing::Stopped,
        RunState::Paused => Doing::Paused,
    };
    let doing = settled(services, name, patience)?;
    if doing == wanted {
        return Ok(Written::Done);
    }
    let text = name.as_str();
    match (doing, wanted) {
        (Doing::Paused, Doing::Running) => services.go_on(text),
        (_, Doing::Running) => services.start(text),
        (_, Doing::Stopped) => services.stop(text),
        (Doing::Stopped, _) => {
            return Err(WriteError::Refused(format!("{name} does not run and cannot pause")));
        }
        _ => services.pause(text),
    }?;
    let begun = Instant::now();
    loop {
        let doing = services.doing(text)?.ok_or_else(|| no_such(name))?;
        if doing == wanted {
            return Ok(Written::Done);
        }
        if begun.elapsed() >= patience {
            let reason = format!(
                "{name} was told to and did not within {} s: it {}",
                patience.as_secs(),
                doing.in_words()
            );
            return Err(WriteError::Failed(PcError::System(reason)));
        }
        std::thread::sleep(PAUSE);
    }
}

/// What a service does once it is not on its way any more.
fn settled(
    services: &dyn ServicesApi,
    name: &WinName,
    patience: Duration,
) -> Result<Doing, WriteError> {
    let begun = Instant::now();
    loop {
        match services.doing(name.as_str())?.ok_or_else(|| no_such(name))? {
            between @ Doing::Between(_) => {
                if begun.elapsed() >= patience {
                    let doing = between.in_words();
                    return Err(WriteError::Refused(format!("{name} {doing}, and stays at it")));
                }
                std::thread::sleep(PAUSE);
            }
            settled => return Ok(settled),
        }
    }
}

fn no_such(name: &WinName) -> WriteError {
    WriteError::Refused(format!("there is no service {name}"))
}

/// The services that start before one starts, each after those it depends on.
pub(super) fn dependencies(
    services: &dyn ServicesApi,
    name: &WinName,
) -> Result<Vec<WinName>, OsError> {
    let mut found = Vec::new();
    reach(services, name, &mut vec![name.clone()], &mut found)?;
    Ok(found)
}

fn reach(
    services: &dyn ServicesApi,
    from: &WinName,
    on_the_way: &mut Vec<WinName>,
    found: &mut Vec<WinName>,
) -> Result<(), OsError> {
    for needed in services.needs(from.as_str())? {
        let needed = WinName::new(needed);
        if on_the_way.contains(&needed) || found.contains(&needed) {
            continue;
        }
        on_the_way.push(needed.clone());
        reach(services, &needed, on_the_way, found)?;
        on_the_way.pop();
        found.push(needed);
    }
    Ok(())
}
