//! `frevin play`: what is held for which game, settled and begun.

use std::path::Path;

use frevin_core::expression::Expression;
use frevin_core::playing::{GameStart, PcHolds, PlayEnding, PlayPlan, PlayRecording, ProcessHolds};
use frevin_core::preview::LeftOut;
use frevin_core::profile::{Playing, PurgeFormulas};
use frevin_core::trial::in_play::PlaySource;
use frevin_core::visits::Scene;
use frevin_ledger::Ledger;
use frevin_pc::{Pc, PcKind};

use super::{StartArgs, events_of, wait};
use crate::commands::in_play::ordinary_play;
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::apply::Order;
use crate::operations::play::{PlayFiles, refuse_playing, start_watcher};
use crate::operations::profiles::keep_ready_made;
use crate::operations::refuse_unfinished;
use crate::operations::target::{Named, Target, Unsaved, load, resolve_playing};
use crate::outcome::Outcome;
use crate::view::Page;
use crate::view::plan::with_article;
use crate::view::play::{PlayReport, show_beginning};

/// Holds what is asked for, starts the game, and waits until it has ended.
pub(super) fn start(context: &Context, args: &StartArgs) -> Result<Outcome, Failure> {
    let (pc, mut ledger) = (context.pc()?, context.ledger()?);
    refuse_unfinished(&ledger, &*pc)?;
    crate::operations::trial::refuse_open(&ledger, &*pc)?;
    refuse_playing(&ledger, &*pc)?;
    if let Some(profile) = &args.profile {
        keep_ready_made(context, &mut ledger, &Named::Profile(profile.clone()))?;
    }
    let target = target(context, &*pc, &ledger, args)?;
    let start = game_start(context, &*pc, args)?;
    let playing = playing(context, &ledger, args)?;
    let facts = context.facts(&*pc)?;
    let around = playing.around(&facts).map_err(|error| {
        Failure::new(Kind::Usage, format!("when memory is given back: {error}"))
    })?;
    refuse_untold_memory(&*pc, &around)?;
    let process = playing.process;
    if target.wishes.is_empty() && process.is_empty() && around.is_empty() {
        return Err(Failure::new(Kind::Usage, "there is nothing to hold")
            .details(
                target
                    .left_out
                    .iter()
                    .map(|one| format!("{}: {}", one.used, one.reasons.join("; "))),
            )
            .hint("name a --profile or a --tweak, a --priority or --processors; `frevin play --help` lists what else"));
    }
    let order = Order::new(&*pc, &ledger, target, None, false)?;
    order.check()?;
    let settings = order.plan.writes().count();
    let plan = PlayPlan {
        title: if order.target.title.is_empty() {
            if process.is_empty() { "the PC" } else { "the game's process" }.to_owned()
        } else {
            order.target.title.clone()
        },
        start,
        game_file: args.game.clone(),
        wishes: order.target.wishes.clone(),
        process: process.clone(),
        pc: around,
        recording: recording(context, &*pc, args)?,
    };
    let mut page = Page::default();
    show_beginning(&plan, settings, &order.target.left_out, &mut page);
    context.confirm(&page, "Begin it?")?;
    let files = PlayFiles::of(context);
    let busy = || {
        Failure::new(Kind::Busy, "another game is being played: `frevin play status` tells which")
    };
    let Some(beginning) = files.wait_for_begin_lock()? else { return Err(busy()) };
    if files.is_watched()? {
        return Err(busy());
    }
    files.prepare()?;
    if let Some(recording) = &plan.recording {
        add_scene(context, &*pc, &mut ledger, args, recording)?;
    }
    let id = ledger.begin_play(&pc.identity().id, context.clock.now(), &plan)?;
    let left_out = order.target.left_out;
    drop(ledger);
    let watcher = start_watcher(context, id)?;
    context.say_on_terminal(
        "Held until the game ends, also where this window is closed. `frevin play stop` puts it back before.",
    );
    let (ending, status) = wait(context, &*pc, id, beginning, Some(watcher))?;
    let report = PlayReport {
        play: id,
        title: plan.title,
        ending,
        settings,
        process,
        events: events_of(context, id)?,
        problems: status.problems,
        left_out,
    };
    let is_yes = !matches!(ending, PlayEnding::NoGame | PlayEnding::NotHeld);
    Ok(Outcome::with(&report, is_yes))
}

