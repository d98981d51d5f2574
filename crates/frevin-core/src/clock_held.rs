//! The clock that a processor holds under load, from readings of it.

use frevin_stats::median;
use schemars::JsonSchema;
use serde::Serialize;

/// What a processor's clock did under load.
#[derive(Debug, Clone, Copy, PartialEq, JsonSchema, Serialize)]
pub struct ClockHeld {
    /// How often it was read.
    pub readings: usize,
    /// The median of the first tenth of the readings, in MHz.
    pub at_first_mhz: f64,
    /// The median of the second half, when heat and power limits have set in, in MHz.
    pub held_mhz: f64,
    /// The lowest reading, in MHz.
    pub lowest_mhz: f64,
    /// The clock that the processor is sold for, where it is known, in MHz.
    pub base_mhz: Option<u32>,
    /// Whether every reading is that clock: some processors tell no other, and then nothing was seen.
    pub tells_only_base: bool,
}

impl ClockHeld {
    /// Over readings in MHz, in the order in which they were taken; nothing of none.
    pub fn of(mhz: &[f64], base_mhz: Option<u32>) -> Option<Self> {
        let first = mhz.len().div_ceil(10);
        let at_first_mhz = median(mhz.get(..first)?.iter().copied())?;
        Some(Self {
            readings: mhz.len(),
            at_first_mhz,
            held_mhz: median(mhz[mhz.len() / 2..].iter().copied())?,
            lowest_mhz: mhz.iter().copied().reduce(f64::min)?,
            base_mhz,
            tells_only_base: base_mhz
                .is_some_and(|base| mhz.iter().all(|read| *read == f64::from(base))),
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_held_is_the_second_half() {
        let mut readings = vec![4800.0; 10];
        readings.extend([4400.0; 5]);
        readings.extend([3900.0, 4000.0, 4100.0, 3000.0, 4000.0]);
        let held = ClockHeld::of(&readings, Some(3600)).unwrap();
        assert_eq!((held.at_first_mhz, held.held_mhz, held.lowest_mhz), (4800.0, 4250.0, 3000.0));
        assert!(!held.tells_only_base);
        assert_eq!(ClockHeld::of(&[4000.0], None).map(|held| held.held_mhz), Some(4000.0));
        assert_eq!(ClockHeld::of(&[], Some(3600)), None);
    }

    #[test]
    fn a_processor_that_only_tells_what_it_is_sold_for_told_nothing() {
        let tells = |readings: &[f64], base| ClockHeld::of(readings, base).unwrap().tells_only_base;
        assert!(tells(&[3600.0; 9], Some(3600)));
        assert!(!tells(&[3600.0; 9], None));
        assert!(!tells(&[3600.0, 3599.0], Some(3600)));
    }
}
