//! Any order of applying and rolling back any subset ends exact.

use proptest::prelude::*;

use super::*;
use crate::setting::{RegistryData, Value};

/// A PC as simple as can be: what is not in the map is absent.
type Pc = BTreeMap<Address, State>;

fn value(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn address(setting: u32) -> Address {
    format!(r"registry:HKCU\Game#{setting}").parse().unwrap()
}

fn tweak(number: u32) -> TweakId {
    format!("test/tweak-{number}").parse().unwrap()
}

fn read(pc: &Pc, address: &Address) -> State {
    pc.get(address).cloned().unwrap_or(State::Absent)
}

fn write(pc: &mut Pc, address: &Address, state: &State) {
    match state {
        State::Absent => pc.remove(address),
        state => pc.insert(address.clone(), state.clone()),
    };
}

fn apply(pc: &mut Pc, layers: &mut Layers, change: i64, wants: &[(u32, u32, u32)]) {
    for (number, setting, wanted) in wants {
        let address = address(*setting);
        let before = read(pc, &address);
        let state = if *wanted == 0 { State::Absent } else { value(*wanted) };
        write(pc, &address, &state);
        layers.lay(
            &address,
            &before,
            Layer { change: ChangeId(change), used: TweakUse::plain(tweak(*number)), state },
        );
    }
}

fn roll_back(pc: &mut Pc, layers: &mut Layers, selection: &Selection) {
    for step in layers.take_out(selection) {
        assert_eq!(read(pc, &step.address), step.from, "the stack and the PC agree");
        write(pc, &step.address, &step.to);
    }
}

#[derive(Debug, Clone)]
enum Deed {
    Apply(Vec<(u32, u32, u32)>),
    RollBackChange(usize),
    RollBackTweak(u32),
    RollBackTweakOfChange(usize, u32),
}

fn deeds() -> impl Strategy<Value = Vec<Deed>> {
    let wants = prop::collection::vec((0..4u32, 0..5u32, 0..4u32), 1..6);
    prop::collection::vec(
        prop_oneof![
            3 => wants.prop_map(Deed::Apply),
            2 => (0..8usize).prop_map(Deed::RollBackChange),
            1 => (0..4u32).prop_map(Deed::RollBackTweak),
            1 => (0..8usize, 0..4u32).prop_map(|(c, t)| Deed::RollBackTweakOfChange(c, t)),
        ],
        1..25,
    )
}

proptest! {
    #[test]
    fn whatever_the_order_the_end_is_the_beginning(
        first in prop::collection::btree_map(0..5u32, 1..4u32, 0..5),
        deeds in deeds(),
        order in Just((1..=25i64).collect::<Vec<_>>()).prop_shuffle(),
    ) {
        let first: Pc = first.into_iter().map(|(s, n)| (address(s), value(n))).collect();
        let mut pc = first.clone();
        let mut layers = Layers::new();
        let mut changes = Vec::new();
        for deed in deeds {
            let change = |index: usize| ChangeId(changes.get(index).copied().unwrap_or(99));
            match deed {
                Deed::Apply(wants) => {
                    let next = changes.len() as i64 + 1;
                    changes.push(next);
                    apply(&mut pc, &mut layers, next, &wants);
                }
                Deed::RollBackChange(index) => {
                    let selection = Selection::Change(change(index));
                    roll_back(&mut pc, &mut layers, &selection);
                }
                Deed::RollBackTweak(number) => {
                    roll_back(&mut pc, &mut layers, &Selection::Tweak(tweak(number)));
                }
                Deed::RollBackTweakOfChange(index, number) => {
                    let selection = Selection::TweakOfChange(change(index), tweak(number));
                    roll_back(&mut pc, &mut layers, &selection);
                }
            }
            for (address, stack) in layers.iter() {
                prop_assert_eq!(&read(&pc, address), stack.effective());
            }
        }
        for change in order {
            roll_back(&mut pc, &mut layers, &Selection::Change(ChangeId(change)));
        }
        prop_assert!(layers.is_empty());
        prop_assert_eq!(pc, first);
    }

    #[test]
    fn rolling_one_change_back_leaves_what_would_be_without_it(
        changes in prop::collection::vec(
            prop::collection::vec((0..4u32, 0..5u32, 1..4u32), 1..5), 1..6),
        without in 0..6usize,
    ) {
        let without = without % changes.len();
        let (mut pc, mut layers) = (Pc::new(), Layers::new());
        let (mut expected, mut expected_layers) = (Pc::new(), Layers::new());
        for (index, wants) in changes.iter().enumerate() {
            apply(&mut pc, &mut layers, index as i64, wants);
            if index != without {
                apply(&mut expected, &mut expected_layers, index as i64, wants);
            }
        }
        roll_back(&mut pc, &mut layers, &Selection::Change(ChangeId(without as i64)));
        prop_assert_eq!(pc, expected);
        prop_assert_eq!(layers, expected_layers);
    }
}

#[test]
fn a_layer_under_another_comes_out_without_moving_the_pc() {
    let (mut pc, mut layers) = (Pc::new(), Layers::new());
    apply(&mut pc, &mut layers, 1, &[(1, 1, 10)]);
    apply(&mut pc, &mut layers, 2, &[(2, 1, 20)]);
    let moves = layers.take_out(&Selection::Change(ChangeId(1)));
    assert_eq!(moves, [Move { address: address(1), from: value(20), to: value(20) }]);
    let moves = layers.take_out(&Selection::All);
    assert_eq!(moves, [Move { address: address(1), from: value(20), to: State::Absent }]);
}

#[test]
fn a_setting_that_is_let_go_is_not_frevins_any_more() {
    let (mut pc, mut layers) = (Pc::new(), Layers::new());
    apply(&mut pc, &mut layers, 1, &[(1, 1, 10), (1, 2, 20)]);
    assert!(layers.take_out(&Selection::Nothing).is_empty());
    layers.let_go(&address(1));
    assert_eq!(layers.get(&address(1)), None);
    assert_eq!(layers.take_out(&Selection::All).len(), 1);
}
