//! What an evening keeps, as a profile with the figure of each line.

use frevin_core::ids::{ProfileName, SceneName};
use frevin_core::profile::{Entry, Playing, Profile, Revision};
use frevin_core::sift::SiftId;
use frevin_core::tune::Goal;
use frevin_ledger::{Ledger, LedgerError, SiftRecord};

use super::report::{kept, part_before};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::profiles::save_text;
use crate::operations::sift::{SiftReport, report};
use crate::operations::target::ReadDocument;
use crate::view::percent;
use crate::view::verdict::judged_in_words;

/// The profile that evenings for a goal in a scene are saved as.
fn profile_of(goal: Goal, scene: &SceneName) -> Result<ProfileName, Failure> {
    let what = match goal {
        Goal::Frames => "tuned",
        Goal::Quiet => "quiet",
        Goal::Ping => "low-ping",
        Goal::Latency => "low-latency",
    };
    format!("{what}-{scene}")
        .parse()
        .map_err(|error| Failure::new(Kind::Internal, format!("{error}")))
}

/// What a revision that an evening saved says of itself.
fn message_of(sift: SiftId) -> String {
    format!("evening {sift}")
}

/// The revision that an evening saved, if it has: known also where its profile was deleted since.
pub(super) fn saved(
    ledger: &Ledger,
    goal: Goal,
    sift: &SiftReport,
) -> Result<Option<Revision>, Failure> {
    match ledger.revisions(&profile_of(goal, &sift.scene)?) {
        Ok(revisions) => {
            let message = message_of(sift.sift);
            Ok(revisions.into_iter().rfind(|revision| revision.message == message))
        }
        Err(LedgerError::NoProfile(_)) => Ok(None),
        Err(error) => Err(error.into()),
    }
}

/// Saves what an evening that has ended keeps as a profile, each line with what it was measured to give; once.
pub(crate) fn save_kept(
    context: &Context,
    ledger: &mut Ledger,
    record: &SiftRecord,
) -> Result<(), Failure> {
    let sift = &report(ledger, record, false)?;
    let goal = record.design.evening.as_ref().map_or(Goal::Frames, |evening| evening.goal);
    if !sift.kept || saved(ledger, goal, sift)?.is_some() {
        return Ok(());
    }
    let Some(evening) = &record.design.evening else { return Ok(()) };
    let kept = kept(sift, evening, part_before(ledger, evening)?.as_ref());
    let name = profile_of(goal, &sift.scene)?;
    let day = sift.begun_at.to_zoned(jiff::tz::TimeZone::system()).date();
    let share = |of: f64| percent(of / 100.0);
    let design = &record.design;
    let helping = design.wishes(&record.sift()?.helping());
    let mended = design.evening.iter().flat_map(|evening| evening.tried_with(&helping));
    let mended = mended.map(|mended| Entry {
        tweak: mended.wish.used.tweak.clone(),
        arguments: mended.wish.used.arguments.clone().unwrap_or_default(),
        when: None,
        note: Some(format!(
            "{}; tried with the rest, by evening {} of {day}",
            mended.title, sift.sift
        )),
        span: 0..0,
    });
    let entries = kept.iter().map(|kept| Entry {
        tweak: kept.used.tweak.clone(),
        arguments: kept.used.arguments.clone().unwrap_or_default(),
        when: None,
        note: Some(format!(
            "{} {} ({} to {}), by evening {} of {day}",
            share(kept.effect_percent),
            judged_in_words(design.judge),
            share(kept.low_percent),
            share(kept.high_percent),
            sift.sift
        )),
        span: 0..0,
    });
    let profile = Profile {
        name: name.clone(),
        purpose: match goal {
            Goal::Frames | Goal::Ping | Goal::Latency => {
                format!("What evening {} proved to help in {}", sift.sift, sift.scene)
            }
            Goal::Quiet => {
                format!("What evening {} proved to cost no frames in {}", sift.sift, sift.scene)
            }
        },
        scene: Some(sift.scene.clone()),
        builds_on: Vec::new(),
        without: Vec::new(),
        entries: mended.chain(entries).collect(),
        while_playing: Vec::new(),
        playing: Playing::default(),
    };
    let text = profile.to_document();
    let catalogue = context.catalogue()?;
    let document = ReadDocument::parse(&format!("{name}.toml"), text, &catalogue, ledger)?;
    save_text(context, ledger, &document, &message_of(sift.sift)).map(drop)
}
