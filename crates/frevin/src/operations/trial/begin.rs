//! What a trial is to be: from what its owner asked for to its design.

use std::collections::BTreeSet;
use std::time::Duration;

use frevin_core::facts::Facts;
use frevin_core::ids::SceneName;
use frevin_core::layers::{ChangeId, Layers, Selection};
use frevin_core::playing::ProcessHolds;
use frevin_core::preview::{LeftOut, Plan, Reason, Wish};
use frevin_core::profile::{RevisionName, Version};
use frevin_core::setting::{PowerSource, TakesEffect};
use frevin_core::trial::in_play::{InPlay, NotInPlay, PlaySource, Settling, settling};
use frevin_core::trial::{
    ArmDesign, Design, EarlierTrial, Expected, KeepPolicy, Pace, Question, Schedule, histories,
    limit_within,
};
use frevin_core::tweak::{TweakUse, Wanted};
use frevin_core::verdict::{Histories, Judge, Margins, PairLimit};
use frevin_ledger::Ledger;
use frevin_pc::Pc;

use super::pace;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::card_of_games;
use crate::measure::sources::NoGame;
use crate::operations::apply::{Order, make_plan};
use crate::operations::play::ProcessSwitch;
use crate::operations::target::{Named, Target, Unsaved, resolve};
use crate::operations::waiting::waiting;
use crate::view::play::holds_in_words;
use crate::view::trial::not_in_play_in_words;

/// What two states are to be compared, as the owner named them.
#[derive(Debug, Clone)]
pub(crate) enum Arms {
    /// This against what is in force.
    Apply(Named),
    /// The second against the first.
    Against(Named, Named),
    /// What is in force, against the same without a change or a tweak.
    Without(String),
    /// Something of the process that is played.
    Process(ProcessHolds),
}

impl Arms {
    /// Those of them that were named, profiles and tweaks.
    pub(crate) fn named(&self) -> Vec<&Named> {
        match self {
            Self::Apply(named) => vec![named],
            Self::Against(first, second) => vec![first, second],
            Self::Without(_) | Self::Process(_) => Vec::new(),
        }
    }
}

/// What the owner asked for.
#[derive(Debug, Clone)]
pub(crate) struct Request {
    pub(crate) arms: Arms,
    pub(crate) consents: Vec<String>,
    /// What is measured, at each graphics level; nothing: what the profile names.
    pub(crate) scenes: Vec<SceneName>,
    pub(crate) runs: usize,
    pub(crate) run_seconds: u32,
    pub(crate) seed: u64,
    pub(crate) margins: Margins,
    pub(crate) limit: PairLimit,
    pub(crate) budget: Option<Duration>,
    pub(crate) keep: KeepPolicy,
    pub(crate) judge: Judge,
    pub(crate) ping: Option<String>,
    pub(crate) ping_pause_ms: u64,
    /// Whether the PC can be changed with an administrator's rights.
    pub(crate) as_administrator: bool,
    /// Whether Frevin is to restart the PC itself.
    pub(crate) restarts_by_itself: bool,
    /// Whether each run starts what is measured anew.
    pub(crate) runs_start_program: bool,
    /// How it is to be played, where it is a trial in play.
    pub(crate) in_play: Option<AskedInPlay>,
}

/// How a trial in play is to be played.
#[derive(Debug, Clone)]
pub(crate) struct AskedInPlay {
    pub(crate) source: PlaySource,
    pub(crate) loop_s: Option<f64>,
    pub(crate) sitting_s: Option<f64>,
}

/// A trial as it would be.
pub(crate) struct Designed {
    pub(crate) design: Design,
    /// The first change that it would make, for the preview.
    pub(crate) plan: Plan,
    pub(crate) left_out: Vec<LeftOut>,
    pub(crate) expected: Expected,
}

/// A trial as it would be, with what else is shown before it begins.
pub(crate) struct Beginning<'a> {
    pub(crate) designed: &'a Designed,
    /// How a run of each graphics level comes about, where the owner has said.
    pub(crate) recording: Vec<String>,
    pub(crate) is_simulated: bool,
}

/// The two states, before anything else is settled.
struct Sides {
    question: Question,
    a: ArmDesign,
    b: ArmDesign,
    holder: Option<ChangeId>,
    left_out: Vec<LeftOut>,
    /// The scene that a profile says it is measured in.
    scene: Option<SceneName>,
}

