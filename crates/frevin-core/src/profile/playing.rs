//! What a profile holds of a game's process and around it, as long as the game runs.

use serde::Deserialize;
use serde_json::json;
use toml::Spanned;

use crate::document::Problem;
use crate::expression::{Expression, ExpressionError};
use crate::facts::Facts;
use crate::playing::{OthersRule, PcHolds, ProcessHolds, PurgeRule, TimerPeriod};

/// What is held while playing, beside tweaks. What a profile builds on may say the rest.
#[derive(Debug, Clone, Default, PartialEq)]
pub struct Playing {
    /// Of the game's process.
    pub process: ProcessHolds,
    /// The period of the system's timer.
    pub timer: Option<TimerPeriod>,
    /// When standby memory is given back.
    pub purge: Option<PurgeFormulas>,
    /// When other programs are lowered in priority.
    pub others: Option<OthersRule>,
}

/// When standby memory is given back, by the PC's own memory.
#[derive(Debug, Clone, PartialEq)]
pub struct PurgeFormulas {
    /// Where less than this is free, in MiB, over `facts`, ...
    pub free_below_mib: Expression,
    /// ... and more than this on standby; nothing: whatever is.
    pub standby_above_mib: Option<Expression>,
    /// No sooner than this after the last time, in seconds.
    pub pause_s: u32,
}

impl PurgeFormulas {
    /// The rule on a PC.
    ///
    /// # Errors
    /// Where a formula gives no size.
    pub fn rule(&self, facts: &Facts) -> Result<PurgeRule, ExpressionError> {
        let above = self.standby_above_mib.as_ref().map(|formula| size_mib(formula, facts));
        Ok(PurgeRule {
            free_below_mib: size_mib(&self.free_below_mib, facts)?,
            standby_above_mib: above.transpose()?.unwrap_or(0),
            pause_s: self.pause_s,
        })
    }
}

/// The size that a formula over `facts` gives, in MiB.
///
/// # Errors
/// Where it gives none.
pub fn size_mib(formula: &Expression, facts: &Facts) -> Result<u64, ExpressionError> {
    let given = formula.evaluate(&json!({ "facts": facts.variables() }))?;
    let rounded_down = || given.as_f64().filter(|size| *size >= 0.0).map(|size| size as u64);
    given.as_u64().or_else(rounded_down).ok_or_else(|| ExpressionError::WrongType {
        expression: formula.source().to_owned(),
        given: given.to_string(),
        wanted: "a size in MiB",
    })
}

impl Playing {
    /// Whether it says nothing.
    pub fn is_empty(&self) -> bool {
        *self == Self::default()
    }

    /// What this says, and what a profile that it builds on says beside it.
    pub fn over(self, base: Self) -> Self {
        Self {
            process: ProcessHolds {
                priority: self.process.priority.or(base.process.priority),
                processors: self.process.processors.or(base.process.processors),
                unthrottled: self.process.unthrottled || base.process.unthrottled,
                memory_priority: self.process.memory_priority.or(base.process.memory_priority),
            },
            timer: self.timer.or(base.timer),
            purge: self.purge.or(base.purge),
            others: self.others.or(base.others),
        }
    }

    /// What is held of a PC beside its settings and the game's process.
    ///
    /// # Errors
    /// Where a formula gives no size.
    pub fn around(&self, facts: &Facts) -> Result<PcHolds, ExpressionError> {
        Ok(PcHolds {
            timer: self.timer,
            purge: self.purge.as_ref().map(|purge| purge.rule(facts)).transpose()?,
            others: self.others.clone(),
        })
    }

    /// It as the table of a document; nothing where it says nothing.
    pub(super) fn to_document(&self) -> String {
        if self.is_empty() {
            return String::new();
        }
        let mut text = "\n[playing]\n".to_owned();
        let mut line = |key: &str, value: String| text.push_str(&format!("{key} = {value}\n"));
        let quoted = |text: &str| toml::Value::String(text.to_owned()).to_string();
        if let Some(class) = self.process.priority {
            line("priority", quoted(class.into()));
        }
        if let Some(choice) = &self.process.processors {
            line("processors", quoted(&choice.to_string()));
        }
        if self.process.unthrottled {
            line("unthrottled", "true".to_owned());
        }
        if let Some(priority) = self.process.memory_priority {
            line("memory_priority", quoted(priority.into()));
        }
        if let Some(period) = self.timer {
            line("timer_ms", format!("{:?}", f64::from(period.hundred_ns()) / 10_000.0));
        }
        if let Some(purge) = &self.purge {
            line("purge_below_mib", quoted(purge.free_below_mib.source()));
            if let Some(above) = &purge.standby_above_mib {
                line("purge_above_mib", quoted(above.source()));
            }
            line("purge_pause_s", purge.pause_s.to_string());
        }
        if let Some(rule) = &self.others {
            line("lower_others_above_percent", rule.above_percent.to_string());
            line("lower_others_for_s", rule.for_s.to_string());
        }
        text
    }
}

