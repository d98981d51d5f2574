//! A PC as plans see it.

use frevin_core::preview::Readings;
use frevin_core::setting::{Address, State, WinName};
use frevin_pc::{Pc, PcError};

/// A PC that is read only.
pub(crate) struct PcReadings<'a>(pub(crate) &'a dyn Pc);

impl Readings for PcReadings<'_> {
    type Error = PcError;

    fn state(&self, address: &Address) -> Result<State, PcError> {
        self.0.read(address)
    }

    fn supports(&self, address: &Address) -> Vec<Address> {
        self.0.supports(address)
    }

    fn obstacle(&self, address: &Address) -> Result<Option<String>, PcError> {
        self.0.obstacle(address)
    }

    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        self.0.dependents(service)
    }

    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, PcError> {
        self.0.dependencies(service)
    }
}
