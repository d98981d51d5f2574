//! What has become of evidence since, and what contradicts it.
use schemars::JsonSchema;
use serde::Serialize;

use super::record::{EvidenceFinding, EvidenceRecord};

/// Under what a PC is measured now.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Circumstances {
    /// The build of Windows.
    pub windows_build: Option<u32>,
    /// The version of the graphics driver.
    pub graphics_driver: Option<String>,
    /// The version of the game in the scene, as the latest visit to it says.
    pub game_version: Option<String>,
}

/// Why evidence has aged.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Age {
    /// Windows has another build.
    OtherBuild,
    /// The graphics driver is another.
    OtherDriver,
    /// The game has another version.
    OtherGameVersion,
}

/// Why evidence has aged; empty where it has not, or where nothing tells.
pub fn ages(evidence: &EvidenceRecord, now: &Circumstances) -> Vec<Age> {
    fn is_other<T: PartialEq>(then: Option<&T>, now: Option<&T>) -> bool {
        matches!((then, now), (Some(then), Some(now)) if then != now)
    }
    let mut ages = Vec::new();
    if is_other(evidence.windows_build.as_ref(), now.windows_build.as_ref()) {
        ages.push(Age::OtherBuild);
    }
    if is_other(evidence.graphics_driver.as_ref(), now.graphics_driver.as_ref()) {
        ages.push(Age::OtherDriver);
    }
    if is_other(evidence.game_version.as_ref(), now.game_version.as_ref()) {
        ages.push(Age::OtherGameVersion);
    }
    ages
}

/// For each piece of evidence, whether another one of the same tweak, with the same arguments and in the same scene,
/// found the opposite: that it helps where this says that it hurts, or the other way round.
pub fn contradictions(all: &[EvidenceRecord]) -> Vec<bool> {
    let opposes = |a: &EvidenceRecord, b: &EvidenceRecord| {
        let findings = (a.finding, b.finding);
        a.used == b.used
            && a.scene.scene == b.scene.scene
            && matches!(
                findings,
                (EvidenceFinding::Helps, EvidenceFinding::Hurts)
                    | (EvidenceFinding::Hurts, EvidenceFinding::Helps)
            )
    };
    all.iter().map(|one| all.iter().any(|other| opposes(one, other))).collect()
}

#[cfg(test)]
mod tests {
    use super::super::record::{Origin, SceneOfEvidence};
    use super::*;
    use crate::tweak::TweakUse;

    fn record(finding: EvidenceFinding, scene: &str) -> EvidenceRecord {
        EvidenceRecord {
            used: TweakUse::plain("a/b".parse().unwrap()),
            scene: SceneOfEvidence {
                scene: scene.parse().unwrap(),
                game: "Gorsehollow Riders".to_owned(),
                graphics: "high".to_owned(),
                resolution: "1920x1080".to_owned(),
            },
            origin: Origin::Comparison,
            date: jiff::civil::date(2026, 3, 1),
            windows_build: Some(26_100),
            graphics_driver: Some("1.0".to_owned()),
            game_version: None,
            finding,
            by_guard: false,
            ln_ratio: 0.02,
            standard_error: 0.005,
            effect_percent: 2.0,
            low_percent: 1.0,
            high_percent: 3.0,
            false_chance: 0.025,
        }
    }

    #[test]
    fn what_has_changed_since_is_told_and_what_nobody_knows_is_not() {
        let old = record(EvidenceFinding::Helps, "mill");
        let now = Circumstances {
            windows_build: Some(26_200),
            graphics_driver: Some("1.0".to_owned()),
            game_version: Some("2".to_owned()),
        };
        assert_eq!(ages(&old, &now), [Age::OtherBuild]);
        let versioned = EvidenceRecord { game_version: Some("1".to_owned()), ..old.clone() };
        assert_eq!(ages(&versioned, &now), [Age::OtherBuild, Age::OtherGameVersion]);
        assert!(ages(&old, &Circumstances::default()).is_empty());
    }

    #[test]
    fn only_the_opposite_in_the_same_scene_contradicts() {
        let all = [
            record(EvidenceFinding::Helps, "mill"),
            record(EvidenceFinding::Hurts, "mill"),
            record(EvidenceFinding::NoEffect, "mill"),
            record(EvidenceFinding::Hurts, "market"),
        ];
        assert_eq!(contradictions(&all), [true, true, false, false]);
    }
}
