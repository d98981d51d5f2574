//! What a setting holds, without loss.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use serde_json::{Value as Json, json};
use std::fmt;
use uuid::Uuid;

use super::colour_ramp::ColourRamp;
use super::object::{DisplayMode, PageFileSize};
use super::registry_part::Listed;

/// What a setting holds.
///
/// Nothing is merged or cut off on the way in: an unknown registry type keeps its number and its
/// bytes, an empty value is not an absent one, and a value that could not be read is neither.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum State {
    /// The setting does not exist on this PC.
    Absent,
    /// It holds a value.
    Value(Value),
    /// It could not be read.
    Unreadable(String),
}

/// A value that a setting of some kind holds.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Value {
    /// A registry key that exists.
    Key,
    /// A registry value.
    Registry(RegistryData),
    /// A pair or a word of a registry value that lists several.
    Listed(Listed),
    /// How a service starts.
    Start(ServiceStart),
    /// Whether a service runs.
    Run(RunState),
    /// A power plan.
    Plan(Uuid),
    /// A power plan that exists: as it came with Windows, or a copy of another.
    PlanExists {
        /// The plan that it was copied from; nothing for those that come with Windows.
        copy_of: Option<Uuid>,
        /// Its name.
        name: String,
    },
    /// A value of a power plan: a quantity, or an index among a setting's choices.
    PowerIndex(u32),
    /// On or off.
    Flag(bool),
    /// A time in milliseconds.
    Milliseconds(u32),
    /// A number in the unit that its setting's name says.
    Number(u32),
    /// A text.
    Text(String),
    /// Texts in order.
    Texts(Vec<String>),
    /// A display mode.
    Mode(DisplayMode),
    /// A page file's size.
    PageFile(PageFileSize),
    /// What a display makes of colours.
    Colours(ColourRamp),
    /// What stands in a settings file, character for character.
    Written(String),
    /// All of a settings file.
    File {
        /// Its length in bytes.
        bytes: u64,
        /// The BLAKE3 hash of its bytes, in hexadecimal digits.
        digest: String,
    },
    /// Files of a place.
    Files {
        /// How many.
        count: u64,
        /// Their lengths together, in bytes.
        bytes: u64,
        /// The BLAKE3 hash over their names and bytes, in hexadecimal digits.
        digest: String,
    },
    /// Files of a place are in quarantine: those that had not been changed for so many days.
    Quarantined {
        /// The least age in days, by when a file was last changed.
        untouched_days: u32,
    },
    /// Files of a place are on their way into quarantine or back: a move was interrupted.
    HalfQuarantined,
}

impl State {
    /// Whether the setting could be read, absence included.
    pub fn is_readable(&self) -> bool {
        !matches!(self, Self::Unreadable(_))
    }

    /// Whether this is what an interrupted write can leave between `states`: some kinds of setting
    /// are written in two steps, since their operating system has no single one.
    pub fn lies_between(&self, states: &[&Self]) -> bool {
        let values = || states.iter().filter_map(|state| state.value());
        match self {
            // A service that is on its way tells no state.
            Self::Unreadable(_) => values().any(|value| matches!(value, Value::Run(_))),
            Self::Value(Value::HalfQuarantined) => true,
            // Type and delay.
            Self::Value(Value::Start(held)) => {
                let starts = || {
                    values().filter_map(|value| match value {
                        Value::Start(start) => Some(start),
                        _ => None,
                    })
                };
                starts().any(|start| start.start_type == held.start_type)
                    && starts().any(|start| start.delayed == held.delayed)
            }
            // What is new is added, and what is old taken away.
            Self::Value(Value::Texts(held)) => held.iter().all(|text| {
                values().any(|value| matches!(value, Value::Texts(texts) if texts.contains(text)))
            }),
            // A plan is copied, then named.
            Self::Value(Value::PlanExists { copy_of: None, .. }) => {
                states.contains(&&Self::Absent)
                    && values().any(|v| matches!(v, Value::PlanExists { copy_of: Some(_), .. }))
            }
            Self::Absent | Self::Value(_) => false,
        }
    }

    /// The value, where there is one.
    pub fn value(&self) -> Option<&Value> {
        match self {
            Self::Value(value) => Some(value),
            Self::Absent | Self::Unreadable(_) => None,
        }
    }

    /// The state as expressions see it: null where it is absent or unreadable.
    pub fn plain(&self) -> Json {
        match self {
            Self::Value(value) => value.plain(),
            Self::Absent | Self::Unreadable(_) => Json::Null,
        }
    }

    /// The state of a setting that holds a value or is absent.
    pub fn from_option(value: Option<Value>) -> Self {
        value.map_or(Self::Absent, Self::Value)
    }
}

