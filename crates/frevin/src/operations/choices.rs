//! What there is to choose on a PC, and the commands that choose it.

use std::collections::BTreeSet;

use frevin_core::facts::Facts;
use frevin_core::findings::Finding;
use frevin_core::tweak::{Arguments, Catalogue, Tweak};
use frevin_pc::Pc;
use schemars::JsonSchema;
use serde::Serialize;

use crate::failure::Failure;

/// The command that mends what a finding tells.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize)]
pub(crate) struct Mending {
    pub(crate) command: String,
    /// Parameters that its owner has to choose first, which stand as `NAME` in the command.
    pub(crate) to_choose: Vec<String>,
}

/// The things of a PC that a parameter of a tweak can name, each as it is written behind `--set`. Nothing where it
/// names something else.
pub(crate) fn choices(
    tweak: &Tweak,
    parameter: &str,
    pc: &dyn Pc,
    facts: &Facts,
) -> Result<Vec<String>, Failure> {
    if parameter == "program" {
        let takes_paths = tweak
            .parameters
            .get(parameter)
            .is_some_and(|parameter| parameter.range().contains('\\'));
        let programs = facts.games.iter().map(|game| match takes_paths {
            true => game.program.clone(),
            false => game.program.rsplit('\\').next().unwrap_or_default().to_owned(),
        });
        return Ok(programs.collect());
    }
    let Some(kind) = tweak.kind_named_by(parameter) else { return Ok(Vec::new()) };
    let addresses = pc.addresses()?.into_iter().map(|address| address.to_string());
    let things: BTreeSet<String> = addresses
        .filter_map(|address| Some(address.strip_prefix(kind)?.rsplit_once('#')?.0.to_owned()))
        .collect();
    Ok(things.into_iter().collect())
}

/// The command that mends what a finding tells, where a tweak does.
pub(crate) fn mending(catalogue: &Catalogue, finding: &Finding) -> Option<Mending> {
    let tweak = catalogue.get(finding.tweak.as_ref()?)?;
    if tweak.manual.is_some() {
        let command = format!("frevin tweak steps {}", tweak.id);
        return Some(Mending { command, to_choose: Vec::new() });
    }
    let mut command = format!("frevin apply --tweak {}", tweak.id);
    for (name, value) in &finding.set {
        command.push_str(&format!(" --set {}", quoted(&format!("{name}={value}"))));
    }
    let open = Arguments::new();
    let open = tweak.to_be_chosen(&open).map(|(name, _)| name.clone());
    let to_choose: Vec<String> = open.filter(|name| !finding.set.contains_key(name)).collect();
    for name in &to_choose {
        command.push_str(&format!(" --set {name}=NAME"));
    }
    Some(Mending { command, to_choose })
}

/// An argument as it is typed in any shell.
pub(crate) fn quoted(argument: &str) -> String {
    let is_plain = |c: char| c.is_alphanumeric() || "-_./:=,@%+\\".contains(c);
    match argument.chars().all(is_plain) {
        true => argument.to_owned(),
        false => format!("\"{argument}\""),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn finding(tweak: &str, set: &[(&str, &str)]) -> Finding {
        let text = |text: &str| text.to_owned();
        Finding {
            id: text("x"),
            title: text("X"),
            evidence: text("It is."),
            why: text("Because."),
            worth: 1,
            tweak: Some(tweak.parse().unwrap()),
            set: set.iter().map(|(name, value)| (text(name), text(value))).collect(),
            by_hand: None,
        }
    }

    #[test]
    fn the_command_that_mends_is_whole_and_says_what_is_still_to_be_chosen() {
        let catalogue = Catalogue::built_in().unwrap();
        let of = |tweak: &str, set: &[(&str, &str)]| {
            let mending = mending(&catalogue, &finding(tweak, set)).unwrap();
            (mending.command, mending.to_choose.join(","))
        };
        let nothing = String::new();
        assert_eq!(
            of("boot/platform-clock", &[("use", "as-windows-does")]),
            (
                "frevin apply --tweak boot/platform-clock --set use=as-windows-does".to_owned(),
                nothing.clone()
            )
        );
        assert_eq!(
            of("graphics/display-mode", &[("display", "Lumet 27Q")]),
            (
                "frevin apply --tweak graphics/display-mode --set \"display=Lumet 27Q\" --set mode=NAME".to_owned(),
                "mode".to_owned()
            )
        );
        assert_eq!(
            of("firmware/fan-curve", &[]),
            ("frevin tweak steps firmware/fan-curve".to_owned(), nothing)
        );
        assert!(mending(&catalogue, &finding("a/gone", &[])).is_none());
    }

    #[test]
    fn what_a_shell_would_take_apart_is_quoted() {
        assert_eq!(quoted("plan=high-performance"), "plan=high-performance");
        assert_eq!(quoted(r"program=C:\Games\a.exe"), r"program=C:\Games\a.exe");
        assert_eq!(
            quoted("entries=user-registry/Some Launcher"),
            "\"entries=user-registry/Some Launcher\""
        );
    }
}