/// What is held of the game's process and around it: what the profile says, and what was asked for above that.
fn playing(context: &Context, ledger: &Ledger, args: &StartArgs) -> Result<Playing, Failure> {
    let formula = |written: &String| {
        Expression::parse(written).map_err(|error| Failure::new(Kind::Usage, error.to_string()))
    };
    let purge = match &args.purge_below {
        None => None,
        Some(below) => Some(PurgeFormulas {
            free_below_mib: formula(below)?,
            standby_above_mib: args.purge_above.as_ref().map(formula).transpose()?,
            pause_s: args.purge_pause,
        }),
    };
    let asked = Playing {
        process: ProcessHolds {
            priority: args.priority,
            processors: args.processors.clone(),
            unthrottled: args.unthrottled,
            memory_priority: args.memory_priority,
        },
        timer: args.timer_ms,
        purge,
        others: args.lower_others.clone(),
    };
    let of_profile = match &args.profile {
        None => Playing::default(),
        Some(profile) => load(profile, &context.catalogue()?, ledger, Unsaved::Refused)?.0.playing,
    };
    Ok(asked.over(of_profile))
}

/// What takes an administrator is said before the game starts.
fn refuse_untold_memory(pc: &dyn Pc, around: &PcHolds) -> Result<(), Failure> {
    if around.purge.is_none() || pc.memory()?.is_some() {
        return Ok(());
    }
    let message = "this PC does not tell this user how its memory is used";
    Err(Failure::new(Kind::Guarded, message)
        .hint("on Windows, start it as an administrator; or leave what purges memory out"))
}

/// What is to be held, of what acts at once: the rest would be felt when the game has long ended.
fn target(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    args: &StartArgs,
) -> Result<Target, Failure> {
    let Some(named) = args.tweaks.or_profile(args.profile.as_ref()) else {
        return Ok(Target::nothing());
    };
    let (catalogue, facts) = (context.catalogue()?, context.facts(pc)?);
    let mut target = resolve_playing(&named, &args.allow_protected, &catalogue, ledger, &facts)?;
    let acts_late = |wish: &frevin_core::preview::Wish| {
        let moments = wish.settings.iter().map(|one| one.takes_effect);
        moments.into_iter().find(|moment| !moment.is_felt_by_the_next_program())
    };
    let (now, late): (Vec<_>, Vec<_>) =
        target.wishes.into_iter().partition(|wish| acts_late(wish).is_none());
    target.wishes = now;
    target.left_out.extend(late.into_iter().map(|wish| {
        LeftOut {
            reasons: acts_late(&wish)
                .map(|moment| format!("it acts after {}: apply it instead", with_article(moment)))
                .into_iter()
                .collect(),
            used: wish.used,
        }
    }));
    Ok(target)
}

