//! Cautions and marks in words.

use frevin_core::visits::{Caution, FrameLimit, Mark, WarmPart};

/// What limits the frames, in a sentence.
pub(crate) fn limit_in_words(limit: &FrameLimit) -> String {
    let percent = |share: f64| format!("{:.0} %", 100.0 * share);
    match limit {
        FrameLimit::Cap(cap) if cap.waits_for_display => {
            format!("The display limits the frames: they wait for its pictures, {:.0} a second.", cap.fps)
        }
        FrameLimit::Cap(cap) => {
            format!("A frame cap limits the frames, at about {:.0} a second.", cap.fps)
        }
        FrameLimit::GraphicsMemory { used_mib, has_mib } => format!(
            "Graphics memory limits the frames: {used_mib:.0} MiB of {has_mib} MiB are in use."
        ),
        FrameLimit::GraphicsCard { busy_share } => format!(
            "The graphics card limits the frames: it is busy {} of the time.",
            percent(*busy_share)
        ),
        FrameLimit::Processor { busy_share } => format!(
            "The processor limits the frames: the thread that makes them is busy {} of the time.",
            percent(*busy_share)
        ),
        FrameLimit::NotGraphicsCard { busy_share: Some(share) } => format!(
            "The graphics card does not limit the frames: it is busy {} of the time. The processor, memory or \
             a drive does.",
            percent(*share)
        ),
        FrameLimit::NotGraphicsCard { busy_share: None } => {
            "The graphics card does not limit the frames: the graphics levels hardly change their rate. The \
             processor, memory or a drive does."
                .to_owned()
        }
    }
}

/// A caution as a sentence or two.
pub(crate) fn in_words(caution: &Caution) -> String {
    match caution {
        Caution::NotInTurns => {
            "The visits were not made in turns: a PC that slowly warms up or fills up would look like a \
             difference. Record A and B alternately."
                .to_owned()
        }
        Caution::Unpaired { visits } => {
            format!("Visits of one state with none of the other beside them, and left out: {visits}.")
        }
        Caution::NotWhole { visits } => {
            format!("Visits that were broken off or are void, and left out: {visits}.")
        }
        Caution::WhileWaiting { runs } => format!(
            "{runs} runs were recorded while the PC did not yet behave by all that was in force: they may \
             not show the state that they are named after."
        ),
        Caution::FirstAfterRestart { runs } => format!(
            "Runs that were the first after a restart, and count all the same: {runs}. They are slower than \
             what follows."
        ),
        Caution::FewRuns { visits } => format!(
            "{visits} visits have fewer than three runs: one odd run weighs more there."
        ),
        Caution::SeveralStates { state } => format!(
            "Visits called `{state}` were made in different states of the PC: the name stands for more than \
             one."
        ),
        Caution::StateNotKnown { visits } => {
            format!("It is not known what was in force at {visits} visits.")
        }
        Caution::SameState => {
            "Both names stand for the same state of the PC: by Frevin's settings there is nothing to compare."
                .to_owned()
        }
        Caution::SeveralPcs => "The visits are not all of the same PC.".to_owned(),
        Caution::SeveralSources => {
            "The runs were recorded in different ways, which count frames differently.".to_owned()
        }
        Caution::OfHost { runs } => format!(
            "{runs} runs are of the PC that Frevin ran on, and not of the rehearsal PC: nothing that was \
             changed there can show in them."
        ),
        Caution::SeveralLatencies { columns } => format!(
            "Latency was read from columns of several names, which may begin and end at other moments: {}. It \
             is not compared.",
            columns.join(", ")
        ),
        Caution::UnlikeTemperatures { part, a_celsius, b_celsius } => {
            let part = match part {
                WarmPart::GraphicsCard => "graphics card",
                WarmPart::Processor => "processor",
            };
            format!(
                "The {part} was at {a_celsius:.0} °C in A and at {b_celsius:.0} °C in B: part of a difference can come \
                 from that. Warm up for longer before each visit."
            )
        }
        Caution::SeveralGraphicsCards { cards } => {
            format!("The game was drawn by several graphics cards: {}.", cards.join(", "))
        }
        Caution::SeveralSystems => {
            "Windows or the graphics driver was updated between the visits.".to_owned()
        }
        Caution::Capped { state, runs, of, fps, waits_for_display } => {
            let (what, how) = if *waits_for_display {
                ("have waited for a display", "pictures a second")
            } else {
                ("have been under a frame cap", "a second")
            };
            format!(
                "{runs} of {of} runs of {state} look to {what} (about {fps:.0} {how}): a cap hides what a \
                 state could do."
            )
        }
        Caution::Phases { state, runs, of } => format!(
            "{runs} of {of} runs of {state} hold a stretch unlike the rest, as a menu or a loading screen \
             makes it; `frevin run show` says where."
        ),
        Caution::Pauses { state, runs, of } => {
            format!("{runs} of {of} runs of {state} hold a pause.")
        }
        Caution::SomeOnBattery(shares) => format!(
            "Runs on battery: {} of {} of A, {} of {} of B. Only like can be compared with like.",
            shares.a, shares.of_a, shares.b, shares.of_b
        ),
        Caution::AllOnBattery => {
            "All runs were on battery: plugged in, the PC may behave otherwise.".to_owned()
        }
        Caution::SomeWhileRecording(shares) => format!(
            "Runs while a video was recorded: {} of {} of A, {} of {} of B. Only like can be compared with \
             like.",
            shares.a, shares.of_a, shares.b, shares.of_b
        ),
        Caution::SeveralVersions { versions } => {
            format!("The runs are of several versions of the game: {}.", versions.join(", "))
        }
        Caution::UnlikeLengths { shortest_s, longest_s } => format!(
            "The runs are between {shortest_s:.0} and {longest_s:.0} s long: was the same scene played?"
        ),
    }
}

/// A mark of a run as a sentence.
pub(crate) fn mark_in_words(mark: &Mark) -> String {
    match mark {
        Mark::Capped(cap) if cap.waits_for_display => format!(
            "It looks to have waited for a display of {:.1} pictures a second: {:.0} % of the frames took a \
             whole number of them.",
            cap.fps,
            cap.share * 100.0
        ),
        Mark::Capped(cap) => format!(
            "It looks to have been under a frame cap: {:.0} % of the frames make just {:.1} a second.",
            cap.share * 100.0,
            cap.fps
        ),
        Mark::Phase(phase) => format!(
            "From {:.0} s on, for {:.0} s, frames are unlike the rest ({:.1} ms on average): a menu, a \
             loading screen, another place?",
            phase.from_s, phase.seconds, phase.mean_ms
        ),
        Mark::Pause(pause) => {
            format!(
                "A pause at {:.0} s: nothing was shown for {:.1} s.",
                pause.from_s, pause.seconds
            )
        }
        Mark::OnBattery => "On battery.".to_owned(),
        Mark::WhileRecording => "While a video was recorded.".to_owned(),
        Mark::GameVersion { version } => format!("Game version {version}."),
        Mark::OfHost => "Frames of the PC that Frevin ran on, not of the rehearsal PC.".to_owned(),
    }
}
