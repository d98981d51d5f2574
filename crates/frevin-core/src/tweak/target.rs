//! What a setting shall hold: fixed in the definition, or computed from facts and parameters.

use serde::Deserialize;
use serde::de::IntoDeserializer as _;
use serde_json::Value as Json;

use crate::expression::{Expression, ExpressionError};
use crate::setting::{
    Address, CleanPart, FilePart, Holds, Listed, RegistryData, RegistryPart, RunState,
    ServiceStart, State, Value, VisualKind, three_numbers,
};

/// The registry types that a definition can write, by name; any other by its number, `type-9`.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Deserialize)]
#[serde(try_from = "String")]
pub(crate) enum WrittenType {
    Dword,
    Qword,
    String,
    ExpandString,
    MultiString,
    Binary,
    /// Windows' number for it; the value is its bytes.
    Number(u32),
}

impl TryFrom<String> for WrittenType {
    type Error = String;

    fn try_from(name: String) -> Result<Self, Self::Error> {
        Ok(match name.as_str() {
            "dword" => Self::Dword,
            "qword" => Self::Qword,
            "string" => Self::String,
            "expand-string" => Self::ExpandString,
            "multi-string" => Self::MultiString,
            "binary" => Self::Binary,
            _ => {
                let number = name.strip_prefix("type-").and_then(|number| number.parse().ok());
                Self::Number(number.ok_or_else(|| {
                    format!(
                        "there is no type `{name}`; write dword, qword, string, expand-string, \
                         multi-string, binary, or type- and Windows' number for it"
                    )
                })?)
            }
        })
    }
}

/// How a definition writes registry data: the type's name, and the value.
pub(crate) fn written(data: &RegistryData) -> (String, Json) {
    let text = data.as_text().filter(|text| !text.contains(char::is_control));
    let hex =
        || Json::from(data.bytes.iter().map(|byte| format!("{byte:02x}")).collect::<String>());
    let number = data.as_number().and_then(|number| i64::try_from(number).ok());
    match (data.type_number, number, text) {
        (4, Some(number), _) => ("dword".to_owned(), number.into()),
        (11, Some(number), _) => ("qword".to_owned(), number.into()),
        (1, _, Some(text)) => ("string".to_owned(), text.into()),
        (2, _, Some(text)) => ("expand-string".to_owned(), text.into()),
        (3, ..) => ("binary".to_owned(), hex()),
        (other, ..) => (format!("type-{other}"), hex()),
    }
}

#[derive(Debug, Clone, PartialEq)]
pub(super) enum Target {
    Absent,
    Written { written: Json, written_type: Option<WrittenType> },
    Formula { formula: Expression, written_type: Option<WrittenType> },
}

impl Target {
    pub(super) fn formula(&self) -> Option<&Expression> {
        match self {
            Self::Formula { formula, .. } => Some(formula),
            Self::Written { .. } | Self::Absent => None,
        }
    }

    pub(super) fn state(
        &self,
        address: &Address,
        variables: &Json,
    ) -> Result<State, ExpressionError> {
        match self {
            Self::Absent => Ok(State::Absent),
            Self::Written { written, written_type } => state_for(address, *written_type, written)
                .map_err(|wanted| ExpressionError::WrongType {
                    expression: address.to_string(),
                    given: written.to_string(),
                    wanted,
                }),
            Self::Formula { formula, written_type } => {
                let value = formula.evaluate(variables)?;
                state_for(address, *written_type, &value)
                    .map_err(|wanted| formula.wrong_type(&value, wanted))
            }
        }
    }
}

/// The state that `written` means for the setting at `address`; otherwise what it takes. Nothing (`null`) is
/// absence, as `false` is of a word in a list.
pub(super) fn state_for(
    address: &Address,
    written_type: Option<WrittenType>,
    written: &Json,
) -> Result<State, &'static str> {
    match (address, written) {
        // What stands in a settings file is never taken out: see [`super::reading`].
        (Address::Text(_), Json::Null) => Err("a text, a number, true or false"),
        (_, Json::Null) if address.may_be_absent() => Ok(State::Absent),
        (Address::RegistryPart(_, _, RegistryPart::Word(_)), Json::Bool(false)) => {
            Ok(State::Absent)
        }
        _ => value_for(address, written_type, written).map(State::Value),
    }
}

