//! Trials on a made-up PC, interrupted anywhere.

use std::cell::Cell;

use proptest::prelude::*;
use rand::SeedableRng as _;
use rand_pcg::Pcg64;

use super::super::design::{ArmDesign, KeepPolicy, Question};
use super::super::ending::Reason;
use super::super::history::{EarlierTrial, histories};
use super::*;
use crate::ids::{PcId, StateDigest};
use crate::preview::Wish;
use crate::tweak::TweakUse;
use crate::verdict::{FrameFigures, Histories, Judge, Margins, PairLimit};

fn arm(title: &str, is_empty: bool) -> ArmDesign {
    let used = TweakUse::plain("test/one".parse().unwrap());
    let wish = Wish { used, settings: Vec::new(), consented: false };
    let wishes = if is_empty { Vec::new() } else { vec![wish] };
    ArmDesign { title: title.to_owned(), revision: None, wishes }
}

fn design(question: Question, seed: u64, restarts: bool) -> Design {
    Design {
        question,
        a: arm("a", question == Question::Apply),
        b: arm("b", question == Question::Without),
        holder: None,
        others: StateDigest::new("none"),
        boot: BootId::new("0"),
        levels: vec!["canyon".parse().unwrap()],
        runs: 3,
        warm_up: usize::from(restarts),
        run_seconds: 60,
        restarts,
        restarts_by_itself: false,
        as_administrator: false,
        seed,
        limit: PairLimit::default(),
        margins: Margins::default(),
        histories: Histories::default(),
        keep: KeepPolicy::Better,
        judge: Judge::FrameRate,
        ping: None,
        ping_pause_ms: 50,
        on_battery: false,
        in_play: None,
        of_sift: None,
    }
}

/// A PC of which B's effect on ln(FPS) is known.
struct MadeUp {
    place: Place,
    boot: u32,
    effect: f64,
    /// Whether the PC was started anew since it was last visited or changed.
    fresh: Cell<bool>,
}

impl MadeUp {
    fn new(design: &Design, effect: f64) -> Self {
        Self { place: design.first_place(), boot: 0, effect, fresh: Cell::new(false) }
    }

    fn seen(&self) -> Seen {
        let boot = BootId::new(self.boot.to_string());
        Seen { place: self.place, boot, others_are_as_before: true }
    }

    /// The figures of a visit are those of its pair and state, however often it is made.
    fn figures(&self, pair: usize, arm: Arm) -> VisitFigures {
        let mut chance = Pcg64::seed_from_u64(pair as u64 * 2 + u64::from(arm == Arm::B));
        let mut noise = |size: f64| (chance.random::<f64>() - 0.5) * size;
        let effect = if arm == Arm::B { self.effect } else { 0.0 };
        let frames = FrameFigures {
            ln_average_fps: 4.6 + effect + noise(0.01),
            ln_low_1_percent_fps: 4.2 + effect + noise(0.02),
            stutter_events: 6,
            ln_pacing_ms: 0.5 + noise(0.02),
        };
        VisitFigures { frames: Some(frames), ..VisitFigures::default() }
    }

    /// Does what an action says, and gives what is written down of it.
    fn carry_out(&mut self, action: Action) -> Option<Event> {
        Some(match action {
            Action::Switch { to } => {
                self.place = to;
                self.fresh.set(false);
                Event::Switched { to, change: None }
            }
            Action::Restart => {
                self.boot += 1;
                self.fresh.set(true);
                Event::Restarted { boot: BootId::new(self.boot.to_string()) }
            }
            Action::Visit { pair, arm, .. } => {
                assert_eq!(self.place, arm.into());
                self.fresh.set(false);
                let levels = vec![self.figures(pair, arm)];
                Event::Visited { pair, arm, visits: vec![VisitId(0)], levels, doubts: Vec::new() }
            }
            Action::Decide { verdict } => Event::Decided { verdict },
            Action::End(ending) => Event::Ended(ending),
            Action::Play { .. } | Action::Rest | Action::Blocked | Action::Nothing => return None,
        })
    }
}

/// When an action is cut off.
#[derive(Debug, Clone, Copy, PartialEq)]
enum Cut {
    Never,
    BeforeDeed,
    BeforeAcknowledged,
}

