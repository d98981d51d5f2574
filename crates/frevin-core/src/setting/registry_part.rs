//! Parts of registry values that hold several things at once: pairs, words, bits.
//!
//! Windows keeps some switches side by side in one value: `SwapEffectUpgradeEnable=1;AutoHDREnable=0;`
//! for a user's graphics, `~ RUNASADMIN HIGHDPIAWARE` for a program's compatibility, a number whose bits
//! are switches for the keyboard's helpers. A part is read and written by itself, and what else the
//! value holds stays as it is, to the byte.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;
use std::ops::Range;
use thiserror::Error;

use super::name::WinName;
use super::state::{RegistryData, RegistryType, State, Value};

/// A part of a registry value.
///
/// | text | part |
/// |---|---|
/// | `pair:NAME` | the pair of that name in a text like `A=1;B=0;` |
/// | `word:NAME` | whether the word stands in a text like `~ A B` |
/// | `bits:0x4` | the bits of that mask in a number, a number written as a text, or up to eight bytes |
/// | `text` | whether the value is there, as a text of pairs or words |
#[derive(Debug, Clone, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub enum RegistryPart {
    /// Whether the value is there, as a text of pairs or words: what those need.
    Text,
    /// A pair, by its name.
    Pair(WinName),
    /// A word.
    Word(WinName),
    /// Bits that lie together, by their mask.
    Bits(BitMask),
}

/// A mask of bits that lie together; never empty, and no wider than 32 bits.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, Hash)]
pub struct BitMask(u64);

impl BitMask {
    /// A mask, where its bits lie together and are at most 32.
    pub fn new(mask: u64) -> Option<Self> {
        let bits = mask.checked_shr(mask.trailing_zeros())?;
        (bits & bits.wrapping_add(1) == 0 && bits <= u32::MAX.into()).then_some(Self(mask))
    }

    /// The bits of a number, moved down to the lowest place.
    fn of(self, number: u64) -> u32 {
        u32::try_from((number & self.0) >> self.0.trailing_zeros()).unwrap_or(u32::MAX)
    }

    /// A number with these bits replaced; nothing where they do not fit.
    fn put_into(self, number: u64, bits: u32) -> Option<u64> {
        let moved = u64::from(bits).checked_shl(self.0.trailing_zeros())?;
        (self.of(moved) == bits && moved & !self.0 == 0).then_some(number & !self.0 | moved)
    }
}

/// What stands in a list of pairs or words.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Listed {
    /// The pair's value, or the word.
    pub text: String,
    /// The list that it was read from.
    #[serde(default, skip_serializing_if = "StoodIn::is_unknown")]
    pub stood_in: StoodIn,
}

impl Listed {
    /// A pair's value or a word, wherever it stands.
    pub fn new(text: impl Into<String>) -> Self {
        Self { text: text.into(), stood_in: StoodIn::default() }
    }
}

/// The list that a pair or word stood in, so that it can go back into its place. It is no part of what
/// a setting holds: any two are equal.
#[derive(Debug, Clone, Default, JsonSchema, Serialize, Deserialize)]
#[serde(transparent)]
pub struct StoodIn(Option<String>);

impl StoodIn {
    fn is_unknown(&self) -> bool {
        self.0.is_none()
    }
}

impl PartialEq for StoodIn {
    fn eq(&self, _: &Self) -> bool {
        true
    }
}

impl Eq for StoodIn {}

/// Why a part of a value cannot be written.
#[derive(Debug, Clone, PartialEq, Eq, Error)]
pub enum PartError {
    /// The value is not there.
    #[error("the value is not there")]
    NoValue,
    /// The value is not of a form that has such parts.
    #[error("{0}")]
    OtherForm(String),
    /// Such a part cannot hold that.
    #[error("it cannot hold {0}")]
    CannotHold(String),
}

/// What writing a part makes of its value.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum PartWritten {
    /// The value becomes this.
    Becomes(State),
    /// The value stays, since it holds more than what is to go.
    Stays,
}

