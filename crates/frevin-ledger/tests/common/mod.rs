//! What several tests write.

use frevin_core::ids::{BootId, StateDigest};
use frevin_core::trial::{ArmDesign, Design, KeepPolicy, Question};
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
        of_sift: None,
    }
}
