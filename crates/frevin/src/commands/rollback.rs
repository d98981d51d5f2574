//! `frevin rollback`

use clap::Args;
use frevin_core::layers::{ChangeId, Selection};
use frevin_core::preview::OnOthers;
use frevin_core::tweak::{TweakId, TweakUse, speaks_of_symptom};
use frevin_ledger::{Change, ChangeStatus, Ledger};
use frevin_pc::Pc;
use jiff::Timestamp;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::operations::target::{find_tweak, parse_arguments};
use crate::operations::{refuse_unfinished, rollback};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::rolled_back::show_way_back;
use crate::view::{Page, Table, bad, count, dim, good, strong, warn, when};

/// Put settings back: one change, one tweak of it, or everything since the first day
#[derive(Debug, Args)]
pub(crate) struct RollbackArgs {
    /// The change to take back [default: show what could be]
    #[arg(value_name = "CHANGE")]
    change: Option<i64>,
    /// Take back this tweak only: of CHANGE, or of all changes
    #[arg(long, value_name = "AREA/NAME")]
    tweak: Option<String>,
    /// Take back only uses of that tweak with this choice, where it is used several times
    #[arg(long = "set", value_name = "NAME=VALUE", requires = "tweak", conflicts_with = "change")]
    parameters: Vec<String>,
    /// Take back everything
    #[arg(long, conflicts_with_all = ["change", "tweak"])]
    all: bool,
    /// Show all changes of this PC, also those that are taken back
    #[arg(long, conflicts_with_all = ["change", "tweak", "all"])]
    list: bool,
    /// Show what is in force that may have broken something, by what you see of it in your own words, like "no sound"
    #[arg(long, value_name = "WORDS", conflicts_with_all = ["change", "tweak", "all", "list"])]
    suspect: Option<String>,
    #[command(flatten)]
    others: OthersArgs,
}

/// What to do about settings that somebody else has changed since.
#[derive(Debug, Args)]
pub(crate) struct OthersArgs {
    /// Leave what others wrote or what the PC does not take back, and hold the setting no longer
    #[arg(long)]
    keep: bool,
    /// Overwrite what others wrote
    #[arg(long, conflicts_with = "keep")]
    force: bool,
}

impl OthersArgs {
    pub(crate) fn on_others(&self) -> OnOthers {
        match (self.keep, self.force) {
            (true, _) => OnOthers::Keep,
            (_, true) => OnOthers::Force,
            _ => OnOthers::Stop,
        }
    }
}

/// Tweaks in force that may have broken something.
#[derive(Debug, JsonSchema, Serialize)]
struct SuspectList {
    symptom: String,
    /// Those that speak of it, the likeliest first; where none does, all of them, the latest first.
    suspects: Vec<Suspect>,
    /// Whether any speaks of it.
    any_speaks_of_it: bool,
}

#[derive(Debug, JsonSchema, Serialize)]
struct Suspect {
    #[serde(flatten)]
    used: TweakUse,
    change: ChangeId,
    since: Timestamp,
    may_break: String,
    #[serde(skip)]
    score: u32,
}

#[derive(Debug, JsonSchema, Serialize)]
struct ChangeList {
    changes: Vec<Change>,
    /// Whether those are shown too that are taken back.
    #[serde(skip)]
    is_of_all: bool,
    /// A tweak that the last change in force still holds something for.
    #[serde(skip)]
    held_by_last: Option<TweakId>,
}

pub(crate) fn run(context: &Context, args: &RollbackArgs) -> Result<Outcome, Failure> {
    let mut pc = context.pc()?;
    let mut ledger = context.ledger()?;
    let names_nothing = args.change.is_none() && args.tweak.is_none() && args.suspect.is_none();
    if args.list || (names_nothing && !args.all) {
        let changes = ledger.changes(&pc.identity().id)?;
        let last = changes.iter().rfind(|change| change.layers_left > 0).map(|change| change.id);
        let layers = ledger.layers(&pc.identity().id)?;
        let mut held = layers.iter().flat_map(|(_, stack)| &stack.layers);
        let held_by_last = held.find(|layer| Some(layer.change) == last);
        let held_by_last = held_by_last.map(|layer| layer.used.tweak.clone());
        let list = ChangeList { changes, is_of_all: args.list, held_by_last };
        return Ok(Outcome::yes(&list));
    }
    if let Some(symptom) = &args.suspect {
        return Ok(Outcome::yes(&suspects(context, &*pc, &ledger, symptom)?));
    }
    let selection = selection(context, args, &ledger, &*pc)?;
    let on_others = args.others.on_others();
    refuse_unfinished(&ledger, &*pc)?;
    let way_back = rollback::make_way_back(&*pc, &ledger, &selection, on_others)?;
    let is_asked = !way_back.steps.is_empty() && way_back.changed_by_others.is_empty();
    if is_asked {
        let mut page = Page::default();
        show_way_back(&way_back, &mut page);
        context.confirm(&page, "Roll it back?")?;
    }
    let report =
        rollback::roll_back(context, &mut *pc, &mut ledger, &selection, on_others, way_back)?;
    Ok(Outcome::done(&report))
}

