//! Sifts of made-up PCs: however they are cut off, they end as one that was not.

use std::cell::Cell;
use std::collections::BTreeSet;

use frevin_stats::sift::SiftRule;
use proptest::prelude::*;

use super::*;
use crate::ids::StateDigest;
use crate::layers::ChangeId;
use crate::playing::ProcessHolds;
use crate::preview::Wish;
use crate::sift::{SiftId, SiftInPlay, SiftedTweak, SmallestEffect};
use crate::trial::in_play::{InPlay, PlaySource, Settling};
use crate::trial::{Doubt, KeepPolicy, Place, Reason};
use crate::tune::{AskedInRuns, EveningPart, Mended, PlayedFirst, sample_evening};
use crate::tweak::Risk;

/// Six tweaks: one helps, one hurts; two exclude each other; one is for experts.
fn design(seed: u64, restarts: bool) -> SiftDesign {
    let tweak = |at: usize| SiftedTweak {
        wish: Wish {
            used: TweakUse::plain(format!("a/t{at}").parse().unwrap()),
            settings: Vec::new(),
            consented: false,
        },
        risk: if at == 5 { Risk::Expert } else { Risk::Safe },
    };
    SiftDesign {
        title: "p@1".to_owned(),
        revision: None,
        tweaks: (0..6).map(tweak).collect(),
        left_out: Vec::new(),
        exclusive: vec![vec![2, 3]],
        needs: vec![(4, 5)],
        others: StateDigest::new("d"),
        boot: BootId::new("0"),
        scene: "canyon".parse().unwrap(),
        runs: 1,
        warm_up: 1,
        run_seconds: 60,
        restarts,
        restarts_by_itself: false,
        as_administrator: false,
        rule: SiftRule { seed, row_variance: 1e-4, most_rows: 64 },
        with_history: false,
        trial_pairs: 12,
        keep: KeepPolicy::Better,
        on_battery: false,
        judge: Judge::FrameRate,
        ping: None,
        in_play: None,
        evening: None,
    }
}

#[derive(Debug, Clone, Copy, PartialEq)]
enum Cut {
    Never,
    BeforeDeed,
    BeforeAcknowledged,
}

/// A PC that does what it is told, and gives for each row what chance had in store for it.
struct MadeUp {
    on: Configuration,
    boot: Cell<u64>,
    trial_ended: Option<(Verdict, Ending)>,
    measured: Vec<usize>,
    fresh: bool,
}

impl MadeUp {
    fn new() -> Self {
        let on = Configuration::default();
        Self { on, boot: Cell::new(0), trial_ended: None, measured: Vec::new(), fresh: false }
    }

    fn seen(&self) -> SeenBySift {
        SeenBySift {
            configuration: self.on.clone(),
            boot: BootId::new(self.boot.get().to_string()),
            others_are_as_before: true,
            trial_ended: self.trial_ended,
        }
    }

    fn figures(&self, row: usize) -> RowFigures {
        let effect = |column: &usize| match column {
            0 => 0.05,
            1 => -0.05,
            _ => 0.0,
        };
        let sum: f64 = self.on.columns().iter().map(effect).sum();
        let chance = 0.004 * ((row * 7919 % 13) as f64 / 6.0 - 1.0);
        RowFigures {
            ln_average_fps: 4.5 + sum + chance,
            ln_low_1_percent_fps: 4.0 + chance,
            ln_stutters: 0.5,
            judged: None,
        }
    }
}

