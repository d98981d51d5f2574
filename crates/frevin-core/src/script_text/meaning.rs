//! What the commands of a script set.

mod cmdlets;
mod power;
mod registry;
mod tools;

use uuid::Uuid;

use super::words::{Command, Standing, Word};
use super::{ScriptLanguage, words};
use crate::setting::{Address, KeyPath, State};
use crate::tweak::state_from_words;

/// What a command does.
pub(super) enum Meaning {
    /// Nothing that a setting is.
    Nothing,
    /// It makes a key.
    Key(KeyPath),
    /// It sets these.
    Settings(Vec<(Address, State)>),
}

/// What is known while commands are read one after another.
pub(super) struct Commands {
    pub(super) plan_in_force: Option<Uuid>,
}

type Understood = Result<Meaning, String>;

const NOT_UNDERSTOOD: &str = "Frevin does not know what this does";

/// Commands that tell something, wait or go elsewhere, and set nothing.
const SETS_NOTHING: [&str; 20] = [
    "echo",
    "echo.",
    "pause",
    "cls",
    "title",
    "color",
    "chcp",
    "setlocal",
    "endlocal",
    "timeout",
    "cd",
    "pushd",
    "popd",
    "exit",
    "mode",
    "write-host",
    "write-output",
    "clear-host",
    "start-sleep",
    "ver",
];

/// Whether a command tells something, waits or goes elsewhere, and no more.
pub(super) fn sets_nothing(command: &Command) -> bool {
    let program = command.words.first().map(program_of).unwrap_or_default();
    SETS_NOTHING.contains(&program.as_str()) || program.starts_with("echo")
}

/// The program that a command's first word names, without folder and ending.
fn program_of(word: &Word) -> String {
    let name = word.text.to_lowercase();
    name.rsplit('\\').next().unwrap_or_default().trim_end_matches(".exe").to_owned()
}

impl Commands {
    pub(super) fn meaning(&mut self, command: &Command, language: ScriptLanguage) -> Understood {
        let Some((program, rest)) = command.words.split_first() else {
            return Ok(Meaning::Nothing);
        };
        let program = &program_of(program);
        let is_power_shell = program == "powershell" || program == "pwsh";
        // `$true` and its like are no variables.
        let is_fixed = |word: &Word| {
            !word.is_computed
                || ["$true", "$false", "$null"].contains(&word.text.to_lowercase().as_str())
        };
        if !is_power_shell && !command.words.iter().all(is_fixed) {
            return Err("what it holds is only known when the script runs".to_owned());
        }
        let words: Vec<&str> = rest.iter().map(|word| word.text.as_str()).collect();
        match (program.as_str(), language) {
            ("powershell" | "pwsh", _) => self.inner(&words),
            ("reg", _) => registry::registry(&words),
            // In PowerShell the bare word is another command.
            ("sc", ScriptLanguage::PowerShell) if !command.words[0].text.contains('.') => {
                Err(NOT_UNDERSTOOD.to_owned())
            }
            ("sc", _) => tools::service(&words),
            ("net", _) => tools::net(&words),
            ("powercfg", _) => self.power(&words),
            ("bcdedit", _) => tools::boot(&words),
            ("schtasks", _) => tools::task(&words),
            ("dism", _) => tools::feature(&words),
            (_, ScriptLanguage::PowerShell) => cmdlets::cmdlet(program, &words),
            (_, ScriptLanguage::Batch) => Err(NOT_UNDERSTOOD.to_owned()),
        }
    }

    /// What a batch file hands to PowerShell.
    fn inner(&mut self, words: &[&str]) -> Understood {
        let starts = |word: &&str| ["-command", "-c"].contains(&word.to_lowercase().as_str());
        let Some(at) = words.iter().position(starts) else {
            return Err("it runs a script or an interpreter: Frevin runs none".to_owned());
        };
        let text = words.get(at + 1..).unwrap_or_default().join(" ");
        let mut settings = Vec::new();
        for command in words::commands(&text, ScriptLanguage::PowerShell) {
            if command.standing != Standing::Plain {
                return Err("a part of it hangs on a condition or on another command".to_owned());
            }
            match self.meaning(&command, ScriptLanguage::PowerShell)? {
                Meaning::Nothing | Meaning::Key(_) => {}
                Meaning::Settings(more) => settings.extend(more),
            }
        }
        Ok(Meaning::Settings(settings))
    }
}

/// A number, as these programs take it: decimal, or hexadecimal after `0x`.
fn decimal(written: &str) -> Result<u32, String> {
    let number = match written.to_lowercase().strip_prefix("0x") {
        Some(digits) => u32::from_str_radix(digits, 16).ok(),
        None => written.parse().ok(),
    };
    number.ok_or_else(|| format!("{written} is no number"))
}

fn one(address: &str, words: &str) -> Understood {
    let address: Address = address.parse().map_err(|error| format!("{error}"))?;
    let state = state_from_words(&address, words)?;
    Ok(Meaning::Settings(vec![(address, state)]))
}

/// The words after switches, by the switch without its sign, and the words before the first.
struct Switches<'a> {
    plain: Vec<&'a str>,
    given: Vec<(String, &'a str)>,
}

impl<'a> Switches<'a> {
    /// `alone` are the switches that no word follows.
    fn of(words: &[&'a str], sign: char, alone: &[&str]) -> Self {
        let mut switches = Self { plain: Vec::new(), given: Vec::new() };
        let mut words = words.iter().copied().peekable();
        while let Some(word) = words.next() {
            let Some(name) = word.strip_prefix(sign) else {
                switches.plain.push(word);
                continue;
            };
            let name = name.to_lowercase();
            // `/featurename:X` holds its word itself.
            if let Some((name, value)) = name.split_once(':') {
                let value = &word[word.len() - value.len()..];
                switches.given.push((name.to_owned(), value));
            } else if alone.contains(&name.as_str()) {
                switches.given.push((name, ""));
            } else {
                let value = words.next().unwrap_or_default();
                switches.given.push((name, value));
            }
        }
        switches
    }

    fn get(&self, names: &[&str]) -> Option<&'a str> {
        self.given.iter().find(|(name, _)| names.contains(&name.as_str())).map(|(_, value)| *value)
    }
}

fn start_word(written: &str) -> Result<&'static str, String> {
    Ok(match written.to_lowercase().as_str() {
        "disabled" => "disabled",
        "demand" | "manual" => "manual",
        "auto" | "automatic" => "automatic",
        "delayed-auto" | "automaticdelayedstart" => "automatic-delayed",
        other => return Err(format!("{other} is no start of a service")),
    })
}
