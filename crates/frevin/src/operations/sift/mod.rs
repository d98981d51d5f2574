//! Sifts: begun, driven by their machine, told.

mod begin;
mod drive;
mod in_play;
mod proof;
mod report;

pub(crate) use begin::{
    AskedSiftInPlay, Only, SiftBeginning, SiftRequest, SiftedDesign, column_of, design,
};
pub(crate) use drive::SiftDriver;
pub(crate) use report::{PlayedReport, SiftList, SiftReport, report};

use frevin_core::sift::SiftId;
use frevin_ledger::{Ledger, SiftRecord};
use frevin_pc::Pc;

use crate::failure::{Failure, Kind};

/// The sift that is meant: the one that is named, else the latest of the PC.
pub(crate) fn find(
    ledger: &Ledger,
    pc: &dyn Pc,
    id: Option<SiftId>,
) -> Result<SiftRecord, Failure> {
    match id {
        Some(id) => Ok(ledger.sift(id)?),
        None => ledger.sifts(&pc.identity().id)?.pop().ok_or_else(|| {
            Failure::new(Kind::NotFound, "there is no sift of this PC yet")
                .hint("`frevin sift start PROFILE --scene SCENE` begins one")
        }),
    }
}

/// The sift of a PC that has not ended.
pub(crate) fn open(ledger: &Ledger, pc: &dyn Pc) -> Result<SiftRecord, Failure> {
    ledger.open_sift(&pc.identity().id)?.ok_or_else(|| {
        Failure::new(Kind::NotFound, "no sift of this PC is going on")
            .hint("`frevin sift start` begins one, `frevin sift list` shows those that have ended")
    })
}

/// Refuses where a sift of the PC is going on: what it compares has to stay what it is.
pub(crate) fn refuse_open(ledger: &Ledger, pc: &dyn Pc) -> Result<(), Failure> {
    let Some(record) = ledger.open_sift(&pc.identity().id)? else { return Ok(()) };
    let message = format!("nothing was changed: sift {} of this PC is not over", record.id);
    let is = if record.design.evening.is_some() { "tune" } else { "sift" };
    Err(Failure::new(Kind::Guarded, message)
        .detail(format!("it sifts {} in {}", record.design.title, record.design.scene))
        .hint(format!("`frevin {is} resume` goes on with it"))
        .hint(format!("`frevin {is} abandon` gives it up, and puts the PC back")))
}
