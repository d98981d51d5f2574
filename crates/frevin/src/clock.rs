//! The time of day, which tests can hold still.

use jiff::Timestamp;

use crate::failure::{Failure, Kind};

/// The variable that holds the clock still, for tests and documentation.
const VARIABLE: &str = "FREVIN_CLOCK";

/// Where the time of day comes from.
#[derive(Debug, Clone, Copy)]
pub(crate) enum Clock {
    /// The system's clock.
    System,
    /// A clock that stands still.
    Still(Timestamp),
}

impl Clock {
    /// The clock that the environment asks for.
    pub(crate) fn from_environment() -> Result<Self, Failure> {
        match std::env::var(VARIABLE) {
            Ok(text) => text.parse().map(Self::Still).map_err(|error| {
                Failure::new(Kind::Usage, format!("{VARIABLE} is not a time: {error}"))
                    .hint("write one like 2026-03-01T20:00:00Z, or unset it")
            }),
            Err(_) => Ok(Self::System),
        }
    }

    /// The time now.
    pub(crate) fn now(self) -> Timestamp {
        match self {
            Self::System => Timestamp::now(),
            Self::Still(at) => at,
        }
    }
}
