//! Which part of a settings file is meant.

use std::fmt;

use super::error::{AddressError, escape, unescape};
use super::name::WinName;
use super::place::PlacePath;

/// A settings file of a game or program, or one thing in it.
///
/// | text | what is meant |
/// |---|---|
/// | `documents/Game/options.ini` | the whole file: read, and never written |
/// | `….ini#ini:[Section]` | whether a section of an INI file is there |
/// | `….ini#ini:[Section]Key` | a key of that section |
/// | `….ini#ini:Key` | a key before the first section |
/// | `….cfg#keys:name` | a name in a file of lines with a name and a value |
/// | `….json#json:/graphics/shadows` | a member, by its JSON pointer (RFC 6901) |
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct FileSetting {
    file: PlacePath,
    part: FilePart,
}

/// A part of a settings file.
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum FilePart {
    /// All of it.
    Whole,
    /// A section of an INI file.
    Section(WinName),
    /// A key of an INI file; the section is empty for those before the first.
    IniKey {
        /// The section that it is in.
        section: WinName,
        /// Its name.
        key: WinName,
    },
    /// A name in a file of lines with a name and a value.
    Key(WinName),
    /// A member of a JSON document: the names on the way to it, the outermost first.
    Member(Vec<String>),
}

/// Endings of files that hold settings and nothing that a program would run.
///
/// A list of what is allowed: a settings file of another ending is not touched, since there is no
/// end to the endings that Windows runs.
const ENDINGS: [&str; 12] = [
    "ini",
    "cfg",
    "conf",
    "config",
    "json",
    "jsonc",
    "txt",
    "opt",
    "options",
    "prefs",
    "settings",
    "properties",
];

/// Files with such an ending that make Windows run something.
const NEVER: [&str; 2] = ["DESKTOP.INI", "AUTORUN.INF"];

impl FileSetting {
    /// The file.
    pub fn file(&self) -> &PlacePath {
        &self.file
    }

    /// The part of it.
    pub fn part(&self) -> &FilePart {
        &self.part
    }

    /// Another part of the same file.
    pub fn with_part(&self, part: FilePart) -> Self {
        Self { file: self.file.clone(), part }
    }

    /// The whole of a file.
    ///
    /// # Errors
    /// Where such a file is none that holds settings only.
    pub fn whole(file: PlacePath) -> Result<Self, AddressError> {
        let is_never = NEVER.contains(&file.file_name().as_str().to_uppercase().as_str());
        if is_never || !ENDINGS.contains(&file.ending().as_str()) {
            return Err(AddressError::NotASettingsFile {
                file: file.file_name().to_string(),
                endings: ENDINGS.join(", "),
            });
        }
        Ok(Self { file, part: FilePart::Whole })
    }

    /// The section that has to be there before the setting can hold a value.
    pub(super) fn support(&self) -> Option<Self> {
        match &self.part {
            FilePart::IniKey { section, .. } if !section.as_str().is_empty() => {
                Some(self.with_part(FilePart::Section(section.clone())))
            }
            _ => None,
        }
    }

    pub(super) fn parse(rest: &str) -> Result<Self, AddressError> {
        let (path, part) = match rest.split_once('#') {
            Some((path, part)) => (path, Some(part)),
            None => (rest, None),
        };
        let whole = Self::whole(unescape(path).parse()?)?;
        match part {
            None => Ok(whole),
            Some(part) => Ok(whole.with_part(parse_part(part).ok_or(AddressError::FilePart)?)),
        }
    }

    pub(super) fn identity(&self) -> String {
        let part = match &self.part {
            FilePart::Whole => String::new(),
            FilePart::Section(section) => format!("#ini:[{}]", section.folded()),
            FilePart::IniKey { section, key } if section.as_str().is_empty() => {
                format!("#ini:{}", key.folded())
            }
            FilePart::IniKey { section, key } => {
                format!("#ini:[{}]{}", section.folded(), key.folded())
            }
            FilePart::Key(name) => format!("#keys:{}", name.folded()),
            FilePart::Member(_) => format!("#{}", self.part),
        };
        format!("text:{}{part}", escape(&self.file.identity()))
    }
}

