//! What waits: settings whose latest write the PC does not yet behave by.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;

use crate::ids::StartId;
use crate::setting::{Address, State, TakesEffect};
use crate::tweak::TweakUse;

/// A start of what a write waits for, as the PC tells it.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Start {
    /// It has been running since this start.
    Since(StartId),
    /// It is not running: when it starts, it starts with what is written.
    NotRunning,
    /// The PC does not tell. Then only a restart of the PC is known to be enough.
    Unknown,
}

/// A write in the present start of the PC, in the order in which the writes were made.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct PastWrite {
    /// The setting.
    pub address: Address,
    /// The use of a tweak that it was made for; nothing where something was taken back.
    pub used: Option<TweakUse>,
    /// What the setting held before.
    pub before: State,
    /// What it held after.
    pub after: State,
    /// What has to happen before it is felt.
    pub takes_effect: TakesEffect,
    /// The start of what it waits for at the time of the write.
    pub start: Start,
}

/// A setting that the PC does not yet behave by.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Waiting {
    /// The setting.
    pub address: Address,
    /// The use of a tweak that it was last written for; nothing where something was taken back.
    #[serde(flatten)]
    pub used: Option<TweakUse>,
    /// What it waits for.
    pub waits_for: TakesEffect,
}

/// What waits, of the writes made in the present start of the PC. `now` tells the present start of
/// what a setting waits for.
///
/// A restart of the PC satisfies every write, which is why writes of earlier starts of it are not
/// asked for. What was put back to what the PC behaves by does not wait.
///
/// # Errors
/// Where `now` cannot tell.
pub fn waiting<E>(
    writes: impl IntoIterator<Item = PastWrite>,
    mut now: impl FnMut(TakesEffect, &Address) -> Result<Start, E>,
) -> Result<Vec<Waiting>, E> {
    /// A setting as the PC behaves by it, and as it was last written.
    struct Held {
        in_effect: State,
        written: State,
        used: Option<TweakUse>,
        waits_for: TakesEffect,
    }
    let mut settings: BTreeMap<Address, Held> = BTreeMap::new();
    for write in writes {
        let has_come = match (write.takes_effect, &write.start) {
            (TakesEffect::Now, _) | (_, Start::NotRunning) => true,
            (TakesEffect::Restart, _) | (_, Start::Unknown) => false,
            (moment, Start::Since(then)) => match now(moment, &write.address)? {
                Start::Since(at_present) => at_present != *then,
                Start::NotRunning => true,
                Start::Unknown => false,
            },
        };
        let held = settings.entry(write.address).or_insert(Held {
            in_effect: write.before,
            written: State::Absent,
            used: None,
            waits_for: TakesEffect::Now,
        });
        if has_come {
            held.in_effect = write.after.clone();
            held.waits_for = TakesEffect::Now;
        } else {
            held.waits_for = held.waits_for.max(write.takes_effect);
        }
        held.written = write.after;
        held.used = write.used;
    }
    let waits = |(address, held): (Address, Held)| {
        let Held { in_effect, written, used, waits_for } = held;
        (in_effect != written).then_some(Waiting { address, used, waits_for })
    };
    Ok(settings.into_iter().filter_map(waits).collect())
}

#[cfg(test)]
mod tests {
    use std::convert::Infallible;

    use super::*;
    use crate::setting::{RegistryData, Value};

    fn write(before: u32, after: u32, takes_effect: TakesEffect, start: &str) -> PastWrite {
        let state = |number| Value::Registry(RegistryData::dword(number)).into();
        PastWrite {
            address: r"registry:HKCU\A#v".parse().unwrap(),
            used: None,
            before: state(before),
            after: state(after),
            takes_effect,
            start: match start {
                "none" => Start::NotRunning,
                "?" => Start::Unknown,
                start => Start::Since(StartId::new(start)),
            },
        }
    }

    fn waits(writes: &[PastWrite], now: &str) -> Option<TakesEffect> {
        let start = write(0, 0, TakesEffect::Now, now).start;
        let Ok(found) = waiting::<Infallible>(writes.to_vec(), |_, _| Ok(start.clone()));
        found.first().map(|waiting| waiting.waits_for)
    }

    #[test]
    fn a_write_waits_until_what_it_waits_for_has_started_anew() {
        use TakesEffect::{Now, ProgramRestart, Restart, SignOut};
        for (moment, then, now, expected) in [
            (SignOut, "1", "1", Some(SignOut)),
            (SignOut, "1", "2", None),
            (SignOut, "1", "?", Some(SignOut)),
            (ProgramRestart, "1", "none", None),
            (ProgramRestart, "none", "2", None),
            (ProgramRestart, "?", "2", Some(ProgramRestart)),
            (Restart, "1", "2", Some(Restart)),
            (Now, "1", "1", None),
        ] {
            assert_eq!(waits(&[write(1, 2, moment, then)], now), expected, "{moment} {then} {now}");
        }
    }

    #[test]
    fn what_was_put_back_to_what_is_in_effect_does_not_wait() {
        let there = write(1, 2, TakesEffect::SignOut, "1");
        let back = write(2, 1, TakesEffect::SignOut, "1");
        let again = there.clone();
        assert_eq!(waits(&[there.clone(), back.clone()], "1"), None);
        assert_eq!(waits(&[there.clone(), back.clone(), again], "1"), Some(TakesEffect::SignOut));
        // Felt after the first sign-out, taken back before the second.
        let late = write(2, 1, TakesEffect::SignOut, "2");
        assert_eq!(waits(&[there, late], "2"), Some(TakesEffect::SignOut));
    }
}
