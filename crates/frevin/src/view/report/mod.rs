//! Reports as pages: one file that needs nothing else, no script and no network.

mod evening;
mod png;
mod svg;

use frevin_core::evidence::EvidenceFinding;
use frevin_core::figures::IntervalRow;
use frevin_core::profile::without_private;
use frevin_core::tweak::TweakUse;
use frevin_core::verdict::{Comparison, GuardState, PairsOf, Verdict};
use maud::{DOCTYPE, Markup, PreEscaped, html};

use self::svg::{found_name, signed, subject_name};
use super::cautions::in_words;
use super::play::{ending_in_words, holds_in_words};
use super::trial::reason_in_words;
use super::verdict::veto_in_words;
use super::{count, fps, when};
use crate::operations::inspect::FindingHere;
use crate::operations::report::{
    ChangeTold, ChangedSetting, InForceRow, PcTold, PlayTold, ReportData, Told,
};
use crate::operations::sift::SiftReport;
use crate::operations::trial::TrialReport;

pub(crate) use self::png::Fonts;
pub(crate) use self::svg::Drawing;

/// The style of pages.
const STYLE: &str = include_str!("style.css");

/// What is taken out of what a page shows: names of the user and the PC. Nothing, where its owner wants all of it.
pub(crate) struct Private<'a> {
    pub(crate) words: &'a [String],
    pub(crate) is_shown: bool,
}

impl Private<'_> {
    fn without(&self, text: &str) -> String {
        if self.is_shown { text.to_owned() } else { without_private(text, self.words).0 }
    }
}

/// The page of a report.
pub(crate) fn page(data: &ReportData, private: &Private<'_>) -> String {
    let title = private.without(&title(&data.told));
    let drawings = Drawing::all(&data.figures);
    let body = html! {
        (DOCTYPE)
        html lang="en" {
            head {
                meta charset="utf-8";
                meta name="viewport" content="width=device-width, initial-scale=1";
                title { (title) " \u{2013} Frevin" }
                style { (PreEscaped(svg::STYLE)) (PreEscaped(STYLE)) }
            }
            body {
                main {
                    p class="faint" { "Frevin, " (when(data.written_at)) }
                    h1 { (title) }
                    (lead(data, private))
                    (states(&data.told, private))
                    @if let Told::Tune(told) = &data.told { (evening::before_drawings(told, private)) }
                    @for drawing in &drawings {
                        section {
                            h2 { (drawing.title()) }
                            figure {
                                div class="canvas" tabindex="0" role="group" aria-label=(drawing.title()) { (drawing.svg(false)) }
                                figcaption { (drawing.caption()) }
                            }
                        }
                    }
                    (told(data, private))
                    (changes(data, private))
                    (what_numbers_mean(data))
                }
            }
        }
    };
    body.into_string()
}

fn title(told: &Told) -> String {
    match told {
        Told::Trial(trial) => {
            let scenes: Vec<&str> = trial.scenes.iter().map(|scene| scene.as_str()).collect();
            format!("Is {} better than {}, in {}?", trial.b, trial.a, scenes.join(", "))
        }
        Told::Sift(sift) => format!("Which of {} matter in {}?", sift.title, sift.scene),
        Told::Tune(told) => {
            format!("What an evening made of this PC in {}", told.evening.scene)
        }
        Told::Change(change) => format!("Change {}: {}", change.change, change.title),
        Told::Play(told) => format!("Play {}: {}", told.play.id, told.play.plan.title),
        Told::Pc(_) => "This PC".to_owned(),
    }
}

/// What is called A and B on the page.
fn states(told: &Told, private: &Private<'_>) -> Markup {
    let (a, b) = match told {
        Told::Trial(trial) => (trial.a.clone(), trial.b.clone()),
        Told::Sift(sift) => match sift.trial {
            Some(trial) => {
                ("the PC as it was".to_owned(), format!("all that helps, in trial {trial}"))
            }
            None => return html! {},
        },
        Told::Tune(told) if told.evening.trial.is_some() => {
            ("the PC as it came".to_owned(), "the PC as it is tuned".to_owned())
        }
        Told::Tune(_) | Told::Change(_) | Told::Play(_) | Told::Pc(_) => return html! {},
    };
    html! {
        p { strong { "A" } " is " (private.without(&a)) "; " strong { "B" } " is " (private.without(&b)) "." }
    }
}

