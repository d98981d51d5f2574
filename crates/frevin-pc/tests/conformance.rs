//! The conformance suite notices every promise that is not kept: a PC that breaks one on purpose
//! is caught by it.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use std::cell::Cell;
use std::path::Path;

use frevin_core::facts::Facts;
use frevin_core::ids::{BootId, StartId};
use frevin_core::playing::{MemoryState, TimerPeriod};
use frevin_core::setting::{
    Address, CleanPlace, KeyPath, RegistryData, State, TakesEffect, Value, WinName,
};
use frevin_core::waiting::Start;
use frevin_pc::conformance::{Sample, Samples, check};
use frevin_pc::rehearsal::{RehearsalPc, Template, create};
use frevin_pc::{
    CleanContent, InstalledProgram, LockError, Pc, PcError, PcIdentity, PcLock, RestorePoint,
    StartupCosts, WriteError, Written,
};

const VALUE: &str = r"registry:HKCU\Control Panel\Mouse#MouseSpeed";
const OTHER: &str = r"registry:HKCU\Control Panel\Mouse#MouseThreshold1";
const REFUSED: &str = r"registry:HKLM\SAM\Domains#x";
const FULL_KEY: &str = r"registry:HKCU\Control Panel\Mouse";

#[derive(Debug, Clone, Copy, PartialEq)]
enum Sabotage {
    None,
    /// Every second reading of a value is another.
    Flickers,
    /// What it tells of a start is another at every reading.
    CountsStarts,
    /// Settings are listed in no order.
    ListsInDisorder,
    /// Writes are accepted and do nothing.
    Ignores,
    /// Registry values lose their type on the way in.
    LosesTheType,
    /// The second of two equal writes is refused.
    RefusesToRepeat,
    /// A write moves another setting as well.
    MovesAnother,
    /// What should be refused is done.
    AcceptsAnything,
    /// A refused write is done all the same.
    RefusesAndWrites,
    /// A key goes with all that is in it.
    DeletesFullKeys,
}

struct Saboteur {
    pc: RehearsalPc,
    sabotage: Sabotage,
    readings: Cell<usize>,
}

fn at(text: &str) -> Address {
    text.parse().unwrap()
}

fn text(text: &str) -> State {
    Value::Registry(RegistryData::string(text)).into()
}

impl Pc for Saboteur {
    fn identity(&self) -> &PcIdentity {
        self.pc.identity()
    }

    fn facts(&self) -> Result<Facts, PcError> {
        self.pc.facts()
    }

    fn boot(&self) -> Result<BootId, PcError> {
        self.pc.boot()
    }

    fn startup(&self) -> Result<StartupCosts, PcError> {
        self.pc.startup()
    }

    fn start_of(&self, moment: TakesEffect, address: &Address) -> Result<Start, PcError> {
        if self.sabotage == Sabotage::CountsStarts {
            self.readings.set(self.readings.get() + 1);
            return Ok(Start::Since(StartId::new(self.readings.get().to_string())));
        }
        self.pc.start_of(moment, address)
    }

    fn try_files(&self, scratch: &Path) -> Result<(), String> {
        self.pc.try_files(scratch)
    }

    fn own_task(&mut self, is_there: bool) -> Result<(), PcError> {
        self.pc.own_task(is_there)
    }

    fn lock(&mut self) -> Result<PcLock, LockError> {
        self.pc.lock()
    }

    fn read(&self, address: &Address) -> Result<State, PcError> {
        if self.sabotage == Sabotage::Flickers && *address == at(VALUE) {
            self.readings.set(self.readings.get() + 1);
            return Ok(text(if self.readings.get().is_multiple_of(2) { "a" } else { "b" }));
        }
        self.pc.read(address)
    }

