//! Measuring: one way to make a visit, over any source of frames.

pub(crate) mod collector;
pub(crate) mod compare;
pub(crate) mod log_file;
mod owners_scene;
pub(crate) mod play_feed;
pub(crate) mod scene_source;
pub(crate) mod source;
pub(crate) mod sources;
pub(crate) mod test_loop;
mod watched_folder;

use std::collections::BTreeMap;
use std::time::Duration;

use frevin_core::environment::{BeforeAndAfter, Environment};
use frevin_core::facts::{Facts, Graphics};
use frevin_core::ids::{BootId, PcId, SceneName, StateName};
use frevin_core::setting::{Address, PowerSource, RunState, State, TakesEffect, Value};
use frevin_core::visits::{InForce, VisitContext, VisitId, VisitStatus};
use frevin_core::waiting::Waiting;
use frevin_frames::{DetectedConditions, LogReadings, RunConditions};
use frevin_ledger::{Ledger, NewRun, NewVisit, VisitFilter, VisitFor};
use frevin_pc::{Pc, PcKind, PcLock};
use frevin_stats::probes::ProbeStats;
use indicatif::ProgressBar;

use self::source::{FrameSource, SourceRun};
use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::network::{Probing, Target};
use crate::operations::refuse_unfinished;
use crate::operations::resolve_drift::drifted;
use crate::operations::restart::how_to_bring_about;
use crate::operations::waiting::waiting;

/// How a visit is made.
pub(crate) struct VisitPlan<'a> {
    pub(crate) scene: &'a SceneName,
    pub(crate) state_name: &'a StateName,
    /// Runs that count.
    pub(crate) runs: usize,
    /// Runs before them that do not; where nothing is said, one after a restart and else none.
    pub(crate) warm_up: Option<usize>,
    pub(crate) length: Duration,
    /// Whether to record although the PC does not yet behave by all that is in force.
    pub(crate) despite_waiting: bool,
    pub(crate) declared: &'a DeclaredConditions,
    /// What is pinged before and after.
    pub(crate) ping: Option<&'a Target>,
    /// What is pinged during each run that counts.
    pub(crate) ping_runs: Option<(&'a Target, Probing)>,
    /// What it is made for, where it is a step of something larger.
    pub(crate) made_for: Option<VisitFor>,
}

/// Conditions that the owner declares.
#[derive(Debug, Clone, Default)]
pub(crate) struct DeclaredConditions {
    pub(crate) on_battery: Option<bool>,
    pub(crate) while_recording: Option<bool>,
    pub(crate) game_version: Option<String>,
}

impl DeclaredConditions {
    /// With what a PC says of itself, where the owner says nothing.
    fn on(mut self, facts: &Facts) -> Self {
        self.on_battery = self.on_battery.or(Some(facts.power_source == PowerSource::Battery));
        self
    }

    /// What is known of a run with these frames, under what was declared.
    pub(crate) fn with(
        &self,
        detected: DetectedConditions,
        readings: LogReadings,
        graphics_card: Option<String>,
        is_of_host: bool,
    ) -> RunConditions {
        RunConditions {
            detected,
            readings,
            graphics_card,
            on_battery: self.on_battery,
            while_recording: self.while_recording,
            game_version: self.game_version.clone(),
            is_of_host,
        }
    }
}

/// How an address is pinged before and after a visit.
const PINGS: Probing =
    Probing { count: 20, pause: Duration::from_millis(100), patience: Duration::from_millis(1000) };

