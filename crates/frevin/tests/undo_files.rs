//! The undo files put the first state back without Frevin. What carries them out here is code of
//! its own, written from Windows' documentation: it shares nothing with what wrote them.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use common::Place;
use serde_json::{Map, Value, json};

/// A PC's registry file, as a tree of objects.
struct Registry(Value);

impl Registry {
    fn open_key(&mut self, path: &str) -> &mut Value {
        let path = path
            .replace("HKEY_LOCAL_MACHINE", "HKLM")
            .replace("HKEY_CURRENT_USER", "HKCU")
            .replace("HKEY_USERS", "HKU");
        let mut names = path.split('\\');
        let mut key = &mut self.0[names.next().unwrap()];
        for name in names {
            let keys = key.as_object_mut().unwrap().entry("keys").or_insert_with(|| json!({}));
            let spelled = spelling(keys.as_object().unwrap(), name);
            key = keys.as_object_mut().unwrap().entry(spelled).or_insert_with(|| json!({}));
        }
        key
    }

    fn delete_key(&mut self, path: &str) {
        let (parent, name) = path.rsplit_once('\\').unwrap();
        let keys = self.open_key(parent)["keys"].as_object_mut().unwrap();
        let spelled = spelling(keys, name);
        keys.remove(&spelled);
    }

    fn set(&mut self, path: &str, name: &str, value: Option<Value>) {
        let key = self.open_key(path).as_object_mut().unwrap();
        let values = key.entry("values").or_insert_with(|| json!({})).as_object_mut().unwrap();
        let spelled = spelling(values, name);
        match value {
            Some(value) => values.insert(spelled, value),
            None => values.remove(&spelled),
        };
    }

    /// Without the empty objects that a PC's file leaves out.
    fn tidy(self) -> Value {
        fn tidy(key: &mut Value) {
            let Some(key) = key.as_object_mut() else { return };
            if let Some(keys) = key.get_mut("keys").and_then(Value::as_object_mut) {
                keys.values_mut().for_each(tidy);
            }
            key.retain(|part, held| {
                part != "keys" && part != "values" || !held.as_object().unwrap().is_empty()
            });
        }
        let mut tree = self.0;
        tree.as_object_mut().unwrap().values_mut().for_each(tidy);
        tree
    }
}

fn spelling(map: &Map<String, Value>, name: &str) -> String {
    let known = map.keys().find(|known| known.eq_ignore_ascii_case(name));
    known.cloned().unwrap_or_else(|| name.to_owned())
}

/// Imports a registry text file of the kinds that undo files have.
fn import(registry: &mut Registry, bytes: &[u8]) {
    let units: Vec<u16> = bytes.chunks(2).map(|b| u16::from_le_bytes([b[0], b[1]])).collect();
    assert_eq!(units[0], 0xFEFF, "the mark of UTF-16");
    let text = String::from_utf16(&units[1..]).unwrap();
    let mut lines = text.split("\r\n");
    assert_eq!(lines.next(), Some("Windows Registry Editor Version 5.00"));
    let mut key = String::new();
    for line in lines.filter(|line| !line.is_empty() && !line.starts_with(';')) {
        if let Some(path) = line.strip_prefix("[-") {
            registry.delete_key(path.strip_suffix(']').unwrap());
        } else if let Some(path) = line.strip_prefix('[') {
            key = path.strip_suffix(']').unwrap().to_owned();
            registry.open_key(&key);
        } else {
            let (name, data) = split_value(line);
            registry.set(&key, &name, read_data(data));
        }
    }
}

/// `"name"=data` or `@=data`.
fn split_value(line: &str) -> (String, &str) {
    if let Some(data) = line.strip_prefix("@=") {
        return (String::new(), data);
    }
    let mut name = String::new();
    let mut characters = line.strip_prefix('"').unwrap().char_indices();
    while let Some((at, character)) = characters.next() {
        match character {
            '\\' => name.push(characters.next().unwrap().1),
            '"' => return (name, line[at + 2..].strip_prefix('=').unwrap()),
            other => name.push(other),
        }
    }
    panic!("no end of the name in {line}");
}

