//! Writing and reading back, in places that the self-test has for its own.

use frevin_core::facts::Facts;
use frevin_core::setting::{Address, Listed, RegistryData, State, Value, VisualParameter};
use frevin_pc::{OWN_TASK, Pc, PcError, WriteError};

use super::{Came, OWN_KEY};

fn key() -> Address {
    at("")
}

/// A setting of the key, by what stands behind the key's path.
fn at(rest: &str) -> Address {
    let text = format!("registry:{OWN_KEY}{rest}");
    text.parse().unwrap_or_else(|error| unreachable!("{text}: {error}"))
}

fn part(rest: &str) -> Address {
    let text = format!("registry-part:{OWN_KEY}#{rest}");
    text.parse().unwrap_or_else(|error| unreachable!("{text}: {error}"))
}

/// What a step that did not come to what was promised says.
type Step = Result<(), String>;

fn came(steps: Step) -> Came {
    match steps {
        Ok(()) => Came::Passed { seen: None },
        Err(seen) => Came::Failed { seen },
    }
}

/// Writes a state and reads it back.
fn write(pc: &mut dyn Pc, address: &Address, state: &State) -> Step {
    pc.write(address, state).map_err(|error| format!("{address}: {}", why(error)))?;
    let now = pc.read(address).map_err(|error| format!("{address}: {error}"))?;
    match now == *state {
        true => Ok(()),
        false => Err(format!("{address} was set to {state} and holds {now}")),
    }
}

fn why(error: WriteError) -> String {
    error.to_string()
}

/// Takes away what a self-test that was cut off has left.
pub(super) fn clear(pc: &mut dyn Pc) -> Result<(), PcError> {
    let Address::RegistryKey(path) = key() else { return Ok(()) };
    if pc.read(&own_task()).is_ok_and(|state| matches!(state, State::Value(_))) {
        let _ = pc.own_task(false);
    }
    if pc.read(&key())? == State::Absent {
        return Ok(());
    }
    for name in pc.values_of(&path)? {
        let _ = pc.write(&Address::RegistryValue(path.clone(), name), &State::Absent);
    }
    // What could not be taken away is told by the last look.
    let _ = pc.write(&key(), &State::Absent);
    Ok(())
}

/// Every type that Windows has a number for, one that it has not, and lengths that fit no type.
pub(super) fn registry_data(pc: &mut dyn Pc) -> Came {
    let data = |type_number: u32, bytes: &[u8]| {
        State::from(Value::Registry(RegistryData { type_number, bytes: bytes.to_vec() }))
    };
    let mut samples = vec![
        ("#", data(1, &[b'd', 0, 0, 0])),
        ("#empty text", data(1, &[])),
        ("#odd text", data(1, &[b'o', 0, b'd'])),
        ("#expanded", State::from(Value::Registry(RegistryData::string("%TEMP%")))),
        ("#list", data(7, &[b'a', 0, 0, 0, b'b', 0, 0, 0, 0, 0])),
        ("#number", data(4, &[1, 2, 3, 4])),
        ("#short number", data(4, &[1, 2])),
        ("#long number", data(11, &[1, 2, 3, 4, 5, 6, 7, 8])),
        ("#nothing", data(0, &[])),
        ("#bytes", data(3, &[0, 255, 0, 10, 13, 26])),
        ("#many bytes", data(3, &[7; 70_001])),
    ];
    samples.push(("#type without a name", data(0x77, &[1, 2, 3])));
    let mut steps = || -> Step {
        write(pc, &key(), &Value::Key.into())?;
        for (rest, state) in &samples {
            write(pc, &at(rest), state)?;
        }
        // None of them was moved by the others.
        for (rest, state) in &samples {
            let now = pc.read(&at(rest)).map_err(|error| error.to_string())?;
            if now != *state {
                return Err(format!("{rest} became {now} while others were written"));
            }
        }
        for (rest, _) in &samples {
            write(pc, &at(rest), &State::Absent)?;
        }
        Ok(())
    };
    came(steps())
}