/// What is in force and may have to do with a symptom.
fn suspects(
    context: &Context,
    pc: &dyn Pc,
    ledger: &Ledger,
    symptom: &str,
) -> Result<SuspectList, Failure> {
    let catalogue = context.catalogue()?;
    let layers = ledger.layers(&pc.identity().id)?;
    let mut all: Vec<Suspect> = Vec::new();
    for layer in layers.iter().flat_map(|(_, stack)| &stack.layers) {
        if all.iter().any(|one| one.used == layer.used && one.change == layer.change) {
            continue;
        }
        let tweak = catalogue.get(&layer.used.tweak);
        all.push(Suspect {
            used: layer.used.clone(),
            change: layer.change,
            since: ledger.change(layer.change)?.begun_at,
            may_break: tweak.map(|tweak| tweak.may_break.clone()).unwrap_or_default(),
            score: tweak.map_or(0, |tweak| speaks_of_symptom(tweak, symptom)),
        });
    }
    all.sort_by_key(|one| (std::cmp::Reverse(one.score), std::cmp::Reverse(one.change)));
    let any_speaks_of_it = all.iter().any(|one| one.score > 0);
    if any_speaks_of_it {
        all.retain(|one| one.score > 0);
    }
    Ok(SuspectList { symptom: symptom.to_owned(), suspects: all, any_speaks_of_it })
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<ChangeList>("rollback");
    schemas.prints::<SuspectList>("rollback");
    schemas.prints::<rollback::RollbackReport>("rollback");
}

impl View for SuspectList {
    fn show(&self, page: &mut Page) {
        if self.suspects.is_empty() {
            page.line("Nothing of Frevin's is in force on this PC: it was not Frevin.");
            return;
        }
        page.line(match self.any_speaks_of_it {
            true => "In force, and may have to do with it, the likeliest first:",
            false => "Nothing in force says that it may break that. All of it, the latest first:",
        });
        for one in &self.suspects {
            page.blank();
            page.line(format_args!("{}, since {}", strong(&one.used), when(one.since)));
            page.paragraph(2, &one.may_break);
            page.line(format_args!(
                "  {} frevin rollback {} --tweak {}",
                dim("take it back:"),
                one.change,
                one.used.tweak
            ));
        }
    }
}

fn selection(
    context: &Context,
    args: &RollbackArgs,
    ledger: &Ledger,
    pc: &dyn Pc,
) -> Result<Selection, Failure> {
    let tweak = match &args.tweak {
        Some(written) => Some(tweak_held(context, ledger, pc, written)?),
        None => None,
    };
    let change = args.change.map(ChangeId);
    if let Some(id) = change
        && ledger.change(id)?.pc != pc.identity().id
    {
        let message = format!("change {id} is of another PC");
        return Err(Failure::new(Kind::NotFound, message)
            .hint("`frevin rollback --list` shows the changes of this one"));
    }
    if let (Some(tweak), false) = (&tweak, args.parameters.is_empty()) {
        let catalogue = context.catalogue()?;
        let known = find_tweak(&catalogue, tweak.as_str())?;
        let chosen = parse_arguments(known, &args.parameters)?;
        let mut uses = ledger.layers(&pc.identity().id)?.uses();
        uses.retain(|used| used.tweak == *tweak && used.has(&chosen));
        return Ok(Selection::Uses(uses));
    }
    match (change, tweak) {
        (Some(change), Some(tweak)) => Ok(Selection::TweakOfChange(change, tweak)),
        (Some(change), None) => Ok(Selection::Change(change)),
        (None, Some(tweak)) => Ok(Selection::Tweak(tweak)),
        (None, None) => Ok(Selection::All),
    }
}

