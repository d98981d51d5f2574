//! `frevin scene`

use clap::Subcommand;
use frevin_core::ids::SceneName;
use frevin_core::visits::Scene;
use serde::Serialize;

use crate::context::Context;
use crate::failure::Failure;
use crate::measure::sources::scenes_of;
use crate::outcome::{Outcome, View};
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
    /// List the scenes
    List,
}

#[derive(Debug, Serialize)]
struct SceneAdded {
    added: Scene,
}

#[derive(Debug, Serialize)]
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