fn run(
    design: &SiftDesign,
    pc: &mut MadeUp,
    cuts: &mut dyn Iterator<Item = Cut>,
) -> Vec<SiftEvent> {
    let mut events: Vec<SiftEvent> = Vec::new();
    loop {
        // A new process each time: nothing is known but what was written down.
        let sift = Sift::replay(design.clone(), &events).unwrap();
        let action = sift.next(&pc.seen());
        assert!(events.len() < 2000, "it does not end: {action:?}");
        let boot = pc.seen().boot;
        let cut = cuts.next().unwrap_or(Cut::Never);
        if action == SiftAction::Nothing {
            return events;
        }
        events.push(SiftEvent::Began { action: action.clone(), boot });
        if cut == Cut::BeforeDeed {
            continue;
        }
        let done = match action {
            SiftAction::Switch { to } => {
                pc.on = to.clone();
                SiftEvent::Switched { to, change: None }
            }
            SiftAction::Restart => {
                pc.boot.set(pc.boot.get() + 1);
                pc.fresh = true;
                SiftEvent::Restarted { boot: pc.seen().boot }
            }
            SiftAction::Introduce { group } => {
                assert!(pc.fresh || !design.restarts);
                pc.fresh = false;
                SiftEvent::Introduced { group }
            }
            SiftAction::Measure { row } => {
                assert!(pc.fresh || !design.restarts, "a row without a restart before it");
                pc.fresh = false;
                pc.measured.push(row);
                let figures = pc.figures(row);
                let visit = VisitId(pc.measured.len() as i64);
                SiftEvent::Measured { row, visit, figures, doubts: Vec::new() }
            }
            SiftAction::Decide => SiftEvent::Decided,
            SiftAction::BeginTrial => SiftEvent::TrialBegun { trial: TrialId(1) },
            SiftAction::GoOnWithTrial { .. } => {
                let ending = Ending { place: Place::B, kept: true, reason: Reason::Better };
                pc.trial_ended = Some((Verdict::Better, ending));
                continue;
            }
            SiftAction::End => {
                let (verdict, ending) = pc.trial_ended.unzip();
                SiftEvent::Ended { verdict, ending }
            }
            SiftAction::Play { .. }
            | SiftAction::GoOnInRuns
            | SiftAction::Rest
            | SiftAction::Blocked
            | SiftAction::Nothing => {
                panic!("{action:?}")
            }
        };
        if cut != Cut::BeforeAcknowledged {
            events.push(done);
        }
    }
}

proptest! {
    #![proptest_config(ProptestConfig::with_cases(24))]
    #[test]
    fn an_interrupted_sift_says_what_one_says_that_was_not(
        seed in any::<u64>(),
        restarts in any::<bool>(),
        cuts in prop::collection::vec(
            prop_oneof![Just(Cut::Never), Just(Cut::BeforeDeed), Just(Cut::BeforeAcknowledged)],
            0..60,
        ),
    ) {
        let design = design(seed, restarts);
        let (mut calm, mut cut) = (MadeUp::new(), MadeUp::new());
        let whole = Sift::replay(design.clone(), &run(&design, &mut calm, &mut std::iter::empty())).unwrap();
        let again = Sift::replay(design.clone(), &run(&design, &mut cut, &mut cuts.into_iter())).unwrap();
        prop_assert_eq!(whole.found(), again.found());
        prop_assert_eq!(whole.ended(), again.ended());
        prop_assert_eq!(whole.rows_sifted().unwrap().measurements(), again.rows_sifted().unwrap().measurements());
        prop_assert_eq!(whole.found()[0].found, Found::Helps);
        prop_assert_eq!(whole.found()[1].found, Found::Hurts);
        prop_assert!(whole.helping().columns().contains(&0));
        prop_assert_eq!(calm.on, Configuration::default());
    }
}

#[test]
fn experts_are_switched_on_a_few_a_start_before_any_row() {
    let mut design = design(1, true);
    for tweak in &mut design.tweaks {
        tweak.risk = Risk::Expert;
    }
    let sift = Sift::replay(design, &[]).unwrap();
    let groups = sift.introductions();
    // The fourth excludes the third, and the fifth needs the sixth.
    assert_eq!(groups[0].columns(), [0, 1, 2]);
    assert_eq!(groups[1].columns(), [3, 4, 5]);
    assert_eq!(sift.progress(), SiftProgress::Introducing);
    let seen = MadeUp::new().seen();
    assert_eq!(sift.next(&seen), SiftAction::Switch { to: groups[0].clone() });
}

#[test]
fn put_off_it_rests_with_the_pc_as_it_was_and_goes_on_where_it_was() {
    let mut seen = MadeUp::new().seen();
    let mut sift = Sift::replay(design(1, true), &[]).unwrap();
    let due = sift.next(&seen);
    let SiftAction::Switch { to } = &due else { panic!("{due:?}") };
    seen.configuration = to.clone();
    sift.take(&SiftEvent::Paused);
    assert_eq!(sift.progress(), SiftProgress::Paused);
    assert_eq!(sift.next(&seen), SiftAction::Switch { to: Configuration::default() });
    seen.configuration = Configuration::default();
    assert_eq!(sift.next(&seen), SiftAction::Rest);
    sift.take(&SiftEvent::Resumed);
    assert_eq!(sift.next(&seen), due);
    // A trial of what helped is put off by its own driver.
    sift.take(&SiftEvent::TrialBegun { trial: TrialId(3) });
    sift.take(&SiftEvent::Paused);
    assert_eq!(sift.next(&seen), SiftAction::GoOnWithTrial { trial: TrialId(3) });
    assert!(sift.is_paused());
}

