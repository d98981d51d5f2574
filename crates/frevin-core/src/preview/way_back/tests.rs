use std::collections::BTreeMap;
use std::convert::Infallible;

use super::*;
use crate::layers::{ChangeId, Layer};
use crate::setting::{RegistryData, RunState, ServiceStart, Value, WinName};

#[derive(Default)]
struct Pc(BTreeMap<Address, State>);

impl Readings for Pc {
    type Error = Infallible;

    fn state(&self, address: &Address) -> Result<State, Infallible> {
        Ok(self.0.get(address).cloned().unwrap_or(State::Absent))
    }

    fn dependents(&self, _: &WinName) -> Result<Vec<WinName>, Infallible> {
        Ok(Vec::new())
    }

    /// `Leaf` needs `Base`.
    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, Infallible> {
        Ok(if service.as_str() == "Leaf" { vec!["Base".into()] } else { Vec::new() })
    }
}

fn at(text: &str) -> Address {
    text.parse().unwrap()
}

fn dword(number: u32) -> State {
    Value::Registry(RegistryData::dword(number)).into()
}

fn run(state: RunState) -> State {
    Value::Run(state).into()
}

/// A PC on which changes were made, each a tweak's number, a setting and a state.
fn changed(first: &[(&str, State)], changes: &[(i64, &str, State)]) -> (Pc, Layers) {
    let mut pc = Pc(first.iter().map(|(a, s)| (at(a), s.clone())).collect());
    let mut layers = Layers::new();
    for (change, address, state) in changes {
        let address = at(address);
        let before = pc.state(&address).unwrap();
        let layer = Layer {
            change: ChangeId(*change),
            used: crate::tweak::TweakUse::plain(format!("test/tweak-{change}").parse().unwrap()),
            state: state.clone(),
        };
        layers.lay(&address, &before, layer);
        pc.0.insert(address, state.clone());
    }
    (pc, layers)
}

fn way(selection: &Selection, on_others: OnOthers, pc: &Pc, layers: &Layers) -> WayBack {
    way_back(selection, on_others, pc, layers).unwrap()
}

const VALUE: &str = r"registry:HKCU\A#v";

#[test]
fn a_layer_on_top_moves_the_pc_and_one_beneath_does_not() {
    let (pc, layers) = changed(&[], &[(1, VALUE, dword(1)), (2, VALUE, dword(2))]);
    let back = |change| way(&Selection::Change(ChangeId(change)), OnOthers::Stop, &pc, &layers);
    let beneath = BackStep::Beneath { address: at(VALUE), state: dword(2) };
    assert_eq!(back(1).steps, [beneath]);
    let top = BackStep::Write { address: at(VALUE), before: dword(2), after: dword(1) };
    assert_eq!(back(2).steps, [top]);
    let all = way(&Selection::All, OnOthers::Stop, &pc, &layers);
    let write = BackStep::Write { address: at(VALUE), before: dword(2), after: State::Absent };
    assert_eq!(all.steps, [write]);
    assert!(back(3).steps.is_empty(), "no such change");
}

#[test]
fn selections_by_tweak_take_it_out_of_one_change_or_all() {
    let (pc, layers) = changed(&[], &[(1, VALUE, dword(1)), (2, r"registry:HKCU\A#w", dword(2))]);
    let tweak = "test/tweak-1".parse().unwrap();
    let of_all = way(&Selection::Tweak(tweak), OnOthers::Stop, &pc, &layers);
    assert_eq!(of_all.steps.len(), 1);
    let tweak = "test/tweak-1".parse().unwrap();
    let elsewhere = Selection::TweakOfChange(ChangeId(2), tweak);
    assert!(way(&elsewhere, OnOthers::Stop, &pc, &layers).steps.is_empty());
}

