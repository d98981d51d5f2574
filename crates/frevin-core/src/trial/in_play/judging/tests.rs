use rand::{RngExt as _, SeedableRng as _};
use rand_pcg::Pcg64;

use super::super::design::PlaySource;
use super::*;

fn design(settling: Settling, loop_s: Option<f64>) -> InPlay {
    InPlay {
        settling,
        loop_s,
        source: PlaySource::Scene,
        sitting_s: None,
        process: crate::playing::ProcessHolds::default(),
        windows_build: None,
        graphics_driver: None,
    }
}

/// So many segments of a sitting in which B is so much faster and content wanders a little.
fn sitting(
    design: &InPlay,
    number: usize,
    segments: usize,
    edit: impl Fn(usize, Arm, &mut SegmentFrames),
) -> PlayedSitting {
    let mut rng = Pcg64::seed_from_u64(number as u64);
    let length = design.segment_s(0);
    let mut played = Vec::new();
    for index in 0..segments {
        let arm = design.arm(5, number, index, 0);
        let mut frames = SegmentFrames {
            frames: 400,
            ln_mean_ms: 10.0_f64.ln() + 0.01 * (rng.random::<f64>() - 0.5),
            ln_slow_ms: 14.0_f64.ln() + 0.02 * (rng.random::<f64>() - 0.5),
            stutters: 0,
            ln_pacing_ms: 0.01 * (rng.random::<f64>() - 0.5),
            ln_halves: 0.01 * (rng.random::<f64>() - 0.5),
        };
        edit(index, arm, &mut frames);
        let begin_s = LEAD_IN_S + length * index as f64;
        played.push(Segment {
            arm,
            begin_s,
            end_s: begin_s + length,
            frames: Some(frames),
            looks_capped: false,
            stutters_while_settling: 1,
        });
    }
    PlayedSitting { doubled: 0, segments: played }
}

fn first_of(sitting: &PlayedSitting, segments: usize) -> PlayedSitting {
    PlayedSitting { segments: sitting.segments[..segments].to_vec(), ..*sitting }
}

fn faster(by: f64) -> impl Fn(usize, Arm, &mut SegmentFrames) {
    move |_, arm, frames| {
        if arm == Arm::B {
            frames.ln_mean_ms -= by.ln_1p();
            frames.ln_slow_ms -= by.ln_1p();
        }
    }
}

fn wild(index: usize, _: Arm, frames: &mut SegmentFrames) {
    frames.ln_mean_ms += [0.3, -0.2, 0.05, -0.35, 0.22][index % 5];
}

#[test]
fn what_is_faster_is_found_and_a_pair_waits_for_the_segment_after_it() {
    let design = design(Settling::Declared { felt_within_s: 0.5 }, None);
    let margins = Margins::default();
    let segments = sitting(&design, 0, 25, faster(0.05));
    let waiting = judge(&design, margins, &[first_of(&segments, 24)]);
    assert_eq!((waiting.test.pairs(), waiting.verdict()), (11, Verdict::Undecided));
    let judged = judge(&design, margins, &[segments]);
    assert_eq!((judged.test.pairs(), judged.verdict()), (12, Verdict::Better));
    assert_eq!((judged.segments, judged.played_s), (25, 30.0 + 25.0 * 6.0));
    assert!((judged.stutters_a_switch - 1.0).abs() < 1e-12);
    let comparison = judged.comparison(margins, 160);
    let difference = comparison.findings[0].difference.unwrap();
    assert!((difference.estimate - 0.05).abs() < 0.003, "{difference:?}");
    let Measured::Fps { a_fps: Some(a_fps), b_fps: Some(b_fps) } = comparison.findings[0].measured
    else {
        panic!()
    };
    assert!((a_fps - 100.0).abs() < 1.0 && (b_fps / a_fps - 1.05).abs() < 0.005);
}

#[test]
fn sittings_add_up_and_no_pair_spans_two() {
    let design = design(Settling::Declared { felt_within_s: 0.5 }, None);
    let sittings = [sitting(&design, 0, 13, faster(0.05)), sitting(&design, 1, 12, faster(0.05))];
    let judged = judge(&design, Margins::default(), &sittings);
    // Six of the first, whose thirteenth segment has no partner; of the second the last one waits.
    assert_eq!((judged.pairs_played, judged.verdict()), (11, Verdict::Undecided));
    assert_eq!(judged.played_s, 60.0 + 25.0 * 6.0);
    let sittings = [&sittings[..], &[sitting(&design, 2, 0, faster(0.05))]].concat();
    let judged = judge(&design, Margins::default(), &sittings);
    assert_eq!((judged.pairs_played, judged.verdict()), (12, Verdict::Better));
}

