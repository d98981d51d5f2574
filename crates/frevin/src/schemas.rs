//! Schemas of what the commands print with `--json`, as the program carries them: the files of
//! `docs/schema/output`, packed by the build script.

#[cfg(test)]
mod from_types;

use std::collections::BTreeMap;
use std::io::{self, Read as _};
use std::path::Path;

use flate2::read::ZlibDecoder;

use crate::failure::Failure;

#[cfg(test)]
pub(crate) use self::from_types::Schemas;

/// The name of each file and its text, a NUL behind each.
static PACKED: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/schemas.zlib"));

/// The text of each document, by the name of its file.
fn documents() -> io::Result<BTreeMap<String, String>> {
    let mut unpacked = String::new();
    ZlibDecoder::new(PACKED).read_to_string(&mut unpacked)?;
    let mut parts = unpacked.split_terminator('\0').map(str::to_owned);
    let mut documents = BTreeMap::new();
    while let (Some(name), Some(text)) = (parts.next(), parts.next()) {
        documents.insert(name, text);
    }
    Ok(documents)
}

/// Writes every document into a folder, which is made. Gives back how many.
pub(crate) fn write(folder: &Path) -> Result<usize, Failure> {
    fs_err::create_dir_all(folder)?;
    let documents = documents()?;
    for (file, text) in &documents {
        fs_err::write(folder.join(file), text)?;
    }
    Ok(documents.len())
}

#[cfg(test)]
mod tests {
    use super::from_types::TYPES;
    use super::*;
    use serde_json::Value;

    /// Where this is set, the files in docs are written anew instead of compared.
    const WRITE: &str = "FREVIN_WRITE_SCHEMAS";

    #[test]
    fn the_schemas_in_docs_are_those_of_the_types_and_the_program_carries_them() {
        let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/schema/output");
        let made: BTreeMap<String, String> = Schemas::all()
            .documents()
            .into_iter()
            .map(|(file, document)| (file, format!("{document:#}\n")))
            .collect();
        if std::env::var_os(WRITE).is_some() {
            fs_err::remove_dir_all(&folder).unwrap();
            fs_err::create_dir_all(&folder).unwrap();
            made.iter().for_each(|(file, text)| fs_err::write(folder.join(file), text).unwrap());
            return;
        }
        // As the repository has them: with whatever line ends it was checked out.
        let as_value = |text: &str| serde_json::from_str::<Value>(text).unwrap();
        let again = format!("{WRITE}=1 cargo test -p frevin schemas_in_docs writes them anew");
        let names: Vec<&String> = made.keys().collect();
        let carried = documents().unwrap();
        assert_eq!(carried.keys().collect::<Vec<_>>(), names, "{again}");
        for (file, text) in &made {
            let kept = fs_err::read_to_string(folder.join(file)).unwrap();
            assert_eq!(as_value(&kept), as_value(text), "{file}: {again}");
            assert_eq!(carried[file], kept, "{file}");
        }
    }

    /// Every `$ref` of a document.
    fn references(of: &Value, found: &mut Vec<String>) {
        match of {
            Value::Object(members) => {
                found.extend(members.get("$ref").and_then(Value::as_str).map(str::to_owned));
                members.values().for_each(|member| references(member, found));
            }
            Value::Array(items) => items.iter().for_each(|item| references(item, found)),
            _ => {}
        }
    }

    #[test]
    fn what_a_schema_refers_to_is_there_and_every_type_is_referred_to() {
        let documents = Schemas::all().documents();
        let types = &documents[TYPES];
        let mut all = Vec::new();
        for (file, document) in &documents {
            let mut found = Vec::new();
            references(document, &mut found);
            for reference in &found {
                let (in_file, pointer) = reference.split_once('#').unwrap();
                assert_eq!(in_file, if file == TYPES { "" } else { TYPES }, "{file}: {reference}");
                assert!(types.pointer(pointer).is_some(), "{file}: {reference}");
                all.push(pointer.to_owned());
            }
        }
        for name in types["$defs"].as_object().unwrap().keys() {
            assert!(all.contains(&format!("/$defs/{name}")), "nothing prints {name}");
        }
    }
}
