//! The order in which a change is undone.

use super::order::rank_on;
use super::plan::Step;
use super::readings::Readings;
use crate::setting::{Address, State};

/// One setting of a change, as it is undone.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Undoing {
    /// The setting.
    pub address: Address,
    /// What it goes back to.
    pub before: State,
    /// What the change makes it hold on the way: after each of its steps.
    pub during: Vec<State>,
}

/// The settings that `steps` write, each once, in the order in which they are to be undone: a
/// setting goes back to what its first step found.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn undoing<R: Readings>(steps: &[Step], readings: &R) -> Result<Vec<Undoing>, R::Error> {
    let mut settings: Vec<Undoing> = Vec::new();
    for step in steps.iter().filter(|step| step.action.writes()) {
        match settings.iter_mut().find(|known| known.address == step.address) {
            Some(known) => known.during.push(step.after.clone()),
            None => settings.push(Undoing {
                address: step.address.clone(),
                before: step.before.clone(),
                during: vec![step.after.clone()],
            }),
        }
    }
    settings.reverse();
    let mut ranked = Vec::new();
    for setting in settings {
        ranked.push((rank_on(readings, &setting.address, &setting.before)?, setting));
    }
    ranked.sort_by_key(|(rank, _)| *rank);
    Ok(ranked.into_iter().map(|(_, setting)| setting).collect())
}

#[cfg(test)]
mod tests {
    use std::convert::Infallible;

    use super::*;
    use crate::preview::{Action, Reason};
    use crate::setting::{RegistryData, RunState, ServiceStart, TakesEffect, Value, WinName};
    use crate::tweak::TweakUse;

    struct Nothing;

    impl Readings for Nothing {
        type Error = Infallible;

        fn state(&self, _: &Address) -> Result<State, Infallible> {
            Ok(State::Absent)
        }

        fn dependents(&self, _: &WinName) -> Result<Vec<WinName>, Infallible> {
            Ok(Vec::new())
        }

        fn dependencies(&self, _: &WinName) -> Result<Vec<WinName>, Infallible> {
            Ok(Vec::new())
        }
    }

    fn step(address: &str, before: State, after: State, action: Action) -> Step {
        Step {
            used: TweakUse::plain("a/b".parse().unwrap()),
            address: address.parse().unwrap(),
            before,
            after,
            action,
            takes_effect: TakesEffect::Now,
            reason: Reason::Wanted,
        }
    }

    fn dword(number: u32) -> State {
        Value::Registry(RegistryData::dword(number)).into()
    }

    #[test]
    fn a_setting_written_twice_goes_back_to_what_was_there_first() {
        let value = r"registry:HKCU\A#v";
        let steps = [
            step(value, dword(1), dword(2), Action::Write),
            step(value, dword(2), dword(2), Action::Share),
            step(value, dword(2), dword(3), Action::Write),
        ];
        let undo = undoing(&steps, &Nothing).unwrap();
        assert_eq!(undo.len(), 1);
        assert_eq!(undo[0].before, dword(1));
        assert_eq!(undo[0].during, [dword(2), dword(3)]);
    }

    #[test]
    fn only_writes_are_undone_and_in_an_order_that_works() {
        let start = |word: &str| State::from(Value::Start(ServiceStart::from_word(word).unwrap()));
        let run = |state: RunState| State::from(Value::Run(state));
        let key = || State::from(Value::Key);
        let steps = [
            step(r"registry:HKCU\A", State::Absent, key(), Action::Write),
            step("visual:menu-delay", State::Absent, State::Absent, Action::AlreadySo),
            step(r"registry:HKCU\A#v", State::Absent, dword(1), Action::Write),
            step("service:S#start", start("manual"), start("disabled"), Action::Write),
            step(
                "service:S#running",
                run(RunState::Running),
                run(RunState::Stopped),
                Action::Write,
            ),
        ];
        let undo = undoing(&steps, &Nothing).unwrap();
        let order: Vec<_> = undo.iter().map(|setting| setting.address.to_string()).collect();
        let expected =
            ["service:S#start", r"registry:HKCU\A#v", "service:S#running", r"registry:HKCU\A"];
        assert_eq!(order, expected);
    }
}