/// An evening in which something was mended before.
fn evening(goal: Goal) -> Evening {
    let mended = Mended {
        title: "A display runs below its highest rate".to_owned(),
        wish: Wish {
            used: TweakUse::plain("a/mended".parse().unwrap()),
            settings: Vec::new(),
            consented: false,
        },
        change: ChangeId(1),
    };
    Evening { mended: vec![mended], ..sample_evening(goal) }
}

#[test]
fn an_evening_tries_what_it_mended_where_nothing_helps() {
    let seen = MadeUp::new().seen();
    let decided = |evening: Option<Evening>| {
        let design = SiftDesign { evening, ..design(1, false) };
        Sift::replay(design, &[SiftEvent::Decided]).unwrap().next(&seen)
    };
    assert_eq!(decided(None), SiftAction::End);
    assert_eq!(decided(Some(evening(Goal::Frames))), SiftAction::BeginTrial);
    // What it gives would hide what the rest costs.
    assert_eq!(decided(Some(evening(Goal::Quiet))), SiftAction::End);
}

#[test]
fn for_a_quiet_pc_what_costs_nothing_is_tried_too_and_what_hurts_is_not() {
    let helping = |goal: Goal| {
        let design = SiftDesign { evening: Some(evening(goal)), ..design(3, false) };
        let events = run(&design, &mut MadeUp::new(), &mut std::iter::empty());
        let sift = Sift::replay(design, &events).unwrap();
        let costs_nothing = sift.found().iter().filter(|one| one.found == Found::NoEffect).count();
        (sift.helping().columns().to_vec(), costs_nothing)
    };
    let (for_frames, _) = helping(Goal::Frames);
    let (quiet, costs_nothing) = helping(Goal::Quiet);
    assert_eq!(for_frames, [0]);
    assert!(costs_nothing > 0 && quiet.len() > costs_nothing, "{quiet:?}");
    assert!(quiet.contains(&0) && !quiet.contains(&1), "{quiet:?}");
}

/// The part of an evening that is played, of which too much was no play to tell anything.
fn played(goal: Goal) -> SiftDesign {
    let then = AskedInRuns { experts: BTreeSet::new(), restarts_by_itself: false };
    let part = EveningPart::InPlay { then };
    let play = InPlay {
        settling: Settling::Tested,
        loop_s: None,
        source: PlaySource::Scene,
        sitting_s: None,
        process: ProcessHolds::default(),
        windows_build: None,
        graphics_driver: None,
    };
    let smallest_effect = SmallestEffect::FivePercent;
    SiftDesign {
        exclusive: Vec::new(),
        needs: Vec::new(),
        in_play: Some(SiftInPlay { play, smallest_effect, most_play_s: Some(60.0) }),
        evening: Some(Evening { part, ..evening(goal) }),
        ..design(1, false)
    }
}

#[test]
fn what_was_played_of_an_evening_ends_with_its_other_part_and_not_in_a_trial() {
    let seen = MadeUp::new().seen();
    let mut sift = Sift::replay(played(Goal::Frames), &[]).unwrap();
    assert_eq!(sift.next(&seen), SiftAction::Play { sitting: 0 });
    assert!(!sift.is_played_out());
    sift.take(&SiftEvent::Decided);
    assert_eq!(sift.next(&seen), SiftAction::GoOnInRuns);
    assert!(sift.is_played_out());
    assert_eq!(sift.to_come(), ToCome::Nothing);
    // Put off or given up in between, it is what it would be before.
    sift.take(&SiftEvent::Paused);
    assert_eq!(sift.next(&seen), SiftAction::Rest);
    assert!(!sift.is_played_out());
    sift.take(&SiftEvent::Abandoned);
    assert_eq!(sift.next(&seen), SiftAction::End);
}

#[test]
fn where_nothing_is_left_to_ask_what_helped_in_play_is_tried() {
    let seen = MadeUp::new().seen();
    let helped = |count: usize| design(1, false).wishes(&Configuration::of(0..count));
    let next = |count: usize| {
        let played_first = Some(PlayedFirst { sift: SiftId(1), helped: helped(count) });
        let evening = Evening { played_first, mended: Vec::new(), ..evening(Goal::Frames) };
        let design = SiftDesign {
            tweaks: Vec::new(),
            exclusive: Vec::new(),
            needs: Vec::new(),
            evening: Some(evening),
            ..design(1, false)
        };
        let mut sift = Sift::replay(design, &[]).unwrap();
        assert_eq!(sift.next(&seen), SiftAction::Decide);
        sift.take(&SiftEvent::Decided);
        assert!(sift.found().is_empty() && sift.together().is_empty());
        sift.next(&seen)
    };
    assert_eq!(next(2), SiftAction::BeginTrial);
    assert_eq!(next(0), SiftAction::End);
    // Without play before it, a sift of nothing is none.
    let empty = SiftDesign { tweaks: Vec::new(), ..design(1, false) };
    assert!(Sift::replay(empty, &[]).is_err());
}