/// The answer, in a sentence or two.
fn lead(data: &ReportData, private: &Private<'_>) -> Markup {
    let (class, sentences) = match &data.told {
        Told::Trial(trial) => (verdict_class(trial.comparison.verdict), of_trial(trial, data)),
        Told::Sift(sift) => {
            let class = sift.verdict.map_or("", verdict_class);
            (class, of_sift(sift))
        }
        Told::Tune(told) => (told.evening.verdict.map_or("", verdict_class), evening::lead(told)),
        Told::Change(change) => ("", vec![of_change(change, data.changed.len())]),
        Told::Play(told) => ("", vec![of_play(told)]),
        Told::Pc(told) => ("", vec![of_pc(told)]),
    };
    html! {
        div class=(format!("lead {class}")) {
            @for sentence in sentences { p { (private.without(&sentence)) } }
        }
    }
}

fn verdict_class(verdict: Verdict) -> &'static str {
    match verdict {
        Verdict::Better => "better",
        Verdict::Worse => "worse",
        Verdict::Same | Verdict::Undecided => "",
    }
}

fn of_trial(trial: &TrialReport, data: &ReportData) -> Vec<String> {
    let verdict = match trial.comparison.verdict {
        Verdict::Better => "Yes: it is better.",
        Verdict::Worse => "No: it is worse.",
        Verdict::Same => "Neither: there is no difference worth having.",
        Verdict::Undecided => "It could not be told.",
    };
    let mut sentences = vec![verdict.to_owned()];
    let figures = data.figures.intervals.iter().map(|row| {
        format!(
            "{} {} % (between {} and {} %)",
            subject_name(&row.subject),
            signed(row.estimate_percent),
            signed(row.low_percent),
            signed(row.high_percent)
        )
    });
    let figures: Vec<String> = figures.collect();
    if !figures.is_empty() {
        let all = format!("{}; {}.", figures.join(", "), basis(&trial.comparison));
        sentences.push(beginning_large(&all));
    }
    let Some(reason) = trial.reason else { return sentences };
    let why = reason_in_words(reason);
    sentences.push(match (trial.kept, trial.is_taken_back_since) {
        (true, false) => format!("It is in force: {why}."),
        (true, true) => format!("It was kept, since {why}, and taken back later."),
        (false, _) => format!("The PC is as it was before: {why}."),
    });
    sentences
}

fn beginning_large(sentence: &str) -> String {
    let mut letters = sentence.chars();
    letters.next().map_or_else(String::new, |first| first.to_uppercase().chain(letters).collect())
}

fn basis(comparison: &Comparison) -> String {
    let of = match comparison.pairs_are_of {
        PairsOf::Visits => "visits",
        PairsOf::Segments => "segments of play",
    };
    format!("by {} of {of}", count(comparison.pairs, "pair"))
}

fn of_sift(sift: &SiftReport) -> Vec<String> {
    use frevin_core::sift::Found;
    let of = |found: Found| sift.tweaks.iter().filter(|tweak| tweak.found == found).count();
    let mut sentences = vec![format!(
        "Of {} tweaks {} help, {} hurt, {} do neither, and {} could not be told.",
        sift.tweak_count,
        of(Found::Helps),
        of(Found::Hurts),
        of(Found::NoEffect),
        of(Found::Unclear)
    )];
    let together = match sift.verdict {
        Some(Verdict::Better) => "What helps is better together too",
        Some(Verdict::Worse) => "What helps is worse together",
        Some(Verdict::Same) => "What helps makes no difference together",
        Some(Verdict::Undecided) => "Whether what helps is better together could not be told",
        None => "Nothing of it was tried together",
    };
    sentences.push(match (sift.kept, sift.is_taken_back_since) {
        (true, false) => format!("{together}; it is in force."),
        (true, true) => format!("{together}; it was kept, and taken back later."),
        (false, _) => format!("{together}; none of it is in force."),
    });
    sentences
}

fn of_change(change: &ChangeTold, settings: usize) -> String {
    let of = count(settings, "setting");
    match change.is_in_force {
        true => format!("{of}, in force since {}.", when(change.at)),
        false => format!("{of}, of which nothing is in force any more."),
    }
}

fn of_play(told: &PlayTold) -> String {
    let ended = told.play.ended.map_or("It goes on.", |(_, ending)| ending_in_words(ending));
    format!("Held while a game ran, from {}. {ended}", when(told.play.begun_at))
}

