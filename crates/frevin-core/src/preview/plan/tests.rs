use std::collections::BTreeMap;
use std::convert::Infallible;

use super::*;
use crate::layers::{ChangeId, Layer};
use crate::setting::{Listed, RegistryData, RunState, Value, WinName};

#[derive(Default)]
struct Pc {
    states: BTreeMap<Address, State>,
    dependents: BTreeMap<WinName, Vec<WinName>>,
}

impl Pc {
    fn with(mut self, address: &str, value: impl Into<State>) -> Self {
        self.states.insert(at(address), value.into());
        self
    }
}

impl Readings for Pc {
    type Error = Infallible;

    fn state(&self, address: &Address) -> Result<State, Infallible> {
        Ok(self.states.get(address).cloned().unwrap_or(State::Absent))
    }

    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, Infallible> {
        Ok(self.dependents.get(service).cloned().unwrap_or_default())
    }

    fn dependencies(&self, _: &WinName) -> Result<Vec<WinName>, Infallible> {
        Ok(Vec::new())
    }
}

fn at(text: &str) -> Address {
    text.parse().unwrap()
}

fn dword(number: u32) -> Value {
    Value::Registry(RegistryData::dword(number))
}

fn wish(tweak: &str, settings: &[(&str, State)]) -> Wish {
    let wanted = |(address, state): &(&str, State)| Wanted {
        address: at(address),
        state: state.clone(),
        takes_effect: TakesEffect::Restart,
    };
    Wish {
        used: TweakUse::plain(tweak.parse().unwrap()),
        settings: settings.iter().map(wanted).collect(),
        consented: false,
    }
}

fn outline(plan: &Plan) -> Vec<String> {
    let line = |step: &Step| {
        format!("{:?} {} {} -> {}", step.action, step.address, step.before, step.after)
    };
    plan.steps.iter().map(line).collect()
}

#[test]
fn keys_that_a_value_needs_are_steps_of_their_own() {
    let pc = Pc::default().with(r"registry:HKLM\SOFTWARE", Value::Key);
    let wishes = [wish("a/b", &[(r"registry:HKLM\SOFTWARE\New\Deep#v", dword(1).into())])];
    let plan = plan(&wishes, &pc, &Layers::new()).unwrap();
    assert_eq!(
        outline(&plan),
        [
            r"Write registry:HKLM\SOFTWARE\New absent -> present",
            r"Write registry:HKLM\SOFTWARE\New\Deep absent -> present",
            r"Write registry:HKLM\SOFTWARE\New\Deep#v absent -> 1",
        ]
    );
    assert_eq!(plan.takes_effect(), TakesEffect::Restart);
}

#[test]
fn what_holds_already_is_shared_with_frevins_own_layers_only() {
    let pc = Pc::default()
        .with(r"registry:HKCU\A", Value::Key)
        .with(r"registry:HKCU\A#mine", dword(1))
        .with(r"registry:HKCU\A#theirs", dword(1));
    let mut layers = Layers::new();
    let layer = Layer {
        change: ChangeId(1),
        used: TweakUse::plain("x/y".parse().unwrap()),
        state: dword(1).into(),
    };
    layers.lay(&at(r"registry:HKCU\A#mine"), &State::Absent, layer);
    let wishes = [wish(
        "a/b",
        &[(r"registry:HKCU\A#mine", dword(1).into()), (r"registry:HKCU\A#theirs", dword(1).into())],
    )];
    let plan = plan(&wishes, &pc, &layers).unwrap();
    assert_eq!(
        outline(&plan),
        [r"Share registry:HKCU\A#mine 1 -> 1", r"AlreadySo registry:HKCU\A#theirs 1 -> 1"]
    );
    assert!(!plan.is_empty());
    assert_eq!(plan.writes().count(), 0);
}

#[test]
fn two_tweaks_of_one_plan_share_what_both_want() {
    let pc = Pc::default().with(r"registry:HKCU\A", Value::Key);
    let want = [(r"registry:HKCU\A#v", State::from(dword(1)))];
    let plan = plan(&[wish("a/b", &want), wish("c/d", &want)], &pc, &Layers::new()).unwrap();
    assert_eq!(
        outline(&plan),
        [r"Write registry:HKCU\A#v absent -> 1", r"Share registry:HKCU\A#v 1 -> 1"]
    );
}

