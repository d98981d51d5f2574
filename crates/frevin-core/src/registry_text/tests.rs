use proptest::prelude::*;

use super::*;
use crate::setting::{Address, RegistryData, State, Value};

fn address(text: &str) -> Address {
    text.parse().unwrap()
}

#[test]
fn registry_text_puts_back_values_of_every_shape() {
    let states: Vec<(Address, State)> = [
        (r"registry:HKLM\SYSTEM\A#Number", RegistryData::dword(0x26)),
        (r"registry:HKLM\SYSTEM\A#A \ and a quote", RegistryData::string(r#"say "C:\""#)),
        (r"registry:HKLM\SYSTEM\A#", RegistryData::binary([1, 255])),
        (r"registry:HKCU\B#Odd", RegistryData { type_number: 0x1_0000, bytes: vec![7] }),
        (r"registry:HKCU\B#Broken line", RegistryData::string("a\r\nb")),
        (r"registry:HKCU\B#Short", RegistryData { type_number: 4, bytes: vec![] }),
    ]
    .map(|(at, data)| (address(at), Value::Registry(data).into()))
    .into();
    let text = write(states.iter().map(|(a, s)| (a, s)));
    insta::assert_snapshot!(text.replace("\r\n", "\n"), @r#"
    Windows Registry Editor Version 5.00

    [HKEY_LOCAL_MACHINE\SYSTEM\A]
    "Number"=dword:00000026
    "A \\ and a quote"="say \"C:\\\""
    @=hex:01,ff

    [HKEY_CURRENT_USER\B]
    "Odd"=hex(10000):07
    "Broken line"=hex(1):61,00,0d,00,0a,00,62,00,00,00
    "Short"=hex(4):
    "#);
}

#[test]
fn created_keys_are_deleted_from_the_outermost_and_last() {
    let states = [
        (address(r"registry:HKCU\New\Deep"), State::Absent),
        (address(r"registry:HKCU\New"), State::Absent),
        (address(r"registry:HKCU\New\Deep#v"), State::Absent),
        (address(r"registry:HKCU\Old#w"), State::Absent),
    ];
    let text = write(states.iter().map(|(a, s)| (a, s)));
    let old = text.find("\"w\"=-").unwrap();
    let deletion = text.find(r"[-HKEY_CURRENT_USER\New]").unwrap();
    assert!(old < deletion);
    assert!(!text.contains(r"[-HKEY_CURRENT_USER\New\Deep]"));
    assert_eq!(&encode(&text)[..4], [0xFF, 0xFE, b'W', 0]);
}

fn read_ok(text: &str) -> RegistryText {
    let text = read(text.as_bytes()).unwrap();
    assert_eq!(text.problems, []);
    text
}

fn operations(text: &RegistryText) -> Vec<String> {
    let shown = |entry: &Entry| match &entry.operation {
        Operation::MakeKey(key) => format!("{} [{key}]", entry.line),
        Operation::DeleteKey(key) => format!("{} [-{key}]", entry.line),
        Operation::SetValue(_, name, data) => format!("{} {name}={data}", entry.line),
        Operation::DeleteValue(_, name) => format!("{} {name}=-", entry.line),
    };
    text.entries.iter().map(shown).collect()
}

const ODD: &str = "Windows Registry Editor Version 5.00\r\n\r\n; a comment\r\n[HKEY_LOCAL_MACHINE\\SOFTWARE\\A]\r\n\"Text\"=\"a \\\\ \\\"b\\\"\" ; behind it\r\n@=\"default\"\r\n\"Number\"=dword:0000000a\r\n  \"Short\" = DWORD:a\r\n\"Bytes\"=hex:01,02,\\\r\n  03,\\\r\n  04\r\n\"Expand\"=hex(2):25,00,41,00,25,00,00,00\r\n\"Odd type\"=hex(1000b):7\r\n\"None\"=hex(0):\r\n\"Two\r\nlines\"=\"x\r\ny\"\r\n\"Gone\"=-\r\n\r\n[-HKEY_CURRENT_USER\\Software\\B]\r\n[HKEY_USERS\\.DEFAULT\\C]]\r\n\"Quad\"=hex(b):01,00,00,00,00,00,00,00";

#[test]
fn every_form_of_the_newer_version_is_read() {
    let text = read_ok(ODD);
    insta::assert_snapshot!(operations(&text).join("\n"), @r#"
    4 [HKLM\SOFTWARE\A]
    5 Text="a \ "b""
    6 ="default"
    7 Number=10 (0xa)
    8 Short=10 (0xa)
    9 Bytes=type 3: 01 02 03 04
    12 Expand="%A%"
    13 Odd type=type 65547: 07
    14 None=type 0: no bytes
    15 Two
    lines="x
    y"
    18 Gone=-
    20 [-HKCU\Software\B]
    21 [HKU\.DEFAULT\C]]
    22 Quad=1
    "#);
    assert!(matches!(
        &text.entries[7].operation,
        Operation::SetValue(_, _, RegistryData { type_number: 0x1000b, bytes }) if *bytes == [7]
    ));
}

#[test]
fn encodings_and_line_ends_do_not_matter() {
    let expected = read_ok(ODD);
    let units = |order: fn(u16) -> [u8; 2]| -> Vec<u8> {
        format!("\u{feff}{ODD}").encode_utf16().flat_map(order).collect()
    };
    assert_eq!(read(&units(u16::to_le_bytes)).unwrap(), expected);
    assert_eq!(read(&units(u16::to_be_bytes)).unwrap(), expected);
    assert_eq!(read(&[b"\xEF\xBB\xBF", ODD.as_bytes()].concat()).unwrap(), expected);
    let unix = ODD.replace("\r\n", "\n");
    let lines = |text: &RegistryText| text.entries.iter().map(|e| e.line).collect::<Vec<_>>();
    assert_eq!(lines(&read_ok(&unix)), lines(&expected));
    assert_eq!(read_ok(&ODD.replace("\r\n", "\r")).entries.len(), expected.entries.len());
}

#[test]
fn the_older_version_has_eight_bits_a_character() {
    let old = b"REGEDIT4\r\n\r\n[HKEY_CURRENT_USER\\A]\r\n\"Name\"=\"caf\xE9\"\r\n\"E\"=hex(2):41,00\r\n\"M\"=hex(7):e9,00,00\r\n\"B\"=hex:41,00\r\n";
    let text = read(old).unwrap();
    assert_eq!(text.version, RegistryTextVersion::Four);
    let data = |index: usize| match &text.entries[index].operation {
        Operation::SetValue(_, _, data) => data.clone(),
        other => panic!("{other:?}"),
    };
    assert_eq!(data(1), RegistryData::string("café"));
    assert_eq!(data(2), RegistryData::expand_string("A"));
    assert_eq!(data(3), RegistryData::multi_string(["é"]));
    assert_eq!(data(4), RegistryData::binary([0x41, 0]));
}

#[test]
fn lines_that_are_none_are_told_and_the_others_are_read() {
    let text = "REGEDIT4\n[HKEY_CURRENT_USER\\A]\n\"a\"=dword:123456789\n\"b\"=dword:1\nrubbish\n\"c\"=hex:1,zz\n\"d\"=hex(q):1\n\"e\"\n\"f\"=what\n\"g\"=hex:123\n[HKEY_CLASSES_ROOT\\x]\n\"h\"=dword:1\n[HKEY_CURRENT_USER\\B\n\"i\"=dword:1\n[HKEY_CURRENT_USER\\C]\n\"j\"=dword:1 2\n\"k\"=\"open";
    let text = read(text.as_bytes()).unwrap();
    let problems: Vec<_> =
        text.problems.iter().map(|p| format!("{}: {}", p.line, p.message)).collect();
    insta::assert_snapshot!(problems.join("\n"), @r"
    3: a dword is one to eight hexadecimal digits
    5: it is neither a key, a value nor a comment
    6: `zz` after the value is not understood
    7: hex( has a type number in hexadecimal digits
    8: a value has `=` after its name
    9: the data is neither a text, dword:, hex: nor `-`
    10: `123` is not a byte
    11: HKCR is a view of other keys; address the key itself, under HKLM\SOFTWARE\Classes
    13: the key has no `]` at its end
    16: `2` after the value is not understood
    17: a text has no quote at its end
    ");
    let values = text.entries.iter().filter(|e| matches!(e.operation, Operation::SetValue(..)));
    assert_eq!(values.count(), 1);
    assert_eq!(read(b"[HKEY_CURRENT_USER\\A]\n"), Err(RegistryTextError::NoHeading));
    assert_eq!(read(b""), Err(RegistryTextError::NoHeading));
    assert_eq!(read(b"REGEDIT4\n\0"), Err(RegistryTextError::NotText));
    assert_eq!(read(b"\xFF\xFE\x00\xD8"), Err(RegistryTextError::NotText));
}

/// How many cases each of the properties below is tried with; more when asked for.
fn cases() -> ProptestConfig {
    let cases = std::env::var("FREVIN_CASES").ok().and_then(|number| number.parse().ok());
    ProptestConfig::with_cases(cases.unwrap_or(400))
}

fn any_data() -> impl Strategy<Value = RegistryData> {
    let number = prop_oneof![0..13_u32, any::<u32>()];
    prop_oneof![
        (number, prop::collection::vec(any::<u8>(), 0..40))
            .prop_map(|(type_number, bytes)| RegistryData { type_number, bytes }),
        any::<u32>().prop_map(RegistryData::dword),
        r#"[a-z\\"\r\n ;é]{0,12}"#.prop_map(|text| RegistryData::string(&text)),
    ]
}

proptest! {
    #![proptest_config(cases())]

    #[test]
    fn what_is_written_is_read_back(
        values in prop::collection::btree_map(r#"[a-zA-Z\\"=; ]{0,10}"#, any_data(), 1..6),
    ) {
        let states: Vec<(Address, State)> = values
            .iter()
            .map(|(name, data)| {
                let at = address(&format!(r"registry:HKCU\SOFTWARE\A#{name}"));
                (at, Value::Registry(data.clone()).into())
            })
            .collect();
        let bytes = encode(&write(states.iter().map(|(a, s)| (a, s))));
        let text = read(&bytes).unwrap();
        prop_assert_eq!(&text.problems, &[]);
        let read: Vec<(Address, State)> = text
            .entries
            .into_iter()
            .filter_map(|entry| match entry.operation {
                Operation::SetValue(key, name, data) => {
                    Some((Address::RegistryValue(key, name), Value::Registry(data).into()))
                }
                _ => None,
            })
            .collect();
        prop_assert_eq!(read, states);
    }

    #[test]
    fn no_bytes_make_the_reader_panic(
        cut in 0..ODD.len(),
        at in 0..ODD.len(),
        with in prop_oneof![any::<[u8; 1]>().prop_map(Vec::from), Just(b"\\\r\n".to_vec()), Just(b"hex(".to_vec()), Just(b"\"".to_vec())],
        older in any::<bool>(),
    ) {
        let mut bytes = ODD.as_bytes().to_vec();
        bytes.splice(at..at, with);
        bytes.truncate(bytes.len() - cut);
        if older {
            bytes.splice(..bytes.len().min(36), *b"REGEDIT4");
        }
        if let Ok(text) = read(&bytes) {
            let lines = bytes.split(|b| *b == b'\n' || *b == b'\r').count();
            prop_assert!(text.entries.iter().all(|entry| (1..=lines).contains(&entry.line)));
        }
    }
}
