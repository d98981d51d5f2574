//! A rehearsal PC's memory: what a program that reads much leaves on standby.

use std::time::Instant;

use frevin_core::facts::Facts;
use frevin_core::playing::MemoryState;

/// Shares of all memory: what programs use, what is on standby at first and after it was given back, and what a second
/// adds to it.
const USED: f64 = 0.45;
const STANDBY_AT_FIRST: f64 = 0.45;
const STANDBY_LEFT: f64 = 0.02;
const STANDBY_A_SECOND: f64 = 0.02;
/// Never less than this is free.
const LEAST_FREE: f64 = 0.01;

/// Memory as it is simulated, from when the PC was opened: nothing of it is kept.
#[derive(Debug, Clone)]
pub(super) struct SimulatedMemory {
    since: Instant,
    standby_then: f64,
}

impl SimulatedMemory {
    pub(super) fn new() -> Self {
        Self { since: Instant::now(), standby_then: STANDBY_AT_FIRST }
    }

    pub(super) fn purge(&mut self) {
        *self = Self { since: Instant::now(), standby_then: STANDBY_LEFT };
    }

    pub(super) fn now(&self, facts: &Facts) -> MemoryState {
        let grown = self.standby_then + STANDBY_A_SECOND * self.since.elapsed().as_secs_f64();
        let standby = grown.min(1.0 - USED - LEAST_FREE);
        let total_mib = facts.memory.size_mib;
        let share = |share: f64| (total_mib as f64 * share) as u64;
        MemoryState {
            total_mib,
            free_mib: share(1.0 - USED - standby),
            standby_mib: share(standby),
            cached_mib: share(0.05),
            committed_mib: share(0.6),
            commit_limit_mib: share(1.5),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_given_back_becomes_free_and_fills_again() {
        let facts = Facts::reference();
        let mut memory = SimulatedMemory::new();
        let before = memory.now(&facts);
        assert!(before.standby_mib * 100 >= before.total_mib * 44);
        memory.purge();
        let after = memory.now(&facts);
        assert!(after.free_mib > before.free_mib && after.standby_mib < before.standby_mib / 4);
        memory.since -= std::time::Duration::from_secs(3600);
        let later = memory.now(&facts);
        assert!(later.free_mib > 0 && later.standby_mib > before.standby_mib);
        assert_eq!(later.total_mib, facts.memory.size_mib);
        for state in [before, after, later] {
            assert!(state.free_mib + state.standby_mib <= state.total_mib);
            assert!(state.committed_mib <= state.commit_limit_mib);
        }
    }
}