/// The tweak that somebody wrote the name of. One that is held on the PC is known by that, whatever
/// has become of its definition since.
fn tweak_held(
    context: &Context,
    ledger: &Ledger,
    pc: &dyn Pc,
    written: &str,
) -> Result<TweakId, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    let held = |id: &TweakId| {
        let mut all = layers.iter().flat_map(|(_, stack)| &stack.layers);
        all.any(|layer| layer.used.tweak == *id)
    };
    match written.parse::<TweakId>() {
        Ok(id) if held(&id) => Ok(id),
        _ => Ok(find_tweak(&context.catalogue()?, written)?.id.clone()),
    }
}

impl View for ChangeList {
    fn show(&self, page: &mut Page) {
        if self.changes.is_empty() {
            page.line("No changes have been made to this PC.");
            return;
        }
        if !self.is_of_all {
            self.show_ways_back(page);
            return;
        }
        let is_past_trial = |change: &&Change| {
            (change.trial.is_some() || change.sift.is_some())
                && change.layers_left == 0
                && matches!(change.status, ChangeStatus::Applied | ChangeStatus::Undone)
        };
        let past_trials = self.changes.iter().filter(is_past_trial).count();
        page.table(table_of(self.changes.iter().filter(|change| !is_past_trial(change))));
        if past_trials > 0 {
            page.line(dim(format_args!(
                "  {} that trials and sifts made and took back are left out; `frevin log --all` shows them",
                count(past_trials, "change")
            )));
        }
    }
}

impl ChangeList {
    /// What is in force, and the commands that take it back.
    fn show_ways_back(&self, page: &mut Page) {
        if let Some(cut_off) = self.changes.iter().find(|one| one.status == ChangeStatus::Begun) {
            page.table(table_of([cut_off]));
            page.heading("Before anything else");
            page.pairs([("put back what was cut off", "frevin recover")]);
            return;
        }
        let in_force: Vec<&Change> =
            self.changes.iter().filter(|change| change.layers_left > 0).collect();
        let Some(last) = in_force.last() else {
            page.line("Nothing that was changed on this PC is in force any more.");
            page.pairs([("what there was", "frevin rollback --list".to_owned())]);
            return;
        };
        page.line(format_args!("{} in force:", count(in_force.len(), "change")));
        page.table(table_of(in_force.iter().copied()));
        page.heading("Take it back");
        let tweak = self
            .held_by_last
            .as_ref()
            .map_or_else(|| "AREA/NAME".to_owned(), |held| held.to_string());
        page.pairs([
            ("a change", format!("frevin rollback {}", last.id)),
            ("one tweak of it", format!("frevin rollback {} --tweak {tweak}", last.id)),
            ("everything", "frevin rollback --all".to_owned()),
            ("what may have broken something", "frevin rollback --suspect \"no sound\"".to_owned()),
        ]);
    }
}

fn table_of<'a>(changes: impl IntoIterator<Item = &'a Change>) -> Table {
    let mut table = Table::new([">change", "what", "when", "settings", "status"]);
    for change in changes {
        let of_trial = change.trial.map(|trial| format!(" (trial {trial})"));
        let of_trial = of_trial.or(change.sift.map(|sift| format!(" (sift {sift})")));
        table.row([
            change.id.to_string(),
            format!("{}{}", change.title, of_trial.unwrap_or_default()),
            when(change.begun_at),
            change.layers_laid.to_string(),
            status(change),
        ]);
    }
    table
}

fn status(change: &Change) -> String {
    match (&change.status, change.layers_left) {
        (ChangeStatus::Begun, _) => bad("unfinished: frevin recover"),
        (ChangeStatus::Applied, 0) if change.layers_let_go > 0 => {
            dim("emptied: no way back is left for some of it")
        }
        (ChangeStatus::Applied, 0) => dim("rolled back"),
        (ChangeStatus::Applied, left) if left < change.layers_laid => {
            warn(format_args!("in force but for {}", change.layers_laid - left))
        }
        (ChangeStatus::Applied, _) => good("in force"),
        (ChangeStatus::Undone, _) => dim("undone before its end"),
        (ChangeStatus::Unknown(other), _) => format!("unknown ({other})"),
    }
}
