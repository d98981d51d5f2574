//! `frevin rollback`

use clap::Args;
use frevin_core::layers::{ChangeId, Selection};
use frevin_core::preview::{BackStep, OnOthers, WayBack};
use frevin_core::setting::TakesEffect;
use frevin_core::tweak::TweakId;
use frevin_ledger::{Change, ChangeStatus, Ledger};
use frevin_pc::Pc;
use serde::Serialize;

use super::preview::with_article;
use super::target::find_tweak;
use crate::failure::{Failure, Kind};
use crate::report::{Answer, Report};
use crate::session::Session;
use crate::view::{Page, Table, bad, count, dim, good, short, shown_at, strong, warn, when};
use crate::workshop::{refuse_unfinished, rollback};

/// Put settings back: one change, one tweak of it, or everything since the first day
#[derive(Debug, Args)]
pub(crate) struct RollbackArgs {
    /// The change to take back
    #[arg(value_name = "CHANGE", required_unless_present_any = ["tweak", "all", "list"])]
    change: Option<i64>,
    /// Take back this tweak only: of CHANGE, or of all changes
    #[arg(long, value_name = "AREA/NAME")]
    tweak: Option<String>,
    /// Take back everything
    #[arg(long, conflicts_with_all = ["change", "tweak"])]
    all: bool,
    /// Show the changes of this PC
    #[arg(long, conflicts_with_all = ["change", "tweak", "all"])]
    list: bool,
    #[command(flatten)]
    others: OthersArgs,
}

/// What to do about settings that somebody else has changed since.
#[derive(Debug, Args)]
pub(crate) struct OthersArgs {
    /// Leave what others wrote, and let go of the setting
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

#[derive(Debug, Serialize)]
struct ChangeList {
    changes: Vec<Change>,
}

/// What was rolled back.
#[derive(Debug, Serialize)]
pub(crate) struct RollbackReport {
    way_back: WayBack,
    #[serde(flatten)]
    rolled_back: rollback::RolledBack,
}

pub(crate) fn run(session: &Session, args: &RollbackArgs) -> Result<Answer, Failure> {
    let mut pc = session.pc()?;
    let mut ledger = session.ledger()?;
    if args.list {
        let changes = ledger.changes(&pc.identity().id)?;
        return Ok(Answer::yes(&ChangeList { changes }));
    }
    let selection = selection(session, args, &ledger, &*pc)?;
    let on_others = args.others.on_others();
    let report = take_back(session, &mut *pc, &mut ledger, &selection, on_others)?;
    Ok(Answer::done(&report))
}

fn selection(
    session: &Session,
    args: &RollbackArgs,
    ledger: &Ledger,
    pc: &dyn Pc,
) -> Result<Selection, Failure> {
    let tweak = match &args.tweak {
        Some(written) => Some(tweak_held(session, ledger, pc, written)?),
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
    session: &Session,
    ledger: &Ledger,
    pc: &dyn Pc,
    written: &str,
) -> Result<TweakId, Failure> {
    let layers = ledger.layers(&pc.identity().id)?;
    let held = |id: &TweakId| {
        let mut all = layers.iter().flat_map(|(_, stack)| &stack.layers);
        all.any(|layer| layer.tweak == *id)
    };
    match written.parse::<TweakId>() {
        Ok(id) if held(&id) => Ok(id),
        _ => Ok(find_tweak(&session.catalogue()?, written)?.id.clone()),
    }
}

/// Rolls back a selection, after asking for the owner's word.
pub(crate) fn take_back(
    session: &Session,
    pc: &mut dyn Pc,
    ledger: &mut Ledger,
    selection: &Selection,
    on_others: OnOthers,
) -> Result<RollbackReport, Failure> {
    refuse_unfinished(ledger, pc)?;
    let way_back = rollback::make_way_back(pc, ledger, selection, on_others)?;
    if way_back.steps.is_empty() && way_back.changed_by_others.is_empty() {
        let rolled_back = rollback::RolledBack {
            written: 0,
            left_in_place: Vec::new(),
            takes_effect: TakesEffect::Now,
        };
        return Ok(RollbackReport { way_back, rolled_back });
    }
    if way_back.changed_by_others.is_empty() {
        let mut page = Page::default();
        show_way_back(&way_back, &mut page);
        session.confirm(&page, "Roll it back?")?;
    }
    let rolled_back =
        rollback::roll_back(session, pc, ledger, selection, on_others, way_back.clone())?;
    Ok(RollbackReport { way_back, rolled_back })
}

fn show_way_back(way_back: &WayBack, page: &mut Page) {
    let mut table = Table::new(["setting", "now", "goes back to"]);
    for step in &way_back.steps {
        table.row(match step {
            BackStep::Write { address, before, after } => {
                [short(address), shown_at(address, before), strong(shown_at(address, after))]
            }
            BackStep::Beneath { address, state } => {
                [short(address), shown_at(address, state), dim("stays: a later change wants it so")]
            }
            BackStep::AlreadySo { address, state } => {
                [short(address), shown_at(address, state), dim("stays: it is that already")]
            }
            BackStep::Kept { address, state } => {
                [short(address), shown_at(address, state), warn("stays: somebody else wrote it")]
            }
        });
    }
    page.table(table);
}

impl Report for RollbackReport {
    fn show(&self, page: &mut Page) {
        if self.way_back.steps.is_empty() {
            page.line("Nothing to roll back: no layer of that lies on this PC.");
            return;
        }
        show_way_back(&self.way_back, page);
        page.blank();
        let what = match self.rolled_back.written {
            0 => "Nothing had to be written.".to_owned(),
            written => format!("{} put back and read back.", count(written, "setting")),
        };
        page.line(format_args!("{} {what}", good("Done.")));
        for key in &self.rolled_back.left_in_place {
            let what = format_args!("{key} stays: others have put something into it since");
            page.line(warn(what));
        }
        if self.rolled_back.takes_effect != TakesEffect::Now {
            let moment = with_article(self.rolled_back.takes_effect);
            page.line(warn(format_args!("Some of it waits for {moment}.")));
        }
    }
}

impl Report for ChangeList {
    fn show(&self, page: &mut Page) {
        if self.changes.is_empty() {
            page.line("No changes have been made to this PC.");
            return;
        }
        let mut table = Table::new([">change", "what", "when", "settings", "status"]);
        for change in &self.changes {
            table.row([
                change.id.to_string(),
                change.title.clone(),
                when(change.begun_at),
                change.layers_laid.to_string(),
                status(change),
            ]);
        }
        page.table(table);
    }
}

fn status(change: &Change) -> String {
    match (&change.status, change.layers_left) {
        (ChangeStatus::Begun, _) => bad("unfinished: frevin recover"),
        (ChangeStatus::Applied, 0) => dim("rolled back"),
        (ChangeStatus::Applied, left) if left < change.layers_laid => {
            warn(format_args!("in force but for {}", change.layers_laid - left))
        }
        (ChangeStatus::Applied, _) => good("in force"),
        (ChangeStatus::Undone, _) => dim("undone before its end"),
        (ChangeStatus::Unknown(other), _) => format!("unknown ({other})"),
    }
}
