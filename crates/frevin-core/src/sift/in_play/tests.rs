//! Sifts of made-up play: what helps is found whatever cuts it up, and nothing is found in what is no play.

use rand::{RngExt as _, SeedableRng as _};
use rand_pcg::Pcg64;

use super::*;
use crate::trial::in_play::{PlaySource, Settling};

fn design(loop_s: Option<f64>) -> SiftInPlay {
    let play = InPlay {
        settling: Settling::Declared { felt_within_s: 0.5 },
        loop_s,
        source: PlaySource::Scene,
        sitting_s: None,
        process: crate::playing::ProcessHolds::default(),
        windows_build: None,
        graphics_driver: None,
    };
    SiftInPlay { play, smallest_effect: SmallestEffect::FivePercent, most_play_s: None }
}

/// Six tweaks: the second helps by 8 %, the fifth hurts by as much.
fn new(loop_s: Option<f64>) -> PlayedSift {
    PlayedSift::new(&design(loop_s), 6, 11).unwrap()
}

/// Plays a segment of a sitting in which frames wander by up to 3 %.
fn segment(sift: &PlayedSift, sitting: usize, at: usize, rng: &mut Pcg64) -> Segment {
    let on = sift.configuration(sitting, at);
    let has = |column: usize| f64::from(u8::from(on.columns().contains(&column)));
    let ln_mean_ms = 2.3 - 0.08 * has(1) + 0.08 * has(4) + 0.06 * (rng.random::<f64>() - 0.5);
    let begin_s = LEAD_IN_S + 6.0 * at as f64;
    Segment {
        arm: sift.design.arm(sift.seed, sitting, at, 0),
        begin_s,
        end_s: begin_s + 6.0,
        frames: Some(SegmentFrames {
            frames: 400,
            ln_mean_ms,
            ln_slow_ms: ln_mean_ms + 0.2,
            stutters: 0,
            ln_pacing_ms: 0.0,
            ln_halves: 0.0,
        }),
        looks_capped: false,
        stutters_while_settling: 0,
    }
}

/// Plays sittings of so many segments until it is over; `edit` spoils segments.
fn play(mut sift: PlayedSift, sitting_of: usize, edit: impl Fn(usize, &mut Segment)) -> PlayedSift {
    let mut rng = Pcg64::seed_from_u64(3);
    for sitting in 0.. {
        for at in 0..sitting_of {
            if sift.is_finished() {
                return sift;
            }
            let mut played = segment(&sift, sitting, at, &mut rng);
            edit(at, &mut played);
            sift.take(sitting, &[played]);
        }
        assert!(sitting < 100, "it does not end");
    }
    sift
}

fn sorted(sift: &PlayedSift) -> bool {
    use Found::{Helps, Hurts, NoEffect};
    sift.found_of_columns() == [NoEffect, Helps, NoEffect, NoEffect, Hurts, NoEffect]
}

#[test]
fn what_helps_and_what_hurts_is_found_in_one_sitting_or_many_and_in_a_loop() {
    for (loop_s, sitting_of) in [(None, 400), (None, 15), (Some(60.0), 400), (Some(60.0), 24)] {
        let sift = play(new(loop_s), sitting_of, |_, _| {});
        assert!(sorted(&sift), "{loop_s:?}, {sitting_of}: {:?}", sift.sifting().posteriors());
        assert_eq!(sift.unjudged(), None);
        assert!(sift.played_s() < MOST_PLAY_S);
    }
}

#[test]
fn every_pair_is_a_row_and_its_opposite_and_rows_go_on_from_sitting_to_sitting() {
    let mut sift = new(None);
    let all = Configuration::of(0..6);
    let mut rng = Pcg64::seed_from_u64(1);
    for at in 0..7 {
        let played = segment(&sift, 0, at, &mut rng);
        sift.take(0, &[played]);
    }
    let opposite = |sitting: usize, pair: usize| {
        let [first, second] = [0, 1].map(|of| sift.configuration(sitting, 2 * pair + of));
        let both = first.columns().iter().chain(second.columns());
        Configuration::of(both.copied()) == all
            && first.columns().len() + second.columns().len() == 6
    };
    assert!((0..20).all(|pair| opposite(0, pair) && opposite(1, pair)));
    let row = |sift: &PlayedSift, pair| Configuration::of_row(sift.sifting.row(pair));
    let second = [0, 1].map(|of| sift.configuration(1, of));
    // Three pairs and a segment were played: the second sitting begins with the fifth row.
    assert!(second.contains(&row(&sift, 4)), "{second:?}");
}

#[test]
fn written_down_together_or_one_by_one_it_says_the_same() {
    let whole = play(new(None), 400, |_, _| {});
    let mut at_once = new(None);
    for (number, segments) in whole.sittings.iter().enumerate() {
        at_once.take(number, segments);
    }
    assert_eq!(whole.sifting().posteriors(), at_once.sifting().posteriors());
    assert_eq!(whole.pairs_played(), at_once.pairs_played());
}

#[test]
fn nothing_is_found_where_too_much_is_no_play_or_capped() {
    let menus = play(new(None), 400, |at, segment| {
        if at % 4 == 1 {
            segment.frames = None;
        }
    });
    assert_eq!(menus.unjudged(), Some(Unjudged::TooMuchIsNoPlay));
    assert!(menus.found_of_columns().iter().all(|found| *found == Found::Unclear));
    let capped = play(new(None), 400, |at, segment| segment.looks_capped = at % 3 == 0);
    assert_eq!(capped.unjudged(), Some(Unjudged::Capped));
    // A menu now and then costs its pair.
    let rare = play(new(None), 400, |at, segment| {
        if at % 16 == 1 {
            segment.frames = None;
        }
    });
    assert!(sorted(&rare) && rare.pairs_played().1 > 0);
}
