//! Beginning an evening: settled and shown first, then what is plainly wrong is mended and a run looks at the frames.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::evidence::Age;
use frevin_core::ids::SceneName;
use frevin_core::layers::ChangeId;
use frevin_core::preview::LeftOut;
use frevin_core::sift::{Pinging, SiftDesign};
use frevin_core::trial::KeepPolicy;
use frevin_core::tune::{Evening, Goal, Mended};
use frevin_core::tweak::TweakId;
use frevin_ledger::Ledger;
use frevin_pc::{PcKind, Restarts};
use schemars::JsonSchema;
use serde::Serialize;

use super::again::{Again, again};
use super::opening::{Mend, Opening, baseline, look, mend, take_back_if_held, take_back_mended};
use super::{Asked, Prepared, prepare, usual_candidates};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::measure::sources::NoGame;
use crate::operations::profiles::keep_ready_made;
use crate::operations::sift::{Only, SiftDriver, SiftRequest};
use crate::operations::target::Named;
use crate::operations::trial::AskedInPlay;

/// The ready-made profile that is asked about for a quiet PC.
const QUIET: &str = "quiet";

/// What its owner wants of an evening.
#[derive(Debug, Clone)]
pub(crate) struct WantedEvening {
    /// What is measured; nothing: the only scene there is, or what the profile names.
    pub(crate) scene: Option<SceneName>,
    pub(crate) budget: Duration,
    pub(crate) goal: Goal,
    /// Whose answers are timed, where those are judged.
    pub(crate) ping: Option<Pinging>,
    /// The profile whose tweaks may be asked about; nothing: one for this kind of PC.
    pub(crate) candidates: Option<String>,
    pub(crate) is_again: bool,
    /// How it is played, where what acts at once is asked about in play first.
    pub(crate) in_play: Option<AskedInPlay>,
    /// Whether nothing is mended first.
    pub(crate) as_it_is: bool,
    /// What else is not mended, by the tweak that would: it may be asked about like any other.
    pub(crate) not_mended: BTreeSet<TweakId>,
    pub(crate) despite_cap: bool,
    /// Tweaks for experts that the owner agreed to.
    pub(crate) experts: BTreeSet<TweakId>,
    pub(crate) seed: u64,
    pub(crate) restarts_by_itself: bool,
}

/// An evening before it begins.
#[derive(Debug, JsonSchema, Serialize)]
pub(crate) struct EveningBeginning {
    pub(crate) scene: SceneName,
    pub(crate) title: String,
    pub(crate) restarts: bool,
    #[serde(flatten)]
    pub(crate) evening: Evening,
    pub(crate) left_out: Vec<LeftOut>,
    /// What is plainly wrong with the PC.
    #[serde(flatten)]
    pub(crate) opening: Opening,
    /// What has changed since the evening before, where what has aged is asked again.
    pub(crate) because: Vec<Age>,
    /// The change of that evening, which is taken back first.
    pub(crate) taken_back_first: Option<ChangeId>,
    #[serde(skip)]
    pub(crate) is_simulated: bool,
}

/// An evening that is settled and not begun.
pub(crate) struct SettledEvening {
    pub(crate) begin: EveningBeginning,
    /// Tweaks for experts that nobody agreed to yet.
    pub(crate) experts_unasked: Vec<TweakId>,
    request: SiftRequest,
    asked: Asked,
    again: Option<Again>,
    /// The tweaks of what is plainly wrong, which are not asked about.
    mending: BTreeSet<TweakId>,
    despite_cap: bool,
}

/// Settles an evening on a PC. Nothing is changed on it.
pub(crate) fn settle(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    wanted: &WantedEvening,
) -> Result<SettledEvening, Failure> {
    let again = match wanted.is_again {
        true => Some(again(context, &*pc, ledger, wanted.scene.as_ref())?),
        false => None,
    };
    // What is wrong with how frames are made is nothing to answers of the network.
    let mut opening = match wanted.as_it_is || wanted.goal == Goal::Ping {
        true => Opening::default(),
        false => look(context, &*pc, ledger)?,
    };
    for mended in again.iter().flat_map(|again| &again.mended) {
        if opening.mends.iter().all(|mend| mend.used != mended.wish.used) {
            opening.mends.push(Mend::again(mended));
        }
    }
    opening.mends.retain(|mend| !wanted.not_mended.contains(&mend.used.tweak));
    let mut request = request(context, &*pc, ledger, wanted, again.as_ref())?;
    let goal = again.as_ref().map_or(wanted.goal, |again| again.goal);
    let (budget, is_again, in_play) = (wanted.budget, wanted.is_again, wanted.in_play.clone());
    let asked = Asked { budget, is_again, goal, in_play };
    request.keep = match goal {
        Goal::Frames | Goal::Ping | Goal::Latency => KeepPolicy::Better,
        Goal::Quiet => KeepPolicy::AsGood,
    };
    keep_ready_made(context, ledger, &Named::Profile(request.profile.clone()))?;
    let mending = opening.mending();
    let planned = |ledger: &Ledger, request: &SiftRequest| {
        prepare(context, &*pc, ledger, request, &asked, &mending)
    };
    let mut prepared = planned(ledger, &request)?;
    let source = SceneSource::find(context, &*pc, ledger, &prepared.sifted.design.scene)?;
    if source.starts_program() {
        // A scene that starts its program anew spares the restart.
        request.runs_start_program = true;
        prepared = planned(ledger, &request)?;
    }
    let Prepared { sifted, evening, restarts } = prepared;
    let begin = EveningBeginning {
        scene: sifted.design.scene,
        title: sifted.design.title,
        restarts,
        evening,
        left_out: sifted.design.left_out,
        opening,
        because: again.as_ref().map(|again| again.because.clone()).unwrap_or_default(),
        taken_back_first: again.as_ref().and_then(|again| again.held.as_ref()).map(|held| held.0),
        is_simulated: pc.identity().kind == PcKind::Rehearsal,
    };
    Ok(SettledEvening {
        begin,
        experts_unasked: sifted.experts_unasked,
        request,
        asked,
        again,
        mending,
        despite_cap: wanted.despite_cap,
    })
}

