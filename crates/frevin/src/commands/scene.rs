//! `frevin scene`

use std::path::PathBuf;

use clap::{Args, Subcommand};
use frevin_core::ids::SceneName;
use frevin_core::visits::Scene;
use schemars::JsonSchema;
use serde::Serialize;

use crate::context::Context;
use crate::failure::{Failure, Kind};
use crate::measure::scene_source::SceneRecording;
use crate::measure::sources::{know_scene, scenes_of};
use crate::outcome::{Outcome, View};
#[cfg(test)]
use crate::schemas::Schemas;
use crate::view::{Page, Table, dim, good};

/// What is measured: game, graphics level, resolution, route
#[derive(Debug, Subcommand)]
pub(crate) enum SceneCommand {
    /// Add a scene. It stays what it is, so that its runs stay comparable
    Add {
        /// Its name, like `mill-ride`
        name: SceneName,
        /// The game
        #[arg(long)]
        game: String,
        /// The graphics level
        #[arg(long)]
        graphics: String,
        /// The resolution
        #[arg(long)]
        resolution: String,
        /// What is played: a benchmark of the game's own, or a route and how long it takes
        #[arg(long)]
        route: String,
    },
    RecordBy(RecordByArgs),
    /// List the scenes
    List,
}

/// Say how a run of a scene comes about, for trials. It is kept in Frevin's configuration on this PC, and
/// never exported
#[derive(Debug, Args)]
pub(crate) struct RecordByArgs {
    /// The scene
    scene: SceneName,
    /// Trace the frames of this program, by the name of its file, like `game.exe`
    #[arg(long, value_name = "NAME", group = "frames")]
    program: Option<String>,
    /// Wait for the log that another program writes into this folder
    #[arg(long, value_name = "FOLDER", group = "frames")]
    folder: Option<PathBuf>,
    /// Play the test loop
    #[arg(long, group = "frames")]
    test_loop: bool,
    /// Wait so long between the start of the command and the recording, in seconds
    #[arg(long, value_name = "SECONDS", default_value_t = 0)]
    begin_after: u32,
    /// Ask somebody at the PC to begin each run
    #[arg(long)]
    ask: bool,
    /// How long a log, or the end of the command, is waited for, in seconds [default: 3600]
    #[arg(long, value_name = "SECONDS")]
    give_up_after: Option<u32>,
    /// Forget how it was recorded
    #[arg(long, conflicts_with_all = ["frames", "ask", "command"])]
    none: bool,
    /// A program that plays a run and ends, with its arguments, after `--`; it is started as it is, without
    /// a shell
    #[arg(last = true, value_name = "COMMAND")]
    command: Vec<String>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct RecordedBy {
    scene: SceneName,
    recording: Option<SceneRecording>,
}

#[derive(Debug, JsonSchema, Serialize)]
struct SceneAdded {
    added: Scene,
}

#[derive(Debug, JsonSchema, Serialize)]
struct SceneList {
    scenes: Vec<Scene>,
    /// Scenes of the rehearsal PC that is meant, which are added when they are first recorded.
    on_this_pc: Vec<Scene>,
}

pub(crate) fn run(context: &Context, command: &SceneCommand) -> Result<Outcome, Failure> {
    let mut ledger = context.ledger()?;
    match command {
        SceneCommand::Add { name, game, graphics, resolution, route } => {
            let added = Scene {
                name: name.clone(),
                game: game.clone(),
                graphics: graphics.clone(),
                resolution: resolution.clone(),
                route: route.clone(),
            };
            ledger.add_scene(&added)?;
            Ok(Outcome::done(&SceneAdded { added }))
        }
        SceneCommand::RecordBy(args) => {
            let RecordByArgs { scene, none, .. } = args;
            know_scene(context, &mut ledger, scene)?;
            let recording = (!none).then(|| args.recording()).transpose()?;
            context.configure_scene(scene, recording.clone())?;
            Ok(Outcome::done(&RecordedBy { scene: scene.clone(), recording }))
        }
        SceneCommand::List => {
            let scenes = ledger.scenes()?;
            let mut on_this_pc = match context.rehearsal_pc_if_named()? {
                Some(pc) => scenes_of(&pc)?,
                None => Vec::new(),
            };
            on_this_pc.retain(|scene| !scenes.iter().any(|known| known.name == scene.name));
            Ok(Outcome::yes(&SceneList { scenes, on_this_pc }))
        }
    }
}

impl RecordByArgs {
    fn recording(&self) -> Result<SceneRecording, Failure> {
        let recording = SceneRecording {
            program: self.program.clone(),
            // What a folder is called from here, it is not from elsewhere.
            folder: self.folder.as_deref().map(std::path::absolute).transpose()?,
            test_loop: self.test_loop,
            command: self.command.clone(),
            begin_after_seconds: self.begin_after,
            ask: self.ask,
            give_up_after_seconds: self.give_up_after,
        };
        match recording.fault() {
            None => Ok(recording),
            Some(fault) => Err(Failure::new(Kind::Usage, fault)),
        }
    }
}

/// What it prints with `--json`.
#[cfg(test)]
pub(super) fn schemas(schemas: &mut Schemas) {
    schemas.prints::<SceneAdded>("scene add");
    schemas.prints::<RecordedBy>("scene record-by");
    schemas.prints::<SceneList>("scene list");
}

impl View for RecordedBy {
    fn show(&self, page: &mut Page) {
        let how = match &self.recording {
            Some(recording) => recording.in_words(),
            None => "as its PC plays it".to_owned(),
        };
        page.line(format_args!("{} A run of {}: {how}.", good("Done."), self.scene));
    }
}

impl View for SceneAdded {
    fn show(&self, page: &mut Page) {
        page.line(format_args!("{} The scene {} is added.", good("Done."), self.added.name));
    }
}

impl View for SceneList {
    fn show(&self, page: &mut Page) {
        if self.scenes.is_empty() && self.on_this_pc.is_empty() {
            page.line("No scenes yet: `frevin scene add` adds one.");
            return;
        }
        let mut table = Table::new(["scene", "game", "graphics", "resolution", "route"]);
        let mut row = |scene: &Scene, name: String| {
            table.row([
                name,
                scene.game.clone(),
                scene.graphics.clone(),
                scene.resolution.clone(),
                scene.route.clone(),
            ]);
        };
        self.scenes.iter().for_each(|scene| row(scene, scene.name.to_string()));
        for scene in &self.on_this_pc {
            row(scene, format!("{} {}", scene.name, dim("(not recorded yet)")));
        }
        page.table(table);
    }
}
