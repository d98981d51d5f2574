//! What a display makes of colours: a ramp for red, green and blue each.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::str::FromStr;

/// Steps of a colour.
const STEPS: usize = 256;
/// The numbers of all three.
const NUMBERS: usize = 3 * STEPS;

/// For each of 256 steps of red, then of green, then of blue, how bright the display shows it, of 65,535
/// ("SetDeviceGammaRamp function" in the Windows documentation).
#[derive(
    Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(try_from = "String", into = "String")]
pub struct ColourRamp(Vec<u16>);

/// Brightness and contrast that change nothing, in percent.
const MIDDLE: f64 = 50.0;

impl ColourRamp {
    /// A ramp of so many numbers: red, green, blue. Nothing of any other count.
    pub fn of(numbers: Vec<u16>) -> Option<Self> {
        (numbers.len() == NUMBERS).then_some(Self(numbers))
    }

    /// The ramp that shows colours as they are.
    pub fn plain() -> Self {
        Self::made(1.0, MIDDLE, MIDDLE)
    }

    /// A ramp by gamma, and by brightness and contrast in percent, of which 50 changes nothing.
    pub fn made(gamma: f64, brightness: f64, contrast: f64) -> Self {
        let step = |step: usize| {
            let light = (step as f64 / (STEPS - 1) as f64).powf(1.0 / gamma);
            let shown = (light - 0.5) * (contrast / MIDDLE) + 0.5 + (brightness - MIDDLE) / 100.0;
            (shown.clamp(0.0, 1.0) * f64::from(u16::MAX)).round() as u16
        };
        let one: Vec<u16> = (0..STEPS).map(step).collect();
        Self(one.repeat(3))
    }

    /// Red, then green, then blue.
    pub fn numbers(&self) -> &[u16] {
        &self.0
    }

    /// Whether colours are shown as they are.
    pub fn is_plain(&self) -> bool {
        *self == Self::plain()
    }
}

impl From<ColourRamp> for String {
    fn from(ramp: ColourRamp) -> Self {
        ramp.0.iter().map(|number| format!("{number:04x}")).collect()
    }
}

impl TryFrom<String> for ColourRamp {
    type Error = String;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        let digits = text.as_bytes().chunks(4).map(|four| {
            let four = std::str::from_utf8(four).ok()?;
            u16::from_str_radix(four, 16).ok()
        });
        let numbers: Option<Vec<u16>> = digits.collect();
        numbers.and_then(Self::of).ok_or_else(|| "it is no ramp of 768 numbers".to_owned())
    }
}

/// As definitions write it: `gamma 110, brightness 50, contrast 50`, each in percent.
impl FromStr for ColourRamp {
    type Err = String;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let mut percents = [100.0, MIDDLE, MIDDLE];
        let fault = || format!("`{text}` is not like gamma 110, brightness 50, contrast 50");
        for part in text.split(',') {
            let (name, number) = part.trim().split_once(' ').ok_or_else(fault)?;
            let place = ["gamma", "brightness", "contrast"].iter().position(|one| *one == name);
            let number: f64 = number.parse().map_err(|_| fault())?;
            let place = place.filter(|_| (0.0..=400.0).contains(&number)).ok_or_else(fault)?;
            percents[place] = number;
        }
        let [gamma, brightness, contrast] = percents;
        if gamma < 1.0 {
            return Err(fault());
        }
        Ok(Self::made(gamma / 100.0, brightness, contrast))
    }
}

/// A quarter, the middle and three quarters of the way, as shares of the brightest.
impl fmt::Display for ColourRamp {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let share = |at: usize| (100.0 * f64::from(self.0[at]) / f64::from(u16::MAX)).round();
        let colours = self.0.chunks(STEPS);
        let alike = colours.clone().all(|colour| colour == &self.0[..STEPS]);
        let of = |from: usize| {
            format!("{} %, {} %, {} %", share(from + 64), share(from + 128), share(from + 191))
        };
        match alike {
            true => write!(f, "colours at {} of light", of(0)),
            false => write!(f, "red at {}, green {}, blue {}", of(0), of(STEPS), of(2 * STEPS)),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plain_ramp_is_the_straight_line_that_windows_begins_with() {
        let plain = ColourRamp::plain();
        let line: Vec<u16> = (0..=255_u16).map(|step| step * 257).collect();
        assert_eq!(plain.numbers(), line.repeat(3));
        assert!(plain.is_plain() && "gamma 100".parse::<ColourRamp>().unwrap().is_plain());
    }

    #[test]
    fn a_ramp_is_kept_to_the_last_bit_and_shown_in_short() {
        let bright: ColourRamp = "gamma 120, brightness 55, contrast 50".parse().unwrap();
        let text = String::from(bright.clone());
        assert_eq!((text.len(), ColourRamp::try_from(text)), (4 * NUMBERS, Ok(bright.clone())));
        assert_eq!(bright.to_string(), "colours at 37 %, 61 %, 84 % of light");
        for none in ["bright", "gamma 0", "gamma 110; contrast 5", "tint 3", "gamma 1e9"] {
            assert!(none.parse::<ColourRamp>().is_err(), "{none}");
        }
        assert!(ColourRamp::of(vec![0; 3]).is_none());
    }
}
