//! The page of an evening: before, after, what did it and what did not.

use frevin_core::evidence::Age;
use frevin_core::figures::IntervalRow;
use frevin_core::sift::{Found, FoundTweak, SiftProgress};
use frevin_core::tune::Goal;
use frevin_core::verdict::Judge;
use maud::{Markup, html};

use super::super::cautions::limit_in_words;
use super::super::evidence::age_in_words;
use super::super::trial::reason_in_words;
use super::super::verdict::{judged_in_words, primary_in_words, veto_in_words};
use super::super::{count, duration, fps, when};
use super::svg::signed;
use super::{Private, intervals_table};
use crate::operations::report::{BeforeAndAfter, EveningTold, FiguresBeforeAndAfter};
use crate::operations::tune::{KeptTweak, TuneReport};

/// The answer, in a sentence or two.
pub(super) fn lead(told: &EveningTold) -> Vec<String> {
    let report = &told.evening;
    let mut sentences = Vec::new();
    match (&report.gain_percent, report.is_kept) {
        (Some(gain), true) => {
            let from_to = "from the PC as it came to the PC as it is tuned";
            let interval = format!("between {} and {} %", signed(gain.low), signed(gain.high));
            let (estimate, scene) = (signed(gain.estimate), &report.scene);
            sentences.push(match report.goal {
                Goal::Frames | Goal::Ping | Goal::Latency => {
                    let judged = judged_in_words(report.judge);
                    format!("{estimate} % {judged} in {scene} ({interval}), {from_to}.")
                }
                Goal::Quiet => format!(
                    "Less power and noise for the same frames in {scene}: average FPS differs by {estimate} % ({interval}), {from_to}."
                ),
            });
            sentences.push(
                "Proven in turns, one state against the other, in an order that chance decided."
                    .to_owned(),
            );
        }
        _ => sentences.push(match (report.progress, report.reason) {
            (SiftProgress::Ended, Some(reason)) => {
                format!("Nothing is kept: {}.", reason_in_words(reason))
            }
            (SiftProgress::Ended, None) => "Nothing of what was asked about helps here.".to_owned(),
            _ => "It has not ended yet.".to_owned(),
        }),
    }
    if report.is_taken_back_since {
        sentences.push("What was kept was taken back later.".to_owned());
    }
    sentences
}

/// What stands before the drawings: frame rates of both states, and what made the difference.
pub(super) fn before_drawings(told: &EveningTold, private: &Private<'_>) -> Markup {
    let report = &told.evening;
    html! {
        @if !told.rates.is_empty() {
            section {
                h2 { "Before and after" }
                (rates_table(&told.rates))
                @for guard in &report.vetoes { p { "Against it: " (veto_in_words(guard)) "." } }
                @if let Some(limit) = &report.frame_limit { p { "Before: " (limit_in_words(limit)) } }
            }
        }
        @if report.is_kept {
            section {
                h2 { "What did it" }
                (kept_table(report, private))
                @if !report.mended.is_empty() {
                    p { "What was plainly wrong was mended first, and tried together with the rest: it has no figure of its own." }
                }
            }
        }
        @if !report.is_kept && !report.mended.is_empty() {
            section {
                h2 { "What was mended first, and stays mended whatever was found" }
                ul {
                    @for mended in &report.mended {
                        li { (private.without(&mended.title)) " (" (private.without(&mended.used.to_string())) ")" }
                    }
                }
            }
        }
        (section_of_found(report, private))
    }
}

fn figures_in_words(figures: FiguresBeforeAndAfter) -> (String, String) {
    let ms = |ms: f64| format!("{ms:.2} ms");
    match figures {
        FiguresBeforeAndAfter::Fps { before_fps, after_fps } => (fps(before_fps), fps(after_fps)),
        FiguresBeforeAndAfter::Ms { before_ms, after_ms } => (ms(before_ms), ms(after_ms)),
    }
}

fn rates_table(rates: &[BeforeAndAfter]) -> Markup {
    html! {
        div class="wide" tabindex="0" role="group" aria-label="a table" {
            table {
                caption { "Medians of the visits of the proof." }
                thead { tr {
                    th scope="col" { "of" }
                    th scope="col" class="number" { "before" }
                    th scope="col" class="number" { "after" }
                    th scope="col" class="number" { "difference" }
                } }
                tbody {
                    @for rate in rates {
                        @let (before, after) = figures_in_words(rate.figures);
                        tr {
                            th scope="row" { (primary_in_words(rate.of)) }
                            td class="number" { (before) }
                            td class="number" { (after) }
                            td class="number" { @if let Some(difference) = rate.difference_percent { (signed(difference)) " %" } }
                        }
                    }
                }
            }
        }
    }
}