impl RegistryPart {
    /// Reads the text form; nothing where it is none.
    pub(super) fn parse(text: &str) -> Option<Self> {
        if text == "text" {
            return Some(Self::Text);
        }
        let (kind, name) = text.split_once(':')?;
        let is_name = !name.is_empty()
            && name.len() <= 100
            && !name.contains(|c: char| c.is_whitespace() || c.is_control() || "=;#".contains(c));
        match kind {
            "pair" if is_name => Some(Self::Pair(name.into())),
            "word" if is_name => Some(Self::Word(name.into())),
            "bits" => {
                let mask = u64::from_str_radix(name.strip_prefix("0x")?, 16).ok()?;
                BitMask::new(mask).map(Self::Bits)
            }
            _ => None,
        }
    }

    /// The text that is the same for every spelling of it.
    pub(super) fn identity(&self) -> String {
        match self {
            Self::Text | Self::Bits(_) => self.to_string(),
            Self::Pair(name) => format!("pair:{}", name.folded()),
            Self::Word(name) => format!("word:{}", name.folded()),
        }
    }

    /// Whether it may be absent where its value is there.
    pub fn may_be_absent(&self) -> bool {
        match self {
            Self::Text | Self::Pair(_) | Self::Word(_) => true,
            Self::Bits(_) => false,
        }
    }

    /// What the part is, of a value that is `whole`.
    pub fn read(&self, whole: &State) -> State {
        let State::Value(Value::Registry(data)) = whole else { return whole.clone() };
        let read = match self {
            Self::Text => list_of(data).map(|_| Value::Key.into()),
            Self::Pair(name) | Self::Word(name) => list_of(data).and_then(|text| {
                let list = List { text: &text, form: self.form() };
                Ok(match list.find(name)? {
                    Some(entry) => Value::Listed(Listed {
                        text: entry.content.to_owned(),
                        stood_in: StoodIn(Some(text.clone())),
                    })
                    .into(),
                    None => State::Absent,
                })
            }),
            Self::Bits(mask) => Number::of(data).map(|n| Value::Number(mask.of(n.number)).into()),
        };
        read.unwrap_or_else(|error| State::Unreadable(error.to_string()))
    }

    /// What a value that is `whole` becomes where this part of it becomes `target`.
    ///
    /// # Errors
    /// Where the value has no such parts, or the part cannot be that.
    pub fn write(&self, whole: &State, target: &State) -> Result<PartWritten, PartError> {
        let cannot_hold = || PartError::CannotHold(target.to_string());
        let becomes = |data: RegistryData| PartWritten::Becomes(Value::Registry(data).into());
        let data = match (whole, target) {
            (State::Absent, State::Absent) => return Ok(PartWritten::Becomes(State::Absent)),
            (State::Absent, State::Value(Value::Key)) if *self == Self::Text => {
                return Ok(becomes(RegistryData::string("")));
            }
            (State::Absent, _) => return Err(PartError::NoValue),
            (State::Value(Value::Registry(data)), _) => data,
            (other, _) => return Err(PartError::OtherForm(other.to_string())),
        };
        match (self, target) {
            (Self::Text, State::Value(Value::Key)) => {
                list_of(data)?;
                Ok(PartWritten::Becomes(whole.clone()))
            }
            (Self::Text, State::Absent) => Ok(match list_of(data)?.as_str() {
                "" => PartWritten::Becomes(State::Absent),
                _ => PartWritten::Stays,
            }),
            (Self::Pair(name) | Self::Word(name), State::Absent) => {
                let text = list_of(data)?;
                let list = List { text: &text, form: self.form() };
                let without = list.without(name)?;
                Ok(becomes(text_data(data.type_number, &without)))
            }
            (Self::Pair(name) | Self::Word(name), State::Value(Value::Listed(listed))) => {
                let is_word = matches!(self, Self::Word(_));
                let bad = |c: char| c == ';' || c.is_control();
                if listed.text.contains(bad) || (is_word && WinName::from(&*listed.text) != *name) {
                    return Err(cannot_hold());
                }
                let text = list_of(data)?;
                let list = List { text: &text, form: self.form() };
                let with = list.with(name, &listed.text, listed.stood_in.0.as_deref())?;
                Ok(becomes(text_data(data.type_number, &with)))
            }
            (Self::Bits(mask), State::Value(Value::Number(bits))) => {
                let number = Number::of(data)?;
                let with = mask.put_into(number.number, *bits).ok_or_else(cannot_hold)?;
                number.replaced(with).map(becomes).ok_or_else(cannot_hold)
            }
            _ => Err(cannot_hold()),
        }
    }