impl Value {
    /// The value as expressions see it: a number, a text, a list, true or false.
    pub fn plain(&self) -> Json {
        match self {
            Self::Key => json!(true),
            Self::Registry(data) => match (data.as_number(), data.as_text()) {
                (Some(number), _) => json!(number),
                (None, Some(text)) => json!(text),
                (None, None) => json!(data.bytes),
            },
            Self::Listed(listed) => json!(listed.text),
            Self::Start(start) => json!(start.to_string()),
            Self::Run(run) => json!(run.to_string()),
            Self::PlanExists { name, .. } => json!(name),
            Self::Plan(plan) => json!(plan.to_string()),
            Self::PowerIndex(n) | Self::Milliseconds(n) | Self::Number(n) => json!(n),
            Self::Text(text) | Self::Written(text) => json!(text),
            Self::File { digest, .. } => json!(digest),
            Self::Files { count, .. } => json!(count),
            Self::Quarantined { untouched_days } => json!(untouched_days),
            Self::HalfQuarantined => Json::Null,
            Self::Texts(texts) => json!(texts),
            Self::Mode(mode) => json!(mode),
            Self::PageFile(size) => json!(size),
            Self::Colours(ramp) => json!(ramp),
            Self::Flag(flag) => json!(flag),
        }
    }
}

impl From<Value> for State {
    fn from(value: Value) -> Self {
        Self::Value(value)
    }
}

impl fmt::Display for State {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Absent => f.write_str("absent"),
            Self::Value(value) => value.fmt(f),
            Self::Unreadable(reason) => write!(f, "unreadable ({reason})"),
        }
    }
}

impl fmt::Display for Value {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Key => f.write_str("present"),
            Self::Registry(data) => data.fmt(f),
            Self::Listed(listed) if listed.text.is_empty() => f.write_str("empty"),
            Self::Listed(listed) => f.write_str(&listed.text),
            Self::Start(start) => start.fmt(f),
            Self::Run(run) => run.fmt(f),
            Self::Plan(plan) => f.write_str(&plan_in_words(*plan)),
            Self::PlanExists { copy_of: None, name } => write!(f, "\"{name}\""),
            Self::PlanExists { copy_of: Some(plan), name } => {
                write!(f, "\"{name}\", a copy of {}", plan_in_words(*plan))
            }
            Self::PowerIndex(index) => index.fmt(f),
            Self::Flag(true) => f.write_str("on"),
            Self::Flag(false) => f.write_str("off"),
            Self::Milliseconds(ms) => write!(f, "{ms} ms"),
            Self::Number(number) => number.fmt(f),
            Self::Text(text) => write!(f, "\"{text}\""),
            Self::Texts(texts) if texts.is_empty() => f.write_str("none"),
            Self::Texts(texts) => f.write_str(&texts.join(", ")),
            Self::Mode(mode) => mode.fmt(f),
            Self::PageFile(size) => size.fmt(f),
            Self::Colours(ramp) => ramp.fmt(f),
            Self::Written(text) if text.is_empty() => f.write_str("empty"),
            Self::Written(text) => f.write_str(text),
            Self::File { bytes, digest } => {
                write!(f, "{bytes} bytes, {}", digest.get(..8).unwrap_or(digest))
            }
            Self::Files { count: 1, bytes, .. } => write!(f, "1 file, {bytes} bytes"),
            Self::Files { count, bytes, .. } => write!(f, "{count} files, {bytes} bytes"),
            Self::HalfQuarantined => f.write_str("some files set aside: it was interrupted"),
            Self::Quarantined { untouched_days: 0 } => f.write_str("files set aside"),
            Self::Quarantined { untouched_days } => {
                write!(f, "files untouched for {untouched_days} days set aside")
            }
        }
    }
}

/// `GUID_MAX_POWER_SAVINGS`: the power saver plan.
pub const POWER_SAVER: Uuid = Uuid::from_u128(0xa1841308_3541_4fab_bc81_f71556f20b4a);
/// `GUID_TYPICAL_POWER_SAVINGS`: the balanced plan.
pub const BALANCED: Uuid = Uuid::from_u128(0x381b4222_f694_41f0_9685_ff5bb260df2e);
/// `GUID_MIN_POWER_SAVINGS`: the high performance plan.
pub const HIGH_PERFORMANCE: Uuid = Uuid::from_u128(0x8c5e7fda_e8bf_4a96_9a85_a6e23a8c635c);
/// The plan for workstations, which Windows has and lists nowhere: it can be copied, and most PCs cannot
/// put it in force itself (documentation of `powercfg /duplicatescheme`).
pub const HIDDEN_PERFORMANCE: Uuid = Uuid::from_u128(0xe9a42b02_d5df_448d_aa00_03f14749eb61);