/// Runs a trial to its end; each action is cut off as `cuts` say, and begun anew.
fn run(design: &Design, pc: &mut MadeUp, cuts: &mut dyn Iterator<Item = Cut>) -> Vec<Event> {
    let mut events = Vec::new();
    for _ in 0..1000 {
        let action = Trial::replay(design.clone(), &events).next(&pc.seen());
        if action == Action::Nothing {
            return events;
        }
        if let Action::Visit { .. } = action {
            assert!(!design.restarts || pc.fresh.get(), "a visit without a restart before it");
        }
        events.push(Event::Began { action, boot: pc.seen().boot });
        let cut = cuts.next().unwrap_or(Cut::Never);
        if cut == Cut::BeforeDeed {
            continue;
        }
        let done = pc.carry_out(action).unwrap();
        if cut != Cut::BeforeAcknowledged {
            events.push(done);
        }
    }
    panic!("it does not end: {events:?}");
}

fn any_question() -> impl Strategy<Value = Question> {
    prop_oneof![Just(Question::Apply), Just(Question::Against), Just(Question::Without)]
}

proptest! {
    #[test]
    fn an_interrupted_trial_ends_as_one_that_was_not(
        question in any_question(),
        seed in any::<u64>(),
        restarts in any::<bool>(),
        effect in prop_oneof![Just(0.0), Just(0.04), Just(-0.04)],
        cuts in prop::collection::vec(
            prop_oneof![Just(Cut::Never), Just(Cut::BeforeDeed), Just(Cut::BeforeAcknowledged)],
            0..60,
        ),
    ) {
        let design = design(question, seed, restarts);
        let (mut calm, mut cut) = (MadeUp::new(&design, effect), MadeUp::new(&design, effect));
        let whole = run(&design, &mut calm, &mut std::iter::empty());
        let broken = run(&design, &mut cut, &mut cuts.into_iter());
        let (whole, broken) =
            (Trial::replay(design.clone(), &whole), Trial::replay(design, &broken));
        prop_assert_eq!(whole.pairs(), broken.pairs());
        prop_assert_eq!(whole.ended(), broken.ended());
        prop_assert_eq!(calm.place, cut.place);
    }

    #[test]
    fn a_prefix_of_events_gives_the_action_that_came_next(
        question in any_question(),
        seed in any::<u64>(),
        restarts in any::<bool>(),
    ) {
        let design = design(question, seed, restarts);
        let mut pc = MadeUp::new(&design, 0.02);
        let events = run(&design, &mut pc, &mut std::iter::empty());
        let mut again = MadeUp::new(&design, 0.02);
        for (index, event) in events.iter().enumerate() {
            if let Event::Began { action, .. } = event {
                let trial = Trial::replay(design.clone(), &events[..index]);
                prop_assert_eq!(trial.next(&again.seen()), *action);
                again.carry_out(*action);
            }
        }
    }
}

#[test]
fn every_second_pair_is_the_reverse_of_the_one_before() {
    let mut firsts = [0; 2];
    for seed in 0..200 {
        let design = design(Question::Apply, seed, false);
        for pair in (0..12).step_by(2) {
            let [first, second] = design.order(pair);
            assert_eq!(design.order(pair + 1), [second, first]);
            firsts[usize::from(first == Arm::B)] += 1;
        }
    }
    assert!(firsts.iter().all(|count| (500..700).contains(count)), "{firsts:?}");
}

#[test]
fn a_verdict_is_followed_by_what_it_means() {
    use KeepPolicy::{Better, NotWorse};
    use Question::{Against, Apply, Without};
    for (question, effect, keep, place, reason) in [
        (Apply, 0.05, Better, Place::B, Reason::Better),
        (Apply, -0.05, NotWorse, Place::A, Reason::Worse),
        (Apply, 0.0, Better, Place::A, Reason::NothingGained),
        (Apply, 0.0, NotWorse, Place::B, Reason::NothingGained),
        (Without, 0.05, Better, Place::B, Reason::Better),
        (Without, 0.0, Better, Place::B, Reason::NothingLost),
        (Without, -0.05, Better, Place::A, Reason::Worse),
        (Against, 0.05, Better, Place::B, Reason::Better),
        (Against, -0.05, Better, Place::A, Reason::Worse),
        (Against, 0.0, NotWorse, Place::Neither, Reason::NothingGained),
    ] {
        let design = Design { keep, ..design(question, 1, true) };
        let mut pc = MadeUp::new(&design, effect);
        let events = run(&design, &mut pc, &mut std::iter::empty());
        let ended = Trial::replay(design, &events).ended().unwrap();
        assert_eq!((ended.place, ended.reason), (place, reason), "{question:?} {effect}");
        assert_eq!((pc.place, ended.kept), (place, place == Place::B));
    }
}