fn read_data(data: &str) -> Option<Value> {
    let hexadecimal = |digits: &str| digits.replace(',', "");
    if data == "-" {
        None
    } else if let Some(digits) = data.strip_prefix("dword:") {
        let number = u32::from_str_radix(digits, 16).unwrap().to_le_bytes();
        let bytes: String = number.iter().map(|byte| format!("{byte:02x}")).collect();
        Some(json!({"type": 4, "bytes": bytes}))
    } else if let Some(digits) = data.strip_prefix("hex:") {
        Some(json!({"type": 3, "bytes": hexadecimal(digits)}))
    } else if let Some(rest) = data.strip_prefix("hex(") {
        let (number, digits) = rest.split_once("):").unwrap();
        let number = u32::from_str_radix(number, 16).unwrap();
        Some(json!({"type": number, "bytes": hexadecimal(digits)}))
    } else {
        let text = data.strip_prefix('"').and_then(|data| data.strip_suffix('"')).unwrap();
        let text = text.replace("\\\"", "\"").replace(r"\\", r"\");
        let units: Vec<u16> = text.encode_utf16().chain([0]).collect();
        let bytes: String =
            units.iter().flat_map(|u| u.to_le_bytes()).map(|b| format!("{b:02x}")).collect();
        Some(json!({"type": 1, "bytes": bytes}))
    }
}

/// The trees of a PC's files by the kind of setting that they hold.
type Trees = BTreeMap<String, Value>;

/// Follows the sheet as a person would: the commands, and by hand what has none.
fn follow_sheet(sheet: &str, trees: &mut Trees) {
    let mut setting = String::new();
    let mut was = String::new();
    let mut by_hand: BTreeMap<String, String> = BTreeMap::new();
    for line in sheet.split("\r\n") {
        if let Some(command) = line.strip_prefix("    run: ") {
            by_hand.remove(&setting);
            follow_command(command, trees);
        } else if let Some(held) = line.strip_prefix("    was: ") {
            was = held.to_owned();
            by_hand.insert(setting.clone(), was.clone());
        } else if !line.starts_with(' ') {
            setting = line.to_owned();
        }
    }
    assert!(!was.is_empty() || by_hand.is_empty());
    by_hand.iter().filter(|(setting, _)| setting.contains(':')).for_each(|(setting, was)| {
        put_back_by_hand(setting, was, trees);
    });
}

fn follow_command(command: &str, trees: &mut Trees) {
    let quoted: Vec<&str> = command.split('"').collect();
    let words: Vec<&str> = command.split([' ', '"']).filter(|word| !word.is_empty()).collect();
    let mut set = |kind: &str, thing: &str, part: &str, value: Option<Value>| {
        let values = trees.get_mut(kind).unwrap()[thing]["values"].as_object_mut().unwrap();
        match value {
            Some(value) => values.insert(part.to_owned(), value),
            None => values.remove(part),
        };
    };
    match words[..] {
        ["sc.exe", "config", name, "start=", start] => {
            let word = match start {
                "auto" | "delayed-auto" => "automatic",
                "demand" => "manual",
                other => other,
            };
            let service = &mut trees.get_mut("services").unwrap()[name]["start"];
            *service = json!({"type": word, "delayed": start == "delayed-auto"});
        }
        ["sc.exe", "start", name] => {
            trees.get_mut("services").unwrap()[name]["run"] = json!("running")
        }
        ["sc.exe", "stop", name] => {
            trees.get_mut("services").unwrap()[name]["run"] = json!("stopped")
        }
        ["powercfg", "/setactive", plan] => trees.get_mut("power").unwrap()["active"] = json!(plan),
        ["powercfg", "/delete", plan] => {
            trees.get_mut("power").unwrap()["plans"].as_object_mut().unwrap().remove(plan);
        }
        ["powercfg", verb, plan, subgroup, setting, index] => {
            let source = if verb == "/setacvalueindex" { "mains" } else { "battery" };
            trees.get_mut("power").unwrap()["plans"][plan]["values"][subgroup][setting][source] =
                json!(index.parse::<u32>().unwrap());
        }
        ["schtasks", ..] => {
            set("task", quoted[1], "enabled", Some(json!({"flag": command.ends_with("/ENABLE")})));
        }
        ["dism", "/Online", verb, name, "/NoRestart"] => {
            let name = name.strip_prefix("/FeatureName:").unwrap();
            set("feature", name, "enabled", Some(json!({"flag": verb == "/Enable-Feature"})));
        }
        ["bcdedit", "/set", entry, element, text] => {
            let entry = entry.trim_matches(['{', '}']);
            set("boot", entry, &format!("element-{element}"), Some(json!({"text": text})));
        }
        ["bcdedit", "/deletevalue", entry, element] => {
            set("boot", entry.trim_matches(['{', '}']), &format!("element-{element}"), None);
        }
        _ => panic!("an unknown command: {command}"),
    }
}

/// What a person would set in the settings window that the setting is in.
fn put_back_by_hand(setting: &str, was: &str, trees: &mut Trees) {
    let (kind, rest) = setting.split_once(':').unwrap();
    let files = trees.get_mut("files").unwrap().as_object_mut().unwrap();
    if kind == "text" {
        return put_back_a_line(rest, was, files);
    }
    if kind == "clean" {
        return bring_back(rest.split_once('#').unwrap().0, files);
    }
    if kind == "visual" {
        let number = was.trim_end_matches(" ms").parse::<u32>();
        trees.get_mut("visual").unwrap()[rest] = match number {
            Ok(number) if was.ends_with(" ms") => json!({"milliseconds": number}),
            Ok(number) => json!({"number": number}),
            Err(_) if was.starts_with('"') => json!({"text": was.trim_matches('"')}),
            Err(_) => json!({"flag": was == "on"}),
        };
        return;
    }
    let (thing, part) = rest.rsplit_once('#').unwrap();
    let values = trees.get_mut(kind).unwrap()[thing]["values"].as_object_mut().unwrap();
    let value = match (kind, was) {
        (_, "absent") => {
            values.remove(part);
            return;
        }
        (_, "on") => json!({"flag": true}),
        (_, "off") => json!({"flag": false}),
        ("pagefile", size) => json!({"page-file": size}),
        ("display", mode) if part == "mode" => json!({"mode": mode}),
        ("display" | "device", number) => json!({"number": number.parse::<u32>().unwrap()}),
        (_, "none") => json!({"texts": []}),
        (_, text) => json!({"text": text.trim_matches('"')}),
    };
    values.insert(part.to_owned(), value);
}

/// Finds the key's line in its section of an INI file, as a person with an editor does.
fn put_back_a_line(setting: &str, was: &str, files: &mut Map<String, Value>) {
    let (path, part) = setting.split_once("#ini:[").unwrap();
    let (section, key) = part.split_once(']').unwrap();
    let file = &mut files[&format!("files/{path}")];
    let (mut here, mut lines) = (String::new(), Vec::new());
    for line in file.as_str().unwrap().split_inclusive('\n') {
        if let Some(name) = line.trim().strip_prefix('[').and_then(|line| line.strip_suffix(']')) {
            here = name.to_owned();
        }
        let is_it = here == section && line.split('=').next().unwrap().trim() == key;
        match was {
            "absent" if is_it => {}
            _ if is_it => lines.push(format!("{key}={was}\r\n")),
            _ => lines.push(line.to_owned()),
        }
    }
    *file = lines.concat().into();
}

/// Moves the files that a quarantine's manifest tells of back to where they were.
fn bring_back(place: &str, files: &mut Map<String, Value>) {
    let manifest = files.remove(&format!("quarantine/{place}/manifest.json")).unwrap();
    let manifest: Value = serde_json::from_str(manifest.as_str().unwrap()).unwrap();
    for name in manifest["files"].as_object().unwrap().keys() {
        let content = files.remove(&format!("quarantine/{place}/files/{name}")).unwrap();
        files.insert(format!("files/{place}/{name}"), content);
    }
}

fn load(path: PathBuf) -> Value {
    serde_json::from_slice(&fs_err::read(path).unwrap()).unwrap()
}

/// The PC's files as trees, with undo files carried out on them.
fn undone(place: &Place, undo: &Path, change: u32) -> Trees {
    let mut trees = trees(place);
    let mut registry = Registry(trees.remove("registry").unwrap());
    import(&mut registry, &fs_err::read(undo.join(format!("change-{change}.reg"))).unwrap());
    trees.insert("registry".to_owned(), registry.tidy());
    let sheet = fs_err::read_to_string(undo.join(format!("change-{change}.txt"))).unwrap();
    follow_sheet(&sheet, &mut trees);
    trees
}

fn trees(place: &Place) -> Trees {
    let entries = fs_err::read_dir(place.pc().join("settings")).unwrap();
    let paths = entries.map(|entry| entry.unwrap().path());
    let mut trees: Trees = paths
        .map(|path| (path.file_stem().unwrap().to_string_lossy().into_owned(), load(path)))
        .collect();
    // Eight bits a character, so that no byte is lost.
    let text = |bytes: Vec<u8>| bytes.into_iter().map(char::from).collect::<String>();
    let files = place.pc_files().into_iter().map(|(name, bytes)| (name, text(bytes).into()));
    let is_file = |name: &str| name.starts_with("files/") || name.starts_with("quarantine/");
    let files: Map<String, Value> = files.filter(|(name, _)| is_file(name)).collect();
    trees.insert("files".to_owned(), files.into());
    trees
}

/// The kinds of setting that differ.
fn differing(a: &Trees, b: &Trees) -> Vec<String> {
    a.keys().filter(|kind| a.get(*kind) != b.get(*kind)).cloned().collect()
}

/// What is chosen of tweaks that do nothing on this PC with nothing chosen.
const CHOSEN: [(&str, &[&str]); 1] = [(
    "games/ini-value",
    &["file=documents/Gorsehollow Riders/options.ini", "section=Video", "key=FrameCap", "value=90"],
)];

#[test]
fn they_put_back_the_first_state_of_every_tweak_of_the_catalogue() {
    let place = Place::new();
    let facts = place.pc().join("facts.toml");
    let text = fs_err::read_to_string(&facts).unwrap();
    let lonely = text.replace("printer = true", "printer = false");
    fs_err::write(&facts, lonely.replace("file_search = true", "file_search = false")).unwrap();
    let list = place.json(&["tweak", "list", "--fitting"]);
    let tweaks: Vec<String> = list["tweaks"]
        .as_array()
        .unwrap()
        .iter()
        .map(|tweak| tweak["id"].as_str().unwrap().to_owned())
        .collect();
    let at_first = trees(&place);
    let bytes_at_first = place.pc_files();
    let mut change = 0;
    let mut changing = 0;
    for tweak in &tweaks {
        let mut args = vec!["apply", "--tweak", tweak, "--allow-protected", tweak, "--yes"];
        let chosen = CHOSEN.iter().find(|(of, _)| of == tweak).map_or(&[][..], |(_, set)| set);
        chosen.iter().for_each(|set| args.extend(["--set", set]));
        let applied = place.json(&args);
        let Some(id) = applied["change"].as_i64() else {
            continue;
        };
        change = u32::try_from(id).unwrap();
        if !differing(&trees(&place), &at_first).is_empty() {
            changing += 1;
        }
        let mut undo = fs_err::read_dir(place.path().join("home/undo")).unwrap();
        let undo = undo.next().unwrap().unwrap().path();
        let undone = undone(&place, &undo, change);
        assert!(
            differing(&undone, &at_first).is_empty(),
            "{tweak}: {:?}",
            differing(&undone, &at_first)
        );
        place.run(&["rollback", "--all", "--yes"]).ok();
        assert!(place.pc_files() == bytes_at_first, "{tweak}");
    }
    assert!(changing >= 24, "{changing} of {} change something", tweaks.len());
    assert!(change >= changing);
}

#[test]
fn they_put_back_a_whole_profile() {
    let place = Place::with_evening();
    let at_first = trees(&place);
    place.run(&["apply", "evening", "--yes"]).ok();
    let mut undo = fs_err::read_dir(place.path().join("home/undo")).unwrap();
    let undo = undo.next().unwrap().unwrap().path();
    assert_eq!(undone(&place, &undo, 1), at_first);
}
