//! Marks: what is worth knowing of one run before it is believed.

use frevin_frames::{FrameCap, Pause, Phase, RunConditions};
use schemars::JsonSchema;
use serde::Serialize;

/// Something worth knowing of a run.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
#[serde(tag = "mark", rename_all = "kebab-case")]
pub enum Mark {
    /// Frames look to be held to a cap, or to wait for the display.
    Capped(FrameCap),
    /// A stretch is unlike the rest.
    Phase(Phase),
    /// Nothing was shown for a while.
    Pause(Pause),
    /// The PC ran on its battery.
    OnBattery,
    /// A video was being recorded.
    WhileRecording,
    /// A version of the game.
    GameVersion {
        /// As the owner wrote it.
        version: String,
    },
    /// The frames are of the PC that Frevin ran on, not of the rehearsal PC that was meant.
    OfHost,
}

/// What is worth knowing of a run that was recorded under these conditions.
pub fn marks(conditions: &RunConditions) -> Vec<Mark> {
    let detected = &conditions.detected;
    let mut marks: Vec<Mark> = detected.frame_cap.map(Mark::Capped).into_iter().collect();
    marks.extend(detected.phases.iter().copied().map(Mark::Phase));
    marks.extend(detected.pauses.iter().copied().map(Mark::Pause));
    if conditions.on_battery == Some(true) {
        marks.push(Mark::OnBattery);
    }
    if conditions.while_recording == Some(true) {
        marks.push(Mark::WhileRecording);
    }
    let version = conditions.game_version.clone();
    marks.extend(version.map(|version| Mark::GameVersion { version }));
    if conditions.is_of_host {
        marks.push(Mark::OfHost);
    }
    marks
}