/// Settles a trial on a PC. Nothing is written.
pub(crate) fn design(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    request: &Request,
) -> Result<Designed, Failure> {
    let id = &pc.identity().id;
    let layers = ledger.layers(id)?;
    let sides = sides(context, pc, ledger, &layers, request)?;
    let facts = context.facts(pc)?;
    let (a, b) = (&sides.a, &sides.b);
    let plans = [
        checked(pc, ledger, a, sides.holder, sides.question)?,
        checked(pc, ledger, b, sides.holder, sides.question)?,
    ];
    let plan = match (plans.iter().flatten().last(), &request.arms) {
        (Some(plan), _) => plan.clone(),
        (None, Arms::Process(_)) => Plan::default(),
        (None, _) => return Err(Failure::new(Kind::Usage, "there is nothing to compare")),
    };
    let waits = waiting(pc, ledger)?;
    let felt_late = |moment: TakesEffect| !moment.is_felt_in_a_run(request.runs_start_program);
    let moments = plans.iter().flatten().flat_map(Plan::writes).map(|step| step.takes_effect);
    let restarts = moments.chain(waits.iter().map(|waiting| waiting.waits_for)).any(felt_late);
    let levels = match request.scenes[..] {
        // Without a scene a ping is judged without a game.
        [] if request.judge == Judge::Ping => vec![NoGame::scene()?.name],
        [] => sides.scene.clone().into_iter().collect(),
        _ => request.scenes.clone(),
    };
    if levels.is_empty() {
        return Err(Failure::new(Kind::Usage, "say what is to be measured: --scene NAME")
            .hint("`frevin scene list` shows the scenes there are"));
    }
    if let (Arms::Process(holds), Some(asked)) = (&request.arms, &request.in_play) {
        // What cannot be switched is refused before anything is begun.
        ProcessSwitch::new(holds, &asked.source)?;
    }
    let in_play = match &request.in_play {
        None => None,
        Some(asked) => Some(InPlay {
            process: match &request.arms {
                Arms::Process(holds) => holds.clone(),
                Arms::Apply(_) | Arms::Against(..) | Arms::Without(_) => ProcessHolds::default(),
            },
            ..played(context, &facts, &sides, asked)?
        }),
    };
    let mut others = layers;
    if let Some(holder) = sides.holder {
        drop(others.take_out(&Selection::Change(holder)));
    }
    let mut design = Design {
        question: sides.question,
        a: sides.a,
        b: sides.b,
        holder: sides.holder,
        others: others.digest(),
        boot: pc.boot()?,
        levels,
        runs: request.runs,
        warm_up: usize::from(restarts),
        run_seconds: request.run_seconds,
        restarts,
        restarts_by_itself: restarts && request.restarts_by_itself,
        as_administrator: request.as_administrator,
        seed: request.seed,
        limit: request.limit,
        margins: request.margins,
        histories: Histories::default(),
        keep: request.keep,
        judge: request.judge,
        ping: request.ping.clone(),
        ping_pause_ms: request.ping_pause_ms,
        on_battery: facts.power_source == PowerSource::Battery,
        in_play,
        of_sift: None,
    };
    let records = ledger.trials(id)?;
    let earlier: Vec<EarlierTrial> = records
        .iter()
        .filter(|record| record.trial().ended().is_some())
        .map(|record| EarlierTrial { pc: record.pc.clone(), trial: record.trial() })
        .collect();
    design.histories = histories(&earlier, id, &design);
    let pace = pace(&records, design.run_seconds);
    if design.in_play.is_some() {
        // Bounds of the test in play were worked out without earlier trials.
        design.histories = Histories::default();
    }
    if let Some(budget) = request.budget {
        design.limit = limit_for(budget, pace, &design)?;
    }
    let expected = pace.expected(&design, 0);
    Ok(Designed { design, plan, left_out: sides.left_out, expected })
}

/// How a trial in play is played; refused where what it tries cannot be switched to and fro.
fn played(
    context: &Context,
    facts: &Facts,
    sides: &Sides,
    asked: &AskedInPlay,
) -> Result<InPlay, Failure> {
    if sides.question != Question::Apply {
        let message = "in play, a profile or a tweak is tried against what is in force";
        return Err(Failure::new(Kind::Usage, message));
    }
    let settling = settling(&context.catalogue()?, &sides.b.wishes).map_err(|found| {
        let message = "this cannot be tried in play";
        let each = |one: &NotInPlay| not_in_play_in_words(one);
        Failure::new(Kind::Guarded, message)
            .details(found.iter().map(each))
            .hint("try it in visits, without --in-play; or a profile without these tweaks")
    })?;
    in_play(facts, settling, asked)
}

