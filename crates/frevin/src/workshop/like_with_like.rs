//! Whether runs of two states were recorded under conditions that let them be compared.

use std::collections::BTreeSet;

use frevin_core::frames::RunConditions;

/// How much longer the longest run may be than the shortest before the scene was another.
const LENGTHS_APART: f64 = 1.1;

/// A run that counts.
pub(crate) struct CountedRun {
    pub(crate) seconds: f64,
    pub(crate) conditions: RunConditions,
}

/// What the conditions of the runs of two states, each with its name, do to comparing them: sentences.
pub(crate) fn condition_cautions(
    a: (&str, &[CountedRun]),
    b: (&str, &[CountedRun]),
) -> Vec<String> {
    let mut cautions = Vec::new();
    for (state, runs) in [a, b] {
        cautions.extend(of_frames(state, runs));
    }
    let all = || a.1.iter().chain(b.1);
    cautions.extend(unlike(a, b, "on battery", |run| run.conditions.on_battery == Some(true)));
    if all().all(|run| run.conditions.on_battery == Some(true)) && all().next().is_some() {
        cautions
            .push("All runs were on battery: plugged in, the PC may behave otherwise.".to_owned());
    }
    cautions.extend(unlike(a, b, "while a video was recorded", |run| {
        run.conditions.while_recording == Some(true)
    }));
    let versions: BTreeSet<&str> =
        all().filter_map(|run| run.conditions.game_version.as_deref()).collect();
    if versions.len() > 1 {
        let versions: Vec<&str> = versions.into_iter().collect();
        cautions.push(format!(
            "The runs are of several versions of the game: {}.",
            versions.join(", ")
        ));
    }
    let lengths = || all().map(|run| run.seconds);
    let (shortest, longest) =
        (lengths().fold(f64::INFINITY, f64::min), lengths().fold(0.0, f64::max));
    if longest > LENGTHS_APART * shortest {
        cautions.push(format!(
            "The runs are between {shortest:.0} and {longest:.0} s long: was the same scene played?"
        ));
    }
    cautions
}

/// What the frames of a state's runs show.
fn of_frames(state: &str, runs: &[CountedRun]) -> Vec<String> {
    let counted = runs.len();
    let shown = || runs.iter().map(|run| &run.conditions.shown);
    let mut cautions = Vec::new();
    let caps: Vec<_> = shown().filter_map(|shown| shown.frame_cap).collect();
    if let Some(cap) = caps.first() {
        let (what, how) = if cap.waits_for_display {
            ("have waited for a display", "pictures a second")
        } else {
            ("have been under a frame cap", "a second")
        };
        cautions.push(format!(
            "{} of {counted} runs of {state} look to {what} (about {:.0} {how}): a cap hides what a \
             state could do.",
            caps.len(),
            cap.fps
        ));
    }
    let phases = shown().filter(|shown| !shown.phases.is_empty()).count();
    if phases > 0 {
        cautions.push(format!(
            "{phases} of {counted} runs of {state} hold a stretch unlike the rest, as a menu or a \
             loading screen makes it; `frevin run show` says where."
        ));
    }
    let pauses = shown().filter(|shown| !shown.pauses.is_empty()).count();
    if pauses > 0 {
        cautions.push(format!("{pauses} of {counted} runs of {state} hold a pause."));
    }
    cautions
}

/// Where some runs were under a condition and others were not.
fn unlike(
    a: (&str, &[CountedRun]),
    b: (&str, &[CountedRun]),
    what: &str,
    is_so: impl Fn(&CountedRun) -> bool,
) -> Option<String> {
    let count = |runs: &[CountedRun]| runs.iter().filter(|run| is_so(run)).count();
    let (of_a, of_b) = (count(a.1), count(b.1));
    let (all_a, all_b) = (a.1.len(), b.1.len());
    let is_like = of_a + of_b == 0 || (of_a, of_b) == (all_a, all_b);
    (!is_like).then(|| {
        format!(
            "Runs {what}: {of_a} of {all_a} of {}, {of_b} of {all_b} of {}. Only like can be compared \
             with like.",
            a.0, b.0
        )
    })
}