    fn write(&mut self, address: &Address, state: &State) -> Result<Written, WriteError> {
        match self.sabotage {
            Sabotage::Ignores => return Ok(Written::Done),
            Sabotage::LosesTheType => {
                if let State::Value(Value::Registry(data)) = state {
                    let plain = RegistryData { type_number: 1, bytes: data.bytes.clone() };
                    return self.pc.write(address, &Value::Registry(plain).into());
                }
            }
            Sabotage::RefusesToRepeat if self.pc.read(address)? == *state => {
                return Err(WriteError::Refused("it is that already".into()));
            }
            Sabotage::MovesAnother if *address == at(VALUE) => {
                self.pc.write(&at(OTHER), &text("moved"))?;
            }
            Sabotage::AcceptsAnything if *address == at(REFUSED) => return Ok(Written::Done),
            Sabotage::RefusesAndWrites if *address == at(REFUSED) => {
                self.pc.write(&at(OTHER), &text("written"))?;
            }
            Sabotage::DeletesFullKeys if *address == at(FULL_KEY) => {
                for value in self.pc.addresses()? {
                    if value.to_string().starts_with(&format!("{FULL_KEY}#")) {
                        self.pc.write(&value, &State::Absent)?;
                    }
                }
            }
            _ => {}
        }
        self.pc.write(address, state)
    }

    fn flush(&mut self) -> Result<(), PcError> {
        self.pc.flush()
    }

    fn restore_point(&mut self, description: &str) -> Result<RestorePoint, PcError> {
        self.pc.restore_point(description)
    }

    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        self.pc.dependents(service)
    }

    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        self.pc.dependencies(service)
    }

    fn values_of(&self, key: &KeyPath) -> Result<Vec<WinName>, PcError> {
        self.pc.values_of(key)
    }

    fn clean_content(&self) -> Result<Vec<CleanContent>, PcError> {
        self.pc.clean_content()
    }

    fn empty_quarantine(&mut self, place: CleanPlace) -> Result<CleanContent, PcError> {
        self.pc.empty_quarantine(place)
    }

    fn programs(&self) -> Result<Vec<InstalledProgram>, PcError> {
        self.pc.programs()
    }

    fn processor_mhz(&self) -> Result<Option<f64>, PcError> {
        self.pc.processor_mhz()
    }

    fn memory(&self) -> Result<Option<MemoryState>, PcError> {
        self.pc.memory()
    }

    fn purge_standby(&mut self) -> Result<(), PcError> {
        self.pc.purge_standby()
    }

    fn ask_for_timer(&mut self, period: TimerPeriod) -> Result<TimerPeriod, PcError> {
        self.pc.ask_for_timer(period)
    }

    fn addresses(&self) -> Result<Vec<Address>, PcError> {
        let mut addresses = self.pc.addresses()?;
        if self.sabotage == Sabotage::ListsInDisorder {
            addresses.reverse();
        }
        Ok(addresses)
    }
}

/// The promises that the suite finds broken.
fn broken_promises(sabotage: Sabotage) -> Vec<u8> {
    let folder = tempfile::tempdir().unwrap();
    let template = Template::named("desktop").unwrap();
    let pc = create(&folder.path().join("pc"), template, "Test", 1).unwrap();
    let mut pc = Saboteur { pc, sabotage, readings: Cell::new(0) };
    let odd = RegistryData { type_number: 77, bytes: vec![1] };
    let samples = Samples {
        writable: vec![
            Sample { address: at(VALUE), other: Value::Registry(odd).into() },
            Sample { address: at(r"registry:HKCU\Control Panel\New"), other: Value::Key.into() },
        ],
        refused: vec![Sample { address: at(REFUSED), other: text("x") }],
        full_keys: vec![at(FULL_KEY)],
    };
    let _lock = pc.lock().unwrap();
    let violations = check(&mut pc, &samples).unwrap();
    let mut promises: Vec<u8> = violations.iter().map(|violation| violation.promise).collect();
    promises.dedup();
    promises
}

#[test]
fn a_pc_that_keeps_its_promises_passes() {
    assert_eq!(broken_promises(Sabotage::None), [0u8; 0]);
}

#[test]
fn every_broken_promise_is_noticed() {
    for (sabotage, promise) in [
        (Sabotage::Flickers, 1),
        (Sabotage::ListsInDisorder, 1),
        (Sabotage::Ignores, 2),
        (Sabotage::LosesTheType, 2),
        (Sabotage::RefusesToRepeat, 3),
        (Sabotage::MovesAnother, 4),
        (Sabotage::AcceptsAnything, 5),
        (Sabotage::RefusesAndWrites, 5),
        (Sabotage::DeletesFullKeys, 8),
        (Sabotage::CountsStarts, 9),
    ] {
        let found = broken_promises(sabotage);
        assert!(found.contains(&promise), "{sabotage:?}: {found:?} lacks promise {promise}");
    }
}
