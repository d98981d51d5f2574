//! Play: what is held while a game runs, and nothing of it afterwards.

mod memory;
mod others;
mod processors;
mod timer;

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

pub use memory::{MemoryState, PurgeRule};
pub use others::{OtherDue, OthersRule, OthersWatch, ProcessKey, may_be_lowered};
pub use processors::{LogicalProcessor, ProcessorChoice, ProcessorChoiceError};
pub use timer::{TimerPeriod, TimerPeriodError};

use crate::ids::SceneName;
use crate::preview::Wish;
use crate::trial::in_play::PlaySource;
use crate::visits::VisitId;

/// The number of a play in its ledger, counted from 1.
#[derive(
    Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, JsonSchema, Serialize, Deserialize,
)]
#[serde(transparent)]
pub struct PlayId(pub i64);

impl fmt::Display for PlayId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// How a game comes to run.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "how")]
pub enum GameStart {
    /// It is started, with its arguments, without a shell.
    Start {
        /// The program, then its arguments.
        command: Vec<String>,
    },
    /// It is waited for, by the name of its file.
    Attach {
        /// The file.
        file: String,
    },
}

/// A priority class of a process, from least to most.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    JsonSchema,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum PriorityClass {
    /// Only where nothing else wants the processor.
    Idle,
    /// After most programs.
    BelowNormal,
    /// As programs are.
    Normal,
    /// Before most programs.
    AboveNormal,
    /// Before nearly all of them. There is no class above it here: real-time stops the mouse.
    High,
}

/// What is held of the process of a game.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct ProcessHolds {
    /// Its priority class; nothing: as it comes.
    pub priority: Option<PriorityClass>,
    /// The processors that it may run on; nothing: all.
    pub processors: Option<ProcessorChoice>,
    /// Whether it is never run slower to save power.
    #[serde(default, skip_serializing_if = "is_false")]
    pub unthrottled: bool,
    /// How long its pages are kept where memory is short; nothing: as they come.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_priority: Option<MemoryPriority>,
}

fn is_false(flag: &bool) -> bool {
    !flag
}

/// How long pages of a process are kept where memory is short, from least to most. Programs begin with the most.
#[derive(
    Debug,
    Clone,
    Copy,
    PartialEq,
    Eq,
    PartialOrd,
    Ord,
    JsonSchema,
    Serialize,
    Deserialize,
    strum::EnumString,
    strum::IntoStaticStr,
    strum::VariantNames,
)]
#[serde(rename_all = "kebab-case")]
#[strum(serialize_all = "kebab-case")]
pub enum MemoryPriority {
    /// They go first.
    VeryLow,
    /// They go before most.
    Low,
    /// They go before those of most programs.
    Medium,
    /// They go a little before those of most programs.
    BelowNormal,
    /// As those of most programs.
    Normal,
}

/// What is held of the PC beside its settings, as long as the game runs.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct PcHolds {
    /// The period of the system's timer; nothing: as programs ask for it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    #[serde(rename = "timer_ms")]
    pub timer: Option<TimerPeriod>,
    /// When standby memory is given back; nothing: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub purge: Option<PurgeRule>,
    /// When other programs are lowered; nothing: never.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub others: Option<OthersRule>,
}

impl PcHolds {
    /// Whether nothing of it is held.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// What a process had before something of it was held; nothing of what could not be asked, or is not touched.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct ProcessBefore {
    /// Its priority, as the operating system writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub priority: Option<i64>,
    /// The processors that it might run on.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub processors: Option<Vec<u32>>,
    /// What it said of being run slower, as the operating system writes it: what is controlled, and how.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub throttling: Option<(u32, u32)>,
    /// How long its pages are kept, as the operating system writes it.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub memory_priority: Option<u32>,
}

