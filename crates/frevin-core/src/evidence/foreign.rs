//! Evidence that leaves a PC, and evidence of many PCs.

use std::collections::BTreeMap;

use frevin_stats::pool::{PcEffect, Pooled, pool};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use thiserror::Error;

use super::record::{EvidenceFinding, EvidenceRecord};

/// A row of evidence of some PC, as files carry it: nothing in it says whose it is.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize, Deserialize)]
#[serde(deny_unknown_fields)]
pub struct ForeignEvidence {
    /// The PC, by a name that stands for it and tells nothing of it.
    pub pc: String,
    /// The tweak.
    pub tweak: String,
    /// Its arguments, as JSON with its keys in order.
    pub arguments: String,
    /// What the figures are of: `average-fps`.
    pub metric: String,
    /// The game.
    pub game: String,
    /// The graphics level.
    pub graphics: String,
    /// The resolution.
    pub resolution: String,
    /// `trial`, `sift` or `comparison`.
    pub origin: String,
    /// The day, year-month-day.
    pub date: String,
    /// The build of Windows; 0 where it is not known.
    pub windows_build: u32,
    /// The version of the graphics driver; empty where it is not known.
    pub graphics_driver: String,
    /// The version of the game; empty where it is not known.
    pub game_version: String,
    /// `helps`, `hurts`, `no-effect` or `unclear`.
    pub finding: String,
    /// ln of the ratio of average FPS, with the tweak to without.
    pub ln_ratio: f64,
    /// Its standard error.
    pub standard_error: f64,
}

/// What figures are of.
pub(super) const METRIC: &str = "average-fps";
/// No text in a row is longer.
const LONGEST_TEXT: usize = 4096;
/// No effect is larger: a hundredth or a hundred times as many frames.
const LARGEST_LN_RATIO: f64 = 4.7;

/// Why a row is no evidence.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
#[allow(missing_docs, reason = "the messages say what each one is")]
pub enum ForeignEvidenceError {
    #[error("`{0}` is longer than {LONGEST_TEXT} bytes")]
    TooLong(&'static str),
    #[error("`tweak` holds `{0}`, which is no tweak's name")]
    NoTweak(String),
    #[error("`metric` holds `{0}`; this Frevin knows {METRIC}")]
    OtherMetric(String),
    #[error("`finding` holds `{0}`, which is none")]
    NoFinding(String),
    #[error("`arguments` is no JSON object")]
    BadArguments,
    #[error("`ln_ratio` or `standard_error` is no figure that an effect has")]
    NoEffect,
    #[error("`pc` is empty")]
    NoPc,
}

impl ForeignEvidence {
    /// A row of one's own evidence. `pc` is the name that stands for the PC.
    pub fn of(pc: &str, evidence: &EvidenceRecord) -> Self {
        let origin = match evidence.origin {
            super::Origin::Trial { .. } => "trial",
            super::Origin::Sift { .. } => "sift",
            super::Origin::Comparison => "comparison",
        };
        let finding: &str = evidence.finding.into();
        let arguments: serde_json::Map<String, serde_json::Value> = evidence
            .used
            .arguments
            .iter()
            .flatten()
            .map(|(name, argument)| (name.clone(), argument.value()))
            .collect();
        Self {
            pc: pc.to_owned(),
            tweak: evidence.used.tweak.to_string(),
            arguments: serde_json::to_string(&arguments).unwrap_or_default(),
            metric: METRIC.to_owned(),
            game: evidence.scene.game.clone(),
            graphics: evidence.scene.graphics.clone(),
            resolution: evidence.scene.resolution.clone(),
            origin: origin.to_owned(),
            date: evidence.date.to_string(),
            windows_build: evidence.windows_build.unwrap_or_default(),
            graphics_driver: evidence.graphics_driver.clone().unwrap_or_default(),
            game_version: evidence.game_version.clone().unwrap_or_default(),
            finding: finding.to_owned(),
            ln_ratio: evidence.ln_ratio,
            standard_error: evidence.standard_error,
        }
    }

