//! Power plans.

use frevin_core::setting::{
    BALANCED, HIDDEN_PERFORMANCE, HIGH_PERFORMANCE, POWER_SAVER, PowerSource, State, Value,
};
use uuid::Uuid;

use super::os_error::{OsError, found, state_of};
use crate::contract::{WriteError, Written};

/// Where a value of a plan is: plan, subgroup, setting.
pub type ValuePath = [Uuid; 3];

/// The power plans as Windows offers them.
pub trait PowerApi {
    /// The plan in force.
    fn active(&self) -> Result<Uuid, OsError>;
    /// Puts a plan in force, its values included.
    fn set_active(&self, plan: Uuid) -> Result<(), OsError>;
    /// Every plan.
    fn plans(&self) -> Result<Vec<Uuid>, OsError>;
    /// The subgroups of a plan, and the settings of each.
    fn settings(&self, plan: Uuid) -> Result<Vec<(Uuid, Uuid)>, OsError>;
    /// A plan's name.
    fn name(&self, plan: Uuid) -> Result<String, OsError>;
    /// A plan's description.
    fn description(&self, plan: Uuid) -> Result<String, OsError>;
    /// Copies a plan under a new identifier.
    fn duplicate(&self, plan: Uuid, copy: Uuid) -> Result<(), OsError>;
    /// Names and describes a plan.
    fn describe(&self, plan: Uuid, name: &str, description: &str) -> Result<(), OsError>;
    /// Deletes a plan.
    fn delete(&self, plan: Uuid) -> Result<(), OsError>;
    /// A value; nothing where the plan has no such setting.
    fn index(&self, path: ValuePath, source: PowerSource) -> Result<Option<u32>, OsError>;
    /// Sets a value.
    fn set_index(&self, path: ValuePath, source: PowerSource, index: u32) -> Result<(), OsError>;
    /// The attributes of a setting; bit 0 hides it. Nothing where there is no such setting.
    fn attributes(&self, subgroup: Uuid, setting: Uuid) -> Result<Option<u32>, OsError>;
    /// Sets the attributes of a setting.
    fn set_attributes(&self, subgroup: Uuid, setting: Uuid, bits: u32) -> Result<(), OsError>;
}

/// `POWER_ATTRIBUTE_HIDE`.
const HIDE: u32 = 1;

const CAME_WITH_WINDOWS: [Uuid; 4] = [POWER_SAVER, BALANCED, HIGH_PERFORMANCE, HIDDEN_PERFORMANCE];

/// Windows does not keep what a plan was copied from: what Frevin copies says so in its description.
fn copy_description(of: Uuid) -> String {
    format!("Made by Frevin as a copy of {of}")
}

fn copied_from(description: &str) -> Option<Uuid> {
    let (_, of) = description.rsplit_once("Made by Frevin as a copy of ")?;
    Uuid::parse_str(of.trim()).ok()
}

pub(super) fn read_active(power: &dyn PowerApi) -> State {
    state_of(power.active().map(|plan| Some(Value::Plan(plan).into())))
}

pub(super) fn read_plan(power: &dyn PowerApi, plan: Uuid) -> State {
    let read = || {
        if !power.plans()?.contains(&plan) {
            return Ok(None);
        }
        // A plan without a description is no copy of Frevin's; one that cannot be read may be.
        let description = found(power.description(plan))?.unwrap_or_default();
        let copy_of = copied_from(&description);
        Ok(Some(Value::PlanExists { copy_of, name: power.name(plan)? }.into()))
    };
    state_of(read())
}

pub(super) fn read_hidden(power: &dyn PowerApi, subgroup: Uuid, setting: Uuid) -> State {
    let bits = power.attributes(subgroup, setting);
    state_of(bits.map(|bits| bits.map(|bits| Value::Flag(bits & HIDE != 0).into())))
}

pub(super) fn read_value(power: &dyn PowerApi, path: ValuePath, source: PowerSource) -> State {
    let index = power.index(path, source);
    state_of(index.map(|index| index.map(|index| Value::PowerIndex(index).into())))
}