fn kept_table(report: &TuneReport, private: &Private<'_>) -> Markup {
    html! {
        div class="wide" tabindex="0" role="group" aria-label="a table" {
            table {
                caption { "What is kept, with what each gives by itself." }
                thead { tr {
                    th scope="col" { "tweak" }
                    th scope="col" class="number" { (judged_in_words(report.judge)) }
                    th scope="col" class="number" { "95 % interval" }
                } }
                tbody {
                    @for KeptTweak { used, effect_percent, low_percent, high_percent } in &report.kept {
                        tr {
                            th scope="row" { (private.without(&used.to_string())) }
                            td class="number" { (format!("{} %", signed(*effect_percent))) }
                            td class="number" { (format!("{} to {} %", signed(*low_percent), signed(*high_percent))) }
                        }
                    }
                    @for mended in &report.mended {
                        tr {
                            th scope="row" { (private.without(&mended.used.to_string())) }
                            td colspan="2" { "mended: " (private.without(&mended.title)) }
                        }
                    }
                }
            }
        }
    }
}

/// What was asked about and is not kept.
fn section_of_found(report: &TuneReport, private: &Private<'_>) -> Markup {
    let of = |found: Found| -> Vec<&FoundTweak> {
        let kept = |tweak: &FoundTweak| report.kept.iter().any(|kept| kept.used == tweak.used);
        report.found.iter().filter(|tweak| tweak.found == found && !kept(tweak)).collect()
    };
    let groups = [
        ("Helped, and is not kept", of(Found::Helps)),
        ("Hurt", of(Found::Hurts)),
        ("Did nothing that is worth having", of(Found::NoEffect)),
        ("Could not be told", of(Found::Unclear)),
    ];
    if report.found.is_empty() {
        return html! {};
    }
    html! {
        section {
            h2 { "What did not" }
            dl {
                @for (title, tweaks) in groups.iter().filter(|(_, tweaks)| !tweaks.is_empty()) {
                    dt { (title) ", " (tweaks.len()) }
                    dd {
                        @for (at, tweak) in tweaks.iter().enumerate() {
                            @if at > 0 { ", " }
                            (private.without(&tweak.used.to_string()))
                        }
                    }
                }
                @if !report.plan.not_asked.is_empty() {
                    dt { "Not asked about, " (report.plan.not_asked.len()) }
                    dd { "Less was expected of them than the time was worth." }
                }
            }
        }
    }
}

/// What stands behind the drawings.
pub(super) fn sections(told: &EveningTold, rows: &[IntervalRow], private: &Private<'_>) -> Markup {
    let report = &told.evening;
    let minutes = |minutes: f64| duration(std::time::Duration::from_secs_f64(60.0 * minutes));
    let again = [Age::OtherBuild, Age::OtherDriver, Age::OtherGameVersion].map(age_in_words);
    html! {
        @if !rows.is_empty() {
            section {
                details {
                    summary { "Each tweak in figures" }
                    (intervals_table(rows, &format!("What it does to {}. Effects are drawn to none by what is known beforehand: most tweaks do nothing.", judged_in_words(report.judge)), private))
                }
            }
        }
        section {
            h2 { "How it was found" }
            ul {
                li { "Begun " (when(report.begun_at)) "; it took " (minutes(report.spent_minutes)) " of " (minutes(report.budget_minutes)) "." }
                @if let Some(played) = &report.played {
                    li {
                        (count(report.plan.in_play.as_ref().map_or(0, |play| play.asked.len()), "tweak")) " in " (minutes(played.minutes))
                        " of play, switched every few seconds."
                    }
                }
                @if report.configurations > 0 { li {
                    (count(report.configurations, "configuration")) " of " (count(report.plan.asked.len(), "tweak"))
                    ", about half of them on in each."
                } }
                @if report.configurations > 0 {
                    li { (format!("Effects of {:.1} % and more are found in four of five cases.", report.plan.smallest_effect_percent)) }
                }
                @if let Some(trial) = report.trial { li { "What helped was tried together in trial " (trial.0) "." } }
                @if let Some(profile) = &report.profile { li { "It is kept as the profile " code { (profile) } "." } }
            }
        }
        @if report.judge == Judge::FrameRate {
            section {
                h2 { "When to ask again" }
                p { "After " (again[0]) ", " (again[1]) " or " (again[2]) ": " code { "frevin tune --again --scene " (report.scene) } " asks again about what has aged." }
            }
        }
    }
}
