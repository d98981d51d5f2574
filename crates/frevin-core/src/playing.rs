//! Play: what is held while a game runs, and nothing of it afterwards.

mod processors;

use std::fmt;

use serde::{Deserialize, Serialize};

pub use processors::{LogicalProcessor, ProcessorChoice, ProcessorChoiceError};

use crate::preview::Wish;

/// The number of a play in its ledger, counted from 1.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash, Serialize, Deserialize)]
#[serde(transparent)]
pub struct PlayId(pub i64);

impl fmt::Display for PlayId {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.fmt(f)
    }
}

/// How a game comes to run.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
#[derive(Debug, Clone, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct ProcessHolds {
    /// Its priority class; nothing: as it comes.
    pub priority: Option<PriorityClass>,
    /// The processors that it may run on; nothing: all.
    pub processors: Option<ProcessorChoice>,
}

impl ProcessHolds {
    /// Whether nothing of the process is touched.
    pub fn is_empty(&self) -> bool {
        self.priority.is_none() && self.processors.is_none()
    }
}

/// All that is settled before a game begins.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
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
}

/// Why a play ended.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
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
