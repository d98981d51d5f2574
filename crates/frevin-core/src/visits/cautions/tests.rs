use frevin_frames::{FrameSeries, LatencyFigures, metrics};
use jiff::Timestamp;

use super::*;
use crate::ids::{OperationId, PcId};
use crate::layers::{ChangeId, Layer, Layers};
use crate::setting::{RegistryData, State, Value};
use crate::tweak::{Argument, TweakId, TweakUse};
use crate::visits::{
    InForce, RunId, RunSource, VisitContext, VisitId, VisitStatus, pairs_of_states,
};

fn name(text: &str) -> StateName {
    text.parse().unwrap()
}

fn used(delay: i64) -> TweakUse {
    let arguments = [("delay".to_owned(), Argument::Whole(delay))];
    TweakUse { tweak: "a/b".parse().unwrap(), arguments: Some(arguments.into()) }
}

/// A state in which these uses hold a setting each.
fn in_force(uses: &[TweakUse]) -> InForce {
    let mut layers = Layers::new();
    for (index, used) in uses.iter().enumerate() {
        let address = format!(r"registry:HKCU\A#{index}").parse().unwrap();
        let number = match used.arguments.as_ref().and_then(|all| all.get("delay")) {
            Some(Argument::Whole(number)) => u32::try_from(*number).unwrap(),
            _ => 99,
        };
        let state: State = Value::Registry(RegistryData::dword(number)).into();
        let layer = Layer { change: ChangeId(1), used: used.clone(), state };
        layers.lay(&address, &State::Absent, layer);
    }
    InForce::of(&layers)
}

fn visit(number: i64, state: &str, in_force: Option<InForce>) -> VisitRecord {
    let run = |index: i64| Run {
        id: RunId(10 * number + index),
        is_warm_up: false,
        source: RunSource::Rehearsal,
        boot: None,
        run_since_boot: Some(5),
        was_waiting: false,
        conditions: Some(RunConditions::default()),
        metrics: metrics(&FrameSeries::new(vec![10.0; 100]).unwrap()),
    };
    VisitRecord {
        id: VisitId(number),
        operation: OperationId(number),
        scene: "mill".parse().unwrap(),
        pc: Some(PcId::new("pc")),
        state_name: name(state),
        recorded_at: Timestamp::UNIX_EPOCH,
        status: VisitStatus::Whole,
        in_force,
        context: VisitContext::default(),
        environment: None,
        of_play: None,
        runs: (0..3).map(run).collect(),
    }
}

/// Visits of A and B in turns, B with a tweak.
fn in_turns() -> Vec<VisitRecord> {
    let with = |number: i64| match number % 4 {
        1 | 0 => visit(number, "a", Some(in_force(&[]))),
        _ => visit(number, "b", Some(in_force(&[used(1)]))),
    };
    (1..=8).map(with).collect()
}

fn found(visits: &[VisitRecord]) -> Vec<Caution> {
    let (a, b) = (name("a"), name("b"));
    let of = |state: StateName| visits.iter().filter(move |visit| visit.state_name == state);
    let pairs: Vec<_> = of(a.clone()).zip(of(b.clone())).collect();
    cautions((&a, &b), &pairs, 0, 0)
}

#[test]
fn visits_in_turns_under_like_conditions_raise_no_caution() {
    assert_eq!(found(&in_turns()), []);
}

#[test]
fn order_is_told_by_operations_and_not_by_times_or_numbers_of_visits() {
    let mut visits = in_turns();
    for visit in &mut visits {
        visit.recorded_at = Timestamp::MAX;
        visit.id = VisitId(100 - visit.id.0);
    }
    assert_eq!(found(&visits), []);
    for visit in visits.iter_mut().filter(|visit| visit.state_name == name("b")) {
        visit.operation.0 += 100;
    }
    assert_eq!(found(&visits), [Caution::NotInTurns]);
}

