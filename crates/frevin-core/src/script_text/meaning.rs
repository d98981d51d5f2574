//! What the commands of a script set.

use uuid::{Uuid, uuid};

use super::words::{Command, Standing, Word};
use super::{ScriptLanguage, words};
use crate::setting::{Address, KeyPath, RegistryData, RegistryType, State, Value, WinName};
use crate::tweak::{bytes_of, state_from_words};

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

/// `powercfg /aliases`.
const PLANS: [(&str, Uuid); 3] = [
    ("scheme_min", uuid!("8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c")),
    ("scheme_max", uuid!("a1841308-3541-4fab-bc81-f71556f20b4a")),
    ("scheme_balanced", uuid!("381b4222-f694-41f0-9685-ff5bb260df2e")),
];
const POWER_NAMES: [(&str, Uuid); 24] = [
    ("sub_processor", uuid!("54533251-82be-4824-96c1-47b60b740d00")),
    ("sub_pciexpress", uuid!("501a4d13-42af-4429-9fd1-a8218c268e20")),
    ("sub_video", uuid!("7516b95f-f776-4464-8c53-06167f40cc99")),
    ("sub_sleep", uuid!("238c9fa8-0aad-41ed-83f4-97be242c8f20")),
    ("sub_disk", uuid!("0012ee47-9041-4b5d-9b77-535fba8b1442")),
    ("sub_buttons", uuid!("4f971e89-eebd-4455-a8de-9e59040e7347")),
    ("procthrottlemin", uuid!("893dee8e-2bef-41e0-89c6-b55d0929964c")),
    ("procthrottlemax", uuid!("bc5038f7-23e0-4960-96da-33abaf5935ec")),
    ("perfboostmode", uuid!("be337238-0d82-4146-a960-4f3749d470c7")),
    ("perfepp", uuid!("36687f9e-e3a5-4dbf-b1dc-15eb381c6863")),
    ("cpmincores", uuid!("0cc5b647-c1df-4637-891a-dec35c318583")),
    ("procfreqmax", uuid!("75b0ae3f-bce0-45a7-8c89-c9611c25e100")),
    ("idledisable", uuid!("5d76a2ca-e8c0-402f-a133-2158492d58ad")),
    ("syscoolpol", uuid!("94d3a615-a899-4ac5-ae2b-e4d8f634367f")),
    ("aspm", uuid!("ee12f906-d277-404b-b6da-e5fa1a576df5")),
    ("videoidle", uuid!("3c0bc021-c8a8-4e07-a973-6b14cbcb2b7e")),
    ("standbyidle", uuid!("29f6c1db-86da-48c5-9fdb-f2b67b1f44da")),
    ("hibernateidle", uuid!("9d7815a6-7ee4-497e-8888-515a05f02364")),
    ("diskidle", uuid!("6738e2c4-e8a5-4a42-b16a-e040e769756e")),
    ("hybridsleep", uuid!("94ac6d29-73ce-41a6-809f-6363ba21b47e")),
    ("rtcwake", uuid!("bd3b718a-0680-4d9d-8ab2-e1d2b4ac806d")),
    ("lidaction", uuid!("5ca83367-6e45-459f-a27b-476b1d01c936")),
    ("pbuttonaction", uuid!("7648efa3-dd9c-4e3e-b566-50f929386280")),
    ("dim", uuid!("17aaa29b-8b43-4b94-aafe-35f64daaf1ee")),
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
            ("reg", _) => registry(&words),
            // In PowerShell the bare word is another command.
            ("sc", ScriptLanguage::PowerShell) if !command.words[0].text.contains('.') => {
                Err(NOT_UNDERSTOOD.to_owned())
            }
            ("sc", _) => service(&words),
            ("net", _) => net(&words),
            ("powercfg", _) => self.power(&words),
            ("bcdedit", _) => boot(&words),
            ("schtasks", _) => task(&words),
            ("dism", _) => feature(&words),
            (_, ScriptLanguage::PowerShell) => cmdlet(program, &words),
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

    fn power(&mut self, words: &[&str]) -> Understood {
        let Some((verb, rest)) = words.split_first() else { return Ok(Meaning::Nothing) };
        let verb = verb.trim_start_matches(['/', '-']).to_lowercase();
        match (verb.as_str(), rest) {
            ("setactive" | "s", [plan]) => {
                let plan = self.plan(plan)?;
                self.plan_in_force = Some(plan);
                one("power:active-plan", &plan.to_string())
            }
            ("setacvalueindex" | "setdcvalueindex", [plan, subgroup, setting, value]) => {
                let plan = self.plan(plan)?;
                let (subgroup, setting) = (power_name(subgroup)?, power_name(setting)?);
                let source = if verb == "setacvalueindex" { "mains" } else { "battery" };
                one(
                    &format!("power:{plan}/{subgroup}/{setting}#{source}"),
                    &decimal(value)?.to_string(),
                )
            }
            ("attributes", [subgroup, setting, attribute]) => {
                let (subgroup, setting) = (power_name(subgroup)?, power_name(setting)?);
                let is_hidden = match attribute.to_lowercase().as_str() {
                    "-attrib_hide" => "false",
                    "+attrib_hide" => "true",
                    _ => return Err(NOT_UNDERSTOOD.to_owned()),
                };
                one(&format!("power:{subgroup}/{setting}#hidden"), is_hidden)
            }
            ("change" | "x", [what, minutes]) => {
                let what = what.trim_start_matches(['/', '-']).to_lowercase();
                let (what, source) = match what.strip_suffix("-ac") {
                    Some(what) => (what, "mains"),
                    None => (what.strip_suffix("-dc").ok_or(NOT_UNDERSTOOD)?, "battery"),
                };
                let (subgroup, setting) = match what {
                    "monitor-timeout" => ("sub_video", "videoidle"),
                    "disk-timeout" => ("sub_disk", "diskidle"),
                    "standby-timeout" => ("sub_sleep", "standbyidle"),
                    "hibernate-timeout" => ("sub_sleep", "hibernateidle"),
                    _ => return Err(NOT_UNDERSTOOD.to_owned()),
                };
                let plan = self.plan("scheme_current")?;
                let (subgroup, setting) = (power_name(subgroup)?, power_name(setting)?);
                let seconds = decimal(minutes)?.saturating_mul(60);
                one(&format!("power:{plan}/{subgroup}/{setting}#{source}"), &seconds.to_string())
            }
            ("h" | "hibernate", _) => {
                Err("Windows sets it up with more than a value: the tweaks on hibernation do it"
                    .to_owned())
            }
            ("l" | "list" | "q" | "query" | "a" | "availablesleepstates" | "aliases", _) => {
                Ok(Meaning::Nothing)
            }
            _ => Err(NOT_UNDERSTOOD.to_owned()),
        }
    }

    fn plan(&self, written: &str) -> Result<Uuid, String> {
        let name = written.to_lowercase();
        if name == "scheme_current" {
            return self.plan_in_force.ok_or("which plan is in force is not known here".to_owned());
        }
        let known = PLANS.iter().find(|(known, _)| *known == name).map(|(_, plan)| *plan);
        known
            .or_else(|| name.parse().ok())
            .ok_or_else(|| format!("there is no power plan {written}"))
    }
}

