//! Evidence as it is shown.

use std::collections::BTreeSet;

use frevin_core::evidence::{Age, EvidenceFinding, Origin};
use frevin_core::tweak::TweakUse;

use super::{Page, Table, bad, dim, good, named_among, percent, strong, warn};
use crate::operations::evidence::ToldEvidence;

pub(crate) fn finding_in_words(finding: EvidenceFinding) -> String {
    match finding {
        EvidenceFinding::Helps => good("helps"),
        EvidenceFinding::Hurts => bad("hurts"),
        EvidenceFinding::NoEffect => dim("no effect worth having"),
        EvidenceFinding::Unclear => warn("unclear"),
    }
}

pub(crate) fn origin_in_words(origin: Origin) -> String {
    match origin {
        Origin::Trial { trial } => format!("trial {trial}"),
        Origin::Sift { sift } => format!("sift {sift}"),
        Origin::Comparison => "own visits".to_owned(),
    }
}

pub(super) fn age_in_words(age: Age) -> &'static str {
    match age {
        Age::OtherBuild => "another build of Windows",
        Age::OtherDriver => "another graphics driver",
        Age::OtherGameVersion => "another version of the game",
    }
}

/// Pieces of evidence by scene, one a row, with what has become of each below.
pub(crate) fn show_evidence(told: &[ToldEvidence], page: &mut Page) {
    let uses: Vec<&TweakUse> = told.iter().map(|one| &one.evidence.used).collect();
    let scenes: BTreeSet<_> = told.iter().map(|one| &one.evidence.scene.scene).collect();
    let share = |of_hundred: f64| percent(of_hundred / 100.0);
    for scene in scenes {
        page.line(strong(format_args!("In {scene}")));
        let mut table = Table::new(["tweak", ">average FPS", ">interval", "found", "by"]);
        for one in told.iter().filter(|one| one.evidence.scene.scene == *scene) {
            let evidence = &one.evidence;
            table.row([
                named_among(&evidence.used, uses.iter().copied()),
                share(evidence.effect_percent),
                format!("{} to {}", share(evidence.low_percent), share(evidence.high_percent)),
                match evidence.by_guard {
                    true => format!("{}, by a guard", finding_in_words(evidence.finding)),
                    false => finding_in_words(evidence.finding),
                },
                format!("{}, {}", origin_in_words(evidence.origin), evidence.date),
            ]);
        }
        page.table(table);
    }
    for one in told {
        let what = format!("{}, by {}", one.evidence.used, origin_in_words(one.evidence.origin));
        if one.contradicted {
            let said = format!("Contradicted: {what}; another found the opposite.");
            page.paragraph_in(2, warn, &said);
        }
        if !one.aged.is_empty() {
            let why: Vec<_> = one.aged.iter().map(|age| age_in_words(*age)).collect();
            let said = format!("Aged: {what}: {} since then.", why.join(", "));
            page.paragraph_in(2, warn, &said);
            page.pairs([("ask again", one.ask_again.clone())]);
        }
    }
}

/// What is said before a tweak is applied that was measured to hurt here.
pub(crate) fn measured_worse_in_words(one: &ToldEvidence) -> String {
    format!(
        "{} was measured worse on this PC: {} in {}, by {} on {}",
        one.evidence.used,
        percent(one.evidence.effect_percent / 100.0),
        one.evidence.scene.scene,
        origin_in_words(one.evidence.origin),
        one.evidence.date
    )
}
