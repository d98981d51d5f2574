//! Other programs that take processor time from a game.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::time::Duration;

/// A process, told from a later one of the same number by when it was made.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
pub struct ProcessKey {
    /// Its number.
    pub id: u32,
    /// When it was made, as the operating system writes it.
    pub made: u64,
}

/// When another program is lowered in priority.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct OthersRule {
    /// Where it takes more than this share of all processors together, in percent, ...
    pub above_percent: u32,
    /// ... for so many seconds.
    pub for_s: u32,
}

/// What is to be done with a process.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum OtherDue {
    /// It has taken too much for long enough: its share in percent.
    Lower {
        /// Rounded down.
        percent: u32,
    },
    /// It has taken little for as long.
    PutBack,
}

/// What is known of a process.
#[derive(Debug, Clone, Copy)]
struct Watched {
    processor_time: Duration,
    /// How long it has been on the side that it is on.
    for_so_long: Duration,
    is_above: bool,
    is_lowered: bool,
}

/// Other programs as they are looked at again and again.
#[derive(Debug, Clone)]
pub struct OthersWatch {
    rule: OthersRule,
    processors: u32,
    known: BTreeMap<ProcessKey, Watched>,
}

impl OthersWatch {
    /// Nothing is known yet of a PC with so many processors.
    pub fn new(rule: OthersRule, processors: u32) -> Self {
        Self { rule, processors: processors.max(1), known: BTreeMap::new() }
    }

    /// Takes how much processor time each process has had since it was made, so long after the last time, and says what
    /// is to be done.
    pub fn look(
        &mut self,
        processes: impl IntoIterator<Item = (ProcessKey, Duration)>,
        since_last: Duration,
    ) -> Vec<(ProcessKey, OtherDue)> {
        let mut now = BTreeMap::new();
        let mut due = Vec::new();
        let long_enough = Duration::from_secs(self.rule.for_s.into());
        for (key, processor_time) in processes {
            let Some(before) = self.known.get(&key).copied() else {
                let for_so_long = Duration::ZERO;
                let new =
                    Watched { processor_time, for_so_long, is_above: false, is_lowered: false };
                now.insert(key, new);
                continue;
            };
            let taken = processor_time.saturating_sub(before.processor_time);
            let all = since_last.as_secs_f64() * f64::from(self.processors);
            let percent = if all > 0.0 { 100.0 * taken.as_secs_f64() / all } else { 0.0 };
            let is_above = percent > f64::from(self.rule.above_percent);
            let stays = is_above == before.is_above;
            let for_so_long =
                if stays { before.for_so_long.saturating_add(since_last) } else { since_last };
            let mut is_lowered = before.is_lowered;
            if is_above != is_lowered && for_so_long >= long_enough {
                is_lowered = is_above;
                due.push((
                    key,
                    match is_above {
                        true => OtherDue::Lower { percent: percent as u32 },
                        false => OtherDue::PutBack,
                    },
                ));
            }
            now.insert(key, Watched { processor_time, for_so_long, is_above, is_lowered });
        }
        self.known = now;
        due
    }
}

/// Programs that are never lowered: the desktop, sound and Windows itself, which a game waits for.
const NEVER: [&str; 16] = [
    "audiodg.exe",
    "conhost.exe",
    "csrss.exe",
    "ctfmon.exe",
    "dwm.exe",
    "explorer.exe",
    "fontdrvhost.exe",
    "lsass.exe",
    "registry",
    "services.exe",
    "sihost.exe",
    "smss.exe",
    "svchost.exe",
    "system",
    "wininit.exe",
    "winlogon.exe",
];

/// Whether a program, by the name of its file, may be lowered at all.
pub fn may_be_lowered(file: &str) -> bool {
    !NEVER.contains(&file.to_ascii_lowercase().as_str())
}

#[cfg(test)]
mod tests {
    use super::*;

    const KEY: ProcessKey = ProcessKey { id: 7, made: 70 };
    const SECOND: Duration = Duration::from_secs(1);

    /// Looks once a second; each time it has had so many percent of two processors.
    fn looks(watch: &mut OthersWatch, percents: &[u32]) -> Vec<Option<OtherDue>> {
        let mut had = Duration::ZERO;
        watch.look([(KEY, had)], SECOND);
        let each = percents.iter().map(|percent| {
            had += Duration::from_millis(u64::from(20 * percent));
            watch.look([(KEY, had)], SECOND).first().map(|(_, due)| *due)
        });
        each.collect()
    }

    #[test]
    fn a_program_is_lowered_after_it_took_too_much_for_long_enough_and_put_back_likewise() {
        let rule = OthersRule { above_percent: 20, for_s: 3 };
        let mut watch = OthersWatch::new(rule, 2);
        let found = looks(&mut watch, &[30, 30, 30, 30, 5, 30, 5, 5, 5, 5]);
        let lower = Some(OtherDue::Lower { percent: 30 });
        let back = Some(OtherDue::PutBack);
        assert_eq!(found, [None, None, lower, None, None, None, None, None, back, None]);
    }

    #[test]
    fn a_short_burst_is_let_be_and_a_number_given_again_is_another_program() {
        let rule = OthersRule { above_percent: 20, for_s: 2 };
        let mut watch = OthersWatch::new(rule, 1);
        assert!(looks(&mut watch, &[40, 0, 40, 0]).iter().all(Option::is_none));
        let other = ProcessKey { made: 71, ..KEY };
        assert!(watch.look([(other, Duration::from_secs(500))], SECOND).is_empty());
        assert!(watch.look([(other, Duration::from_secs(501))], SECOND).is_empty());
        assert_eq!(watch.look([(other, Duration::from_secs(502))], SECOND).len(), 1);
    }

    #[test]
    fn what_a_game_waits_for_is_never_lowered() {
        assert!(!may_be_lowered("DWM.exe") && !may_be_lowered("audiodg.exe"));
        assert!(may_be_lowered("compressor.exe"));
    }
}