/// The value that `written` means for the setting at `address`; otherwise what it takes.
pub(super) fn value_for(
    address: &Address,
    written_type: Option<WrittenType>,
    written: &Json,
) -> Result<Value, &'static str> {
    match address {
        Address::RegistryKey(_) => Err("nothing: a key is created by the values under it"),
        Address::RegistryValue(..) => {
            let written_type = written_type.ok_or("a `type`, since registry values have one")?;
            registry_data(written_type, written).map(Value::Registry)
        }
        Address::RegistryPart(_, _, part) => match (part, written) {
            (RegistryPart::Text, _) => Err("nothing: it is made by what it lists"),
            (RegistryPart::Pair(_), Json::String(text)) => {
                Ok(Value::Listed(Listed::new(text.as_str())))
            }
            (RegistryPart::Pair(_), Json::Number(number)) => {
                Ok(Value::Listed(Listed::new(number.to_string())))
            }
            (RegistryPart::Pair(_), _) => Err("a text or a number"),
            (RegistryPart::Word(word), Json::Bool(true)) => {
                Ok(Value::Listed(Listed::new(word.as_str())))
            }
            (RegistryPart::Word(_), _) => Err("true or false"),
            (RegistryPart::Bits(_), Json::Bool(flag)) => Ok(Value::Number(u32::from(*flag))),
            (RegistryPart::Bits(_), _) => {
                number(written).map(Value::Number).ok_or("a number, true or false")
            }
        },
        Address::ServiceStart(_) => written
            .as_str()
            .and_then(ServiceStart::from_word)
            .map(Value::Start)
            .ok_or("automatic, automatic-delayed, manual or disabled"),
        Address::ServiceRunning(_) => written
            .as_str()
            .and_then(RunState::from_word)
            .map(Value::Run)
            .ok_or("running or stopped"),
        Address::ActivePlan => written
            .as_str()
            .and_then(|id| id.parse().ok())
            .map(Value::Plan)
            .ok_or("the GUID of a power plan"),
        Address::PowerPlan(_) => plan_copy(written).ok_or("{ copy_of = GUID, name = TEXT }"),
        Address::PowerHidden { .. } => written.as_bool().map(Value::Flag).ok_or("true or false"),
        Address::PowerValue { .. } => {
            number(written).map(Value::PowerIndex).ok_or("a number from 0 to 4294967295")
        }
        Address::Visual(parameter) => match parameter.kind() {
            VisualKind::Flag => written.as_bool().map(Value::Flag).ok_or("true or false"),
            VisualKind::Milliseconds => {
                number(written).map(Value::Milliseconds).ok_or("a number of milliseconds")
            }
            VisualKind::Number => number(written).map(Value::Number).ok_or("a number"),
            VisualKind::ThreeNumbers => written
                .as_str()
                .filter(|text| three_numbers(text).is_some())
                .map(|text| Value::Text(text.to_owned()))
                .ok_or("three numbers, like \"6 10 1\""),
        },
        Address::Object(setting) => {
            let value = thing_value(setting.part().holds(), written)?;
            if setting.can_hold(&value) { Ok(value) } else { Err("addresses of name servers") }
        }
        Address::Text(setting) => file_value(setting.part(), written),
        Address::Clean(setting) => match setting.part {
            CleanPart::Quarantine => number(written)
                .map(|untouched_days| Value::Quarantined { untouched_days })
                .ok_or("a number of days that a file has not been changed for"),
            CleanPart::Files => Err("nothing: it is there to be read"),
        },
    }
}

