//! What plans have to know of a PC.

use crate::setting::{Address, State, WinName};

/// What a plan has to know of a PC. Implemented for every PC by the shell.
pub trait Readings {
    /// Why the PC could not be asked. A setting that cannot be read is no such error: it is
    /// [`State::Unreadable`].
    type Error;

    /// What the setting at `address` holds now.
    ///
    /// # Errors
    /// Where the PC could not be asked at all.
    fn state(&self, address: &Address) -> Result<State, Self::Error>;

    /// The settings that must be present before one can hold a value, outermost first.
    fn supports(&self, address: &Address) -> Vec<Address> {
        address.supports()
    }

    /// Why a setting may not be written, where that is known before it is tried.
    ///
    /// # Errors
    /// Where the PC could not be asked at all.
    fn obstacle(&self, address: &Address) -> Result<Option<String>, Self::Error> {
        let _ = address;
        Ok(None)
    }

    /// The services that stop when `service` stops, each after those that depend on it.
    ///
    /// # Errors
    /// Where the PC could not be asked at all.
    fn dependents(&self, service: &WinName) -> Result<Vec<WinName>, Self::Error>;

    /// The services that start before `service` starts, each after those it depends on.
    ///
    /// # Errors
    /// Where the PC could not be asked at all.
    fn dependencies(&self, service: &WinName) -> Result<Vec<WinName>, Self::Error>;
}