    /// How entries stand in a list; for the others it does not matter.
    fn form(&self) -> Form {
        match self {
            Self::Pair(_) => Form::Pairs,
            Self::Word(_) | Self::Text | Self::Bits(_) => Form::Words,
        }
    }
}

impl fmt::Display for RegistryPart {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Text => f.write_str("text"),
            Self::Pair(name) => write!(f, "pair:{name}"),
            Self::Word(name) => write!(f, "word:{name}"),
            Self::Bits(BitMask(mask)) => write!(f, "bits:{mask:#x}"),
        }
    }
}

fn other_form(what: &str) -> PartError {
    PartError::OtherForm(what.to_owned())
}

/// The text of a value that is one.
fn list_of(data: &RegistryData) -> Result<String, PartError> {
    data.as_text().ok_or_else(|| other_form("its value is no text of pairs or words"))
}

fn text_data(type_number: u32, text: &str) -> RegistryData {
    RegistryData { type_number, ..RegistryData::string(text) }
}

/// How entries stand in a list.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Form {
    /// `A=1;B=0;`
    Pairs,
    /// `~ A B`; the sign `~` is a word too, and always the first.
    Words,
}

#[derive(Debug, Clone, Copy)]
struct List<'a> {
    text: &'a str,
    form: Form,
}

struct Entry<'a> {
    name: WinName,
    /// What is read of it: a pair's value, or the word.
    content: &'a str,
    /// Where all of it stands, without what separates it from others.
    range: Range<usize>,
}

impl<'a> List<'a> {
    const FIRST_WORD: &'static str = "~";

    fn separator(self) -> char {
        match self.form {
            Form::Pairs => ';',
            Form::Words => ' ',
        }
    }