fn of_pc(told: &PcTold) -> String {
    let found = told.inspected.findings.found.len();
    let wrong = match found {
        0 => "Nothing is plainly wrong with this PC.".to_owned(),
        1 => "One thing is plainly wrong with this PC.".to_owned(),
        several => format!("{several} things are plainly wrong with this PC."),
    };
    format!("{wrong} {} of Frevin's in force.", count(told.in_force.len(), "tweak"))
}

/// What a report says beside its figures.
fn told(data: &ReportData, private: &Private<'_>) -> Markup {
    match &data.told {
        Told::Trial(trial) => trial_sections(trial, &data.figures.intervals, private),
        Told::Sift(sift) => sift_sections(sift, &data.figures.intervals, private),
        Told::Tune(told) => evening::sections(told, &data.figures.intervals, private),
        Told::Change(_) => html! {},
        Told::Play(told) => play_sections(told),
        Told::Pc(told) => pc_sections(told, private),
    }
}

fn intervals_table(rows: &[IntervalRow], caption: &str, private: &Private<'_>) -> Markup {
    let has_chances = rows.iter().any(|row| row.sure_percent.is_some());
    html! {
        div class="wide" tabindex="0" role="group" aria-label="a table" {
            table {
                caption { (caption) }
                thead { tr {
                    th scope="col" { "of" }
                    th scope="col" class="number" { "difference" }
                    th scope="col" class="number" { "95 % interval" }
                    @if has_chances { th scope="col" class="number" { "sure" } }
                    th scope="col" { "found" }
                } }
                tbody {
                    @for row in rows {
                        tr {
                            th scope="row" { (private.without(&subject_name(&row.subject))) }
                            td class="number" { (format!("{} %", signed(row.estimate_percent))) }
                            td class="number" { (format!("{} to {} %", signed(row.low_percent), signed(row.high_percent))) }
                            @if let Some(sure) = row.sure_percent { td class="number" { (format!("{sure:.0} %")) } }
                            td { (found_name(row)) }
                        }
                    }
                }
            }
        }
    }
}

fn trial_sections(trial: &TrialReport, rows: &[IntervalRow], private: &Private<'_>) -> Markup {
    let vetoes = trial.comparison.guards.iter().filter(|guard| guard.state == GuardState::Vetoes);
    html! {
        section {
            h2 { "In figures" }
            (intervals_table(rows, "B against A. What is worth having was settled before the trial.", private))
            @for guard in vetoes {
                p { strong { "A guard's word: " } (veto_in_words(guard)) "." }
            }
            @if !trial.visits.is_empty() {
                details {
                    summary { "All " (trial.visits.len()) " pairs" }
                    div class="wide" tabindex="0" role="group" aria-label="a table" {
                        table {
                            caption { "In the order in which they were made." }
                            thead { tr {
                                th scope="col" class="number" { "pair" }
                                th scope="col" { "first" }
                                th scope="col" class="number" { "A, average FPS" }
                                th scope="col" class="number" { "B, average FPS" }
                                th scope="col" class="number" { "A, 1% low" }
                                th scope="col" class="number" { "B, 1% low" }
                            } }
                            tbody {
                                @for pair in &trial.visits {
                                    @let first: &str = pair.first.into();
                                    tr {
                                        th scope="row" class="number" { (pair.pair) }
                                        td { (first.to_uppercase()) }
                                        @for side in [&pair.a, &pair.b] {
                                            td class="number" { (side.frames.as_ref().map(|frames| fps(frames.average_fps)).unwrap_or_default()) }
                                        }
                                        @for side in [&pair.a, &pair.b] {
                                            td class="number" { (side.frames.as_ref().map(|frames| fps(frames.low_1_percent_fps)).unwrap_or_default()) }
                                        }
                                    }
                                }
                            }
                        }
                    }
                }
            }
        }
        section {
            h2 { "Conditions and doubts" }
            ul {
                li { "Begun " (when(trial.begun_at)) @if let Some(at) = trial.ended_at { ", ended " (when(at)) } "." }
                li { @if trial.restarts { "The PC restarted before every visit." } @else { "Without restarts." } }
                @if let Some(played) = &trial.in_play {
                    li { (format!("{:.0} minutes of play, {} segments, {} pairs dropped: menus, loading, pauses, caps.",
                        played.minutes, played.segments, played.pairs_dropped)) }
                    li { (format!("What sets in later than {:.0} s after a switch is not seen.", played.settling_s)) }
                }
                @if !trial.voided.is_empty() {
                    li { (count(trial.voided.len(), "visit")) " made again, since they were doubtful." }
                }
                @for caution in &trial.cautions { li { (private.without(&in_words(caution))) } }
                @if trial.cautions.is_empty() { li { "Nothing else weakens it." } }
                li { "The order of the states came from the seed " (trial.seed) "." }
            }
        }
    }
}

