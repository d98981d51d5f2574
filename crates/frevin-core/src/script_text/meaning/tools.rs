//! `sc`, `net`, `bcdedit`, `schtasks` and `dism`.

use super::{Meaning, NOT_UNDERSTOOD, Switches, Understood, decimal, one, start_word};

pub(super) fn service(words: &[&str]) -> Understood {
    match words {
        [verb, name, rest @ ..] => match (verb.to_lowercase().as_str(), rest) {
            ("config", [switch, start]) if switch.eq_ignore_ascii_case("start=") => {
                one(&format!("service:{name}#start"), start_word(start)?)
            }
            ("config", [both]) => match both.to_lowercase().strip_prefix("start=") {
                Some(start) => one(&format!("service:{name}#start"), start_word(start)?),
                None => Err(NOT_UNDERSTOOD.to_owned()),
            },
            ("stop", _) => one(&format!("service:{name}#running"), "stopped"),
            ("start", _) => one(&format!("service:{name}#running"), "running"),
            ("query" | "qc" | "queryex", _) => Ok(Meaning::Nothing),
            ("delete", _) => {
                Err("it takes a service away, and nothing could bring it back".to_owned())
            }
            _ => Err(NOT_UNDERSTOOD.to_owned()),
        },
        _ => Err(NOT_UNDERSTOOD.to_owned()),
    }
}

pub(super) fn net(words: &[&str]) -> Understood {
    match words {
        [verb, name, ..] if verb.eq_ignore_ascii_case("stop") => {
            one(&format!("service:{name}#running"), "stopped")
        }
        [verb, name, ..] if verb.eq_ignore_ascii_case("start") => {
            one(&format!("service:{name}#running"), "running")
        }
        _ => Err(NOT_UNDERSTOOD.to_owned()),
    }
}

pub(super) fn boot(words: &[&str]) -> Understood {
    let Some((verb, rest)) = words.split_first() else { return Ok(Meaning::Nothing) };
    let verb = verb.trim_start_matches(['/', '-']).to_lowercase();
    let (entry, rest) = match rest {
        [entry, rest @ ..] if entry.starts_with('{') => {
            (entry.trim_matches(['{', '}']).to_lowercase(), rest)
        }
        rest => ("current".to_owned(), rest),
    };
    match (verb.as_str(), rest) {
        ("timeout", [seconds]) => {
            one("boot:bootmgr#element-timeout", &decimal(seconds)?.to_string())
        }
        ("set", [element, value]) => {
            let (element, word) = (element.to_lowercase(), value.to_lowercase());
            // As `bcdedit` shows them again. Off is a choice of one element, and no of the others.
            let word = match (element.as_str(), word.as_str()) {
                ("hypervisorlaunchtype", _) => &word,
                (_, "yes" | "true" | "on") => "yes",
                (_, "no" | "false" | "off") => "no",
                (_, "default") => "Default",
                (_, "legacy") => "Legacy",
                (_, "enhanced") => "Enhanced",
                _ => &word,
            };
            one(&format!("boot:{entry}#element-{element}"), word)
        }
        ("deletevalue", [element]) => {
            one(&format!("boot:{entry}#element-{}", element.to_lowercase()), "absent")
        }
        ("enum", _) => Ok(Meaning::Nothing),
        _ => Err(NOT_UNDERSTOOD.to_owned()),
    }
}

pub(super) fn task(words: &[&str]) -> Understood {
    let switches =
        Switches::of(words, '/', &["change", "disable", "enable", "query", "f", "delete"]);
    let has = |name: &str| switches.get(&[name]).is_some();
    if has("query") {
        return Ok(Meaning::Nothing);
    }
    let (Some(name), true) = (switches.get(&["tn"]), has("change")) else {
        return Err(NOT_UNDERSTOOD.to_owned());
    };
    let is_enabled = match (has("enable"), has("disable")) {
        (true, false) => "true",
        (false, true) => "false",
        _ => return Err(NOT_UNDERSTOOD.to_owned()),
    };
    one(&format!("task:\\{}#enabled", name.trim_start_matches('\\')), is_enabled)
}

pub(super) fn feature(words: &[&str]) -> Understood {
    let switches = Switches::of(
        words,
        '/',
        &["online", "disable-feature", "enable-feature", "norestart", "quiet", "all", "remove"],
    );
    let has = |name: &str| switches.get(&[name]).is_some();
    let is_enabled = match (has("enable-feature"), has("disable-feature")) {
        (true, false) => "true",
        (false, true) if !has("remove") => "false",
        _ => return Err(NOT_UNDERSTOOD.to_owned()),
    };
    match (switches.get(&["featurename"]), has("online")) {
        (Some(name), true) => one(&format!("feature:{name}#enabled"), is_enabled),
        _ => Err(NOT_UNDERSTOOD.to_owned()),
    }
}