#[test]
fn what_is_judged_decides_and_is_told_in_its_own_figure() {
    // The first lowers latency by 10 %, the second raises it; frame rates say nothing.
    let design = SiftDesign {
        judge: Judge::Latency,
        exclusive: Vec::new(),
        needs: Vec::new(),
        ..design(3, false)
    };
    let mut sift = Sift::replay(design, &[]).unwrap();
    while let Some(row) = sift.due_row() {
        let on = sift.configuration(row);
        let has = |column: usize| f64::from(u8::from(on.columns().contains(&column)));
        let gain = -3.6 + 0.1 * has(0) - 0.1 * has(1) + 0.002 * (row % 3) as f64;
        let figures = RowFigures {
            ln_average_fps: (row % 5) as f64,
            ln_low_1_percent_fps: 4.0,
            ln_stutters: 0.0,
            judged: Some(gain),
        };
        sift.take(&SiftEvent::Measured { row, visit: VisitId(1), figures, doubts: Vec::new() });
    }
    let found = sift.found();
    assert_eq!((found[0].found, found[1].found), (Found::Helps, Found::Hurts));
    // exp(-0.1) is 9.5 % less.
    let first = &found[0];
    assert!((first.effect_percent + 9.5).abs() < 0.5, "{first:?}");
    assert!(first.low_percent < first.effect_percent && first.effect_percent < first.high_percent);
    assert!(found[1].effect_percent > 9.0);
    assert!(found.iter().all(|one| one.least_squares.is_none()), "it is no evidence of frames");
    assert_eq!(sift.helping().columns(), [0]);
}

#[test]
fn given_up_in_its_trial_it_is_given_up() {
    let ended = |reason: Reason| {
        let ending = Ending { place: Place::A, kept: false, reason };
        let events = [
            SiftEvent::Decided,
            SiftEvent::TrialBegun { trial: TrialId(1) },
            SiftEvent::Ended { verdict: Some(Verdict::Undecided), ending: Some(ending) },
        ];
        let sift = Sift::replay(design(1, false), &events).unwrap();
        assert_eq!(sift.to_come(), ToCome::Nothing);
        sift.is_given_up()
    };
    assert!(ended(Reason::Abandoned));
    assert!(!ended(Reason::NotKnown));
    let going = Sift::replay(design(1, false), &[SiftEvent::Decided]).unwrap();
    assert_eq!(going.to_come(), ToCome::Trial);
    assert!(!going.is_given_up());
    let begun = Sift::replay(design(1, false), &[]).unwrap();
    assert_eq!(begun.to_come(), ToCome::Configurations);
}

#[test]
fn giving_up_brings_the_pc_back_and_a_trial_under_way_is_settled_first() {
    let design = design(1, true);
    let mut seen = MadeUp::new().seen();
    seen.configuration = Configuration::of([1]);
    let mut sift = Sift::replay(design, &[SiftEvent::Abandoned]).unwrap();
    assert_eq!(sift.next(&seen), SiftAction::Switch { to: Configuration::default() });
    seen.configuration = Configuration::default();
    assert_eq!(sift.next(&seen), SiftAction::End);
    sift.take(&SiftEvent::TrialBegun { trial: TrialId(3) });
    assert_eq!(sift.next(&seen), SiftAction::GoOnWithTrial { trial: TrialId(3) });
    seen.others_are_as_before = false;
    let blocked = Sift::replay(sift.design().clone(), &[]).unwrap();
    assert_eq!(blocked.next(&seen), SiftAction::Blocked);
    let doubtful = SiftEvent::Voided { row: 0, visit: None, doubt: Doubt::CutShort };
    let mut repeated = blocked;
    assert!(repeated.repeats_doubtful_row());
    repeated.take(&doubtful);
    repeated.take(&doubtful);
    assert!(!repeated.repeats_doubtful_row());
    assert_eq!(repeated.voided(), 2);
}
