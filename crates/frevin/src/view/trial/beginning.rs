//! What a trial will do, told before it begins.

use frevin_core::trial::in_play::{InPlay, Settling};
use frevin_core::trial::{KeepPolicy, Question};
use frevin_core::verdict::Judge;

use crate::operations::trial::Beginning;
use crate::view::{Page, count, dim, duration};

/// What a trial will do, before it begins.
pub(crate) fn show_beginning(begin: &Beginning<'_>, page: &mut Page) {
    let design = &begin.designed.design;
    page.heading(format_args!(
        "A trial: is {} better than {}, in {}?",
        design.b.title,
        design.a.title,
        design.scene()
    ));
    for left_out in &begin.designed.left_out {
        page.line(dim(format_args!(
            "  left out: {} ({})",
            left_out.used,
            left_out.reasons.join("; ")
        )));
    }
    if let Some(in_play) = &design.in_play {
        return show_beginning_in_play(begin, in_play, page);
    }
    let visit = if design.restarts {
        format!(
            "a restart, {} to warm up, {} of {} s that count",
            count(design.warm_up, "run"),
            count(design.runs, "run"),
            design.run_seconds
        )
    } else {
        format!("{} of {} s, without restarts", count(design.runs, "run"), design.run_seconds)
    };
    let expected = begin.designed.expected;
    let mut pairs = vec![
        ("changes", count(begin.designed.plan.writes().count(), "setting")),
        ("each visit", visit),
        ("visits", format!("two a pair, in turns; at most {} pairs", design.limit.pairs())),
        (
            "takes",
            format!(
                "{} at least, {} as most trials do, {} at most",
                duration(expected.least),
                duration(expected.typical),
                duration(expected.most)
            ),
        ),
        ("ends with", policy_in_words(design.question, design.keep).to_owned()),
    ];
    if design.restarts_by_itself {
        pairs.push((
            "restarts",
            "by itself: close what you have open; after each, you sign in, and it goes on"
                .to_owned(),
        ));
    }
    for recording in &begin.recording {
        pairs.push(("each run", recording.clone()));
    }
    if let Some(address) = &design.ping {
        let when = match design.judge {
            Judge::FrameRate | Judge::Latency => "around each visit, as a guard",
            Judge::Ping => "during each run, as the judge",
        };
        pairs.push(("asked", format!("{address}, {when}")));
    }
    page.pairs(pairs);
    if begin.is_simulated {
        page.line(dim("  Times are those of a real PC; a rehearsal PC plays them at once."));
    }
    page.paragraph(
        2,
        "Stutters that double cannot be told sooner than after some pairs, and a quarter more hardly at \
         all. To show that there is no difference takes longest.",
    );
}

/// What is asked of somebody who plays.
pub(crate) const PLAY_AS_ALWAYS: &str = "Play as you always do, and leave graphics settings, resolution, window, overlays and recorders alone. You are not \
     told which state you play in: do not look. Menus, loading and pauses are left out. In between the PC is as it was; \
     whatever cuts it off, `frevin recover` puts it back.";

/// What a trial in play will do.
fn show_beginning_in_play(begin: &Beginning<'_>, in_play: &InPlay, page: &mut Page) {
    let design = &begin.designed.design;
    let (settling_s, segment_s) = (in_play.settling_s(0), in_play.segment_s(0));
    let mut pairs = vec![
        (
            "switches",
            format!(
                "{} every {segment_s:.0} s, by a coin",
                count(begin.designed.plan.writes().count(), "setting")
            ),
        ),
        ("not judged", format!("the first {settling_s:.0} s after each switch")),
        ("pairs", format!("at most {} of two segments", in_play.limit(0).pairs())),
        (
            "takes",
            "about 5 min for 10 %, 12 for 5 %, 25 for 3 % in free play; 40 min at most".to_owned(),
        ),
        ("ends with", policy_in_words(design.question, design.keep).to_owned()),
    ];
    if let Some(period) = in_play.loop_s {
        pairs.push((
            "repeats",
            format!("every {period:.1} s: the same place of two passes is compared"),
        ));
    }
    if in_play.settling == Settling::Tested {
        pairs.push((
            "settling",
            "not declared: segments are looked at for it, which a quiet scene shows best"
                .to_owned(),
        ));
    }
    page.pairs(pairs);
    if begin.is_simulated {
        page.line(dim("  Times are those of a real PC; a rehearsal PC plays them at once."));
    }
    page.paragraph(2, PLAY_AS_ALWAYS);
}

fn policy_in_words(question: Question, keep: KeepPolicy) -> &'static str {
    match (question, keep) {
        (Question::Apply, KeepPolicy::Better) => {
            "what is better stays; anything else is taken back"
        }
        (Question::Apply, KeepPolicy::AsGood) => {
            "what is better, or shown to be no different, stays; anything else is taken back"
        }
        (Question::Apply, KeepPolicy::NotWorse) => {
            "what is worse is taken back; anything else stays"
        }
        (Question::Without, KeepPolicy::Better | KeepPolicy::AsGood) => {
            "left out where nothing is lost by it; else put back"
        }
        (Question::Without, KeepPolicy::NotWorse) => "put back where it is worse without it",
        (Question::Against, _) => "the winner in force; without one, what was there before",
    }
}