fn sift_sections(sift: &SiftReport, rows: &[IntervalRow], private: &Private<'_>) -> Markup {
    html! {
        section {
            h2 { "Each tweak" }
            (intervals_table(rows, "What it does to average FPS. Effects are drawn to none by what is known beforehand: most tweaks do nothing.", private))
            @if !sift.left_out.is_empty() {
                details {
                    summary { (count(sift.left_out.len(), "tweak")) " left out" }
                    ul {
                        @for left_out in &sift.left_out {
                            li { code { (private.without(&left_out.used.to_string())) } ": " (private.without(&left_out.reasons.join("; "))) }
                        }
                    }
                }
            }
        }
        section {
            h2 { "How it was found" }
            ul {
                @match &sift.in_play {
                    Some(played) => {
                        li { (format!("{:.0} minutes of play, {} segments, each another configuration; {} pairs dropped.",
                            played.minutes, played.segments, played.pairs_dropped)) }
                        li { (format!("It had to be sure about {:.0} % and more.", played.smallest_effect_percent)) }
                    }
                    None => {
                        li { (count(sift.configurations, "configuration")) ", about half of the tweaks on in each; one at a time would have taken about " (sift.one_at_a_time) "." }
                    }
                }
                @if let Some(trial) = sift.trial { li { "What helps was tried together in trial " (trial.0) "." } }
                li { "The configurations came from the seed " (sift.seed) "." }
            }
        }
    }
}

fn play_sections(told: &PlayTold) -> Markup {
    let held = holds_in_words(&told.play.plan.process);
    html! {
        section {
            h2 { "What was held" }
            ul {
                @for wish in &told.play.plan.wishes { li { code { (wish.used) } } }
                @if !held.is_empty() { li { "Of the game's process: " (held) } }
            }
        }
        @if let Some(visit) = &told.visit {
            section {
                h2 { "Frames, in ordinary play" }
                @for run in visit.counted() {
                    ul {
                        li { "Average: " (fps(run.metrics.average_fps)) " frames a second" }
                        li { "1% low: " (fps(run.metrics.low_1_percent_fps)) }
                        li { "Stutters: " (run.metrics.stutter.events) }
                    }
                }
                p { "No scene and no other play is comparable with it: what happened in the game moves frames more than any tweak." }
            }
        }
    }
}

fn pc_sections(told: &PcTold, private: &Private<'_>) -> Markup {
    let PcTold { inspected, in_force } = told;
    let facts = &inspected.facts;
    html! {
        section {
            h2 { "What it is" }
            dl {
                dt { "Windows" } dd { "build " (facts.windows.build) }
                dt { "Processor" } dd { (facts.processor.cores) " cores, " (facts.processor.threads) " threads" }
                dt { "Memory" } dd { (facts.memory.size_mib) " MiB" }
                @for card in &facts.graphics {
                    dt { "Graphics" }
                    dd { (private.without(&card.name)) @if let Some(version) = &card.driver_version { ", driver " (version) } }
                }
                @for display in &facts.displays {
                    dt { "Display" }
                    dd { (display.width_px) "x" (display.height_px) ", " (display.refresh_hz) " Hz" }
                }
            }
        }
        section {
            h2 { "What is plainly wrong" }
            @if inspected.findings.found.is_empty() { p { "Nothing that could be told." } }
            @for FindingHere { finding, mending } in &inspected.findings.found {
                h3 { (finding.title) }
                p { (private.without(&finding.evidence)) }
                p { (finding.why) }
                @if let Some(mending) = mending { p { "How it is mended: " code { (mending.command) } } }
                @if let Some(by_hand) = &finding.by_hand { p { (by_hand) } }
            }
            @if !inspected.findings.worth_knowing.is_empty() {
                h3 { "Worth knowing" }
                ul { @for FindingHere { finding, .. } in &inspected.findings.worth_knowing { li { (finding.title) ": " (private.without(&finding.evidence)) } } }
            }
        }
        section {
            h2 { "What is in force, and what is known of it" }
            @if in_force.is_empty() { p { "Nothing of Frevin's." } } @else { (in_force_table(in_force, private)) }
        }
    }
}