    fn entries(self) -> Vec<Entry<'a>> {
        let mut at = 0;
        let mut entries = Vec::new();
        for piece in self.text.split(self.separator()) {
            let range = at..at + piece.len();
            at = range.end + 1;
            let (name, content) = match self.form {
                Form::Pairs => match piece.split_once('=') {
                    Some((name, content)) => (name.trim(), content),
                    None => continue,
                },
                Form::Words => (piece, piece),
            };
            if !name.is_empty() {
                entries.push(Entry { name: name.into(), content, range });
            }
        }
        entries
    }

    /// The entry of that name. Where there are two, which of them Windows goes by is not known.
    fn find(self, name: &WinName) -> Result<Option<Entry<'a>>, PartError> {
        let mut found = self.entries().into_iter().filter(|entry| entry.name == *name);
        match (found.next(), found.next()) {
            (_, Some(_)) => Err(other_form(&format!("{name} stands in its value twice"))),
            (first, None) => Ok(first),
        }
    }

    fn replaced(self, range: Range<usize>, by: &str) -> String {
        [&self.text[..range.start], by, &self.text[range.end..]].concat()
    }

    /// The list without an entry: with it goes the separator after it, or, of the last, the one before.
    fn without(self, name: &WinName) -> Result<String, PartError> {
        let Some(Entry { range, .. }) = self.find(name)? else { return Ok(self.text.to_owned()) };
        let range = if range.end < self.text.len() {
            range.start..range.end + 1
        } else {
            range.start.saturating_sub(1)..range.end
        };
        Ok(self.replaced(range, ""))
    }

    /// The list with an entry: in its place where it is there, else where it stood in another list,
    /// else at the end.
    fn with(
        self,
        name: &WinName,
        content: &str,
        stood_in: Option<&str>,
    ) -> Result<String, PartError> {
        if let Some(entry) = self.find(name)? {
            let start = entry.range.end - entry.content.len();
            return Ok(self.replaced(start..entry.range.end, content));
        }
        let written = match self.form {
            Form::Pairs => format!("{name}={content}"),
            Form::Words => content.to_owned(),
        };
        let separator = self.separator();
        let before = |at: usize| self.replaced(at..at, &format!("{written}{separator}"));
        let after = |at: usize| self.replaced(at..at, &format!("{separator}{written}"));
        if let Some(other) = stood_in.map(|text| List { text, form: self.form })
            && other.find(name).is_ok_and(|entry| entry.is_some_and(|e| e.content == content))
        {
            if other.without(name)? == self.text {
                return Ok(other.text.to_owned());
            }
            let names: Vec<WinName> = other.entries().into_iter().map(|e| e.name).collect();
            let place = names.iter().position(|other| other == name).unwrap_or(names.len());
            let here = |name: &WinName| self.find(name).ok().flatten();
            if let Some(entry) = names[..place].iter().rev().find_map(here) {
                return Ok(after(entry.range.end));
            }
            if let Some(entry) = names[place..].iter().find_map(here) {
                return Ok(before(entry.range.start));
            }
        }
        Ok(match (self.form, self.text) {
            (Form::Pairs, "") => format!("{written};"),
            (Form::Words, "") => written,
            (Form::Words, _) if content == Self::FIRST_WORD => before(0),
            (Form::Pairs, text) if text.ends_with(';') => format!("{text}{written};"),
            (Form::Pairs | Form::Words, text) => after(text.len()),
        })
    }
}

/// A number as a registry value keeps it.
struct Number<'a> {
    number: u64,
    data: &'a RegistryData,
}

impl<'a> Number<'a> {
    fn of(data: &'a RegistryData) -> Result<Self, PartError> {
        let binary = || {
            let is_short = data.type_number == RegistryType::Binary.number()
                && (1..=8).contains(&data.bytes.len());
            let mut bytes = [0; 8];
            is_short.then(|| {
                bytes[..data.bytes.len()].copy_from_slice(&data.bytes);
                u64::from_le_bytes(bytes)
            })
        };
        // Only where writing the number back gives the same text.
        let written = || {
            let text = data.as_text()?;
            text.parse::<u64>().ok().filter(|number| number.to_string() == text)
        };
        data.as_number()
            .or_else(binary)
            .or_else(written)
            .map(|number| Self { number, data })
            .ok_or_else(|| other_form("its value is no number whose bits could be told"))
    }

