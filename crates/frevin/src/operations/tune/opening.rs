//! What comes before an evening: what is plainly wrong is mended, and a run tells what limits the frames.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::ids::{NameError, SceneName, StateName};
use frevin_core::layers::{ChangeId, Selection};
use frevin_core::preview::{OnOthers, Wish};
use frevin_core::sift::SiftDesign;
use frevin_core::tune::{Evening, Mended};
use frevin_core::tweak::{Risk, TweakId, TweakUse};
use frevin_core::verdict::Judge;
use frevin_core::visits::{FrameLimit, VisitId, limit_of_runs};
use frevin_ledger::{Change, ChangeStatus, Ledger, SiftRecord};
use frevin_pc::{Pc, Restarts};
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneSource;
use crate::measure::{DeclaredConditions, VisitPlan, visit};
use crate::operations::apply::{self, Order};
use crate::operations::driving::first_held;
use crate::operations::inspect::{FindingHere, findings_here};
use crate::operations::rollback;
use crate::operations::sift::column_of;
use crate::operations::target::{Named, Target, Unsaved, resolve};
use crate::operations::trial::no_latency;
use crate::operations::waiting::waiting;
use crate::view::cautions::limit_in_words;

/// The length of the run before an evening, in seconds.
pub(crate) const BASELINE_S: u32 = 60;

/// Something plainly wrong that a tweak mends, which can be taken back.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct Mend {
    /// What is wrong.
    pub(crate) title: String,
    /// What was seen.
    pub(crate) evidence: String,
    pub(crate) why: String,
    #[serde(flatten)]
    pub(crate) used: TweakUse,
    #[serde(skip)]
    pub(crate) wish: Wish,
}

/// What is plainly wrong with a PC before an evening.
#[derive(Debug, Default, JsonSchema, Serialize)]
pub(crate) struct Opening {
    /// What a tweak mends, the most worthwhile first.
    pub(crate) mends: Vec<Mend>,
    /// What only its owner can mend.
    pub(crate) by_hand: Vec<FindingHere>,
}

impl Opening {
    /// The tweaks by which something is mended, which are not asked about then.
    pub(crate) fn mending(&self) -> BTreeSet<TweakId> {
        self.mends.iter().map(|mend| mend.used.tweak.clone()).collect()
    }
}

impl Mend {
    /// The same as before an evening before, whose mends are taken back with what it kept.
    pub(crate) fn again(mended: &Mended) -> Self {
        Self {
            title: mended.title.clone(),
            evidence: format!("{}, and was mended before.", mended.title),
            why: String::new(),
            used: mended.wish.used.clone(),
            wish: mended.wish.clone(),
        }
    }
}

/// Looks at what is plainly wrong with a PC.
pub(crate) fn look(context: &Context, pc: &dyn Pc, ledger: &Ledger) -> Result<Opening, Failure> {
    let catalogue = context.catalogue()?;
    let facts = context.facts(pc)?;
    let found = findings_here(context, pc, &facts, &waiting(pc, ledger)?)?.found;
    let mut opening = Opening::default();
    for one in found {
        let finding = &one.finding;
        let tweak = finding.tweak.as_ref().and_then(|tweak| catalogue.get(tweak));
        let chosen = one.mending.as_ref().is_some_and(|mending| mending.to_choose.is_empty());
        let Some(tweak) =
            tweak.filter(|tweak| chosen && tweak.manual.is_none() && tweak.risk != Risk::Expert)
        else {
            opening.by_hand.push(one);
            continue;
        };
        let parameters = finding.set.iter().map(|(name, value)| format!("{name}={value}"));
        let named =
            Named::Tweaks { ids: vec![tweak.id.to_string()], parameters: parameters.collect() };
        let target = resolve(&named, &[], &catalogue, ledger, &facts, Unsaved::Refused)?;
        let is_sound = match &target.wishes[..] {
            [wish] => column_of(pc, ledger, wish, None)?.is_ok(),
            _ => false,
        };
        match target.wishes.into_iter().next().filter(|_| is_sound) {
            None if opening.by_hand.iter().any(|other| other.mending == one.mending) => {}
            None => opening.by_hand.push(one),
            // One tweak may mend the same of several displays at once.
            Some(wish) if opening.mends.iter().any(|mend| mend.used == wish.used) => {}
            Some(wish) => opening.mends.push(Mend {
                title: finding.title.clone(),
                evidence: finding.evidence.clone(),
                why: finding.why.clone(),
                used: wish.used.clone(),
                wish,
            }),
        }
    }
    Ok(opening)
}