/// A value as it will stand in a settings file.
fn file_value(part: &FilePart, written: &Json) -> Result<Value, &'static str> {
    match (part, written) {
        (FilePart::Whole, _) => Err("nothing: a settings file is changed part by part"),
        (FilePart::Section(_), _) => Err("nothing: a section is made by the keys in it"),
        (_, Json::Null | Json::Array(_) | Json::Object(_)) => {
            Err("a text, a number, true or false")
        }
        (FilePart::Member(_), scalar) => Ok(Value::Written(scalar.to_string())),
        (_, Json::String(text)) => Ok(Value::Written(text.clone())),
        (_, scalar) => Ok(Value::Written(scalar.to_string())),
    }
}

fn plan_copy(written: &Json) -> Option<Value> {
    let copy_of = Some(written.get("copy_of")?.as_str()?.parse().ok()?);
    let name = written.get("name")?.as_str()?.to_owned();
    Some(Value::PlanExists { copy_of, name })
}

fn thing_value(holds: Holds, written: &Json) -> Result<Value, &'static str> {
    let text = written.as_str();
    match holds {
        Holds::Flag => written.as_bool().map(Value::Flag).ok_or("true or false"),
        Holds::Number => number(written).map(Value::Number).ok_or("a number"),
        Holds::Text => text.map(|text| Value::Text(text.to_owned())).ok_or("a text"),
        Holds::Texts => {
            serde_json::from_value(written.clone()).map(Value::Texts).map_err(|_| "a list of texts")
        }
        Holds::Mode => text
            .and_then(|text| text.parse().ok())
            .map(Value::Mode)
            .ok_or("a display mode like 2560x1440@165"),
        Holds::Colours => text
            .and_then(|text| text.parse().ok())
            .map(Value::Colours)
            .ok_or("a ramp like gamma 110, brightness 50, contrast 50"),
        Holds::PageFileSize => text
            .and_then(|text| text.parse().ok())
            .map(Value::PageFile)
            .ok_or("system-managed, none, or a size like 4096-8192 MiB"),
    }
}

/// The state that somebody wrote for a setting: `absent`, `true`, `50`, `disabled`, a GUID; for a
/// registry value with its type in front: `dword:1`, `string:High`, `binary:0aff`.
///
/// # Errors
/// A sentence that says what the setting takes.
pub fn state_from_words(address: &Address, words: &str) -> Result<State, String> {
    let takes = |what: &str| format!("{address} takes {what}, or absent");
    if words == "absent" {
        return Ok(State::Absent);
    }
    let is_section = matches!(address, Address::RegistryPart(_, _, RegistryPart::Text))
        || matches!(address, Address::Text(setting) if matches!(setting.part(), FilePart::Section(_)));
    if is_section || matches!(address, Address::RegistryKey(_)) {
        let key = (words == "present").then_some(State::Value(Value::Key));
        return key.ok_or_else(|| takes("present"));
    }
    let (written_type, words) = match (address, words.split_once(':')) {
        (Address::RegistryValue(..), Some((name, rest))) => {
            let name = WrittenType::deserialize(name.into_deserializer());
            (Some(name.map_err(|error: serde::de::value::Error| error.to_string())?), rest)
        }
        _ => (None, words),
    };
    let is_line = matches!(
        address,
        Address::Text(setting) if matches!(setting.part(), FilePart::IniKey { .. } | FilePart::Key(_))
    );
    let is_text = is_line
        || matches!(address, Address::RegistryPart(_, _, RegistryPart::Pair(_)))
        || matches!(address, Address::Object(setting) if setting.part().holds() == Holds::Text)
        || matches!(
            written_type,
            Some(
                WrittenType::String
                    | WrittenType::ExpandString
                    | WrittenType::Binary
                    | WrittenType::Number(_)
            )
        );
    if let Address::Object(setting) = address
        && setting.part().holds() == Holds::Texts
    {
        let texts = words.split(',').map(str::trim).filter(|text| !text.is_empty());
        let written = texts.collect::<Vec<_>>().into();
        return value_for(address, written_type, &written).map(State::Value).map_err(takes);
    }
    let written = match serde_json::from_str(words) {
        Ok(scalar @ (Json::Bool(_) | Json::Number(_))) if !is_text => scalar,
        _ => Json::String(words.to_owned()),
    };
    state_for(address, written_type, &written).map_err(takes)
}