#[test]
fn tweaks_that_contradict_each_other_make_no_plan() {
    let pc = Pc::default().with(r"registry:HKCU\A", Value::Key);
    let first = wish("a/b", &[(r"registry:HKCU\A#v", dword(1).into())]);
    let second = wish("c/d", &[(r"registry:hkcu\a#V", dword(2).into())]);
    let error = plan(&[first, second], &pc, &Layers::new()).unwrap_err();
    assert_eq!(error.to_string(), r"`a/b` wants 1 at registry:HKCU\a#V, and `c/d` wants 2");
}

#[test]
fn stopping_a_service_spells_out_what_stops_with_it() {
    let run = |state| State::from(Value::Run(state));
    let mut pc = Pc::default()
        .with("service:Base#running", Value::Run(RunState::Running))
        .with("service:Leaf#running", Value::Run(RunState::Running))
        .with("service:Idle#running", Value::Run(RunState::Stopped));
    pc.dependents.insert("base".into(), vec!["Leaf".into(), "Idle".into()]);
    let wishes = [wish("a/b", &[("service:Base#running", run(RunState::Stopped))])];
    let plan = plan(&wishes, &pc, &Layers::new()).unwrap();
    assert_eq!(
        outline(&plan),
        [
            "Write service:Leaf#running running -> stopped",
            "Write service:Base#running running -> stopped",
        ]
    );
    assert_eq!(plan.steps[0].reason, Reason::FollowsFrom(at("service:Base#running")));
}

#[test]
fn a_tweak_that_cannot_be_carried_out_safely_is_left_out_whole() {
    let pc = Pc::default()
        .with(r"registry:HKCU\A", Value::Key)
        .with(r"registry:HKCU\A#dark", State::Unreadable("access denied".into()));
    let stop = State::from(Value::Run(RunState::Stopped));
    let wishes = [
        wish("a/service", &[("service:No#running", stop)]),
        wish(
            "a/dark",
            &[(r"registry:HKCU\A#x", dword(1).into()), (r"registry:HKCU\A#dark", dword(1).into())],
        ),
    ];
    let plan = plan(&wishes, &pc, &Layers::new()).unwrap();
    assert!(plan.is_empty());
    let reasons: Vec<_> = plan.left_out.iter().flat_map(|left| &left.reasons).collect();
    assert_eq!(
        reasons,
        ["this PC has no service No", r"registry:HKCU\A#dark cannot be read: access denied"]
    );
}

#[test]
fn what_this_pc_does_not_have_is_left_out_and_the_rest_is_done() {
    let pc = Pc::default().with(r"task:\There#enabled", Value::Flag(true));
    let off = || State::from(Value::Flag(false));
    let plan_of = uuid::Uuid::from_u128(7);
    let wishes = [
        wish("a/tasks", &[(r"task:\Gone#enabled", off()), (r"task:\There#enabled", off())]),
        wish("a/plan", &[("power:active-plan", Value::Plan(plan_of).into())]),
    ];
    let plan = plan(&wishes, &pc, &Layers::new()).unwrap();
    assert_eq!(outline(&plan), [r"Write task:\There#enabled on -> off"]);
    let reasons = |left: &[LeftOut]| -> Vec<String> {
        left.iter().flat_map(|left| left.reasons.clone()).collect()
    };
    assert_eq!(reasons(&plan.parts_left_out), [r"this PC has no task \Gone"]);
    assert_eq!(reasons(&plan.left_out), [format!("this PC has no power plan {plan_of}")]);
}