/// Parts of values, with what stands beside them left alone.
pub(super) fn registry_parts(pc: &mut dyn Pc) -> Came {
    let text = |text: &str| State::from(Value::Registry(RegistryData::string(text)));
    let mut steps = || -> Step {
        write(pc, &key(), &Value::Key.into())?;
        write(pc, &at("#pairs"), &text("Mine=1;Theirs=2;"))?;
        write(pc, &part("pairs#pair:Mine"), &Value::Listed(Listed::new("5")).into())?;
        let now = pc.read(&at("#pairs")).map_err(|error| error.to_string())?;
        if now != text("Mine=5;Theirs=2;") {
            return Err(format!("one pair was changed, and the value is {now}"));
        }
        write(pc, &at("#pairs"), &State::Absent)
    };
    came(steps())
}

/// Files in a folder that goes again with this look.
pub(super) fn scratch_files(pc: &dyn Pc) -> Came {
    let scratch = tempfile::Builder::new().prefix("frevin-self-test-").tempdir();
    came(
        scratch.map_err(|error| error.to_string()).and_then(|scratch| pc.try_files(scratch.path())),
    )
}

/// A task of Frevin's own, switched on and off.
pub(super) fn scheduled_task(pc: &mut dyn Pc) -> Came {
    let address = own_task();
    if let Err(error) = pc.own_task(true) {
        return Came::NotPossible { reason: format!("no task can be made: {error}") };
    }
    let mut came = Came::Passed { seen: None };
    for on in [true, false] {
        let state = State::from(Value::Flag(on));
        came = match pc.write(&address, &state) {
            // Some schedulers take that and do nothing, which is told where a task of the owner's is switched too.
            Err(WriteError::Refused(reason)) => Came::NotPossible { reason },
            Err(error) => Came::Failed { seen: why(error) },
            Ok(_) => match pc.read(&address) {
                Ok(now) if now == state => continue,
                Ok(now) => Came::Failed { seen: format!("it was set to {state} and holds {now}") },
                Err(error) => Came::Failed { seen: error.to_string() },
            },
        };
        break;
    }
    match pc.own_task(false) {
        Ok(()) => came,
        Err(error) => Came::Failed { seen: format!("its task is still there: {error}") },
    }
}

fn own_task() -> Address {
    let text = format!("task:{OWN_TASK}#enabled");
    text.parse().unwrap_or_else(|error| unreachable!("{text}: {error}"))
}

/// A parameter set to what it holds: nothing changes, and the way there is gone.
pub(super) fn system_parameter(pc: &mut dyn Pc) -> Came {
    let address = Address::Visual(VisualParameter::MenuDelay);
    match pc.read(&address) {
        Ok(state @ State::Value(_)) => came(write(pc, &address, &state)),
        Ok(State::Absent) => Came::NotPossible { reason: "this PC has none to be read".to_owned() },
        Ok(State::Unreadable(reason)) => Came::NotPossible { reason },
        Err(error) => Came::NotPossible { reason: error.to_string() },
    }
}

/// A copy of the plan in force, made and taken away.
pub(super) fn power_plan_copy(pc: &mut dyn Pc, facts: &Facts) -> Came {
    let Some(original) = facts.power.plan_in_force else {
        return Came::NotPossible {
            reason: "this PC does not tell which plan is in force".to_owned(),
        };
    };
    let copy = uuid::Uuid::new_v4();
    let address = Address::PowerPlan(copy);
    let made = State::from(Value::PlanExists {
        copy_of: Some(original),
        name: "Frevin self-test".to_owned(),
    });
    if let Err(error) = pc.write(&address, &made) {
        let reason = why(error);
        return Came::NotPossible { reason: format!("no copy of a plan can be made: {reason}") };
    }
    let mut steps = || -> Step {
        let now = pc.read(&address).map_err(|error| error.to_string())?;
        if !matches!(now, State::Value(_)) {
            return Err(format!("a plan was copied, and the copy reads {now}"));
        }
        write(pc, &address, &State::Absent)
    };
    let steps = steps();
    if steps.is_err() {
        let _ = pc.write(&address, &State::Absent);
    }
    came(steps)
}

/// The key and the task have to be gone.
pub(super) fn nothing_left(pc: &dyn Pc) -> Came {
    // A scheduler that does not answer had no task to be made in.
    if let Ok(State::Value(_)) = pc.read(&own_task()) {
        return Came::Failed {
            seen: format!("the task {OWN_TASK} is still there: delete it by hand"),
        };
    }
    match pc.read(&key()) {
        Ok(State::Absent) => Came::Passed { seen: None },
        Ok(_) => Came::Failed { seen: format!("{OWN_KEY} is still there: delete it by hand") },
        Err(error) => Came::Failed { seen: error.to_string() },
    }
}