pub(super) fn write_active(power: &dyn PowerApi, state: &State) -> Result<Written, WriteError> {
    let State::Value(Value::Plan(plan)) = state else {
        return Err(WriteError::Refused(format!("{state} is no power plan")));
    };
    if !power.plans()?.contains(plan) {
        return Err(WriteError::Refused(format!("there is no power plan {plan}")));
    }
    power.set_active(*plan)?;
    Ok(Written::Done)
}

/// A plan is made as a copy, and goes unless it is in force, came with Windows, or holds what its
/// original does not.
pub(super) fn write_plan(
    power: &dyn PowerApi,
    plan: Uuid,
    state: &State,
) -> Result<Written, WriteError> {
    let refused = |reason: &str| Err(WriteError::Refused(reason.to_owned()));
    let plans = power.plans()?;
    match (state, plans.contains(&plan)) {
        (State::Absent, false) => Ok(Written::Done),
        (State::Absent, true) if power.active()? == plan => refused("the plan is in force"),
        (State::Absent, true) => {
            if CAME_WITH_WINDOWS.contains(&plan) {
                return refused("the plan came with Windows");
            }
            // A copy whose making was interrupted does not say yet of what: it is like its original.
            let originals = match copied_from(&power.description(plan)?) {
                Some(original) => vec![original],
                None => plans.iter().copied().filter(|other| *other != plan).collect(),
            };
            let is_copy = |original: &Uuid| {
                Ok(plans.contains(original) && are_alike(power, plan, *original)?)
            };
            let alike: Result<Vec<bool>, OsError> = originals.iter().map(is_copy).collect();
            if !alike?.contains(&true) {
                return Ok(Written::LeftInPlace);
            }
            power.delete(plan)?;
            Ok(Written::Done)
        }
        (State::Value(_), true) if read_plan(power, plan) == *state => Ok(Written::Done),
        (State::Value(Value::PlanExists { copy_of: Some(of), name }), false) => {
            if !plans.contains(of) {
                return refused("there is no plan to copy");
            }
            power.duplicate(*of, plan)?;
            let described = power.describe(plan, name, &copy_description(*of));
            if let Err(error) = described {
                power.delete(plan)?;
                return Err(error.into());
            }
            Ok(Written::Done)
        }
        (other, _) => Err(WriteError::Refused(format!("a plan cannot be made {other}"))),
    }
}

fn are_alike(power: &dyn PowerApi, plan: Uuid, original: Uuid) -> Result<bool, OsError> {
    for (subgroup, setting) in power.settings(plan)? {
        for source in [PowerSource::Mains, PowerSource::Battery] {
            let ours = power.index([plan, subgroup, setting], source)?;
            if ours != power.index([original, subgroup, setting], source)? {
                return Ok(false);
            }
        }
    }
    Ok(true)
}

pub(super) fn write_hidden(
    power: &dyn PowerApi,
    subgroup: Uuid,
    setting: Uuid,
    state: &State,
) -> Result<Written, WriteError> {
    let (State::Value(Value::Flag(hide)), Some(bits)) =
        (state, power.attributes(subgroup, setting)?)
    else {
        return Err(WriteError::Refused(format!("a power setting cannot be {state}")));
    };
    let wanted = if *hide { bits | HIDE } else { bits & !HIDE };
    if wanted != bits {
        power.set_attributes(subgroup, setting, wanted)?;
    }
    Ok(Written::Done)
}

pub(super) fn write_value(
    power: &dyn PowerApi,
    path: ValuePath,
    source: PowerSource,
    state: &State,
) -> Result<Written, WriteError> {
    let State::Value(Value::PowerIndex(index)) = state else {
        return Err(WriteError::Refused(format!("a power setting cannot hold {state}")));
    };
    match power.index(path, source)? {
        None => Err(WriteError::Refused("this PC has no such power setting".to_owned())),
        Some(held) if held == *index => Ok(Written::Done),
        Some(_) => {
            power.set_index(path, source, *index)?;
            // Windows goes by a plan's new values once the plan is put in force again.
            let [plan, ..] = path;
            if power.active()? == plan {
                power.set_active(plan)?;
            }
            Ok(Written::Done)
        }
    }
}