/// Mends one thing, in a change of its own; nothing where the PC holds it by now.
pub(crate) fn mend(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    mend: &Mend,
) -> Result<Option<Mended>, Failure> {
    let target = Target {
        title: format!("{}: {}", mend.used, mend.title),
        wishes: vec![mend.wish.clone()],
        ..Target::nothing()
    };
    let order = Order::new(pc, ledger, target, None, false)?;
    if order.nothing_to_do(pc, ledger)?.is_some() {
        return Ok(None);
    }
    let applied = apply::apply(context, pc, ledger, order)?.applied;
    Ok(applied.map(|applied| Mended {
        title: mend.title.clone(),
        wish: mend.wish.clone(),
        change: applied.change,
    }))
}

/// The title of the change that puts in force again what was set aside for an evening.
const SET_ASIDE: &str = "what an evening before kept";

/// Puts the PC back to what it was before an evening that was given up; whether anything was left to do. What its owner has
/// done since then stays.
pub(crate) fn put_back_before(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    record: &SiftRecord,
) -> Result<bool, Failure> {
    let Some(evening) = &record.design.evening else { return Ok(false) };
    let changes = ledger.changes(&record.pc)?;
    let was_put_back = |one: &Change| {
        one.operation > record.operation
            && one.title == SET_ASIDE
            && one.status == ChangeStatus::Applied
    };
    if changes.iter().any(was_put_back) {
        return Ok(false);
    }
    take_back_mended(&context.clone().with_word_given(), pc, ledger, evening)
}

/// Takes back what was mended before an evening, and puts in force again what was set aside for it: the PC is what it was
/// before the evening. What is back already stays so; whether anything was not.
pub(super) fn take_back_mended(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    evening: &Evening,
) -> Result<bool, Failure> {
    let mut did_something = false;
    let mended: Vec<ChangeId> = evening.mended.iter().rev().map(|mended| mended.change).collect();
    for change in mended {
        did_something |= take_back_if_held(context, pc, ledger, change)?;
    }
    if evening.set_aside.is_empty() {
        return Ok(did_something);
    }
    let target = Target {
        title: SET_ASIDE.to_owned(),
        wishes: evening.set_aside.clone(),
        ..Target::nothing()
    };
    let order = Order::new(pc, ledger, target, None, false)?;
    if order.nothing_to_do(pc, ledger)?.is_none() {
        apply::apply(context, pc, ledger, order)?;
        did_something = true;
    }
    Ok(did_something)
}

/// Takes a change back, where it still holds something; whether it did.
pub(crate) fn take_back_if_held(
    context: &Context,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    change: ChangeId,
) -> Result<bool, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    if first_held(&layers, [(change, ())]).is_none() {
        return Ok(false);
    }
    let (selection, on_others) = (Selection::Change(change), OnOthers::Stop);
    let back = rollback::make_way_back(pc, ledger, &selection, on_others)?;
    rollback::roll_back(context, pc, ledger, &selection, on_others, back)?;
    Ok(true)
}

/// Records a run of what is measured, before anything of it is tried.
///
/// # Errors
/// Where frames are capped, so that little of what is asked could be seen, and nobody goes on despite that; where latency is
/// judged and nothing tells it.
pub(crate) fn baseline(
    context: &Context,
    pc: &mut dyn Restarts,
    ledger: &mut Ledger,
    design: &SiftDesign,
    source: &SceneSource,
    despite_cap: bool,
) -> Result<VisitId, Failure> {
    context.say_on_terminal("what limits the frames is looked at first");
    let scene: &SceneName = &design.scene;
    // One name is of one state: each that an evening begins in has its own.
    let digest = ledger.layers(&pc.identity().id)?.digest();
    let short: String = digest.as_str().chars().take(8).collect();
    let state_name: StateName = format!("before-tuning-{short}")
        .parse()
        .map_err(|error: NameError| Failure::new(Kind::Internal, error.to_string()))?;
    let plan = VisitPlan {
        scene,
        state_name: &state_name,
        runs: 1,
        warm_up: None,
        length: Duration::from_secs(BASELINE_S.into()),
        despite_waiting: true,
        declared: &DeclaredConditions::default(),
        ping: None,
        ping_runs: None,
        made_for: None,
    };
    let mut source = source.make(context)?;
    let pc: &mut dyn Pc = &mut *pc;
    let id = visit(context, ledger, Some(pc), &mut *source, &plan)?;
    let visit = ledger.visit(id)?;
    if design.judge == Judge::Latency && visit.latency_columns().is_empty() {
        return Err(no_latency(&visit.scene));
    }
    let limit = limit_of_runs(visit.counted().map(|run| (run, &visit.context)));
    // A cap hides what is gained in frame rate, and nothing else.
    let hides = |limit: &FrameLimit| {
        matches!(limit, FrameLimit::Cap(_)) && design.judge == Judge::FrameRate && !despite_cap
    };
    match limit.filter(hides) {
        None => Ok(id),
        Some(limit) => Err(Failure::new(Kind::Guarded, "nothing was begun: frames are capped")
            .detail(limit_in_words(&limit))
            .hint("take the cap off in the game and in the driver while it is measured")
            .hint("--despite-cap goes on all the same")),
    }
}