fn number(written: &Json) -> Option<u32> {
    written.as_u64().and_then(|number| number.try_into().ok())
}

fn registry_data(written_type: WrittenType, written: &Json) -> Result<RegistryData, &'static str> {
    match written_type {
        WrittenType::Dword => {
            number(written).map(RegistryData::dword).ok_or("a number from 0 to 4294967295")
        }
        WrittenType::Qword => written.as_u64().map(RegistryData::qword).ok_or("a number from 0"),
        WrittenType::String => written.as_str().map(RegistryData::string).ok_or("a text"),
        WrittenType::ExpandString => {
            written.as_str().map(RegistryData::expand_string).ok_or("a text")
        }
        WrittenType::MultiString => written
            .as_array()
            .and_then(|texts| texts.iter().map(Json::as_str).collect::<Option<Vec<_>>>())
            .map(RegistryData::multi_string)
            .ok_or("a list of texts"),
        WrittenType::Binary => written
            .as_str()
            .and_then(bytes_of)
            .map(RegistryData::binary)
            .ok_or("bytes as pairs of hexadecimal digits"),
        WrittenType::Number(type_number) => written
            .as_str()
            .and_then(bytes_of)
            .map(|bytes| RegistryData { type_number, bytes })
            .ok_or("bytes as pairs of hexadecimal digits"),
    }
}

