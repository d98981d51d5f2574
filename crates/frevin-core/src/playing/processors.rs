//! Which processors a game may run on, in plain words, by number or by mask.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::{BTreeMap, BTreeSet};
use std::fmt;
use std::str::FromStr;
use thiserror::Error;

/// A processor as the operating system counts them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct LogicalProcessor {
    /// Its number, from 0.
    pub number: u32,
    /// The core that it is a thread of.
    pub core: u32,
    /// How fast its core is among those of the PC: the greater, the faster.
    pub speed_class: u32,
}

/// Processors that a game may run on.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(try_from = "String", into = "String")]
pub enum ProcessorChoice {
    /// Those of the fastest cores.
    FastCores,
    /// All but those of the first core, where Windows and drivers do much of their work.
    WithoutFirstCore,
    /// One of each core.
    OneThreadACore,
    /// These.
    Numbers(BTreeSet<u32>),
}

/// A text that names no processors.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[error(
    "`{0}` names no processors: write fast-cores, without-first-core, one-thread-a-core, numbers like 0-3,6, or a mask like 0xff"
)]
pub struct ProcessorChoiceError(String);

/// No PC has more.
const MOST: u32 = 1024;

impl FromStr for ProcessorChoice {
    type Err = ProcessorChoiceError;

    fn from_str(text: &str) -> Result<Self, Self::Err> {
        let fault = || ProcessorChoiceError(text.to_owned());
        match text {
            "fast-cores" => return Ok(Self::FastCores),
            "without-first-core" => return Ok(Self::WithoutFirstCore),
            "one-thread-a-core" => return Ok(Self::OneThreadACore),
            _ => {}
        }
        let mut numbers = BTreeSet::new();
        if let Some(mask) = text.strip_prefix("0x") {
            let mask = u64::from_str_radix(mask, 16).map_err(|_| fault())?;
            numbers.extend((0..64).filter(|number| mask >> number & 1 == 1));
        } else {
            for part in text.split(',') {
                let (first, last) = part.split_once('-').unwrap_or((part, part));
                let number = |text: &str| text.trim().parse::<u32>().ok().filter(|n| *n < MOST);
                let (first, last) = number(first).zip(number(last)).ok_or_else(fault)?;
                if first > last {
                    return Err(fault());
                }
                numbers.extend(first..=last);
            }
        }
        if numbers.is_empty() { Err(fault()) } else { Ok(Self::Numbers(numbers)) }
    }
}

impl TryFrom<String> for ProcessorChoice {
    type Error = ProcessorChoiceError;

    fn try_from(text: String) -> Result<Self, Self::Error> {
        text.parse()
    }
}

impl From<ProcessorChoice> for String {
    fn from(choice: ProcessorChoice) -> Self {
        choice.to_string()
    }
}

impl fmt::Display for ProcessorChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::FastCores => f.write_str("fast-cores"),
            Self::WithoutFirstCore => f.write_str("without-first-core"),
            Self::OneThreadACore => f.write_str("one-thread-a-core"),
            Self::Numbers(numbers) => {
                let numbers: Vec<String> = numbers.iter().map(u32::to_string).collect();
                f.write_str(&numbers.join(","))
            }
        }
    }
}

impl ProcessorChoice {
    /// The processors of a PC that are meant; nothing where there are none, or all of them are meant anyway.
    pub fn of(&self, processors: &[LogicalProcessor]) -> Option<BTreeSet<u32>> {
        let numbers = |is_meant: &dyn Fn(&LogicalProcessor) -> bool| -> BTreeSet<u32> {
            processors.iter().filter(|one| is_meant(one)).map(|one| one.number).collect()
        };
        let chosen = match self {
            Self::FastCores => {
                let fastest = processors.iter().map(|one| one.speed_class).max()?;
                numbers(&|one| one.speed_class == fastest)
            }
            Self::WithoutFirstCore => {
                let first = processors.iter().min_by_key(|one| one.number)?.core;
                numbers(&|one| one.core != first)
            }
            Self::OneThreadACore => {
                let mut first_of: BTreeMap<u32, u32> = BTreeMap::new();
                for one in processors {
                    let first = first_of.entry(one.core).or_insert(one.number);
                    *first = (*first).min(one.number);
                }
                first_of.into_values().collect()
            }
            Self::Numbers(wanted) => numbers(&|one| wanted.contains(&one.number)),
        };
        (!chosen.is_empty() && chosen.len() < processors.len()).then_some(chosen)
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    /// Two fast cores of two threads each, then two frugal ones of one.
    fn mixed() -> Vec<LogicalProcessor> {
        [(0, 0, 1), (1, 0, 1), (2, 1, 1), (3, 1, 1), (4, 2, 0), (5, 3, 0)]
            .map(|(number, core, speed_class)| LogicalProcessor { number, core, speed_class })
            .to_vec()
    }

    #[test]
    fn plain_words_are_processors_of_this_pc() {
        for (words, meant) in [
            ("fast-cores", Some(vec![0, 1, 2, 3])),
            ("without-first-core", Some(vec![2, 3, 4, 5])),
            ("one-thread-a-core", Some(vec![0, 2, 4, 5])),
            ("0-2,5", Some(vec![0, 1, 2, 5])),
            ("0x24", Some(vec![2, 5])),
            ("0-5", None),
            ("9", None),
        ] {
            let choice: ProcessorChoice = words.parse().unwrap();
            assert_eq!(choice.of(&mixed()), meant.map(|all| all.into_iter().collect()), "{words}");
            let again: ProcessorChoice = choice.to_string().parse().unwrap();
            assert_eq!(again, choice);
        }
        let alike: Vec<LogicalProcessor> =
            mixed().into_iter().map(|one| LogicalProcessor { speed_class: 0, ..one }).collect();
        assert_eq!(ProcessorChoice::FastCores.of(&alike), None, "all are as fast");
    }

    #[test]
    fn what_names_no_processors_is_told() {
        for bad in ["", "all", "3-1", "0x", "0x0", "a", "1,,2", "0-99999"] {
            assert!(bad.parse::<ProcessorChoice>().is_err(), "{bad}");
        }
    }
}
