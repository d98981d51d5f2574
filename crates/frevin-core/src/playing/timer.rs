//! How finely programs can wait: the period of the system's timer.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// A period of the system's timer: half a millisecond to a sixty-fourth of a second.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(try_from = "f64", into = "f64")]
pub struct TimerPeriod {
    hundred_ns: u32,
}

/// Why a period is none.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Error)]
#[error("a timer's period is from 0.5 to 15.625 milliseconds, like 0.5 or 1")]
pub struct TimerPeriodError;

const SHORTEST: u32 = 5_000;
const LONGEST: u32 = 156_250;

impl TimerPeriod {
    /// A period in units of a ten-millionth of a second, as Windows counts it.
    ///
    /// # Errors
    /// [`TimerPeriodError`]
    pub fn of_hundred_ns(hundred_ns: u32) -> Result<Self, TimerPeriodError> {
        match hundred_ns {
            SHORTEST..=LONGEST => Ok(Self { hundred_ns }),
            _ => Err(TimerPeriodError),
        }
    }

    /// The same in those units.
    pub fn hundred_ns(self) -> u32 {
        self.hundred_ns
    }
}

impl TryFrom<f64> for TimerPeriod {
    type Error = TimerPeriodError;

    /// From milliseconds, as periods are written.
    fn try_from(ms: f64) -> Result<Self, Self::Error> {
        if !(0.0..=1000.0).contains(&ms) {
            return Err(TimerPeriodError);
        }
        Self::of_hundred_ns((ms * 10_000.0).round() as u32)
    }
}

impl From<TimerPeriod> for f64 {
    fn from(period: TimerPeriod) -> Self {
        Self::from(period.hundred_ns) / 10_000.0
    }
}

impl FromStr for TimerPeriod {
    type Err = TimerPeriodError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let ms: f64 = text.parse().map_err(|_| TimerPeriodError)?;
        ms.try_into()
    }
}

impl fmt::Display for TimerPeriod {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} ms", f64::from(self.hundred_ns) / 10_000.0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_period_is_read_in_milliseconds_and_kept_as_windows_counts_it() {
        let period: TimerPeriod = "0.5".parse().unwrap();
        assert_eq!((period.hundred_ns(), period.to_string()), (5_000, "0.5 ms".to_owned()));
        assert_eq!("15.625".parse::<TimerPeriod>().unwrap().hundred_ns(), 156_250);
        for none in ["0.4", "16", "fast", "-1", "nan", "1e9"] {
            assert_eq!(none.parse::<TimerPeriod>(), Err(TimerPeriodError), "{none}");
        }
    }
}