    /// Checks a row of a stranger.
    ///
    /// # Errors
    /// [`ForeignEvidenceError`].
    pub fn check(&self) -> Result<(), ForeignEvidenceError> {
        let texts = [
            ("pc", &self.pc),
            ("tweak", &self.tweak),
            ("arguments", &self.arguments),
            ("game", &self.game),
            ("graphics", &self.graphics),
            ("resolution", &self.resolution),
            ("origin", &self.origin),
            ("date", &self.date),
            ("graphics_driver", &self.graphics_driver),
            ("game_version", &self.game_version),
        ];
        if let Some((name, _)) = texts.into_iter().find(|(_, text)| text.len() > LONGEST_TEXT) {
            return Err(ForeignEvidenceError::TooLong(name));
        }
        if self.pc.is_empty() {
            return Err(ForeignEvidenceError::NoPc);
        }
        if self.tweak.parse::<crate::tweak::TweakId>().is_err() {
            return Err(ForeignEvidenceError::NoTweak(self.tweak.clone()));
        }
        if self.metric != METRIC {
            return Err(ForeignEvidenceError::OtherMetric(self.metric.clone()));
        }
        if self.finding.parse::<EvidenceFinding>().is_err() {
            return Err(ForeignEvidenceError::NoFinding(self.finding.clone()));
        }
        if !self.arguments.starts_with('{')
            || serde_json::from_str::<serde_json::Map<String, serde_json::Value>>(&self.arguments)
                .is_err()
        {
            return Err(ForeignEvidenceError::BadArguments);
        }
        let is_effect = self.ln_ratio.abs() <= LARGEST_LN_RATIO
            && self.standard_error > 0.0
            && self.standard_error <= LARGEST_LN_RATIO;
        if is_effect { Ok(()) } else { Err(ForeignEvidenceError::NoEffect) }
    }
}

/// What is pooled together: a tweak with its arguments, in one kind of scene.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
pub struct PoolKey {
    /// The tweak.
    pub tweak: String,
    /// Its arguments, as JSON.
    pub arguments: String,
    /// The game.
    pub game: String,
}

/// A tweak over several PCs.
#[derive(Debug, Clone, PartialEq, JsonSchema, Serialize)]
pub struct PooledTweak {
    /// What was pooled.
    #[serde(flatten)]
    pub key: PoolKey,
    /// How many PCs there are.
    pub pcs: usize,
    /// PCs that got worse.
    pub worse: usize,
    /// The figures; nothing of fewer than three PCs.
    pub pooled: Option<Pooled>,
}

/// Pools evidence, each tweak with its arguments in each game by itself. A PC counts once: what it has measured of
/// the same several times is first put together by the inverse of its variances.
pub fn pool_evidence<'a>(rows: impl IntoIterator<Item = &'a ForeignEvidence>) -> Vec<PooledTweak> {
    type Parts<'a> = (&'a str, &'a str, &'a str);
    let mut by_key: BTreeMap<Parts<'a>, BTreeMap<&'a str, (f64, f64)>> = BTreeMap::new();
    for row in rows {
        let weight = 1.0 / (row.standard_error * row.standard_error);
        let of_pc = by_key
            .entry((&row.tweak, &row.arguments, &row.game))
            .or_default()
            .entry(&row.pc)
            .or_default();
        of_pc.0 += weight * row.ln_ratio;
        of_pc.1 += weight;
    }
    let pooled = |((tweak, arguments, game), of_pcs): (Parts<'_>, BTreeMap<&str, (f64, f64)>)| {
        let effects: Vec<PcEffect> = of_pcs
            .values()
            .map(|(sum, weight)| PcEffect {
                estimate: sum / weight,
                standard_error: 1.0 / weight.sqrt(),
            })
            .collect();
        PooledTweak {
            key: PoolKey {
                tweak: tweak.to_owned(),
                arguments: arguments.to_owned(),
                game: game.to_owned(),
            },
            pcs: effects.len(),
            worse: effects.iter().filter(|one| one.estimate < 0.0).count(),
            pooled: pool(&effects),
        }
    };
    by_key.into_iter().map(pooled).collect()
}

#[cfg(test)]
mod tests {
    use super::*;

    fn row(pc: &str, ln_ratio: f64, standard_error: f64) -> ForeignEvidence {
        ForeignEvidence {
            pc: pc.to_owned(),
            tweak: "power/active-plan".to_owned(),
            arguments: r#"{"plan":"high-performance"}"#.to_owned(),
            metric: METRIC.to_owned(),
            game: "Gorsehollow Riders".to_owned(),
            graphics: "high".to_owned(),
            resolution: "1920x1080".to_owned(),
            origin: "trial".to_owned(),
            date: "2026-03-01".to_owned(),
            windows_build: 26_100,
            graphics_driver: String::new(),
            game_version: String::new(),
            finding: "helps".to_owned(),
            ln_ratio,
            standard_error,
        }
    }

    #[test]
    fn each_pc_counts_once_and_other_arguments_are_another_tweak() {
        let mut rows = vec![
            row("a", 0.021, 0.004),
            row("b", 0.034, 0.006),
            row("c", -0.002, 0.005),
            // Twice the same with more error each: as good as once.
            row("d", 0.015, 0.003 * 2.0_f64.sqrt()),
            row("d", 0.015, 0.003 * 2.0_f64.sqrt()),
            row("e", 0.041, 0.009),
            row("f", 0.008, 0.006),
        ];
        rows.push(ForeignEvidence { arguments: "{}".to_owned(), ..row("a", 0.5, 0.1) });
        let pooled = pool_evidence(&rows);
        assert_eq!(pooled.len(), 2);
        let figures = pooled.iter().find_map(|one| one.pooled).unwrap();
        assert!((figures.mean - 0.018_726_3).abs() < 1e-6);
        assert_eq!((figures.pcs, figures.below_zero), (6, 1));
        let alone = pooled.iter().find(|one| one.key.arguments == "{}").unwrap();
        assert_eq!((alone.pcs, alone.pooled), (1, None));
    }

    #[test]
    fn rows_that_are_no_evidence_say_why() {
        assert_eq!(row("a", 0.01, 0.01).check(), Ok(()));
        for (bad, says) in [
            (ForeignEvidence { tweak: "x".into(), ..row("a", 0.0, 0.1) }, "no tweak's name"),
            (ForeignEvidence { finding: "great".into(), ..row("a", 0.0, 0.1) }, "`great`"),
            (ForeignEvidence { arguments: "[1]".into(), ..row("a", 0.0, 0.1) }, "JSON object"),
            (ForeignEvidence { metric: "fps".into(), ..row("a", 0.0, 0.1) }, "average-fps"),
            (ForeignEvidence { game: "x".repeat(5000), ..row("a", 0.0, 0.1) }, "`game`"),
            (row("", 0.0, 0.1), "`pc` is empty"),
            (row("a", f64::NAN, 0.1), "no figure"),
            (row("a", 0.0, 0.0), "no figure"),
            (row("a", 50.0, 0.1), "no figure"),
        ] {
            let error = bad.check().unwrap_err().to_string();
            assert!(error.contains(says), "{error}");
        }
    }
}