#[test]
fn what_others_wrote_stops_is_kept_or_overwritten_as_asked() {
    let (mut pc, layers) = changed(&[], &[(1, VALUE, dword(1))]);
    pc.0.insert(at(VALUE), dword(9));
    let all = |on_others| way(&Selection::All, on_others, &pc, &layers);
    let stopped = all(OnOthers::Stop);
    assert!(stopped.steps.is_empty());
    assert_eq!(stopped.changed_by_others[0].actual, dword(9));
    assert_eq!(stopped.changed_by_others[0].expected.from, dword(1));
    let kept = BackStep::Kept { address: at(VALUE), state: dword(9) };
    assert_eq!(all(OnOthers::Keep).steps, [kept]);
    let written = BackStep::Write { address: at(VALUE), before: dword(9), after: State::Absent };
    assert_eq!(all(OnOthers::Force).steps, [written]);
}

#[test]
fn others_who_put_it_back_themselves_are_no_obstacle() {
    let (mut pc, layers) = changed(&[(VALUE, dword(5))], &[(1, VALUE, dword(1))]);
    pc.0.insert(at(VALUE), dword(5));
    let way = way(&Selection::All, OnOthers::Stop, &pc, &layers);
    assert_eq!(way.steps, [BackStep::AlreadySo { address: at(VALUE), state: dword(5) }]);
    assert!(way.changed_by_others.is_empty());
}

#[test]
fn others_hands_on_a_setting_that_does_not_move_are_seen_too() {
    let (mut pc, layers) = changed(&[], &[(1, VALUE, dword(1)), (2, VALUE, dword(2))]);
    pc.0.insert(at(VALUE), dword(9));
    let beneath = Selection::Change(ChangeId(1));
    let way = way(&beneath, OnOthers::Stop, &pc, &layers);
    assert_eq!(way.changed_by_others.len(), 1);
}

#[test]
fn values_go_before_their_keys_and_services_start_in_turn() {
    let start = |word: &str| State::from(Value::Start(ServiceStart::from_word(word).unwrap()));
    let first = [
        ("service:Base#start", start("automatic")),
        ("service:Base#running", run(RunState::Running)),
        ("service:Leaf#running", run(RunState::Running)),
    ];
    let (pc, layers) = changed(
        &first,
        &[
            (1, r"registry:HKCU\A", Value::Key.into()),
            (1, r"registry:HKCU\A\B", Value::Key.into()),
            (1, r"registry:HKCU\A\B#v", dword(1)),
            (1, "service:Base#start", start("disabled")),
            (1, "service:Leaf#running", run(RunState::Stopped)),
            (1, "service:Base#running", run(RunState::Stopped)),
        ],
    );
    let way = way(&Selection::All, OnOthers::Stop, &pc, &layers);
    let order: Vec<String> = way
        .steps
        .iter()
        .map(|step| match step {
            BackStep::Write { address, .. } => address.to_string(),
            other => panic!("{other:?} is no write"),
        })
        .collect();
    assert_eq!(
        order,
        [
            r"registry:HKCU\A\B#v",
            "service:Base#start",
            "service:Base#running",
            "service:Leaf#running",
            r"registry:HKCU\A\B",
            r"registry:HKCU\A",
        ]
    );
}

#[test]
fn drift_tells_who_left_what_and_what_was_there_at_first() {
    let changes = [(1, VALUE, dword(1)), (2, VALUE, dword(2)), (3, r"registry:HKCU\A#w", dword(3))];
    let (mut pc, layers) = changed(&[(VALUE, dword(5))], &changes);
    assert!(crate::preview::drift(&pc, &layers).unwrap().is_empty());
    pc.0.insert(at(VALUE), dword(9));
    let drifted = crate::preview::drift(&pc, &layers).unwrap();
    assert_eq!(drifted.len(), 1);
    assert_eq!(drifted[0].left.change, ChangeId(2));
    assert_eq!((&drifted[0].original, &drifted[0].actual), (&dword(5), &dword(9)));
    pc.0.insert(at(VALUE), State::Unreadable("denied".into()));
    assert_eq!(crate::preview::drift(&pc, &layers).unwrap().len(), 1, "not to be told is not well");
}
