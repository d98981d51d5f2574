//! A ledger with bytes that are not as Frevin wrote them: it is refused or read, whatever they are.
//!
//! The first bytes say where in a ledger the others are put.
#![no_main]

use std::sync::LazyLock;

use frevin_core::ids::PcId;
use frevin_ledger::{Ledger, VisitFilter};
use libfuzzer_sys::fuzz_target;

/// A ledger with all tables and nothing in them.
static WHOLE: LazyLock<Vec<u8>> = LazyLock::new(|| {
    let home = tempfile::tempdir().expect("a folder");
    drop(Ledger::open(home.path()).expect("a new ledger"));
    std::fs::read(home.path().join("ledger.sqlite3")).expect("its file")
});

fuzz_target!(|bytes: &[u8]| {
    let Some((place, bytes)) = bytes.split_first_chunk::<4>() else { return };
    let mut ledger = WHOLE.clone();
    let place = u32::from_le_bytes(*place) as usize % ledger.len();
    for (old, new) in ledger[place..].iter_mut().zip(bytes) {
        *old = *new;
    }
    let home = tempfile::tempdir().expect("a folder");
    std::fs::write(home.path().join("ledger.sqlite3"), ledger).expect("room");
    let Ok(ledger) = Ledger::open(home.path()) else { return };
    let pc = PcId::new("pc".to_owned());
    drop(ledger.layers(&pc));
    drop(ledger.changes(&pc));
    drop(ledger.history(&pc));
    drop(ledger.visits(&VisitFilter::default()));
    drop(ledger.latest_revisions());
    drop(ledger.foreign_evidence());
    drop(ledger.trials(&pc));
    drop(ledger.sifts(&pc));
    drop(ledger.plays(&pc));
});
