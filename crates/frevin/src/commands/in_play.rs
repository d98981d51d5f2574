//! What is played, where something is tried in play.

use std::path::{Path, PathBuf};

use clap::Args;
use frevin_core::trial::in_play::PlaySource;
use frevin_core::visits::Scene;

use crate::failure::{Failure, Kind};
use crate::measure::sources::TestLoop;
use crate::operations::trial::AskedInPlay;

/// How it is played.
#[derive(Debug, Args)]
pub(crate) struct InPlayArgs {
    /// Try it while you play: it is switched on and off every few seconds, in an order that coins decide, and frames are
    /// recorded without a break. For what acts at once
    #[arg(long)]
    in_play: bool,
    /// The game that is played, by the name of its file: its frames are traced
    #[arg(long, value_name = "NAME", requires = "in_play", conflicts_with = "scene")]
    program: Option<String>,
    /// A log of the game to which its rows are added while it is recorded
    #[arg(long, value_name = "FILE", requires = "in_play", conflicts_with_all = ["scene", "program"])]
    growing: Option<PathBuf>,
    /// Frevin's own workload instead of a game
    #[arg(long, requires = "in_play", conflicts_with_all = ["scene", "program", "growing"])]
    test_loop: bool,
    /// What is played is a benchmark that repeats after so many seconds: the same place of two passes is compared
    #[arg(long = "loop", value_name = "SECONDS", requires = "in_play", value_parser = parse_seconds)]
    loop_seconds: Option<f64>,
    /// The most that is played now, in minutes; `resume` plays on another day [default: until there is a result]
    #[arg(long, value_name = "MINUTES", requires = "in_play", value_parser = parse_minutes)]
    minutes: Option<f64>,
}

/// So much play as one pair of segments needs after the lead-in, or more.
pub(super) fn parse_minutes(text: &str) -> Result<f64, String> {
    let minutes: f64 = text.parse().map_err(|_| "write minutes, like 10".to_owned())?;
    let is_sound = (0.7..=40.0).contains(&minutes);
    is_sound.then_some(minutes).ok_or_else(|| "it is from 0.7 to 40 minutes".to_owned())
}

/// A length of time in seconds, down to half a second.
pub(super) fn parse_seconds(text: &str) -> Result<f64, String> {
    let seconds: f64 = text.parse().map_err(|_| "write seconds, like 75 or 62.5".to_owned())?;
    let is_sound = (1.0..=1200.0).contains(&seconds);
    is_sound.then_some(seconds).ok_or_else(|| "it is from 1 to 1200 seconds".to_owned())
}

impl InPlayArgs {
    /// What is asked for; nothing where it is not to be tried in play.
    pub(crate) fn asked(&self) -> Option<AskedInPlay> {
        let source = match (&self.program, &self.growing, self.test_loop) {
            _ if !self.in_play => return None,
            (Some(program), _, _) => PlaySource::Program { file: program.clone() },
            (_, Some(file), _) => PlaySource::GrowingLog { file: file.clone() },
            (_, _, true) => PlaySource::TestLoop,
            (None, None, false) => PlaySource::Scene,
        };
        let sitting_s = self.minutes.map(|minutes| 60.0 * minutes);
        Some(AskedInPlay { source, loop_s: self.loop_seconds, sitting_s })
    }

    /// The scene that a game stands for which is played and is none.
    pub(crate) fn scene(&self) -> Result<Option<Scene>, Failure> {
        if self.test_loop {
            return TestLoop::scene().map(Some);
        }
        let named = self.program.as_deref().map(Path::new).or(self.growing.as_deref());
        let Some(stem) = named.and_then(Path::file_stem) else { return Ok(None) };
        ordinary_play(&stem.to_string_lossy()).map(Some)
    }
}

/// The scene that stands for playing a game as one likes.
pub(crate) fn ordinary_play(game: &str) -> Result<Scene, Failure> {
    let game = game.to_lowercase();
    let plain: String =
        game.chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '-' }).take(40).collect();
    let name = format!("play-{}", plain.trim_matches('-'));
    let name = name.parse().map_err(|error: frevin_core::ids::NameError| {
        Failure::new(Kind::Usage, error.to_string())
    })?;
    Ok(Scene {
        name,
        game,
        graphics: "as played".to_owned(),
        resolution: "as played".to_owned(),
        route: "ordinary play".to_owned(),
    })
}