/// The table as it is written.
#[derive(Deserialize)]
#[serde(deny_unknown_fields)]
pub(super) struct PlayingDocument {
    priority: Option<Spanned<String>>,
    processors: Option<Spanned<String>>,
    #[serde(default)]
    unthrottled: bool,
    memory_priority: Option<Spanned<String>>,
    timer_ms: Option<Spanned<f64>>,
    purge_below_mib: Option<Spanned<String>>,
    purge_above_mib: Option<Spanned<String>>,
    purge_pause_s: Option<u32>,
    lower_others_above_percent: Option<Spanned<u32>>,
    lower_others_for_s: Option<u32>,
}

/// How long a program may take too much before it is lowered, where nobody says otherwise, in seconds.
pub const USUAL_OTHERS_S: u32 = 5;

impl PlayingDocument {
    /// What it says; what it says wrongly goes to the problems.
    pub(super) fn read(self, problems: &mut Vec<Problem>) -> Playing {
        let purge = match (&self.purge_below_mib, &self.purge_above_mib) {
            (Some(below), above) => {
                let standby_above_mib = above.as_ref().and_then(|above| formula(above, problems));
                formula(below, problems).map(|free_below_mib| PurgeFormulas {
                    free_below_mib,
                    standby_above_mib,
                    pause_s: self.purge_pause_s.unwrap_or(PurgeRule::USUAL_PAUSE_S),
                })
            }
            (None, Some(above)) => {
                let message = "`purge_above_mib` does nothing without `purge_below_mib`";
                problems.push(Problem::at(above.span(), message));
                None
            }
            (None, None) => None,
        };
        let others = self.lower_others_above_percent.and_then(|above| {
            let is_share = (1..=99).contains(above.as_ref());
            if !is_share {
                let message = "a share of all processors is from 1 to 99 percent";
                problems.push(Problem::at(above.span(), message));
            }
            let for_s = self.lower_others_for_s.unwrap_or(USUAL_OTHERS_S);
            is_share.then(|| OthersRule { above_percent: *above.as_ref(), for_s })
        });
        let timer = self.timer_ms.as_ref().and_then(|ms| {
            let period = ms.as_ref().to_string().parse::<TimerPeriod>();
            period.map_err(|error| problems.push(Problem::at(ms.span(), error.to_string()))).ok()
        });
        Playing {
            process: ProcessHolds {
                priority: named(self.priority.as_ref(), problems),
                processors: named(self.processors.as_ref(), problems),
                unthrottled: self.unthrottled,
                memory_priority: named(self.memory_priority.as_ref(), problems),
            },
            timer,
            purge,
            others,
        }
    }
}

fn named<T>(written: Option<&Spanned<String>>, problems: &mut Vec<Problem>) -> Option<T>
where
    T: std::str::FromStr<Err: std::fmt::Display>,
{
    let written = written?;
    let read = written.as_ref().parse();
    read.map_err(|error: T::Err| {
        let message = format!("`{}`: {error}", written.as_ref());
        problems.push(Problem::at(written.span(), message));
    })
    .ok()
}