pub(crate) fn bytes_of(text: &str) -> Option<Vec<u8>> {
    let digits: Vec<u8> = text
        .chars()
        .filter(|c| !c.is_whitespace())
        .map(|c| c.to_digit(16).and_then(|digit| digit.try_into().ok()))
        .collect::<Option<_>>()?;
    digits
        .len()
        .is_multiple_of(2)
        .then(|| digits.chunks(2).map(|pair| pair[0] * 16 + pair[1]).collect())
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::setting::PageFileSize;
    use serde_json::json;

    #[test]
    fn states_are_read_from_words() {
        let state = |address: &str, words| state_from_words(&address.parse().unwrap(), words);
        let dword = |number| Value::Registry(RegistryData::dword(number)).into();
        assert_eq!(state(r"registry:HKCU\A#v", "dword:5"), Ok(dword(5)));
        let text = Value::Registry(RegistryData::string("5")).into();
        assert_eq!(state(r"registry:HKCU\A#v", "string:5"), Ok(text));
        assert_eq!(state(r"registry:HKCU\A#v", "absent"), Ok(State::Absent));
        assert_eq!(state(r"registry:HKCU\A", "present"), Ok(Value::Key.into()));
        assert_eq!(state("visual:menu-delay", "90"), Ok(Value::Milliseconds(90).into()));
        let text = Value::Text("1".into());
        assert_eq!(state("adapter:Ethernet#option-*EEE", "1"), Ok(text.into()));
        assert_eq!(state("visual:pointer-speed", "10"), Ok(Value::Number(10).into()));
        let curve = Value::Text("6 10 1".into());
        assert_eq!(state("visual:pointer-acceleration", "6 10 1"), Ok(curve.into()));
        assert!(state("visual:pointer-acceleration", "06 10 1").is_err());
        let servers = Value::Texts(vec!["192.0.2.1".into(), "192.0.2.2".into()]);
        let named = "adapter:Ethernet#name-servers";
        assert_eq!(state(named, "192.0.2.1, 192.0.2.2"), Ok(servers.into()));
        assert_eq!(
            state("pagefile:C:#size", "none"),
            Ok(Value::PageFile(PageFileSize::None).into())
        );
        assert_eq!(state("visual:drop-shadow", "true"), Ok(Value::Flag(true).into()));
        let written = |text: &str| Ok(Value::Written(text.into()).into());
        assert_eq!(state("text:documents/a.ini#ini:[A]b", "1.50"), written("1.50"));
        assert_eq!(state("text:documents/a.json#json:/b", "high"), written("\"high\""));
        assert_eq!(state("text:documents/a.ini#ini:[A]", "present"), Ok(Value::Key.into()));
        let listed = |text: &str| Ok(Value::Listed(Listed::new(text)).into());
        assert_eq!(state(r"registry-part:HKCU\A#v#pair:B", "1"), listed("1"));
        assert_eq!(state(r"registry-part:HKCU\A#v#word:B", "true"), listed("B"));
        assert_eq!(state(r"registry-part:HKCU\A#v#word:B", "false"), Ok(State::Absent));
        assert_eq!(state(r"registry-part:HKCU\A#v#bits:0x4", "1"), Ok(Value::Number(1).into()));
        assert_eq!(state(r"registry-part:HKCU\A#v#text", "present"), Ok(Value::Key.into()));
        let aside = Value::Quarantined { untouched_days: 2 };
        assert_eq!(state("clean:user-temp#quarantine", "2"), Ok(aside.into()));
        assert_eq!(state("service:S#running", "stopped"), Ok(Value::Run(RunState::Stopped).into()));
        for (address, words) in [
            (r"registry:HKCU\A#v", "5"),
            (r"registry:HKCU\A#v", "word:5"),
            (r"registry:HKCU\A", "5"),
            ("visual:menu-delay", "soon"),
            ("display:Lumet#mode", "large"),
            ("task:x#enabled", "maybe"),
            ("adapter:Ethernet#name-servers", "nowhere.example"),
            ("clean:user-temp#files", "0"),
            ("text:documents/a.ini", "x"),
            (r"registry-part:HKCU\A#v#word:B", "B"),
            (r"registry-part:HKCU\A#v#bits:0x4", "many"),
        ] {
            assert!(state(address, words).is_err(), "{address} {words}");
        }
    }

    #[test]
    fn registry_data_of_any_kind_is_written_in_a_definition_and_read_again() {
        for data in [
            RegistryData::dword(7),
            RegistryData::qword(1 << 40),
            RegistryData::qword(u64::MAX),
            RegistryData::string("a \\ b"),
            RegistryData::string("two\r\nlines"),
            RegistryData::expand_string("%A%"),
            RegistryData::multi_string(["a", "b"]),
            RegistryData::binary([0, 255]),
            RegistryData { type_number: 4, bytes: vec![1] },
            RegistryData { type_number: 0x1000b, bytes: Vec::new() },
        ] {
            let (name, value) = written(&data);
            let written_type = WrittenType::try_from(name).unwrap();
            assert_eq!(registry_data(written_type, &value), Ok(data));
        }
    }

    #[test]
    fn each_kind_of_setting_takes_what_it_can_hold() {
        let value = |address: &str, written_type, written: Json| {
            value_for(&address.parse().unwrap(), written_type, &written)
        };
        let registry = r"registry:HKCU\A#b";
        assert_eq!(
            value(registry, Some(WrittenType::Dword), json!(4_294_967_295_u32)),
            Ok(Value::Registry(RegistryData::dword(u32::MAX)))
        );
        assert_eq!(
            value(registry, Some(WrittenType::Binary), json!("9e 1E")),
            Ok(Value::Registry(RegistryData::binary([0x9e, 0x1e])))
        );
        assert!(value(registry, Some(WrittenType::Dword), json!(-1)).is_err());
        assert!(value(registry, None, json!(1)).is_err());
        assert!(value(r"registry:HKCU\A", None, json!(1)).is_err());
        assert!(value("service:X#start", None, json!("sometimes")).is_err());
        assert_eq!(value("visual:menu-delay", None, json!(50)), Ok(Value::Milliseconds(50)));
        assert!(value("visual:menu-delay", None, json!(true)).is_err());
        assert!(value("power:active-plan", None, json!("fast")).is_err());
        let balanced = "381b4222-f694-41f0-9685-ff5bb260df2e";
        let plan = format!("power:{}#exists", uuid::Uuid::nil());
        let copy = json!({"copy_of": balanced, "name": "Play"});
        let copy_of = Some(balanced.parse().unwrap());
        let expected = Value::PlanExists { copy_of, name: "Play".into() };
        assert_eq!(value(&plan, None, copy), Ok(expected));
        assert!(value(&plan, None, json!("Play")).is_err());
    }
}