fn in_force_table(rows: &[InForceRow], private: &Private<'_>) -> Markup {
    let found = |finding: &EvidenceFinding| match finding {
        EvidenceFinding::Helps => "helps",
        EvidenceFinding::Hurts => "hurts",
        EvidenceFinding::NoEffect => "no effect worth having",
        EvidenceFinding::Unclear => "unclear",
    };
    html! {
        div class="wide" tabindex="0" role="group" aria-label="a table" {
            table {
                caption { "Each with what measuring has told of it on this PC." }
                thead { tr {
                    th scope="col" { "tweak" }
                    th scope="col" { "since" }
                    th scope="col" class="number" { "change" }
                    th scope="col" { "measured" }
                } }
                tbody {
                    @for row in rows {
                        tr {
                            th scope="row" { (private.without(&row.used.to_string())) }
                            td { (when(row.since)) }
                            td class="number" { (row.change.0) }
                            td {
                                @if row.evidence.is_empty() { "never" }
                                @for (finding, [low, estimate, high]) in &row.evidence {
                                    div { (found(finding)) (format!(": {} % ({} to {})", signed(*estimate), signed(*low), signed(*high))) }
                                }
                            }
                        }
                    }
                }
            }
        }
    }
}

/// Whether a part of what an evening tried is in force without the rest, since it mends what was plainly wrong.
fn is_partly_mended(data: &ReportData) -> bool {
    let Told::Tune(told) = &data.told else { return false };
    let is_mended = |used: &TweakUse| told.evening.mended.iter().any(|mended| mended.used == *used);
    data.changed.iter().any(|setting| is_mended(&setting.used))
}

/// What changed on the PC, before and after, and how it is taken back.
fn changes(data: &ReportData, private: &Private<'_>) -> Markup {
    if data.changed.is_empty() {
        return html! {};
    }
    html! {
        section {
            h2 { "What it changes on the PC" }
            div class="wide" tabindex="0" role="group" aria-label="a table" {
                table {
                    caption { (count(data.changed.len(), "setting")) "." }
                    thead { tr {
                        th scope="col" { "tweak" }
                        th scope="col" { "setting" }
                        th scope="col" { "before" }
                        th scope="col" { "after" }
                    } }
                    tbody {
                        @for ChangedSetting { used, address, before, after } in &data.changed {
                            tr {
                                th scope="row" { (private.without(&used.to_string())) }
                                td { code { (private.without(&address.to_string())) } }
                                td { (private.without(&before.to_string())) }
                                td { (private.without(&after.to_string())) }
                            }
                        }
                    }
                }
            }
            @match data.held_by {
                Some(change) => p { "Taken back to the bit by " code { "frevin rollback " (change) } "." },
                None if is_partly_mended(data) => p { "Of it only what was plainly wrong is mended still; nothing else is in force." },
                None => p { "None of it is in force." },
            }
        }
    }
}

/// Every number that a page shows, defined.
fn what_numbers_mean(data: &ReportData) -> Markup {
    let has_frames = !data.figures.frames.is_empty();
    let has_intervals = !data.figures.intervals.is_empty();
    if !has_frames && !has_intervals {
        return html! {};
    }
    html! {
        section {
            h2 { "What the numbers mean" }
            dl {
                dt { "Average FPS" } dd { "Frames divided by seconds. The higher, the better." }
                dt { "1% low FPS" }
                dd { "The rate at the frame time that one frame in a hundred exceeds: how slow the slow moments are." }
                @if has_frames {
                    dt { "Frame time" } dd { "How long a frame is shown, in milliseconds: 16.7 ms are 60 frames a second." }
                    dt { "Stutter" } dd { "A frame that is shown for far longer than those around it." }
                }
                @if has_intervals {
                    dt { "95 % interval" }
                    dd { "Where the true difference lies, in 95 of 100 such trials, over all looks that were taken on the way." }
                    dt { "Worth having" }
                    dd { "The smallest difference that matters, settled beforehand: between its lines, on either side of none, two states count as the same." }
                    dt { "Better, worse" }
                    dd { "Said only where chance alone would say so in fewer than 5 of 100 trials without a difference." }
                }
            }
        }
    }
}
