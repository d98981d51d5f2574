//! A pack as a profile and tweaks of the owner's own.

use toml::Value as Toml;

use super::{Pack, PlainSetting};
use crate::plain_text::in_one_line;
use crate::profile::{Entry, Playing, Profile, ProfileName};
use crate::setting::{Address, RegistryPart, State, Value};
use crate::tweak::{Arguments, TweakId, written};

/// What is made of a pack.
#[derive(Debug, Clone, PartialEq)]
pub struct PackDocuments {
    /// Definitions for the owner's folder of tweaks: their names, and their texts.
    pub tweaks: Vec<(TweakId, String)>,
    /// The profile that uses them and the catalogue's.
    pub profile: Profile,
    /// Tweaks that touch what is protected; the profile leaves them out.
    pub left_out: Vec<TweakId>,
}

/// Makes a profile of a pack. What is protected goes into a tweak of its own that the profile does not
/// use: the owner has to want it.
pub fn documents(name: &ProfileName, pack: &Pack) -> PackDocuments {
    let (guarded, free): (Vec<_>, Vec<_>) =
        pack.plain.iter().partition(|setting| setting.protected.is_some());
    let mut made = PackDocuments {
        tweaks: Vec::new(),
        profile: Profile {
            name: name.clone(),
            purpose: "Made of strangers' files; measure what it is worth".to_owned(),
            scene: None,
            builds_on: Vec::new(),
            without: Vec::new(),
            while_playing: Vec::new(),
            playing: Playing::default(),
            entries: pack
                .recognised
                .iter()
                .map(|r| entry(&r.tweak, &r.arguments, &r.lines))
                .collect(),
        },
        left_out: Vec::new(),
    };
    for (settings, ending) in [(free, ""), (guarded, "-protected")] {
        let Ok(id) = format!("imported/{name}{ending}").parse::<TweakId>() else { continue };
        if settings.is_empty() {
            continue;
        }
        made.tweaks.push((id.clone(), definition(&id, &settings)));
        if ending.is_empty() {
            let lines: Vec<String> = settings.iter().map(|setting| setting.line.clone()).collect();
            made.profile.entries.push(entry(&id, &Arguments::new(), &lines));
        } else {
            made.left_out.push(id);
        }
    }
    made
}

fn entry(tweak: &TweakId, arguments: &Arguments, lines: &[String]) -> Entry {
    let (tweak, arguments) = (tweak.clone(), arguments.clone());
    let note = match lines {
        [] => None,
        [one] => Some(format!("From {one}")),
        [first, .., last] => Some(format!("From {first} to {last}")),
    };
    Entry { tweak, arguments, when: None, note, span: 0..0 }
}

fn definition(id: &TweakId, settings: &[&PlainSetting]) -> String {
    let quoted = |text: &str| Toml::String(text.to_owned()).to_string();
    let mut text = format!(
        "id = \"{id}\"\n\
         title = \"Plain settings of a stranger's file\"\n\
         what = \"Sets {} settings as the file does.\"\n\
         why = \"Whoever made the file knew; the catalogue does not.\"\n\
         may_break = \"Nobody has checked what these values do.\"\n\
         standing = \"contested\"\n\
         standing_reason = \"It comes from a stranger's file: measure it.\"\n\
         risk = \"expert\"\n\
         takes_effect = \"restart\"\n",
        settings.len()
    );
    for setting in settings {
        text.push_str(&format!("\n# {}\n", in_one_line(&setting.line)));
        setting
            .remarks
            .iter()
            .for_each(|remark| text.push_str(&format!("# {}\n", in_one_line(remark))));
        text.push_str("[[settings]]\n");
        // A gap in an address would be filled: none is meant here.
        let address = setting.address.to_string().replace("${", "${'$'}{");
        text.push_str(&format!("address = {}\n", quoted(&address)));
        let is_word = matches!(setting.address, Address::RegistryPart(_, _, RegistryPart::Word(_)));
        match &setting.state {
            State::Value(Value::Registry(data)) => {
                let (name, value) = written(data);
                let value =
                    Toml::try_from(value).map_or_else(|_| "\"\"".to_owned(), |v| v.to_string());
                text.push_str(&format!("type = \"{name}\"\nvalue = {value}\n"));
            }
            State::Value(Value::Listed(_)) if is_word => text.push_str("value = true\n"),
            State::Value(Value::Listed(listed)) => {
                text.push_str(&format!("value = {}\n", quoted(&listed.text)));
            }
            State::Value(value) => {
                let value = Toml::try_from(value.plain())
                    .map_or_else(|_| "\"\"".to_owned(), |value| value.to_string());
                text.push_str(&format!("value = {value}\n"));
            }
            // A setting that cannot be read is nothing that a pack wants.
            State::Absent | State::Unreadable(_) => text.push_str("absent = true\n"),
        }
    }
    text.push_str(
        "\n[[sources]]\ntitle = \"The file itself\"\nstates = \"What it sets, and not why.\"\n",
    );
    text
}