/// Makes a visit: a stay in the state that the PC is in, with runs of a scene.
///
/// The order of things is what makes a visit believable. The PC is locked first, so that nobody changes
/// it meanwhile; what is in force and what waits is read under the lock; the visit is begun in the
/// ledger before its first run, so that one that is broken off is seen; each run is kept as soon as it
/// is recorded; and the visit counts only after it was seen that the PC is still in the state, and in
/// the start, that it began in.
pub(crate) fn visit(
    context: &Context,
    ledger: &mut Ledger,
    pc: Option<&mut dyn Pc>,
    source: &mut dyn FrameSource,
    plan: &VisitPlan<'_>,
) -> Result<VisitId, Failure> {
    let pc = pc.filter(|_| !source.is_of_the_past());
    let mut stay = match pc {
        Some(pc) => Some(Stay::begin(context, ledger, pc, source, plan)?),
        None => None,
    };
    source.prepare()?;
    let before = stay.as_ref().map(|stay| stay.look_around(ledger, plan.ping)).transpose()?;
    if let (Some(stay), Some(before)) = (&mut stay, &before) {
        // Who has said it knows better.
        let is_recording = before.is_recording().filter(|is_recording| *is_recording);
        stay.declared.while_recording = stay.declared.while_recording.or(is_recording);
    }
    let id = ledger.begin_visit(&NewVisit {
        scene: plan.scene,
        pc: stay.as_ref().map(|stay| &stay.id),
        boot: stay.as_ref().map(|stay| &stay.boot),
        state_name: plan.state_name,
        at: context.clock.now(),
        in_force: stay.as_ref().map(|stay| &stay.in_force),
        context: &stay.as_ref().map(|stay| stay.visit_context.clone()).unwrap_or_default(),
        made_for: plan.made_for,
    })?;
    let recorded = record_runs(context, ledger, stay.as_ref(), source, plan, id);
    let stayed = recorded.and_then(|pings| {
        stay.as_mut().map_or(Ok(()), |stay| stay.is_as_it_began(ledger))?;
        Ok(pings)
    });
    let ping_runs = match stayed {
        Ok(pings) => pings,
        Err(failure) => {
            // What was recorded stays to be looked at, and counts for nothing.
            ledger.void_visit(id, &failure.message)?;
            return Err(failure.hint(format!("what was recorded is kept as visit {}, void", id.0)));
        }
    };
    let after = stay.as_ref().map(|stay| stay.look_around(ledger, plan.ping)).transpose()?;
    let environment =
        before.zip(after).map(|(before, after)| BeforeAndAfter { before, after, ping_runs });
    ledger.end_visit(id, environment.as_ref())?;
    Ok(id)
}

/// A stay of one visit in the state of a PC, which nobody else changes meanwhile.
struct Stay<'a> {
    pc: &'a mut dyn Pc,
    id: PcId,
    boot: BootId,
    lock: PcLock,
    in_force: InForce,
    visit_context: VisitContext,
    declared: DeclaredConditions,
    runs_before: u64,
}

impl<'a> Stay<'a> {
    fn begin(
        context: &Context,
        ledger: &Ledger,
        pc: &'a mut dyn Pc,
        source: &dyn FrameSource,
        plan: &VisitPlan<'_>,
    ) -> Result<Self, Failure> {
        let lock = context.lock(pc)?;
        refuse_unfinished(ledger, pc)?;
        let id = pc.identity().id.clone();
        let mut waits = waiting(pc, ledger)?;
        if source.starts_program() {
            waits.retain(|waiting| waiting.waits_for != TakesEffect::ProgramRestart);
        }
        if !plan.despite_waiting && !waits.is_empty() {
            return Err(refuse_waiting(&waits));
        }
        refuse_drifted(pc, ledger)?;
        let in_force = InForce::of(&ledger.layers(&id)?);
        refuse_other_state(ledger, &id, &in_force, plan)?;
        let facts = context.facts(pc)?;
        let boot = pc.boot()?;
        let card = card_of_games(&facts);
        Ok(Self {
            visit_context: VisitContext {
                waiting: waits,
                windows_build: Some(facts.windows.build),
                graphics_driver: card.and_then(|card| card.driver_version.clone()),
                graphics_memory_mib: card.and_then(|card| card.video_memory_mib),
            },
            declared: plan.declared.clone().on(&facts),
            runs_before: ledger.runs_since_boot(&id, &boot)?,
            pc,
            id,
            boot,
            lock,
            in_force,
        })
    }