/// How its frames are recorded, where that is asked for.
fn recording(
    context: &Context,
    pc: &dyn Pc,
    args: &StartArgs,
) -> Result<Option<PlayRecording>, Failure> {
    if !args.record {
        return Ok(None);
    }
    let file_of = |program: &str| {
        let name = Path::new(program).file_name();
        name.map_or_else(|| program.to_owned(), |name| name.to_string_lossy().into_owned())
    };
    let program =
        args.game.clone().or(args.attach.clone()).or(args.program.as_deref().map(file_of));
    let is_rehearsed = pc.identity().kind == PcKind::Rehearsal;
    let known = args.scene.as_ref().map(|scene| context.scene_recording(scene)).transpose()?;
    let traced = known.flatten().and_then(|recording| recording.program).or(program);
    let source = match (&args.growing, &args.scene, traced) {
        (Some(file), _, _) => PlaySource::GrowingLog { file: std::path::absolute(file)? },
        (None, Some(_), None) if is_rehearsed => PlaySource::Scene,
        (None, _, Some(file)) => PlaySource::Program { file },
        (None, _, None) => {
            let message = "it is not known where the game's frames come from";
            return Err(Failure::new(Kind::Usage, message)
                .hint("name its --game, or a log with --growing FILE"));
        }
    };
    if matches!(source, PlaySource::Program { .. }) && !cfg!(windows) {
        let message = "frames of a program are traced on Windows only";
        return Err(Failure::new(Kind::Usage, message)
            .hint("let the game write a log, and follow it with --growing FILE"));
    }
    let game = match (&source, &args.scene) {
        (_, Some(scene)) => scene.to_string(),
        (PlaySource::Program { file }, None) => file.clone(),
        (PlaySource::GrowingLog { file }, None) => {
            file.file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default()
        }
        (PlaySource::Scene | PlaySource::TestLoop, None) => "game".to_owned(),
    };
    let scene = ordinary_play(&game)?;
    let plays = args.scene.clone().unwrap_or_else(|| scene.name.clone());
    Ok(Some(PlayRecording { scene: scene.name, plays, source }))
}

/// The scene that stands for playing a game as one likes has to be known before something is recorded of it.
fn add_scene(
    context: &Context,
    pc: &dyn Pc,
    ledger: &mut Ledger,
    args: &StartArgs,
    recording: &PlayRecording,
) -> Result<(), Failure> {
    let known = match (&args.scene, pc.identity().kind) {
        (Some(scene), PcKind::Rehearsal) => {
            let scenes = context.rehearsal_pc()?;
            let scene = scenes.model().scenes.iter().find(|one| one.name == scene.as_str());
            scene.map(|one| (one.game.clone(), one.graphics.clone(), one.resolution.clone()))
        }
        _ => None,
    };
    let (game, graphics, resolution) = known.unwrap_or_else(|| {
        let as_played = || "as played".to_owned();
        (recording.plays.to_string(), as_played(), as_played())
    });
    let name = recording.scene.clone();
    let route = "ordinary play".to_owned();
    Ok(ledger.add_scene(&Scene { name, game, graphics, resolution, route })?)
}

fn game_start(context: &Context, pc: &dyn Pc, args: &StartArgs) -> Result<GameStart, Failure> {
    if let Some(file) = &args.attach {
        return Ok(GameStart::Attach { file: file.clone() });
    }
    if let Some(program) = &args.program {
        let command = std::iter::once(program.clone()).chain(args.arguments.iter().cloned());
        return Ok(GameStart::Start { command: command.collect() });
    }
    let Some(scene) = &args.scene else {
        return Err(Failure::new(
            Kind::Usage,
            "name a scene, a --program, or a game to --attach to",
        ));
    };
    if let Some(recording) = context.scene_recording(scene)? {
        return match (recording.command, recording.program) {
            (command, _) if !command.is_empty() => Ok(GameStart::Start { command }),
            (_, Some(file)) => Ok(GameStart::Attach { file }),
            (_, None) => Err(Failure::new(
                Kind::Usage,
                format!("it is not known how the game of `{scene}` is started"),
            )
            .hint("name it with --program PATH, or --attach NAME")),
        };
    }
    match pc.identity().kind {
        PcKind::Rehearsal => {
            let known = context.rehearsal_pc()?;
            if !known.model().scenes.iter().any(|known| known.name == scene.as_str()) {
                return Err(Failure::new(
                    Kind::NotFound,
                    format!("this PC has no scene `{scene}`"),
                ));
            }
            let program = std::env::current_exe()?.display().to_string();
            let seconds = args.seconds.to_string();
            let words = ["rehearsal", "game", "--seconds", &seconds].map(ToOwned::to_owned);
            Ok(GameStart::Start { command: std::iter::once(program).chain(words).collect() })
        }
        PcKind::Live => Err(Failure::new(
            Kind::Usage,
            format!("it is not known how the game of `{scene}` is started"),
        )
        .hint(format!(
            "say it once: frevin scene record-by {scene} --program GAME.EXE -- COMMAND"
        ))),
    }
}