#[test]
fn a_pause_puts_the_pc_back_and_half_a_pair_is_made_anew() {
    let design = design(Question::Apply, 1, true);
    let mut pc = MadeUp::new(&design, 0.05);
    let mut events = Vec::new();
    let go_on = |pc: &mut MadeUp, events: &mut Vec<Event>| {
        let action = Trial::replay(design.clone(), &*events).next(&pc.seen());
        events.push(Event::Began { action, boot: pc.seen().boot });
        events.extend(pc.carry_out(action));
        assert!(events.len() < 500, "{action:?}");
        action
    };
    while Trial::replay(design.clone(), &events).half().is_none() {
        go_on(&mut pc, &mut events);
    }
    let due = Trial::replay(design.clone(), &events).due();
    events.push(Event::Paused);
    while go_on(&mut pc, &mut events) != Action::Rest {}
    assert_eq!(pc.place, Place::A);
    let trial = Trial::replay(design.clone(), &events);
    assert_eq!(trial.progress(), Progress::Paused);
    assert!(trial.half().is_none() && trial.due() != due);
    events.push(Event::Resumed);
    while go_on(&mut pc, &mut events) != Action::Nothing {}
    assert_eq!(pc.place, Place::B);
}

#[test]
fn a_trial_that_is_given_up_goes_back_and_other_hands_stop_it() {
    let design = design(Question::Against, 1, true);
    let seen =
        |place, others_are_as_before| Seen { place, boot: BootId::new("7"), others_are_as_before };
    let trial = Trial::replay(design.clone(), &[]);
    assert_eq!(trial.next(&seen(Place::B, false)), Action::Blocked);
    let trial = Trial::replay(design.clone(), &[Event::Abandoned]);
    assert_eq!(trial.next(&seen(Place::B, false)), Action::Switch { to: Place::Neither });
    let ending = Ending::abandoned(&design);
    assert_eq!(trial.next(&seen(Place::Neither, true)), Action::End(ending));
}

#[test]
fn a_visit_is_doubted_twice_and_acknowledged_once() {
    let design = design(Question::Apply, 1, false);
    let pc = MadeUp::new(&design, 0.0);
    let mut trial = Trial::replay(design, &[]);
    let (pair, arm) = trial.due();
    for _ in 0..2 {
        assert!(trial.repeats_doubtful_visit());
        trial.take(&Event::Voided { pair, arm, visits: Vec::new(), doubt: Doubt::CutShort });
    }
    assert!(!trial.repeats_doubtful_visit());
    let visited = Event::Visited {
        pair,
        arm,
        visits: vec![VisitId(3)],
        levels: vec![pc.figures(pair, arm)],
        doubts: vec![Doubt::CutShort],
    };
    trial.take(&visited);
    trial.take(&visited);
    assert_eq!((trial.due(), trial.pairs().len()), ((pair, arm.other()), 0));
    assert_eq!(trial.voided(), 2);
}

#[test]
fn three_trials_alike_are_a_history() {
    let design = design(Question::Apply, 1, true);
    let pc = PcId::new("pc");
    let earlier: Vec<EarlierTrial> = (0..3)
        .map(|_| {
            let mut made_up = MadeUp::new(&design, 0.0);
            let events = run(&design, &mut made_up, &mut std::iter::empty());
            EarlierTrial { pc: pc.clone(), trial: Trial::replay(design.clone(), &events) }
        })
        .collect();
    assert_eq!(histories(&earlier[..2], &pc, &design), Histories::default());
    assert_eq!(histories(&earlier, &PcId::new("other"), &design), Histories::default());
    let other = Design { runs: 5, ..design.clone() };
    assert_eq!(histories(&earlier, &pc, &other), Histories::default());
    let found = histories(&earlier, &pc, &design);
    let variance = found.first.unwrap().variance;
    // Two uniform noises over 1 %: 2 · 0.01² / 12.
    assert!((0.2e-5..5e-5).contains(&variance), "{variance}");
}