    /// What the PC is like now: also what services do that what is in force speaks of.
    fn look_around(&self, ledger: &Ledger, ping: Option<&Target>) -> Result<Environment, Failure> {
        let ping = ping.map(|target| target.ping(PINGS, &ProgressBar::hidden())).transpose()?;
        let mut services = BTreeMap::new();
        for (address, _) in ledger.layers(&self.id)?.iter() {
            let (Address::ServiceStart(name) | Address::ServiceRunning(name)) = address else {
                continue;
            };
            let running = self.pc.read(&Address::ServiceRunning(name.clone()))?;
            if let State::Value(Value::Run(state)) = running {
                services.insert(name.to_string(), state == RunState::Running);
            }
        }
        Ok(Environment { ping, services, ..self.pc.environment()? })
    }

    /// Whether a source records another PC than the one that is meant.
    fn is_of_host(&self, source: &dyn FrameSource) -> bool {
        source.is_of_host() && self.pc.identity().kind != PcKind::Live
    }

    /// Refuses a visit during which the PC changed: it is not of one state.
    fn is_as_it_began(&mut self, ledger: &Ledger) -> Result<(), Failure> {
        if self.pc.boot()? != self.boot {
            let message = "the PC has restarted while the visit was recorded";
            return Err(Failure::new(Kind::ChangedByOthers, message));
        }
        refuse_drifted(&*self.pc, ledger)
    }
}

fn record_runs(
    context: &Context,
    ledger: &mut Ledger,
    stay: Option<&Stay<'_>>,
    source: &mut dyn FrameSource,
    plan: &VisitPlan<'_>,
    id: VisitId,
) -> Result<Vec<ProbeStats>, Failure> {
    let mut pings = Vec::new();
    let is_of_host = stay.is_some_and(|stay| stay.is_of_host(source));
    // The first run after a restart is slower than what follows, on every PC.
    let is_fresh = stay.is_some_and(|stay| stay.runs_before == 0) && !is_of_host;
    let warm_up = plan.warm_up.unwrap_or(usize::from(is_fresh));
    let declared = stay.map_or(plan.declared, |stay| &stay.declared);
    let progress = context.progress((warm_up + plan.runs) as u64, source.progress());
    for index in 0..warm_up + plan.runs {
        let pinged = plan.ping_runs.filter(|_| index >= warm_up);
        let (recorded, answers) = while_pinging(pinged, || {
            if !source.gives_frames() {
                return Ok(None);
            }
            source.record(stay.map(|stay| &stay.lock), plan.length).map(Some)
        })?;
        pings.extend(answers);
        let Some(SourceRun { source: from, frames, run_since_boot, readings, graphics_card }) =
            recorded
        else {
            progress.inc(1);
            continue;
        };
        let digest = frames.digest()?.to_owned();
        if let Some((visit, run)) = ledger.run_with_frames(&digest)? {
            return Err(refuse_known_frames(&visit.state_name, visit.id, run.0));
        }
        let counted = stay.map(|stay| stay.runs_before + index as u64 + 1);
        let run = NewRun {
            is_warm_up: index < warm_up,
            source: from,
            boot: stay.filter(|_| !is_of_host).map(|stay| stay.boot.clone()),
            run_since_boot: run_since_boot.or(counted.filter(|_| !is_of_host)),
            was_waiting: stay.is_some_and(|stay| !stay.visit_context.waiting.is_empty()),
            conditions: declared.with(frames.detected, readings, graphics_card, is_of_host),
            metrics: frames.metrics,
            frames_digest: digest,
        };
        ledger.add_run(id, &run, &frames.frames)?;
        progress.inc(1);
    }
    progress.finish_and_clear();
    Ok(pings)
}

/// Does something while an address is asked how fast it answers.
fn while_pinging<T>(
    pinged: Option<(&Target, Probing)>,
    deed: impl FnOnce() -> Result<T, Failure>,
) -> Result<(T, Option<ProbeStats>), Failure> {
    let Some((target, probing)) = pinged else { return Ok((deed()?, None)) };
    let (done, answers) = std::thread::scope(|scope| {
        let pinging = scope.spawn(|| target.ping(probing, &ProgressBar::hidden()));
        (deed(), pinging.join())
    });
    let answers = answers.unwrap_or_else(|_| {
        Err(Failure::new(Kind::Internal, "the address could not be asked to the end"))
    })?;
    if answers.answered == 0 {
        return Err(Failure::new(Kind::NotFound, format!("no {} came", target.describe())));
    }
    Ok((done?, Some(answers)))
}