fn parse_part(part: &str) -> Option<FilePart> {
    let (format, rest) = part.split_once(':')?;
    match format {
        "ini" => match rest.strip_prefix('[') {
            Some(rest) => {
                let (section, key) = rest.split_once(']')?;
                let section = name(section, &['[', ']'])?;
                if key.is_empty() {
                    return Some(FilePart::Section(section));
                }
                Some(FilePart::IniKey { section, key: ini_key(key)? })
            }
            None => Some(FilePart::IniKey { section: WinName::new(""), key: ini_key(rest)? }),
        },
        "keys" => {
            let is_name = !rest.contains(char::is_whitespace) && !rest.starts_with("//");
            is_name.then(|| name(rest, &['=', ':', '"', '#', ';']))?.map(FilePart::Key)
        }
        "json" => {
            let pointer = rest.strip_prefix('/')?;
            if pointer.chars().any(char::is_control) || pointer.len() > 400 {
                return None;
            }
            Some(FilePart::Member(pointer.split('/').map(unescape_pointer).collect::<Option<_>>()?))
        }
        _ => None,
    }
}

fn ini_key(key: &str) -> Option<WinName> {
    let is_key = !key.starts_with(['[', ';', '#']) && !key.starts_with("//");
    is_key.then(|| name(key, &['=']))?
}

fn name(text: &str, without: &[char]) -> Option<WinName> {
    let is_name = !text.is_empty()
        && text.trim() == text
        && text.len() <= 400
        && !text.contains(without)
        && !text.chars().any(char::is_control);
    is_name.then(|| WinName::new(text))
}

/// `~1` is a slash and `~0` a tilde (RFC 6901).
fn unescape_pointer(name: &str) -> Option<String> {
    let mut rest = name.split('~');
    let mut plain = rest.next()?.to_owned();
    for piece in rest {
        let mut characters = piece.chars();
        plain.push(match characters.next()? {
            '0' => '~',
            '1' => '/',
            _ => return None,
        });
        plain.push_str(characters.as_str());
    }
    Some(plain)
}

impl fmt::Display for FilePart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Whole => Ok(()),
            Self::Section(section) => write!(f, "ini:[{section}]"),
            Self::IniKey { section, key } if section.as_str().is_empty() => write!(f, "ini:{key}"),
            Self::IniKey { section, key } => write!(f, "ini:[{section}]{key}"),
            Self::Key(name) => write!(f, "keys:{name}"),
            Self::Member(names) => {
                f.write_str("json:")?;
                names.iter().try_for_each(|name| {
                    write!(f, "/{}", name.replace('~', "~0").replace('/', "~1"))
                })
            }
        }
    }
}

impl fmt::Display for FileSetting {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let path = escape(&self.file.to_string());
        match &self.part {
            FilePart::Whole => write!(f, "text:{path}"),
            part => write!(f, "text:{path}#{part}"),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::Address;

    fn address(text: &str) -> Result<Address, AddressError> {
        text.parse()
    }

    #[test]
    fn parts_read_as_they_are_shown() {
        for good in [
            "text:documents/Riders/options.ini",
            "text:documents/Riders/options.ini#ini:[Video]VSync",
            "text:documents/Riders/options.ini#ini:[/Script/Engine.Renderer]r.Shadow",
            "text:documents/Riders/options.ini#ini:[Video]",
            "text:documents/Riders/options.ini#ini:Language",
            "text:local-app-data/Riders %2325/boot.cfg#keys:worker_threads",
            "text:saved-games/Riders/a.json#json:/graphics/shadow~1detail/~0x",
        ] {
            assert_eq!(address(good).map(|a| a.to_string()), Ok(good.to_owned()));
        }
        let loud = address("text:documents/RIDERS/options.ini#ini:[VIDEO]vsync").unwrap();
        let quiet = address("text:documents/Riders/options.ini#ini:[Video]VSync").unwrap();
        assert_eq!(loud, quiet);
        assert_eq!(loud.identity(), quiet.identity());
    }

    #[test]
    fn files_that_could_be_run_and_parts_that_could_be_two_are_refused() {
        for bad in [
            "text:documents/run.bat#keys:a",
            "text:documents/profile.ps1",
            "text:documents/desktop.ini#ini:[.ShellClassInfo]CLSID",
            "text:documents/a.lnk",
            "text:documents/a#keys:b",
            "text:documents/a.ini#toml:b",
            "text:documents/a.ini#ini:[A",
            "text:documents/a.ini#ini:[A]b=c",
            "text:documents/a.ini#ini:[A]b\nc",
            "text:documents/a.ini#ini:; note",
            "text:documents/a.cfg#keys:two words",
            "text:documents/a.json#json:graphics",
            "text:documents/a.json#json:/a~2",
            "text:documents/../a.ini#ini:b",
        ] {
            assert!(address(bad).is_err(), "{bad}");
        }
    }

    #[test]
    fn a_key_needs_its_section() {
        let key = address("text:documents/a.ini#ini:[A]b").unwrap();
        assert_eq!(key.supports(), [address("text:documents/a.ini#ini:[A]").unwrap()]);
        assert!(address("text:documents/a.ini#ini:b").unwrap().supports().is_empty());
    }
}
