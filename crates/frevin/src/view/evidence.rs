//! Evidence as it is shown.

use frevin_core::evidence::{Age, EvidenceFinding, Origin};

use super::{Page, Table, bad, dim, good, percent, warn};
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

fn age_in_words(age: Age) -> &'static str {
    match age {
        Age::OtherBuild => "another build of Windows",
        Age::OtherDriver => "another graphics driver",
        Age::OtherGameVersion => "another version of the game",
    }
}

/// A tweak with what was chosen of it.
fn with_arguments(one: &ToldEvidence) -> String {
    let arguments = one.evidence.used.arguments.iter().flatten();
    let arguments: Vec<String> = arguments.map(|(name, value)| format!("{name}={value}")).collect();
    if arguments.is_empty() {
        one.evidence.used.to_string()
    } else {
        format!("{} ({})", one.evidence.used, arguments.join(", "))
    }
}

/// Pieces of evidence, one a row, with what has become of each below.
pub(crate) fn show_evidence(told: &[ToldEvidence], page: &mut Page) {
    let mut table =
        Table::new(["tweak", "scene", ">average FPS", ">interval", "found", "by", "on"]);
    let share = |of_hundred: f64| percent(of_hundred / 100.0);
    for one in told {
        let evidence = &one.evidence;
        table.row([
            with_arguments(one),
            evidence.scene.scene.to_string(),
            share(one.effect_percent),
            format!("{} to {}", share(evidence.low_percent), share(evidence.high_percent)),
            finding_in_words(evidence.finding),
            origin_in_words(evidence.origin),
            evidence.date.to_string(),
        ]);
    }
    page.table(table);
    for one in told {
        let what = format!("{}, by {}", one.evidence.used, origin_in_words(one.evidence.origin));
        if one.contradicted {
            page.paragraph_in(
                2,
                warn,
                &format!("Contradicted: {what} and another found the opposite."),
            );
        }
        if !one.aged.is_empty() {
            let why: Vec<_> = one.aged.iter().map(|age| age_in_words(*age)).collect();
            page.paragraph_in(2, warn, &format!("Aged: {what}: {} since then.", why.join(", ")));
            page.pairs([("ask again", one.ask_again.clone())]);
        }
    }
}

/// What is said before a tweak is applied that was measured to hurt here.
pub(crate) fn measured_worse_in_words(one: &ToldEvidence) -> String {
    format!(
        "{} was measured worse on this PC: {} in {}, by {} on {}",
        with_arguments(one),
        percent(one.effect_percent / 100.0),
        one.evidence.scene.scene,
        origin_in_words(one.evidence.origin),
        one.evidence.date
    )
}
