//! Scripts of strangers: batch files and PowerShell, read and never run.
//!
//! A command that sets the registry, a service, the power plan, a boot element, a task or a feature of Windows is
//! the setting that it sets. What hangs on a condition, on a variable or on another program cannot be read off the
//! text: each such line is told, and nothing is made of it.

mod meaning;
mod words;

use uuid::Uuid;

use self::meaning::{Commands, Meaning};
use self::words::Standing;
use crate::registry_text::LineProblem;
use crate::setting::{Address, State};

/// The language of a script.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ScriptLanguage {
    /// What the command prompt runs: `.bat`, `.cmd`.
    Batch,
    /// What PowerShell runs: `.ps1`.
    PowerShell,
}

impl ScriptLanguage {
    /// The language that a file's ending says.
    pub fn of_ending(ending: &str) -> Option<Self> {
        match ending.to_ascii_lowercase().as_str() {
            "bat" | "cmd" => Some(Self::Batch),
            "ps1" => Some(Self::PowerShell),
            _ => None,
        }
    }
}

/// A setting that a script sets.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct ScriptSetting {
    /// The line of its command, counted from 1.
    pub line: usize,
    /// The setting.
    pub address: Address,
    /// What it shall hold.
    pub state: State,
}

/// What a script does, as far as its text tells.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct ScriptText {
    /// The settings, in the order of their commands.
    pub settings: Vec<ScriptSetting>,
    /// The lines that nothing is made of, and why.
    pub problems: Vec<LineProblem>,
}

/// Reads what a script does. `plan_in_force` is the power plan that "the current one" means until the script puts
/// another one in force.
pub fn read(text: &str, language: ScriptLanguage, plan_in_force: Option<Uuid>) -> ScriptText {
    let mut script = ScriptText::default();
    let mut commands = Commands { plan_in_force };
    let mut keys = Vec::new();
    for command in words::commands(text, language) {
        let shown = command.shown();
        let problem = |message: String| LineProblem { line: command.line, message };
        let understood = match command.standing {
            _ if meaning::sets_nothing(&command) => Ok(Meaning::Nothing),
            Standing::Plain => commands.meaning(&command, language),
            Standing::Conditional => {
                Err("it is done only under a condition, or several times".into())
            }
            Standing::Piped => Err("what it does hangs on another command's output".into()),
        };
        match understood {
            Ok(Meaning::Nothing) => {}
            Ok(Meaning::Key(key)) => keys.push((command.line, key)),
            Ok(Meaning::Settings(settings)) => {
                script.settings.extend(
                    settings.into_iter().map(|(address, state)| ScriptSetting {
                        line: command.line,
                        address,
                        state,
                    }),
                );
            }
            Err(reason) => script.problems.push(problem(format!("`{shown}`: {reason}"))),
        }
    }
    for (line, key) in keys {
        let is_filled = script.settings.iter().any(|setting| match &setting.address {
            Address::RegistryValue(of, _) => key.contains(of),
            _ => false,
        });
        if !is_filled {
            let message = format!("it makes the key {key} and puts nothing into it");
            script.problems.push(LineProblem { line, message });
        }
    }
    script.problems.sort_by_key(|problem| problem.line);
    script
}

#[cfg(test)]
mod tests;