/// How something that settles so soon is played on a PC.
pub(crate) fn in_play(
    facts: &Facts,
    settling: Settling,
    asked: &AskedInPlay,
) -> Result<InPlay, Failure> {
    let AskedInPlay { source, loop_s, sitting_s } = asked.clone();
    let in_play = InPlay {
        settling,
        loop_s,
        source,
        sitting_s,
        process: ProcessHolds::default(),
        windows_build: Some(facts.windows.build),
        graphics_driver: card_of_games(facts).and_then(|card| card.driver_version.clone()),
    };
    if in_play.loop_is_too_short() {
        let shortest = in_play.settling_s(0) + 4.0;
        let message =
            format!("a benchmark that repeats this soon is too short: it takes {shortest} s");
        return Err(Failure::new(Kind::Usage, message)
            .hint("leave --loop out: neighbouring segments are compared then"));
    }
    Ok(in_play)
}

fn limit_for(budget: Duration, pace: Pace, design: &Design) -> Result<PairLimit, Failure> {
    limit_within(budget, pace, Schedule::of(design)).map_err(|needed| {
        let minutes = needed.as_secs().div_ceil(60);
        let message = format!("a trial of this takes up to {minutes} min at least");
        Failure::new(Kind::Usage, message)
            .detail("8 pairs of visits are the fewest that the error is known for")
            .hint(format!("give it --budget {minutes}min, or shorter runs with --seconds"))
    })
}

/// The plan that puts a state in force, where it is one that has to be put in force; refused where it
/// could not be carried out, or would hold nothing.
fn checked(
    pc: &dyn Pc,
    ledger: &Ledger,
    arm: &ArmDesign,
    holder: Option<ChangeId>,
    question: Question,
) -> Result<Option<Plan>, Failure> {
    if arm.wishes.is_empty() {
        return Ok(match (holder, question) {
            // What is left out is a change that is in force.
            (Some(holder), Question::Without) => Some(make_plan(pc, ledger, &[], Some(holder))?),
            _ => None,
        });
    }
    let target = target_of(arm);
    let order = Order::new(pc, ledger, target, holder, false)?;
    order.check()?;
    let is_held_already = holder.is_none() && order.nothing_to_do(pc, ledger)?.is_some();
    if is_held_already || !order.plan.steps.iter().any(|step| step.action.holds()) {
        let message = format!("there is nothing to compare: {} changes nothing now", arm.title);
        let failure = Failure::new(Kind::Usage, message).details(order.plan.left_out.iter().map(
            |left_out| format!("{} is left out: {}", left_out.used, left_out.reasons.join("; ")),
        ));
        return Err(match question {
            Question::Apply | Question::Against => failure
                .hint("what is in force already is judged by leaving it out: --without CHANGE"),
            Question::Without => failure,
        });
    }
    Ok(Some(order.plan))
}

/// A state of a trial as something to be applied.
pub(super) fn target_of(arm: &ArmDesign) -> Target {
    Target {
        title: arm.title.clone(),
        revision: arm.revision.clone(),
        wishes: arm.wishes.clone(),
        left_out: Vec::new(),
        by_hand: Vec::new(),
    }
}

fn sides(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    layers: &Layers,
    request: &Request,
) -> Result<Sides, Failure> {
    let catalogue = context.catalogue()?;
    let facts = context.facts(pc)?;
    let find = |named: &Named| {
        resolve(named, &request.consents, &catalogue, ledger, &facts, Unsaved::Refused)
    };
    let arm = |target: &Target| ArmDesign {
        title: target.title.clone(),
        revision: target.revision.clone(),
        wishes: target.wishes.clone(),
    };
    let scene_of = |named: &Named| match named {
        Named::Profile(name) => {
            crate::operations::target::load(name, &catalogue, ledger, Unsaved::Refused)
                .map(|(profile, _)| profile.scene)
        }
        Named::Tweaks { .. } => Ok(None),
    };
    match &request.arms {
        Arms::Apply(named) => {
            let target = find(named)?;
            Ok(Sides {
                question: Question::Apply,
                a: ArmDesign { title: as_it_is(layers), revision: None, wishes: Vec::new() },
                b: arm(&target),
                holder: None,
                left_out: target.left_out,
                scene: scene_of(named)?,
            })
        }
        Arms::Against(first, second) => {
            let (a, b) = (find(first)?, find(second)?);
            let (arm_a, arm_b) = (arm(&a), arm(&b));
            let left_out = a.left_out.into_iter().chain(b.left_out).collect();
            Ok(Sides {
                question: Question::Against,
                a: arm_a,
                b: arm_b,
                holder: None,
                left_out,
                scene: scene_of(second)?,
            })
        }
        Arms::Without(what) => without(ledger, layers, what),
        Arms::Process(holds) => Ok(Sides {
            question: Question::Apply,
            a: ArmDesign { title: as_it_is(layers), revision: None, wishes: Vec::new() },
            b: ArmDesign { title: holds_in_words(holds), revision: None, wishes: Vec::new() },
            holder: None,
            left_out: Vec::new(),
            scene: None,
        }),
    }
}