#[test]
fn every_unlike_condition_is_told() {
    type Edit = fn(&mut VisitRecord);
    let edits: [(Edit, &str); 9] = [
        (|visit| visit.runs[0].was_waiting = true, "while-waiting"),
        (|visit| visit.runs[0].run_since_boot = Some(1), "first-after-restart"),
        (|visit| visit.runs.truncate(2), "few-runs"),
        (|visit| visit.in_force = None, "state-not-known"),
        (|visit| visit.in_force = Some(in_force(&[used(2)])), "several-states"),
        (|visit| visit.pc = Some(PcId::new("another")), "several-pcs"),
        (|visit| visit.runs[0].source = RunSource::TestLoop, "several-sources"),
        (|visit| visit.runs[0].metrics.seconds *= 2.0, "unlike-lengths"),
        (
            |visit| {
                let conditions = visit.runs[0].conditions.as_mut().unwrap();
                conditions.on_battery = Some(true);
            },
            "some-on-battery",
        ),
    ];
    for (edit, expected) in edits {
        let mut visits = in_turns();
        edit(&mut visits[1]);
        let told = serde_json::to_value(found(&visits)).unwrap();
        assert_eq!(told[0]["caution"], expected, "{told}");
        assert_eq!(told.as_array().unwrap().len(), 1, "{told}");
    }
}

#[test]
fn a_state_in_which_the_pc_was_warmer_is_told() {
    let mut visits = in_turns();
    let mut warm = |state: &str, celsius: f64| {
        for visit in visits.iter_mut().filter(|visit| visit.state_name == name(state)) {
            let levels = Levels { average: celsius, lowest: celsius - 5.0, highest: celsius + 5.0 };
            let conditions = visit.runs[0].conditions.as_mut().unwrap();
            conditions.readings.graphics_celsius = Some(levels);
        }
        found(&visits)
    };
    assert_eq!(warm("a", 70.0), []);
    assert_eq!(warm("b", 63.0), []);
    let apart = Caution::UnlikeTemperatures {
        part: WarmPart::GraphicsCard,
        a_celsius: 70.0,
        b_celsius: 61.0,
    };
    assert_eq!(warm("b", 61.0), [apart]);
}

#[test]
fn evidence_mixes_neither_pcs_nor_arguments() {
    let tweak: TweakId = "a/b".parse().unwrap();
    let mut visits = in_turns();
    visits.push(visit(9, "b", Some(in_force(&[used(2)]))));
    let mut foreign = visit(10, "b", Some(in_force(&[used(1)])));
    foreign.pc = Some(PcId::new("another"));
    visits.push(foreign);
    visits.push(visit(11, "b", None));
    let mut void = visit(12, "b", Some(in_force(&[used(1)])));
    void.status = VisitStatus::Void("a crash".to_owned());
    visits.push(void);
    let (evidence, pairs) = pairs_of_states(&visits, &PcId::new("pc"), &tweak);
    assert_eq!(
        (evidence.visits_with, evidence.visits_without, evidence.visits_not_known),
        (5, 4, 1)
    );
    let told: Vec<_> =
        pairs.iter().map(|pair| (pair.used.clone(), pair.without.len(), pair.with.len())).collect();
    assert_eq!(told, [(used(1), 4, 4), (used(2), 4, 1)]);
}

#[test]
fn latency_of_another_column_is_another_latency() {
    let with = |number: i64, column: Option<&str>| {
        let mut visit = visit(number, "a", None);
        for run in &mut visit.runs {
            run.conditions.as_mut().unwrap().readings.latency =
                column.map(|column| LatencyFigures {
                    column: column.to_owned(),
                    frames: 100,
                    median_ms: 30.0,
                    percentile_95_ms: 40.0,
                });
        }
        visit
    };
    let (click, input, none) = (with(1, Some("click")), with(2, Some("input")), with(3, None));
    assert!(input.has_other_latency_than(&click));
    assert!(!with(4, Some("click")).has_other_latency_than(&click));
    // One that tells none is nothing to differ from; where it is told no more, that is another.
    assert!(!input.has_other_latency_than(&none));
    assert!(none.has_other_latency_than(&click));
}