fn formula(written: &Spanned<String>, problems: &mut Vec<Problem>) -> Option<Expression> {
    let sample = json!({ "facts": Facts::reference().variables() });
    let checked = Expression::parse(written.as_ref()).and_then(|expression| {
        expression.check(&sample)?;
        size_mib(&expression, &Facts::reference())?;
        Ok(expression)
    });
    checked.map_err(|error| problems.push(Problem::at(written.span(), error.to_string()))).ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::playing::PriorityClass;
    use crate::profile::Profile;
    use crate::tweak::Catalogue;

    const HEAD: &str = "format = 1\nname = \"evening\"\npurpose = \"p\"\n\n[playing]\n";

    fn read(table: &str) -> Result<Playing, String> {
        let catalogue = Catalogue::built_in().unwrap();
        let profile = Profile::parse("p.toml", &format!("{HEAD}{table}"), &catalogue);
        profile.map(|profile| profile.playing).map_err(|bad| bad.to_string())
    }

    const ALL: &str = "priority = \"above-normal\"\nprocessors = \"0-3,6\"\nunthrottled = true\n\
        memory_priority = \"normal\"\ntimer_ms = 0.5\npurge_below_mib = \"facts.memory.size_mib / 16\"\n\
        purge_above_mib = \"2048\"\npurge_pause_s = 30\nlower_others_above_percent = 15\n\
        lower_others_for_s = 8\n";

    #[test]
    fn every_line_of_the_table_is_read_and_written_again() {
        let playing = read(ALL).unwrap();
        assert_eq!(playing.process.priority, Some(PriorityClass::AboveNormal));
        assert_eq!(playing.timer.unwrap().to_string(), "0.5 ms");
        assert_eq!(playing.others, Some(OthersRule { above_percent: 15, for_s: 8 }));
        let written = playing.to_document();
        assert_eq!(written.matches('\n').count(), 12, "{written}");
        let table = written.trim_start().strip_prefix("[playing]\n").unwrap();
        assert_eq!(read(table).unwrap().to_document(), written);
        assert_eq!(read("").unwrap().to_document(), "");
    }

    #[test]
    fn thresholds_follow_the_memory_of_the_pc() {
        let purge = read(ALL).unwrap().purge.unwrap();
        let mut facts = Facts::reference();
        facts.memory.size_mib = 32_768;
        let rule = purge.rule(&facts).unwrap();
        assert_eq!((rule.free_below_mib, rule.standby_above_mib, rule.pause_s), (2048, 2048, 30));
        facts.memory.size_mib = 8192;
        assert_eq!(purge.rule(&facts).unwrap().free_below_mib, 512);
        let plain = read("purge_below_mib = \"700\"\n").unwrap().purge.unwrap();
        let rule = plain.rule(&facts).unwrap();
        assert_eq!((rule.free_below_mib, rule.standby_above_mib, rule.pause_s), (700, 0, 60));
        let around = read(ALL).unwrap().around(&facts).unwrap();
        assert!(around.purge.is_some() && around.timer.is_some() && !around.is_empty());
    }

    #[test]
    fn what_is_wrong_is_told_at_its_place() {
        for (table, place, said) in [
            ("priority = \"real-time\"\n", "6:12", "real-time"),
            ("processors = \"all of them\"\n", "6:14", "names no processors"),
            ("memory_priority = \"most\"\n", "6:19", "most"),
            ("timer_ms = 0.1\n", "6:12", "0.5 to 15.625"),
            ("purge_below_mib = \"facts.memory.size\"\n", "6:19", "does not exist"),
            ("purge_below_mib = \"'much'\"\n", "6:19", "a size in MiB is needed"),
            ("purge_below_mib = \"-5\"\n", "6:19", "a size in MiB is needed"),
            ("purge_above_mib = \"5\"\n", "6:19", "does nothing without"),
            ("lower_others_above_percent = 100\n", "6:30", "from 1 to 99"),
        ] {
            let told = read(table).unwrap_err();
            assert!(told.contains(&format!("p.toml:{place}")), "{table}: {told}");
            assert!(told.contains(said), "{table}: {told}");
        }
        assert!(read("prority = 5\n").unwrap_err().contains("unknown field"));
    }

    #[test]
    fn what_a_profile_says_goes_before_what_it_builds_on() {
        let base = read(ALL).unwrap();
        let own = read("timer_ms = 1.0\npriority = \"high\"\n").unwrap();
        let both = own.clone().over(base.clone());
        assert_eq!(both.process.priority, Some(PriorityClass::High));
        assert_eq!(both.timer, own.timer);
        assert_eq!((&both.others, both.process.unthrottled), (&base.others, true));
        assert_eq!(Playing::default().over(base.clone()), base);
        assert!(Playing::default().is_empty() && !both.is_empty());
    }
}