fn power_name(written: &str) -> Result<Uuid, String> {
    let name = written.to_lowercase();
    let known = POWER_NAMES.iter().find(|(known, _)| *known == name).map(|(_, id)| *id);
    known
        .or_else(|| name.parse().ok())
        .ok_or_else(|| format!("{written} is no power setting that is known"))
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

fn key(written: &str) -> Result<KeyPath, String> {
    let path = written.strip_prefix("Registry::").or_else(|| written.strip_prefix("registry::"));
    let path = path.unwrap_or(written).replacen(":\\", "\\", 1).replace('/', "\\");
    path.trim_end_matches('\\').parse().map_err(|error| format!("{error}"))
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

fn registry(words: &[&str]) -> Understood {
    let Some((verb, rest)) = words.split_first() else { return Ok(Meaning::Nothing) };
    let switches = Switches::of(rest, '/', &["f", "ve", "va", "reg:32", "reg:64"]);
    let verb = verb.to_lowercase();
    if verb == "query" {
        return Ok(Meaning::Nothing);
    }
    if switches.get(&["reg"]) == Some("32") {
        return Err("it means the part of the registry for 32-bit programs".to_owned());
    }
    let [path] = switches.plain[..] else { return Err(NOT_UNDERSTOOD.to_owned()) };
    let key = key(path)?;
    let name = match (switches.get(&["v"]), switches.get(&["ve"])) {
        (Some(name), _) => Some(WinName::new(name)),
        (None, Some(_)) => Some(WinName::new("")),
        (None, None) => None,
    };
    match (verb.as_str(), name) {
        ("add", None) => Ok(Meaning::Key(key)),
        ("add", Some(name)) => {
            let data = switches.get(&["d"]).unwrap_or_default();
            let type_name = switches.get(&["t"]).unwrap_or("REG_SZ");
            let data = registry_data(type_name, data, switches.get(&["s"]).unwrap_or("\\0"))?;
            value(key, name, Value::Registry(data).into())
        }
        ("delete", Some(name)) => value(key, name, State::Absent),
        ("delete", None) => Err(deletes(&key)),
        _ => Err(NOT_UNDERSTOOD.to_owned()),
    }
}

fn deletes(key: &KeyPath) -> String {
    format!(
        "it deletes {key} with all that is in it; Frevin takes away values one by one, so that each comes back"
    )
}

fn value(key: KeyPath, name: WinName, state: State) -> Understood {
    let address = Address::RegistryValue(key, name);
    // Only what can be addressed again is a setting.
    address.to_string().parse::<Address>().map_err(|error| format!("{error}"))?;
    Ok(Meaning::Settings(vec![(address, state)]))
}

fn registry_data(type_name: &str, data: &str, separator: &str) -> Result<RegistryData, String> {
    let no_number = || format!("{data} is no number that fits");
    let number = |data: &str| match data.to_lowercase().strip_prefix("0x") {
        Some(digits) => u64::from_str_radix(digits, 16).ok(),
        // -1 is all bits.
        None => {
            data.parse().ok().or_else(|| Some(i64::from(data.parse::<i32>().ok()?).cast_unsigned()))
        }
    };
    let data_or_zero = if data.is_empty() { "0" } else { data };
    Ok(match type_name.to_uppercase().as_str() {
        "REG_SZ" | "STRING" => RegistryData::string(data),
        "REG_EXPAND_SZ" | "EXPANDSTRING" => RegistryData::expand_string(data),
        "REG_DWORD" | "DWORD" => {
            let number = number(data_or_zero).ok_or_else(no_number)?;
            let low = u32::try_from(number & u64::from(u32::MAX)).map_err(|_| no_number())?;
            if number > u64::from(u32::MAX) && number >> 32 != u64::from(u32::MAX) {
                return Err(no_number());
            }
            RegistryData::dword(low)
        }
        "REG_QWORD" | "QWORD" => RegistryData::qword(number(data_or_zero).ok_or_else(no_number)?),
        "REG_BINARY" | "BINARY" => {
            let bytes = bytes_of(data).ok_or_else(|| format!("{data} are no bytes"))?;
            RegistryData { type_number: RegistryType::Binary.number(), bytes }
        }
        "REG_MULTI_SZ" | "MULTISTRING" => {
            RegistryData::multi_string(data.split(separator).filter(|text| !text.is_empty()))
        }
        other => return Err(format!("{other} is no type of a registry value that is known")),
    })
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

fn service(words: &[&str]) -> Understood {
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

fn net(words: &[&str]) -> Understood {
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

fn boot(words: &[&str]) -> Understood {
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

fn task(words: &[&str]) -> Understood {
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

fn feature(words: &[&str]) -> Understood {
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

/// The commands of PowerShell.
fn cmdlet(program: &str, words: &[&str]) -> Understood {
    let alone = ["force", "online", "norestart", "passthru", "confirm", "whatif", "nowait"];
    let switches = Switches::of(words, '-', &alone);
    if switches.get(&["whatif"]).is_some() {
        return Ok(Meaning::Nothing);
    }
    let mut plain = switches.plain.iter().copied();
    let mut given = |names: &[&str]| switches.get(names).or_else(|| plain.next());
    let missing = || NOT_UNDERSTOOD.to_owned();
    match program {
        "set-itemproperty" | "sp" | "new-itemproperty" => {
            let key = key(given(&["path", "literalpath"]).ok_or_else(missing)?)?;
            let name = WinName::new(given(&["name"]).ok_or_else(missing)?);
            let data = given(&["value"]).ok_or_else(missing)?;
            // Without a type, PowerShell makes a number a REG_DWORD and a text a REG_SZ.
            let usual = if decimal(data).is_ok() { "DWORD" } else { "STRING" };
            let type_name = switches.get(&["type", "propertytype"]).unwrap_or(usual);
            value(key, name, Value::Registry(registry_data(type_name, data, ",")?).into())
        }
        "remove-itemproperty" | "rp" => {
            let key = key(given(&["path", "literalpath"]).ok_or_else(missing)?)?;
            let name = WinName::new(given(&["name"]).ok_or_else(missing)?);
            value(key, name, State::Absent)
        }
        "new-item" => Ok(Meaning::Key(key(given(&["path"]).ok_or_else(missing)?)?)),
        "remove-item" | "rm" => match key(given(&["path", "literalpath"]).ok_or_else(missing)?) {
            Ok(key) => Err(deletes(&key)),
            Err(_) => Err(missing()),
        },
        "set-service" => {
            let name = given(&["name"]).ok_or_else(missing)?;
            let mut settings = Vec::new();
            if let Some(start) = switches.get(&["startuptype"]) {
                settings.push((format!("service:{name}#start"), start_word(start)?.to_owned()));
            }
            if let Some(status) = switches.get(&["status"]) {
                settings.push((format!("service:{name}#running"), status.to_lowercase()));
            }
            several(&settings)
        }
        "stop-service" => {
            one(&format!("service:{}#running", given(&["name"]).ok_or_else(missing)?), "stopped")
        }
        "start-service" => {
            one(&format!("service:{}#running", given(&["name"]).ok_or_else(missing)?), "running")
        }
        "disable-scheduledtask" | "enable-scheduledtask" => {
            let name = given(&["taskname"]).ok_or_else(missing)?;
            let path = switches.get(&["taskpath"]).unwrap_or_default();
            let whole = format!("{}\\{name}", path.trim_end_matches('\\'));
            if path.is_empty() && !name.starts_with('\\') {
                return Err("it names a task without its folder".to_owned());
            }
            let whole = whole.trim_start_matches('\\');
            let is_enabled = if program.starts_with("enable") { "true" } else { "false" };
            one(&format!("task:\\{whole}#enabled"), is_enabled)
        }
        "disable-windowsoptionalfeature" | "enable-windowsoptionalfeature" => {
            let name = given(&["featurename"]).ok_or_else(missing)?;
            let is_enabled = if program.starts_with("enable") { "true" } else { "false" };
            one(&format!("feature:{name}#enabled"), is_enabled)
        }
        _ => Err(missing()),
    }
}

fn several(settings: &[(String, String)]) -> Understood {
    let mut all = Vec::new();
    for (address, words) in settings {
        match one(address, words)? {
            Meaning::Settings(more) => all.extend(more),
            Meaning::Nothing | Meaning::Key(_) => {}
        }
    }
    if all.is_empty() { Err(NOT_UNDERSTOOD.to_owned()) } else { Ok(Meaning::Settings(all)) }
}