#[test]
fn a_value_and_its_parts_are_not_both_held() {
    let whole = r"registry:HKCU\A#v";
    let pair = r"registry-part:HKCU\A#v#pair:B";
    let text = r"registry-part:HKCU\A#v#text";
    let listed = |text: &str| State::from(Value::Listed(Listed::new(text)));
    let pc = Pc::default()
        .with(r"registry:HKCU\A", Value::Key)
        .with(whole, Value::Registry(RegistryData::string("A=1;")))
        .with(text, Value::Key);
    let as_whole = wish("a/whole", &[(whole, dword(1).into())]);
    let in_part = wish("a/part", &[(pair, listed("1"))]);
    let reasons = |wishes: &[Wish], layers: &Layers| {
        let plan = plan(wishes, &pc, layers).unwrap();
        plan.left_out.into_iter().flat_map(|left| left.reasons).collect::<Vec<_>>()
    };
    let both = [as_whole.clone(), in_part.clone()];
    assert_eq!(reasons(&both, &Layers::new()), [format!("`a/whole` wants all of {whole}")]);
    let both = [in_part.clone(), as_whole.clone()];
    assert_eq!(reasons(&both, &Layers::new()), [format!("`a/part` wants a part of {whole}")]);
    let held = |address: &str, state: State| {
        let mut layers = Layers::new();
        let used = TweakUse::plain("x/y".parse().unwrap());
        layers.lay(&at(address), &State::Absent, Layer { change: ChangeId(4), used, state });
        layers
    };
    let told = reasons(&[as_whole], &held(pair, listed("1")));
    assert_eq!(told, [format!("change 4 holds a part of {whole}: roll it back first")]);
    let told = reasons(&[in_part], &held(whole, dword(1).into()));
    assert_eq!(told, [format!("change 4 holds all of {whole}: roll it back first")]);
}

#[test]
fn what_others_changed_since_is_told_where_it_would_be_overwritten() {
    let pc = Pc::default()
        .with(r"registry:HKCU\A", Value::Key)
        .with(r"registry:HKCU\A#v", dword(9))
        .with(r"registry:HKCU\A#w", dword(9));
    let mut layers = Layers::new();
    for value in ["v", "w"] {
        let layer = Layer {
            change: ChangeId(1),
            used: TweakUse::plain("x/y".parse().unwrap()),
            state: dword(1).into(),
        };
        layers.lay(&at(&format!(r"registry:HKCU\A#{value}")), &State::Absent, layer);
    }
    let wishes = [wish("a/b", &[(r"registry:HKCU\A#v", dword(2).into())])];
    let plan = plan(&wishes, &pc, &layers).unwrap();
    assert_eq!(plan.changed_by_others.len(), 1);
    assert_eq!(plan.changed_by_others[0].address, at(r"registry:HKCU\A#v"));
    assert_eq!(plan.changed_by_others[0].actual, dword(9).into());
}

#[test]
fn values_of_a_plan_that_is_yet_to_be_copied_are_those_of_its_original() {
    let (plan_id, original) = (uuid::Uuid::from_u128(1), uuid::Uuid::from_u128(2));
    let value = |plan: uuid::Uuid| format!("power:{plan}/{plan_id}/{plan_id}#mains");
    let pc = Pc::default().with(&value(original), Value::PowerIndex(30)).with(
        &format!("power:{original}#exists"),
        Value::PlanExists { copy_of: None, name: "Original".into() },
    );
    let exists = Value::PlanExists { copy_of: Some(original), name: "Play".into() };
    let make = (format!("power:{plan_id}#exists"), State::from(exists));
    let set = (value(plan_id), State::from(Value::PowerIndex(90)));
    let wishes = [wish("a/b", &[(&make.0, make.1.clone()), (&set.0, set.1.clone())])];
    let whole = plan(&wishes, &pc, &Layers::new()).unwrap();
    assert_eq!(whole.steps.len(), 2);
    assert_eq!(whole.steps[0].before, State::Absent);
    assert_eq!(whole.steps[1].before, Value::PowerIndex(30).into());
    let without_plan = plan(&[wish("a/b", &[(&set.0, set.1)])], &pc, &Layers::new()).unwrap();
    assert_eq!(without_plan.left_out.len(), 1);
}

#[test]
fn what_is_protected_is_refused_without_consent() {
    let pc = Pc::default().with("service:WinDefend#start", Value::Flag(true));
    let mut wishes = [wish("a/b", &[("service:windefend#start", State::Absent)])];
    let refused = plan(&wishes, &pc, &Layers::new()).unwrap();
    assert_eq!(refused.refusals.len(), 1);
    wishes[0].consented = true;
    assert!(plan(&wishes, &pc, &Layers::new()).unwrap().refusals.is_empty());
}