/// Begins an evening that its owner has agreed to. Where it cannot begin, the PC is what it was.
pub(crate) fn begin<'a>(
    context: &Context,
    pc: &'a mut dyn Restarts,
    ledger: &'a mut Ledger,
    settled: SettledEvening,
) -> Result<SiftDriver<'a>, Failure> {
    let SettledEvening { begin, mut request, asked, again, mending, despite_cap, .. } = settled;
    let mut before = begin.evening;
    if let Some((change, wishes)) = again.and_then(|again| again.held) {
        take_back_if_held(context, &mut *pc, ledger, change)?;
        before.set_aside = wishes;
        request.after_taking_back = None;
    }
    let design = mend_all(context, pc, ledger, &begin.opening.mends, &mut before.mended)
        .and_then(|()| prepare(context, &*pc, ledger, &request, &asked, &mending))
        .and_then(|Prepared { sifted, evening, .. }| {
            let mut evening = Evening {
                mended: before.mended.clone(),
                set_aside: before.set_aside.clone(),
                ..evening
            };
            if evening.looks_first {
                let source = SceneSource::find(context, &*pc, ledger, &sifted.design.scene)?;
                let visit = baseline(context, pc, ledger, &sifted.design, &source, despite_cap)?;
                evening.baseline = Some(visit);
            }
            Ok(SiftDesign { evening: Some(evening), ..sifted.design })
        });
    match design {
        Ok(design) => SiftDriver::begin(context, pc, ledger, design),
        Err(failure) => Err(match take_back_mended(context, &mut *pc, ledger, &before) {
            Ok(_) => failure,
            Err(back) => {
                failure.detail(format!("the PC is not what it was before: {}", back.message)).hint(
                    "`frevin recover` settles what was cut off, `frevin log` shows what was done",
                )
            }
        }),
    }
}

/// Mends what its owner agreed to. What does not hold is put back, said, and left.
fn mend_all(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    mends: &[Mend],
    mended: &mut Vec<Mended>,
) -> Result<(), Failure> {
    for one in mends {
        match mend(context, &mut *pc, ledger, one) {
            Ok(done) => mended.extend(done),
            Err(failure) if failure.kind == Kind::RefusedAndUndone => {
                context.say_on_terminal(format_args!("{} stays: {}", one.title, failure.message));
            }
            Err(failure) => return Err(failure),
        }
    }
    Ok(())
}

/// What is asked of whom, in which scene.
fn request(
    context: &Context,
    pc: &dyn Restarts,
    ledger: &Ledger,
    wanted: &WantedEvening,
    again: Option<&Again>,
) -> Result<SiftRequest, Failure> {
    let profile = match (again, &wanted.candidates) {
        (Some(again), _) => again.profile.clone(),
        (None, Some(profile)) => profile.clone(),
        (None, None) => match wanted.goal {
            Goal::Quiet => QUIET.to_owned(),
            Goal::Frames | Goal::Ping | Goal::Latency => usual_candidates(context, pc)?,
        },
    };
    let without_game = NoGame::scene()?.name;
    let mut scenes = ledger.scenes()?;
    scenes.retain(|scene| scene.name != without_game);
    let only_scene = match &scenes[..] {
        [only] => Some(only.name.clone()),
        _ => None,
    };
    Ok(SiftRequest {
        profile,
        scene: match wanted.goal {
            // Without a scene a ping is judged without a game.
            Goal::Ping => wanted.scene.clone(),
            Goal::Frames | Goal::Quiet | Goal::Latency => {
                again.map(|again| again.scene.clone()).or(wanted.scene.clone()).or(only_scene)
            }
        },
        runs: 1,
        run_seconds: 60,
        seed: wanted.seed,
        budget: None,
        only: again.map(|again| Only { tweaks: again.aged.clone(), why: "it has not aged" }),
        may_be_few: wanted.in_play.is_some(),
        after_taking_back: again.and_then(|again| again.held.as_ref()).map(|held| held.0),
        keep: KeepPolicy::Better,
        experts: wanted.experts.clone(),
        as_administrator: pc.has_administrator_rights()?,
        restarts_by_itself: wanted.restarts_by_itself,
        runs_start_program: false,
        judge: again.map_or(wanted.goal, |again| again.goal).judge(),
        ping: wanted.ping.clone(),
        in_play: None,
    })
}