/// What happened while something was held, in the order in which it did.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(tag = "event", rename_all = "kebab-case")]
pub enum PlayEvent {
    /// Something of a process of the game is about to be held.
    Held {
        /// The process.
        process: ProcessKey,
        /// What it had.
        before: ProcessBefore,
    },
    /// Another program is about to be lowered.
    Lowered {
        /// The process.
        process: ProcessKey,
        /// The name of its file.
        file: String,
        /// The share of all processors that it took, in percent.
        percent: u32,
        /// What it had.
        before: ProcessBefore,
    },
    /// Another program has again what it had.
    PutBack {
        /// The process.
        process: ProcessKey,
    },
    /// The timer was asked to be finer.
    Timer {
        /// What was granted; nothing where it was not.
        #[serde(rename = "granted_ms")]
        granted: Option<TimerPeriod>,
        /// Whether it counts for every program, the game too.
        counts_for_all: bool,
    },
    /// Standby memory was given back.
    Purged {
        /// Memory before.
        before: MemoryState,
        /// Memory after.
        after: MemoryState,
    },
    /// Its frames were recorded.
    Recorded {
        /// As this visit.
        visit: VisitId,
    },
}
impl ProcessHolds {
    /// Whether nothing of the process is touched.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }
}

/// All that is settled before a game begins.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct PlayPlan {
    /// What is held, for people.
    pub title: String,
    /// How the game comes to run.
    pub start: GameStart,
    /// The name of the game's own file, where a launcher starts it.
    pub game_file: Option<String>,
    /// What the PC is to hold meanwhile.
    pub wishes: Vec<Wish>,
    /// What is held of its process.
    pub process: ProcessHolds,
    /// What is held of the PC beside its settings.
    #[serde(default)]
    pub pc: PcHolds,
    /// How its frames are recorded; nothing: they are not.
    #[serde(default, skip_serializing_if = "Option::is_none")]
    pub recording: Option<PlayRecording>,
}

/// How the frames of a game are recorded.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct PlayRecording {
    /// The scene that stands for playing it as one likes: no other recording is of it.
    pub scene: SceneName,
    /// What a rehearsal PC plays: a scene of its own.
    pub plays: SceneName,
    /// Where its frames come from.
    #[serde(flatten)]
    pub source: PlaySource,
}

/// Why a play ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum PlayEnding {
    /// The game ended.
    GameEnded,
    /// The owner stopped it; the game goes on.
    Stopped,
    /// The game could not be started, or did not come.
    NoGame,
    /// The PC did not take what was to be held.
    NotHeld,
    /// Whoever watched was gone: another command put the PC back.
    Settled,
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_plan_of_an_earlier_frevin_is_read_and_holds_nothing_more() {
        let old = r#"{"title":"evening@1","start":{"how":"attach","file":"riders.exe"},"game_file":null,
            "wishes":[],"process":{"priority":"high","processors":"fast-cores"}}"#;
        let plan: PlayPlan = serde_json::from_str(old).unwrap();
        assert_eq!(plan.process.priority, Some(PriorityClass::High));
        assert!(plan.pc.is_empty() && plan.recording.is_none() && !plan.process.unthrottled);
        assert!(!plan.process.is_empty() && ProcessHolds::default().is_empty());
    }

    #[test]
    fn what_happens_is_read_as_it_was_written() {
        let process = ProcessKey { id: 4242, made: 1 << 52 };
        let memory = MemoryState {
            total_mib: 16_384,
            free_mib: 300,
            standby_mib: 6000,
            cached_mib: 800,
            committed_mib: 9000,
            commit_limit_mib: 20_000,
        };
        let before = ProcessBefore {
            priority: Some(-5),
            processors: Some(vec![0, 1]),
            throttling: Some((1, 0)),
            memory_priority: Some(5),
        };
        for event in [
            PlayEvent::Held { process, before: before.clone() },
            PlayEvent::Lowered { process, file: "compressor".into(), percent: 31, before },
            PlayEvent::PutBack { process },
            PlayEvent::Timer { granted: Some("0.5".parse().unwrap()), counts_for_all: false },
            PlayEvent::Timer { granted: None, counts_for_all: true },
            PlayEvent::Purged { before: memory, after: MemoryState { free_mib: 6000, ..memory } },
            PlayEvent::Recorded { visit: VisitId(7) },
        ] {
            let text = serde_json::to_string(&event).unwrap();
            assert_eq!(serde_json::from_str::<PlayEvent>(&text).unwrap(), event, "{text}");
        }
        let timer =
            PlayEvent::Timer { granted: Some("0.5".parse().unwrap()), counts_for_all: true };
        assert!(serde_json::to_string(&timer).unwrap().contains("\"granted_ms\":0.5"));
    }
}
