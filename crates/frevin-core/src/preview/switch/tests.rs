//! Switching ends exact, and leaves what others and other changes want alone.

use std::convert::Infallible;

use proptest::prelude::*;

use super::*;
use crate::layers::Layer;
use crate::setting::{RegistryData, Value};
use crate::tweak::Wanted;

#[derive(Debug, Clone, PartialEq)]
struct Pc(BTreeMap<Address, State>);

impl Readings for Pc {
    type Error = Infallible;

    fn state(&self, address: &Address) -> Result<State, Infallible> {
        Ok(self.0.get(address).cloned().unwrap_or(State::Absent))
    }

    fn dependents(&self, _: &WinName) -> Result<Vec<WinName>, Infallible> {
        Ok(Vec::new())
    }

    fn dependencies(&self, _: &WinName) -> Result<Vec<WinName>, Infallible> {
        Ok(Vec::new())
    }
}

fn value(number: u32) -> State {
    if number == 0 { State::Absent } else { Value::Registry(RegistryData::dword(number)).into() }
}

/// Values in two keys, of which the second is not there at first.
fn address(setting: u32) -> Address {
    let key = if setting < 3 { "Game" } else { r"Game\New" };
    format!(r"registry:HKCU\{key}#{setting}").parse().unwrap()
}

fn wishes(wants: &[(u32, u32)]) -> Vec<Wish> {
    // One wish for each setting, so that none contradicts another.
    let each: BTreeMap<u32, u32> = wants.iter().copied().collect();
    let wish = |(setting, wanted): (u32, u32)| Wish {
        used: TweakUse::plain(format!("test/tweak-{setting}").parse().unwrap()),
        settings: vec![Wanted {
            address: address(setting),
            state: value(wanted),
            takes_effect: TakesEffect::Now,
        }],
        consented: false,
    };
    each.into_iter().map(wish).collect()
}

/// A PC with Frevin's layers upon it.
#[derive(Debug, Clone)]
struct House {
    pc: Pc,
    layers: Layers,
    changes: i64,
}

impl House {
    fn new(first: &BTreeMap<u32, u32>) -> Self {
        let key: Address = r"registry:HKCU\Game".parse().unwrap();
        let mut states: BTreeMap<_, _> =
            first.iter().map(|(setting, number)| (address(*setting), value(*number))).collect();
        states.insert(key, Value::Key.into());
        Self { pc: Pc(states), layers: Layers::new(), changes: 0 }
    }

    fn write(&mut self, step: &Step) {
        assert_eq!(self.pc.state(&step.address), Ok(step.before.clone()), "{step:?}");
        if matches!(step.address, Address::RegistryKey(_)) && step.after == State::Absent {
            let holds =
                self.pc.0.keys().any(|other| {
                    *other != step.address && other.to_string().contains(r"Game\New#")
                });
            assert!(!holds, "a key is emptied before it goes");
        }
        match &step.after {
            State::Absent => self.pc.0.remove(&step.address),
            state => self.pc.0.insert(step.address.clone(), state.clone()),
        };
    }

    fn carry_out(&mut self, plan: &Plan, replaces: Option<ChangeId>) -> ChangeId {
        self.changes += 1;
        let change = ChangeId(self.changes);
        plan.writes().for_each(|step| self.write(step));
        let held = plan.steps.iter().filter(|step| step.action.holds());
        let new = held.map(|step| {
            let layer = Layer { change, used: step.used.clone(), state: step.after.clone() };
            (step.address.clone(), step.before.clone(), layer)
        });
        match replaces {
            Some(old) => self.layers.replace_change(old, new.collect()),
            None => new.for_each(|(address, before, layer)| {
                self.layers.lay(&address, &before, layer);
            }),
        }
        for (address, stack) in self.layers.iter() {
            assert_eq!(self.pc.state(address), Ok(stack.effective().clone()), "{address}");
        }
        change
    }

    fn apply(&mut self, wants: &[(u32, u32)]) -> ChangeId {
        let plan = plan(&wishes(wants), &self.pc, &self.layers).unwrap();
        self.carry_out(&plan, None)
    }

    fn switch(&mut self, replaces: ChangeId, wants: &[(u32, u32)]) -> ChangeId {
        let plan = switch(replaces, &wishes(wants), &self.pc, &self.layers, &BTreeMap::new());
        self.carry_out(&plan.unwrap(), Some(replaces))
    }

    fn roll_back(&mut self, selection: &Selection) {
        let moves = self.layers.take_out(selection);
        let targets = moves.iter().map(|moved| (moved.address.clone(), moved.to.clone()));
        for (address, after) in in_writing_order(targets.collect(), &self.pc).unwrap() {
            match after {
                State::Absent => self.pc.0.remove(&address),
                state => self.pc.0.insert(address, state),
            };
        }
    }
}

fn wants() -> impl Strategy<Value = Vec<(u32, u32)>> {
    prop::collection::vec((0..5u32, 0..4u32), 0..5)
}

proptest! {
    #[test]
    fn switches_among_other_changes_end_exact(
        first in prop::collection::btree_map(0..3u32, 1..4u32, 0..3),
        deeds in prop::collection::vec((0..3u32, 0..6i64, wants()), 1..14),
    ) {
        let mut house = House::new(&first);
        let before = house.pc.clone();
        for (deed, change, wants) in deeds {
            match deed {
                0 => drop(house.apply(&wants)),
                1 if change < house.changes => drop(house.switch(ChangeId(1 + change), &wants)),
                1 => {}
                _ => house.roll_back(&Selection::Change(ChangeId(1 + change))),
            }
        }
        house.roll_back(&Selection::All);
        prop_assert_eq!(house.pc, before);
    }

    #[test]
    fn a_switch_is_a_rollback_and_an_apply_without_the_way_through(
        first in prop::collection::btree_map(0..3u32, 1..4u32, 0..3),
        owners in wants(), a in wants(), b in wants(),
    ) {
        let mut house = House::new(&first);
        house.apply(&owners);
        let of_a = house.apply(&a);
        let mut other = house.clone();
        house.switch(of_a, &b);
        other.roll_back(&Selection::Change(of_a));
        other.apply(&b);
        prop_assert_eq!(house.layers.digest(), other.layers.digest());
        prop_assert_eq!(house.pc, other.pc);
    }
}

#[test]
fn a_later_change_of_the_owner_stays_on_top() {
    let mut house = House::new(&BTreeMap::new());
    let arm = house.apply(&[(0, 1), (1, 1)]);
    let owners = house.apply(&[(0, 3)]);
    let second = house.switch(arm, &[(0, 2)]);
    assert_eq!(house.pc.state(&address(0)), Ok(value(3)), "the owner's word stands");
    assert_eq!(house.pc.state(&address(1)), Ok(value(0)), "only the first arm wanted it");
    house.roll_back(&Selection::Change(owners));
    assert_eq!(house.pc.state(&address(0)), Ok(value(2)), "beneath it lies the second arm");
    house.roll_back(&Selection::Change(second));
    assert_eq!(house.pc.state(&address(0)), Ok(value(0)));
}

#[test]
fn what_both_arms_want_is_not_written() {
    let mut house = House::new(&BTreeMap::new());
    let arm = house.apply(&[(0, 1), (3, 1)]);
    let plan = switch(arm, &wishes(&[(0, 1), (3, 2)]), &house.pc, &house.layers, &BTreeMap::new());
    let plan = plan.unwrap();
    let written: Vec<_> = plan.writes().map(|step| step.address.clone()).collect();
    assert_eq!(written, [address(3)], "the key stays, too");
}