fn as_it_is(layers: &Layers) -> String {
    if layers.is_empty() { "the PC as it is".to_owned() } else { "what is in force".to_owned() }
}

/// What is in force, and the same without a change or a tweak.
fn without(ledger: &Ledger, layers: &Layers, what: &str) -> Result<Sides, Failure> {
    let (holder, tweak) = match what.parse::<i64>() {
        Ok(number) => (ChangeId(number), None),
        Err(_) => {
            let holders: BTreeSet<ChangeId> = layers
                .iter()
                .flat_map(|(_, stack)| &stack.layers)
                .filter(|layer| layer.used.tweak.as_str() == what)
                .map(|layer| layer.change)
                .collect();
            let holders: Vec<ChangeId> = holders.into_iter().collect();
            match holders[..] {
                [one] => (one, Some(what)),
                [] => {
                    let message = format!("`{what}` is not in force on this PC");
                    return Err(Failure::new(Kind::NotFound, message)
                        .hint("`frevin rollback --list` shows what is"));
                }
                _ => {
                    let numbers: Vec<String> = holders.iter().map(ToString::to_string).collect();
                    let message = format!("several changes hold `{what}`: {}", numbers.join(", "));
                    return Err(Failure::new(Kind::Usage, message)
                        .hint("judge one of them by its number: --without CHANGE"));
                }
            }
        }
    };
    let change = ledger.change(holder)?;
    let wishes = wishes_in_force(&change.steps, layers, holder);
    if wishes.is_empty() {
        let message = format!("change {holder} is not in force on this PC");
        return Err(Failure::new(Kind::NotFound, message)
            .hint("`frevin rollback --list` shows those that are"));
    }
    let rest: Vec<Wish> = wishes
        .iter()
        .filter(|wish| tweak.is_some_and(|tweak| wish.used.tweak.as_str() != tweak))
        .cloned()
        .collect();
    let revision =
        change.revision.as_deref().and_then(|name| name.parse::<RevisionName>().ok()).and_then(
            |name| match name.version {
                Version::Number(number) => Some((name.profile, number)),
                Version::Latest | Version::HashPrefix(_) => None,
            },
        );
    let left_out = tweak.unwrap_or(&change.title);
    Ok(Sides {
        question: Question::Without,
        b: ArmDesign { title: format!("without {left_out}"), revision: None, wishes: rest },
        a: ArmDesign { title: change.title, revision, wishes },
        holder: Some(holder),
        left_out: Vec::new(),
        scene: None,
    })
}

/// What a change still holds, as wishes: to be taken back and put in force again.
fn wishes_in_force(
    steps: &[frevin_core::preview::Step],
    layers: &Layers,
    change: ChangeId,
) -> Vec<Wish> {
    let mut wishes: Vec<Wish> = Vec::new();
    let is_held = |used: &TweakUse, address: &_| {
        layers.get(address).is_some_and(|stack| {
            stack.layers.iter().any(|layer| layer.change == change && layer.used == *used)
        })
    };
    for step in steps {
        if step.reason != Reason::Wanted || !is_held(&step.used, &step.address) {
            continue;
        }
        let wanted = Wanted {
            address: step.address.clone(),
            state: step.after.clone(),
            takes_effect: step.takes_effect,
        };
        match wishes.iter_mut().find(|wish| wish.used == step.used) {
            Some(wish) => wish.settings.push(wanted),
            // What is in force was agreed to when it was applied.
            None => wishes.push(Wish {
                used: step.used.clone(),
                settings: vec![wanted],
                consented: true,
            }),
        }
    }
    wishes
}
