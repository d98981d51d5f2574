//! What several tests write.

use frevin_core::ids::{BootId, StateDigest};
use frevin_core::preview::Wish;
use frevin_core::sift::{SiftDesign, SiftRule, SiftedTweak};
use frevin_core::trial::{ArmDesign, Design, KeepPolicy, Question};
use frevin_core::tweak::{Risk, TweakUse};
use frevin_core::verdict::{Histories, Judge, Margins, PairLimit};

pub(crate) fn trial_design() -> Design {
    let arm = |title: &str| ArmDesign { title: title.into(), revision: None, wishes: Vec::new() };
    Design {
        question: Question::Apply,
        a: arm("as it is"),
        b: arm("evening@1"),
        holder: None,
        others: StateDigest::new("none"),
        boot: BootId::new("1"),
        levels: vec!["canyon".parse().unwrap()],
        runs: 3,
        warm_up: 1,
        run_seconds: 60,
        restarts: true,
        restarts_by_itself: false,
        as_administrator: false,
        seed: 1,
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

pub(crate) fn sift_design() -> SiftDesign {
    let tweak = |at: usize| SiftedTweak {
        wish: Wish {
            used: TweakUse::plain(format!("a/t{at}").parse().unwrap()),
            settings: Vec::new(),
            consented: false,
        },
        risk: Risk::Safe,
    };
    SiftDesign {
        title: "evening@1".into(),
        revision: None,
        tweaks: (0..3).map(tweak).collect(),
        left_out: Vec::new(),
        exclusive: Vec::new(),
        needs: Vec::new(),
        others: StateDigest::new("none"),
        boot: BootId::new("1"),
        scene: "canyon".parse().unwrap(),
        runs: 1,
        warm_up: 1,
        run_seconds: 60,
        restarts: true,
        restarts_by_itself: false,
        as_administrator: false,
        rule: SiftRule { seed: 1, row_variance: 1e-4, most_rows: 64 },
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