#[test]
fn menus_and_caps_drop_their_pairs_and_too_many_end_it() {
    let design = design(Settling::Declared { felt_within_s: 0.5 }, None);
    let mut segments = sitting(&design, 0, 60, wild);
    for segment in segments.segments.iter_mut().step_by(6) {
        segment.frames = None;
    }
    let judged = judge(&design, Margins::default(), &[segments.clone()]);
    assert_eq!((judged.pairs_played, judged.pairs_dropped, judged.test.pairs()), (29, 10, 19));
    assert_eq!(judged.unjudged, None, "a third by now, which may become a quarter");
    for segment in segments.segments.iter_mut().step_by(3) {
        segment.frames = None;
    }
    let judged = judge(&design, Margins::default(), &[segments.clone()]);
    assert_eq!(judged.unjudged, Some(Unjudged::TooMuchIsNoPlay));
    assert_eq!(judged.verdict(), Verdict::Undecided);
    segments.segments.iter_mut().for_each(|segment| segment.looks_capped = true);
    let capped = judge(&design, Margins::default(), &[segments]);
    assert_eq!((capped.unjudged, capped.test.pairs()), (Some(Unjudged::Capped), 0));
}

#[test]
fn what_settles_late_begins_anew_with_longer_segments_and_is_given_up_at_last() {
    let late = |_: usize, arm: Arm, frames: &mut SegmentFrames| {
        if arm == Arm::B {
            frames.ln_halves += 0.04;
        }
    };
    let tested = design(Settling::Tested, None);
    let margins = Margins::default();
    let mut sittings = vec![sitting(&tested, 0, 60, late)];
    let begun = judge(&tested, margins, &sittings);
    assert_eq!((begun.doubled, begun.segments, begun.unjudged), (1, 0, None));
    for doubled in [1, 2] {
        sittings.push(PlayedSitting { doubled, ..sitting(&tested, 0, 60, late) });
    }
    let given_up = judge(&tested, margins, &sittings);
    assert_eq!((given_up.doubled, given_up.unjudged), (2, Some(Unjudged::SettlesTooSlowly)));
    sittings.truncate(1);
    let declared = design(Settling::Declared { felt_within_s: 0.5 }, None);
    let judged = judge(&declared, margins, &sittings);
    assert_eq!((judged.doubled, judged.unjudged), (0, None));
}

#[test]
fn the_places_of_a_loop_are_compared_and_not_neighbours() {
    let design = design(Settling::Declared { felt_within_s: 0.5 }, Some(60.0));
    // Each place of the loop is as heavy in every pass, and very unlike the others.
    let heavy = |index: usize, arm: Arm, frames: &mut SegmentFrames| {
        frames.ln_mean_ms += 0.2 * (index % 6) as f64;
        if arm == Arm::B {
            frames.ln_mean_ms -= 0.02;
            frames.ln_slow_ms -= 0.02;
        }
    };
    let judged = judge(&design, Margins::default(), &[sitting(&design, 0, 48, heavy)]);
    assert_eq!((judged.verdict(), judged.pairs_played), (Verdict::Better, 24));
}

#[test]
fn a_veto_is_worse_and_time_is_out_after_forty_minutes() {
    let design = design(Settling::Declared { felt_within_s: 0.5 }, None);
    let stutters = |_: usize, arm: Arm, frames: &mut SegmentFrames| {
        frames.stutters = if arm == Arm::B { 3 } else { 0 };
        faster(0.05)(0, arm, frames);
    };
    let margins = Margins::default();
    let judged = judge(&design, margins, &[sitting(&design, 0, 26, stutters)]);
    assert_eq!(judged.verdict(), Verdict::Worse);
    assert_eq!(judged.comparison(margins, 160).guards[0].state, GuardState::Vetoes);
    let judged = judge(&design, margins, &[sitting(&design, 0, 395, wild)]);
    assert!(judged.test.is_finished());
    assert_eq!(judged.verdict(), Verdict::Undecided);
}