/// The name of a power plan that comes with Windows; of any other its identifier.
pub fn plan_in_words(plan: Uuid) -> String {
    const PLANS: [(Uuid, &str); 4] = [
        (POWER_SAVER, "power saver"),
        (BALANCED, "balanced"),
        (HIGH_PERFORMANCE, "high performance"),
        (HIDDEN_PERFORMANCE, "highest performance"),
    ];
    let known = PLANS.iter().find(|(known, _)| *known == plan);
    known.map_or_else(|| plan.to_string(), |(_, name)| (*name).to_owned())
}

/// The types of registry value that have a name of their own here, by Windows' numbers
/// ("Registry value types" in the Windows documentation).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RegistryType {
    /// `REG_SZ`.
    String,
    /// `REG_EXPAND_SZ`.
    ExpandString,
    /// `REG_BINARY`.
    Binary,
    /// `REG_DWORD`.
    Dword,
    /// `REG_MULTI_SZ`.
    MultiString,
    /// `REG_QWORD`.
    Qword,
}

impl RegistryType {
    /// Windows' number for the type.
    pub fn number(self) -> u32 {
        match self {
            Self::String => 1,
            Self::ExpandString => 2,
            Self::Binary => 3,
            Self::Dword => 4,
            Self::MultiString => 7,
            Self::Qword => 11,
        }
    }
}

/// A registry value: the raw type number and the exact bytes, whatever they mean.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct RegistryData {
    /// Windows' number for the type; any number is kept.
    #[serde(rename = "type")]
    pub type_number: u32,
    /// The bytes as stored, written in hexadecimal.
    #[serde(with = "hexadecimal")]
    #[schemars(with = "String")]
    pub bytes: Vec<u8>,
}

impl RegistryData {
    /// A `REG_DWORD`.
    pub fn dword(number: u32) -> Self {
        Self { type_number: RegistryType::Dword.number(), bytes: number.to_le_bytes().to_vec() }
    }

    /// A `REG_QWORD`.
    pub fn qword(number: u64) -> Self {
        Self { type_number: RegistryType::Qword.number(), bytes: number.to_le_bytes().to_vec() }
    }

    /// A `REG_SZ`, nul-terminated UTF-16.
    pub fn string(text: &str) -> Self {
        Self { type_number: RegistryType::String.number(), bytes: utf16_with_nul(text) }
    }

    /// A `REG_EXPAND_SZ`, nul-terminated UTF-16.
    pub fn expand_string(text: &str) -> Self {
        Self { type_number: RegistryType::ExpandString.number(), bytes: utf16_with_nul(text) }
    }

    /// A `REG_MULTI_SZ`: each text with its nul, and a last nul.
    pub fn multi_string<'a>(texts: impl IntoIterator<Item = &'a str>) -> Self {
        let mut bytes: Vec<u8> = texts.into_iter().flat_map(utf16_with_nul).collect();
        bytes.extend([0, 0]);
        Self { type_number: RegistryType::MultiString.number(), bytes }
    }

    /// A `REG_BINARY`.
    pub fn binary(bytes: impl Into<Vec<u8>>) -> Self {
        Self { type_number: RegistryType::Binary.number(), bytes: bytes.into() }
    }

    /// The number, where this is a well-formed `REG_DWORD` or `REG_QWORD`.
    pub fn as_number(&self) -> Option<u64> {
        if self.type_number == RegistryType::Dword.number() {
            Some(u32::from_le_bytes(self.bytes.as_slice().try_into().ok()?).into())
        } else if self.type_number == RegistryType::Qword.number() {
            Some(u64::from_le_bytes(self.bytes.as_slice().try_into().ok()?))
        } else {
            None
        }
    }

    /// The text, where this is a `REG_SZ` or `REG_EXPAND_SZ` that ends in its one nul and is
    /// valid UTF-16: exactly those for which writing the text back gives the same bytes.
    pub fn as_text(&self) -> Option<String> {
        let is_text = [RegistryType::String.number(), RegistryType::ExpandString.number()]
            .contains(&self.type_number);
        if !is_text || !self.bytes.len().is_multiple_of(2) {
            return None;
        }
        let units: Vec<u16> =
            self.bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        let (0, text) = units.split_last()? else { return None };
        if text.contains(&0) {
            return None;
        }
        String::from_utf16(text).ok()
    }
}

