//! What Windows offers while a game runs, beside settings.

use frevin_core::playing::{MemoryState, TimerPeriod};

use super::os_error::OsError;

/// Memory and the timer.
pub trait ForGamesApi {
    /// How memory is used.
    ///
    /// # Errors
    /// Where Windows does not tell, as without an administrator's rights.
    fn memory(&self) -> Result<MemoryState, OsError>;
    /// Gives back what is kept in memory of files that were read before.
    ///
    /// # Errors
    /// Where Windows does not allow it.
    fn purge_standby(&self) -> Result<(), OsError>;
    /// Asks for a period of the timer until this process ends, and gives what was granted.
    ///
    /// # Errors
    /// Where Windows does not allow it.
    fn ask_for_timer(&self, period: TimerPeriod) -> Result<TimerPeriod, OsError>;
}
