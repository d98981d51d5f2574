//! How a run of a scene comes about: a rehearsal PC plays it, or as the owner has said.

use std::path::PathBuf;
use std::time::Duration;

use frevin_core::ids::SceneName;
use frevin_frames::LogOptions;
use frevin_ledger::Ledger;
use frevin_pc::rehearsal::RehearsalPc;
use frevin_pc::{Pc, PcKind};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::owners_scene::OwnersScene;
use super::source::FrameSource;
use super::sources::{
    LogsToCome, NoGame, RehearsalScene, TestLoop, TracedProgram, know_scene, scenes_of,
};
use crate::context::Context;
use crate::failure::{Failure, Kind};

/// How the owner records a scene. It stands in the owner's configuration only: a profile cannot bring it.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", deny_unknown_fields, default)]
pub(crate) struct SceneRecording {
    /// The program whose frames are traced, by the name of its file.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) program: Option<String>,
    /// The folder that another program writes a log of each run into.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) folder: Option<PathBuf>,
    /// Whether the test loop is the scene.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) test_loop: bool,
    /// What each run begins with: a program and its arguments, started as they are, without a shell.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    pub(crate) command: Vec<String>,
    /// How long after its start the recording of a traced program begins, in seconds.
    #[serde(skip_serializing_if = "is_zero")]
    pub(crate) begin_after_seconds: u32,
    /// Whether somebody is asked before each run.
    #[serde(skip_serializing_if = "std::ops::Not::not")]
    pub(crate) ask: bool,
    /// How long a log or the end of the command is waited for, in seconds.
    #[serde(skip_serializing_if = "Option::is_none")]
    pub(crate) give_up_after_seconds: Option<u32>,
}

#[allow(clippy::trivially_copy_pass_by_ref, reason = "serde asks by reference")]
fn is_zero(number: &u32) -> bool {
    *number == 0
}

/// A log that has not changed for so long is finished.
const UNCHANGED_FOR: Duration = Duration::from_secs(3);
/// Longer than any run.
const GIVE_UP_AFTER: Duration = Duration::from_secs(3600);

impl SceneRecording {
    /// Why it records nothing, where it does not.
    pub(crate) fn fault(&self) -> Option<&'static str> {
        let sources = [self.program.is_some(), self.folder.is_some(), self.test_loop];
        match sources.into_iter().filter(|is_there| *is_there).count() {
            0 => Some("name where its frames come from: a program, a folder or the test loop"),
            1 => None,
            _ => Some("its frames come from one place: a program, a folder or the test loop"),
        }
    }

    /// It in words, the whole command among them.
    pub(crate) fn in_words(&self) -> String {
        let mut parts = Vec::new();
        if self.ask {
            parts.push("you are asked to begin it".to_owned());
        }
        if !self.command.is_empty() {
            let words: Vec<String> = self.command.iter().map(|word| format!("{word:?}")).collect();
            parts.push(format!("starts {}", words.join(" ")));
        }
        if let Some(program) = &self.program {
            parts.push(format!("traces `{program}`"));
        }
        if let Some(folder) = &self.folder {
            parts.push(format!("waits for a log in {}", folder.display()));
        }
        if self.test_loop {
            parts.push("plays the test loop".to_owned());
        }
        parts.join(", ")
    }

    pub(super) fn give_up_after(&self) -> Duration {
        self.give_up_after_seconds.map_or(GIVE_UP_AFTER, |s| Duration::from_secs(s.into()))
    }
}

/// How a run of a scene comes about on a PC.
pub(crate) enum SceneSource {
    /// The rehearsal PC plays it.
    Rehearsal(Box<RehearsalPc>, SceneName),
    /// As its owner has said.
    Owners(SceneRecording),
    /// No game is played.
    NoGame,
}

impl SceneSource {
    /// How a scene is recorded on a PC: as its owner has said, else as a rehearsal PC plays it.
    pub(crate) fn find(
        context: &Context,
        pc: &dyn Pc,
        ledger: &mut Ledger,
        scene: &SceneName,
    ) -> Result<Self, Failure> {
        if let Some(recording) = context.scene_recording(scene)? {
            know_scene(context, ledger, scene)?;
            return Ok(Self::Owners(recording));
        }
        let network = NoGame::scene()?;
        if *scene == network.name {
            ledger.add_scene(&network)?;
            return Ok(Self::NoGame);
        }
        match pc.identity().kind {
            PcKind::Rehearsal => {
                let pc = context.rehearsal_pc()?;
                let scenes = scenes_of(&pc)?;
                let Some(known) = scenes.iter().find(|known| known.name == *scene) else {
                    return Err(no_scene(scene, &scenes));
                };
                ledger.add_scene(known)?;
                Ok(Self::Rehearsal(Box::new(pc), scene.clone()))
            }
            PcKind::Live => {
                ledger.scene(scene)?;
                let message = format!("it is not known how a run of `{scene}` is recorded");
                Err(Failure::new(Kind::Usage, message).hint(format!(
                    "say it once: frevin scene record-by {scene} --program GAME.EXE"
                )))
            }
        }
    }

    /// Whether each run starts what is measured anew.
    pub(crate) fn starts_program(&self) -> bool {
        match self {
            Self::Rehearsal(..) | Self::NoGame => true,
            Self::Owners(recording) => !recording.command.is_empty(),
        }
    }

    /// It in words, where the owner has said it.
    pub(crate) fn in_words(&self) -> Option<String> {
        match self {
            Self::Rehearsal(..) | Self::NoGame => None,
            Self::Owners(recording) => Some(recording.in_words()),
        }
    }

    /// The source of the runs of one visit.
    pub(crate) fn make<'a>(
        &'a self,
        context: &'a Context,
    ) -> Result<Box<dyn FrameSource + 'a>, Failure> {
        Ok(match self {
            Self::Rehearsal(pc, scene) => Box::new(RehearsalScene::new(pc, scene)),
            Self::NoGame => Box::new(NoGame),
            Self::Owners(recording) => {
                let inner: Box<dyn FrameSource + 'a> =
                    match (&recording.program, &recording.folder, recording.test_loop) {
                        (Some(program), None, false) => {
                            Box::new(TracedProgram { file: program.clone() })
                        }
                        (None, Some(folder), false) => Box::new(LogsToCome::new(
                            context,
                            folder,
                            LogOptions::default(),
                            UNCHANGED_FOR,
                            recording.give_up_after(),
                        )),
                        (None, None, true) => Box::new(TestLoop),
                        _ => {
                            let fault = recording.fault().unwrap_or("it records nothing");
                            return Err(Failure::new(Kind::BadInput, fault));
                        }
                    };
                Box::new(OwnersScene { context, recording, inner })
            }
        })
    }
}

fn no_scene(scene: &SceneName, scenes: &[frevin_core::visits::Scene]) -> Failure {
    let known: Vec<_> = scenes.iter().map(|scene| scene.name.as_str()).collect();
    Failure::new(Kind::NotFound, format!("this PC has no scene `{scene}`"))
        .hint(format!("it has {}", known.join(", ")))
}