/// The same frames twice are one recording: a verdict on copies would be on nothing.
pub(crate) fn refuse_known_frames(state: &StateName, visit: VisitId, run: i64) -> Failure {
    let message =
        format!("these very frames are in the ledger already: run {run} of visit {}", visit.0);
    Failure::new(Kind::BadInput, message)
        .detail(format!("that visit is of `{state}`"))
        .hint(format!("`frevin run void {}` takes that visit out of every comparison", visit.0))
}

/// The graphics card that games are expected to use: the first with a board of its own.
pub(crate) fn card_of_games(facts: &Facts) -> Option<&Graphics> {
    let discrete = facts.graphics.iter().find(|card| card.is_discrete == Some(true));
    discrete.or(facts.graphics.first())
}

fn refuse_waiting(waits: &[Waiting]) -> Failure {
    let line = |waiting: &Waiting| {
        let moment = waiting.waits_for;
        match &waiting.used {
            Some(used) => format!("{} ({used}) waits for a {moment}", waiting.address),
            None => format!("{} (rolled back) waits for a {moment}", waiting.address),
        }
    };
    let latest = waits.iter().map(|waiting| waiting.waits_for).max();
    let latest = latest.unwrap_or(TakesEffect::Restart);
    let what = how_to_bring_about(latest);
    let rehearsal = match latest {
        TakesEffect::Now | TakesEffect::Restart => "restart",
        TakesEffect::SignOut => "sign-out",
        TakesEffect::ProgramRestart => "restart-programs",
        TakesEffect::ServiceRestart => "restart-services",
        TakesEffect::DeviceRestart => "restart-devices",
    };
    let message = "nothing was recorded: the PC does not yet behave by all that is in force";
    Failure::new(Kind::Guarded, message)
        .details(waits.iter().map(line))
        .hint(format!("{what} first (a rehearsal PC: `frevin rehearsal {rehearsal}`)"))
        .hint("--despite-waiting records all the same, and marks the runs")
}

/// A state that others have changed is not the one that its layers name.
fn refuse_drifted(pc: &dyn Pc, ledger: &Ledger) -> Result<(), Failure> {
    let drifted = drifted(pc, ledger)?;
    if drifted.is_empty() {
        return Ok(());
    }
    let message = "this is no visit: somebody else has changed settings that Frevin holds";
    Err(Failure::new(Kind::ChangedByOthers, message)
        .details(drifted.iter().map(|one| format!("{}: it holds {}", one.address, one.actual)))
        .hint("`frevin drift` shows them, and takes --keep or --force"))
}

/// One label for two states of the PC would make a verdict on neither.
fn refuse_other_state(
    ledger: &Ledger,
    pc: &PcId,
    in_force: &InForce,
    plan: &VisitPlan<'_>,
) -> Result<(), Failure> {
    let filter = VisitFilter {
        scene: Some(plan.scene.clone()),
        state_name: Some(plan.state_name.clone()),
        is_the_owners: false,
    };
    let visits = ledger.visits(&filter)?;
    let other = visits.iter().find(|visit| {
        visit.pc.as_ref() == Some(pc)
            && visit.status == VisitStatus::Whole
            && visit.in_force.as_ref().is_some_and(|known| known.digest != in_force.digest)
    });
    let Some(other) = other else { return Ok(()) };
    let names = |in_force: &InForce| {
        let uses: Vec<String> = in_force.uses.iter().map(ToString::to_string).collect();
        if uses.is_empty() { "no tweaks".to_owned() } else { uses.join(", ") }
    };
    let message = format!(
        "nothing was recorded: `{}` is the name of another state of this PC",
        plan.state_name
    );
    let then = other.in_force.as_ref().map(names).unwrap_or_default();
    Err(Failure::new(Kind::Guarded, message)
        .detail(format!("in force in visit {}: {then}", other.id.0))
        .detail(format!("in force now: {}", names(in_force)))
        .hint("choose another --state, or bring the PC into the one that you mean")
        .hint(format!("`frevin run label {} NAME` gives that visit another name", other.id.0)))
}
