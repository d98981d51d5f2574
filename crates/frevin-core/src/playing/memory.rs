//! Memory while a game runs: when what Windows keeps of files that were read is given back.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::time::Duration;

/// How a PC's memory is used, in MiB.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct MemoryState {
    /// All of it.
    pub total_mib: u64,
    /// What nothing uses.
    pub free_mib: u64,
    /// What was read before and is kept in case that it is read again; a program that needs it gets it.
    pub standby_mib: u64,
    /// What the file cache holds now.
    pub cached_mib: u64,
    /// What programs were promised, in memory or in page files.
    pub committed_mib: u64,
    /// The most that they can be promised.
    pub commit_limit_mib: u64,
}

/// When standby memory is given back.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct PurgeRule {
    /// Where less than this is free, in MiB, ...
    pub free_below_mib: u64,
    /// ... and more than this on standby.
    pub standby_above_mib: u64,
    /// No sooner than this after the last time, in seconds.
    pub pause_s: u32,
}

impl PurgeRule {
    /// No sooner than this after the last time, where nobody says otherwise, in seconds.
    pub const USUAL_PAUSE_S: u32 = 60;

    /// Whether it is to be given back, so long after the last time, where there was one.
    pub fn is_due(&self, memory: &MemoryState, since_last: Option<Duration>) -> bool {
        let has_paused =
            since_last.is_none_or(|since| since >= Duration::from_secs(self.pause_s.into()));
        has_paused
            && memory.free_mib < self.free_below_mib
            && memory.standby_mib > self.standby_above_mib
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn it_is_given_back_where_both_thresholds_say_so_and_not_too_often() {
        let rule = PurgeRule { free_below_mib: 1024, standby_above_mib: 2048, pause_s: 60 };
        let memory = |free_mib, standby_mib| MemoryState {
            total_mib: 16_384,
            free_mib,
            standby_mib,
            cached_mib: 0,
            committed_mib: 0,
            commit_limit_mib: 0,
        };
        let after = |seconds| Some(Duration::from_secs(seconds));
        assert!(rule.is_due(&memory(1023, 2049), None));
        assert!(rule.is_due(&memory(0, 9000), after(60)));
        assert!(!rule.is_due(&memory(0, 9000), after(59)));
        assert!(!rule.is_due(&memory(1024, 9000), None), "enough is free");
        assert!(!rule.is_due(&memory(0, 2048), None), "there is little to be had");
    }
}