impl RegistryData {
    /// The texts, where this is a `REG_MULTI_SZ` of texts that are not empty, each ending in its
    /// nul, and a last nul: exactly those for which writing the texts back gives the same bytes.
    pub fn as_texts(&self) -> Option<Vec<String>> {
        if self.type_number != RegistryType::MultiString.number()
            || !self.bytes.len().is_multiple_of(2)
        {
            return None;
        }
        let units: Vec<u16> =
            self.bytes.chunks_exact(2).map(|pair| u16::from_le_bytes([pair[0], pair[1]])).collect();
        let all = String::from_utf16(&units).ok()?;
        let texts: Vec<String> = all.split_terminator('\0').map(str::to_owned).collect();
        let texts: Vec<String> = match texts.split_last() {
            Some((last, texts)) if last.is_empty() => texts.to_vec(),
            _ => return None,
        };
        (Self::multi_string(texts.iter().map(String::as_str)) == *self).then_some(texts)
    }
}

fn utf16_with_nul(text: &str) -> Vec<u8> {
    text.encode_utf16().chain([0]).flat_map(u16::to_le_bytes).collect()
}

impl fmt::Display for RegistryData {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        const SHOWN_BYTES: usize = 12;
        if let Some(number) = self.as_number() {
            return match number {
                0..=9 => write!(f, "{number}"),
                _ => write!(f, "{number} (0x{number:x})"),
            };
        }
        if let Some(text) = self.as_text() {
            return write!(f, "\"{text}\"");
        }
        write!(f, "type {}:", self.type_number)?;
        self.bytes.iter().take(SHOWN_BYTES).try_for_each(|byte| write!(f, " {byte:02x}"))?;
        match self.bytes.len() {
            0 => f.write_str(" no bytes"),
            length if length > SHOWN_BYTES => write!(f, " … ({length} bytes)"),
            _ => Ok(()),
        }
    }
}

mod hexadecimal {
    use serde::{Deserialize, Deserializer, Serializer, de::Error};

    pub(super) fn serialize<S: Serializer>(bytes: &[u8], to: S) -> Result<S::Ok, S::Error> {
        let text: String = bytes.iter().map(|byte| format!("{byte:02x}")).collect();
        to.serialize_str(&text)
    }

    pub(super) fn deserialize<'de, D: Deserializer<'de>>(from: D) -> Result<Vec<u8>, D::Error> {
        let text = String::deserialize(from)?;
        let bad = || D::Error::custom("bytes are written as pairs of hexadecimal digits");
        if !text.len().is_multiple_of(2) || !text.is_ascii() {
            return Err(bad());
        }
        (0..text.len())
            .step_by(2)
            .map(|at| u8::from_str_radix(&text[at..at + 2], 16).map_err(|_| bad()))
            .collect()
    }
}

/// When a service starts, by Windows' own numbers (`SERVICE_*_START`).
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum StartType {
    /// 0: a driver loaded by the boot loader.
    Boot,
    /// 1: a driver started with the kernel.
    System,
    /// 2: started with Windows.
    Automatic,
    /// 3: started when something asks for it.
    Manual,
    /// 4: never started.
    Disabled,
    /// A number that Windows does not document, kept as it is.
    Unknown(u32),
}

/// How a service starts: its type, and whether an automatic start waits until others have started.
///
/// Windows keeps the two apart, so a service that is not automatic can still carry the flag.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
pub struct ServiceStart {
    /// When it starts.
    #[serde(rename = "type")]
    pub start_type: StartType,
    /// Whether an automatic start is delayed.
    pub delayed: bool,
}

impl ServiceStart {
    /// Reads the word used in tweak definitions: `automatic`, `automatic-delayed`, `manual` or
    /// `disabled`.
    pub fn from_word(word: &str) -> Option<Self> {
        let (start_type, delayed) = match word {
            "automatic" => (StartType::Automatic, false),
            "automatic-delayed" => (StartType::Automatic, true),
            "manual" => (StartType::Manual, false),
            "disabled" => (StartType::Disabled, false),
            _ => return None,
        };
        Some(Self { start_type, delayed })
    }
}

impl fmt::Display for ServiceStart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self.start_type {
            StartType::Boot => f.write_str("boot")?,
            StartType::System => f.write_str("system")?,
            StartType::Automatic => f.write_str("automatic")?,
            StartType::Manual => f.write_str("manual")?,
            StartType::Disabled => f.write_str("disabled")?,
            StartType::Unknown(number) => write!(f, "start type {number}")?,
        }
        if self.delayed { f.write_str(", delayed") } else { Ok(()) }
    }
}

/// Whether a service runs.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Hash, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum RunState {
    /// It runs.
    Running,
    /// It does not.
    Stopped,
    /// It is loaded and idle until told to go on.
    Paused,
}