    /// The same with another number; nothing where there is no room for it.
    fn replaced(&self, number: u64) -> Option<RegistryData> {
        let type_number = self.data.type_number;
        if self.data.as_text().is_some() {
            return Some(text_data(type_number, &number.to_string()));
        }
        let bytes = number.to_le_bytes();
        let (kept, cut) = bytes.split_at_checked(self.data.bytes.len())?;
        cut.iter()
            .all(|byte| *byte == 0)
            .then(|| RegistryData { type_number, bytes: kept.to_vec() })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    fn part(text: &str) -> RegistryPart {
        RegistryPart::parse(text).unwrap()
    }

    fn text(text: &str) -> State {
        Value::Registry(RegistryData::string(text)).into()
    }

    fn listed(text: &str) -> State {
        Value::Listed(Listed::new(text)).into()
    }

    fn written(part: &RegistryPart, whole: &State, target: &State) -> State {
        match part.write(whole, target).unwrap() {
            PartWritten::Becomes(state) => state,
            PartWritten::Stays => panic!("it stays"),
        }
    }

    #[test]
    fn a_pair_is_changed_and_its_neighbours_stay() {
        let pair = part("pair:VRROptimizeEnable");
        let whole = text("SwapEffectUpgradeEnable=1; vrroptimizeenable =0;AutoHDREnable=1;");
        assert_eq!(pair.read(&whole), listed("0"));
        let after = written(&pair, &whole, &listed("1"));
        assert_eq!(after, text("SwapEffectUpgradeEnable=1; vrroptimizeenable =1;AutoHDREnable=1;"));
        assert_eq!(pair.read(&text("A=1;")), State::Absent);
        assert_eq!(written(&pair, &text("A=1;"), &listed("0")), text("A=1;VRROptimizeEnable=0;"));
        assert_eq!(written(&pair, &text("A=1"), &listed("0")), text("A=1;VRROptimizeEnable=0"));
        assert_eq!(written(&pair, &text(""), &listed("0")), text("VRROptimizeEnable=0;"));
        assert!(pair.write(&text(""), &listed("0;B=1")).is_err(), "a second pair slips in");
        let twice = pair.read(&text("VRROptimizeEnable=0;VRROptimizeEnable=1;"));
        assert!(matches!(twice, State::Unreadable(_)));
        let number = Value::Registry(RegistryData::dword(1)).into();
        assert!(matches!(pair.read(&number), State::Unreadable(_)));
    }

    #[test]
    fn what_is_taken_out_goes_back_into_its_place() {
        let [a, b] = [part("pair:A"), part("pair:B")];
        let whole = text("A=1; B=2;C=3");
        let (was_a, was_b) = (a.read(&whole), b.read(&whole));
        let gone = written(&b, &written(&a, &whole, &State::Absent), &State::Absent);
        assert_eq!(gone, text("C=3"));
        assert_eq!(written(&b, &written(&a, &gone, &was_a), &was_b), whole, "the last one sees it");
        let only_b = written(&b, &whole, &State::Absent);
        assert_eq!(written(&b, &only_b, &was_b), whole, "to the byte");
        // Somebody else has added a pair meanwhile.
        let theirs = text("A=1;C=3;D=4");
        assert_eq!(written(&b, &theirs, &was_b), text("A=1;B=2;C=3;D=4"));
    }

    #[test]
    fn words_are_added_and_taken_out_one_by_one() {
        let (mark, word) = (part("word:~"), part("word:HIGHDPIAWARE"));
        let with =
            written(&mark, &written(&word, &text(""), &listed("HIGHDPIAWARE")), &listed("~"));
        assert_eq!(with, text("~ HIGHDPIAWARE"));
        let theirs = text("WIN7RTM");
        let both = written(&mark, &written(&word, &theirs, &listed("HIGHDPIAWARE")), &listed("~"));
        assert_eq!(both, text("~ WIN7RTM HIGHDPIAWARE"));
        let back = written(&word, &written(&mark, &both, &State::Absent), &State::Absent);
        assert_eq!(back, theirs);
        assert!(word.write(&theirs, &listed("RUNASADMIN")).is_err(), "a word is itself");
    }

    #[test]
    fn a_value_of_parts_comes_first_and_goes_when_it_is_empty() {
        let whole = part("text");
        let made = written(&whole, &State::Absent, &Value::Key.into());
        assert_eq!(made, text(""));
        assert_eq!(written(&whole, &made, &State::Absent), State::Absent);
        assert_eq!(whole.write(&text("A=1;"), &State::Absent), Ok(PartWritten::Stays));
        let missing = part("pair:A").write(&State::Absent, &listed("1"));
        assert_eq!(missing, Err(PartError::NoValue));
        assert_eq!(part("bits:0x4").read(&State::Absent), State::Absent);
    }

    #[test]
    fn bits_are_changed_in_numbers_of_every_form() {
        let bit = part("bits:0x4");
        for (before, after) in [
            (RegistryData::string("510"), RegistryData::string("506")),
            (RegistryData::dword(0xffff_ffff), RegistryData::dword(0xffff_fffb)),
            (RegistryData::qword(6), RegistryData::qword(2)),
            (RegistryData::binary([7, 1]), RegistryData::binary([3, 1])),
        ] {
            let whole = Value::Registry(before).into();
            assert_eq!(bit.read(&whole), Value::Number(1).into());
            let off = written(&bit, &whole, &Value::Number(0).into());
            assert_eq!(off, Value::Registry(after).into());
            assert_eq!(written(&bit, &off, &Value::Number(1).into()), whole);
            assert!(bit.write(&whole, &Value::Number(2).into()).is_err());
            assert!(bit.write(&whole, &State::Absent).is_err());
        }
        let two = part("bits:0x30");
        let whole = Value::Registry(RegistryData::dword(0x2f)).into();
        assert_eq!(two.read(&whole), Value::Number(2).into());
        for form in [text("0510"), text("many"), Value::Registry(RegistryData::binary([])).into()] {
            assert!(matches!(bit.read(&form), State::Unreadable(_)), "{form}");
        }
        assert!(part("bits:0x80000000").write(&text("1"), &Value::Number(1).into()).is_ok());
    }

    #[test]
    fn parts_read_as_they_are_shown() {
        for good in ["text", "pair:AutoHDREnable", "word:~", "bits:0x4", "bits:0xffff0000"] {
            assert_eq!(part(good).to_string(), good);
        }
        for bad in ["pair:", "pair:a=b", "word:a b", "bits:4", "bits:0x0", "bits:0x5", "byte:1", ""]
        {
            assert_eq!(RegistryPart::parse(bad), None, "{bad}");
        }
    }

    proptest! {
        #[test]
        fn a_pair_that_comes_and_goes_leaves_the_text_as_it_was(
            before in "([ab]=[0-9]{0,2};|x;| ?c=1;|;){0,5}([d-f]=[0-9])?", value in "[0-9a-z=]{0,3}",
        ) {
            let pair = part("pair:Own");
            let whole = text(&before);
            let with = written(&pair, &whole, &listed(&value));
            prop_assert_eq!(pair.read(&with), listed(&value));
            prop_assert_eq!(written(&pair, &with, &State::Absent), whole);
        }

        #[test]
        fn a_word_that_comes_and_goes_leaves_the_text_as_it_was(before in "(~ )?([A-C]{1,2} ?){0,4}") {
            for name in ["Own", "~"] {
                let word = part(&format!("word:{name}"));
                let whole = text(&before);
                if word.read(&whole) == State::Absent {
                    let with = written(&word, &whole, &listed(name));
                    prop_assert_eq!(word.read(&with), listed(name));
                    prop_assert_eq!(written(&word, &with, &State::Absent), whole);
                }
            }
        }

        #[test]
        fn what_stood_in_a_list_goes_back_to_the_byte(
            before in "([a-c]=[0-9]{0,2};){0,3} ?own=7;([d-f]=[0-9];?){0,1}",
        ) {
            let (pair, whole) = (part("pair:own"), text(&before));
            let was = pair.read(&whole);
            let gone = written(&pair, &whole, &State::Absent);
            prop_assert_eq!(written(&pair, &gone, &was), whole);
        }

        #[test]
        fn bits_leave_the_others_alone(number: u32, shift in 0u32..28, bits in 0u32..16) {
            let mask = part(&format!("bits:{:#x}", 15u64 << shift));
            let whole = Value::Registry(RegistryData::dword(number)).into();
            let was = mask.read(&whole);
            let with = written(&mask, &whole, &Value::Number(bits).into());
            prop_assert_eq!(mask.read(&with), Value::Number(bits).into());
            prop_assert_eq!(written(&mask, &with, &was), whole);
        }
    }
}
