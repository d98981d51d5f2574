//! Scenes: what is measured.

use frevin_core::ids::SceneName;
use frevin_core::visits::Scene;
use rusqlite::params;

use crate::error::LedgerError;
use crate::store::{Ledger, parse};

impl Ledger {
    /// Adds a scene.
    ///
    /// # Errors
    /// [`LedgerError::SceneExists`] where there is another of that name.
    pub fn add_scene(&mut self, scene: &Scene) -> Result<(), LedgerError> {
        match self.scene(&scene.name) {
            Ok(known) if known == *scene => return Ok(()),
            Ok(_) => return Err(LedgerError::SceneExists(scene.name.to_string())),
            Err(LedgerError::NoScene(_)) => {}
            Err(other) => return Err(other),
        }
        self.connection.execute(
            "INSERT INTO scene (name, game, graphics, resolution, route) VALUES (?1, ?2, ?3, ?4, ?5)",
            params![
                scene.name.as_str(),
                scene.game,
                scene.graphics,
                scene.resolution,
                scene.route
            ],
        )?;
        Ok(())
    }

    /// The scene of that name.
    ///
    /// # Errors
    /// [`LedgerError::NoScene`] where there is none.
    pub fn scene(&self, name: &SceneName) -> Result<Scene, LedgerError> {
        let scenes = self.scenes()?;
        let found = scenes.into_iter().find(|scene| scene.name == *name);
        found.ok_or_else(|| LedgerError::NoScene(name.to_string()))
    }

    /// Every scene, by name.
    ///
    /// # Errors
    /// Where the ledger cannot be read.
    pub fn scenes(&self) -> Result<Vec<Scene>, LedgerError> {
        let mut statement = self
            .connection
            .prepare("SELECT name, game, graphics, resolution, route FROM scene ORDER BY name")?;
        let mut rows = statement.query([])?;
        let mut scenes = Vec::new();
        while let Some(row) = rows.next()? {
            scenes.push(Scene {
                name: parse("a scene's name", &row.get::<_, String>(0)?)?,
                game: row.get(1)?,
                graphics: row.get(2)?,
                resolution: row.get(3)?,
                route: row.get(4)?,
            });
        }
        Ok(scenes)
    }
}