impl RunState {
    /// Reads the word used in tweak definitions: `running` or `stopped`.
    pub fn from_word(word: &str) -> Option<Self> {
        match word {
            "running" => Some(Self::Running),
            "stopped" => Some(Self::Stopped),
            _ => None,
        }
    }
}

impl fmt::Display for RunState {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(match self {
            Self::Running => "running",
            Self::Stopped => "stopped",
            Self::Paused => "paused",
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn what_is_shown_tells_values_apart() {
        let shown = |data: RegistryData| data.to_string();
        assert_eq!(shown(RegistryData::dword(2)), "2");
        assert_eq!(shown(RegistryData::dword(38)), "38 (0x26)");
        assert_eq!(shown(RegistryData::string("High")), "\"High\"");
        assert_eq!(shown(RegistryData::string("")), "\"\"");
        assert_eq!(shown(RegistryData { type_number: 1, bytes: vec![] }), "type 1: no bytes");
        assert_eq!(
            shown(RegistryData { type_number: 99, bytes: vec![1, 2, 3] }),
            "type 99: 01 02 03"
        );
        assert_eq!(shown(RegistryData { type_number: 4, bytes: vec![1] }), "type 4: 01");
    }

    #[test]
    fn what_an_interrupted_write_leaves_is_between_and_others_work_is_not() {
        let start = |word: &str| State::from(Value::Start(ServiceStart::from_word(word).unwrap()));
        let texts = |texts: &[&str]| -> State {
            Value::Texts(texts.iter().map(|text| (*text).to_owned()).collect()).into()
        };
        let plan = |copy_of: Option<Uuid>| -> State {
            Value::PlanExists { copy_of, name: "x".into() }.into()
        };
        let stopping = State::Unreadable("it is stopping".into());
        let (runs, stops) = (RunState::Running, RunState::Stopped);
        let (runs, stops) = (State::from(Value::Run(runs)), State::from(Value::Run(stops)));
        let between = |held: &State, states: &[&State]| held.lies_between(states);
        let starts = [&start("automatic-delayed"), &start("disabled")];
        assert!(between(&start("automatic"), &starts));
        assert!(!between(&start("manual"), &starts));
        assert!(between(&texts(&["a", "b"]), &[&texts(&["a"]), &texts(&["b", "c"])]));
        assert!(!between(&texts(&["a", "z"]), &[&texts(&["a"]), &texts(&["b"])]));
        assert!(between(&plan(None), &[&State::Absent, &plan(Some(Uuid::nil()))]));
        assert!(!between(&plan(None), &[&plan(None), &State::Absent]));
        assert!(between(&stopping, &[&runs, &stops]));
        assert!(!between(&stopping, &[&State::Absent, &texts(&[])]));
        assert!(!between(&State::Absent, &[&runs]));
    }

    #[test]
    fn the_words_of_definitions_are_read() {
        assert_eq!(
            ServiceStart::from_word("automatic-delayed"),
            Some(ServiceStart { start_type: StartType::Automatic, delayed: true })
        );
        assert_eq!(ServiceStart::from_word("auto"), None);
        assert_eq!(RunState::from_word("stopped"), Some(RunState::Stopped));
        assert_eq!(RunState::from_word("paused"), None);
    }

    proptest! {
        #[test]
        fn any_registry_value_survives_storage(
            type_number: u32, bytes in prop::collection::vec(any::<u8>(), 0..40)
        ) {
            let state = State::from(Value::Registry(RegistryData { type_number, bytes }));
            let stored = serde_json::to_string(&state).unwrap();
            prop_assert_eq!(serde_json::from_str::<State>(&stored).unwrap(), state);
        }

        #[test]
        fn texts_are_read_only_where_they_write_back_the_same(
            texts in prop::collection::vec("[a-z ]{1,4}", 0..4), cut in 0usize..6,
        ) {
            let mut data = RegistryData::multi_string(texts.iter().map(String::as_str));
            prop_assert_eq!(data.as_texts(), Some(texts));
            data.bytes.truncate(data.bytes.len().saturating_sub(cut));
            if let Some(texts) = data.as_texts() {
                prop_assert_eq!(RegistryData::multi_string(texts.iter().map(String::as_str)), data);
            }
        }

        #[test]
        fn text_is_read_only_where_it_writes_back_the_same(
            bytes in prop::collection::vec(prop_oneof![Just(0u8), any::<u8>()], 0..12)
        ) {
            let data = RegistryData { type_number: 1, bytes };
            if let Some(text) = data.as_text() {
                prop_assert_eq!(RegistryData::string(&text), data);
            }
        }
    }
}
