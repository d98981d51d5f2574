use proptest::prelude::*;

use super::*;

fn part(text: &str) -> FilePart {
    let address = format!("text:documents/file.ini#{text}");
    match address.parse().unwrap() {
        crate::setting::Address::Text(setting) => setting.part().clone(),
        other => panic!("{other}"),
    }
}

fn written(text: &str) -> State {
    Value::Written(text.to_owned()).into()
}

#[track_caller]
fn after(bytes: &[u8], at: &str, state: &State) -> Vec<u8> {
    match write(bytes, &part(at), state).unwrap() {
        Edit::Bytes(bytes) => bytes,
        Edit::NotEmpty => panic!("not empty"),
    }
}

const OPTIONS: &str = "; made by the game\r\nLanguage=en\r\n\r\n[Video] ; the screen\r\n  VSync = 1   ; 0 is off\r\nFrame Cap=60\r\nName=\"a ; b\"\r\n\r\n[Audio]\r\nVolume=0.80";

#[test]
fn values_are_read_without_what_stands_around_them() {
    let read = |at: &str| read(OPTIONS.as_bytes(), &part(at));
    assert_eq!(read("ini:Language"), written("en"));
    assert_eq!(read("ini:[video]vsync"), written("1"));
    assert_eq!(read("ini:[Video]Frame Cap"), written("60"));
    assert_eq!(read("ini:[Video]Name"), written("\"a ; b\""));
    assert_eq!(read("ini:[Audio]VSync"), State::Absent);
    assert_eq!(read("ini:[Audio]"), Value::Key.into());
    assert_eq!(read("ini:[Input]"), State::Absent);
}

#[test]
fn a_value_changes_and_nothing_else_does() {
    let new = after(OPTIONS.as_bytes(), "ini:[Video]VSync", &written("0"));
    let expected = OPTIONS.replace("VSync = 1 ", "VSync = 0 ");
    assert_eq!(String::from_utf8(new).unwrap(), expected);
    let new = after(OPTIONS.as_bytes(), "ini:[Video]Shadows", &written("2"));
    let expected = OPTIONS.replace("b\"\r\n", "b\"\r\nShadows=2\r\n");
    assert_eq!(String::from_utf8(new).unwrap(), expected);
    let new = after(OPTIONS.as_bytes(), "ini:[Audio]Music", &written("0"));
    assert_eq!(String::from_utf8(new).unwrap(), format!("{OPTIONS}\r\nMusic=0"));
}

#[test]
fn a_section_is_made_before_its_keys_and_goes_only_when_empty() {
    let first = OPTIONS.as_bytes();
    assert!(write(first, &part("ini:[Input]Raw"), &written("1")).is_err());
    let with_section = after(first, "ini:[Input]", &Value::Key.into());
    let with_key = after(&with_section, "ini:[Input]Raw", &written("1"));
    assert!(with_key.ends_with(b"Volume=0.80\r\n[Input]\r\nRaw=1"));
    assert_eq!(write(&with_key, &part("ini:[Input]"), &State::Absent), Ok(Edit::NotEmpty));
    let without_key = after(&with_key, "ini:[Input]Raw", &State::Absent);
    assert_eq!(after(&without_key, "ini:[Input]", &State::Absent), first);
}

#[test]
fn lines_of_names_and_values_keep_their_own_form() {
    let boot = "// boot\nset fov \"90\" # wide\n\nworker_threads 4\n\"name\" \"Ida\"\nquick\n";
    let read = |at: &str| read(boot.as_bytes(), &part(at));
    assert_eq!(read("keys:worker_threads"), written("4"));
    assert_eq!(read("keys:name"), written("Ida"));
    assert_eq!(read("keys:quick"), State::Absent);
    let text = |bytes| String::from_utf8(bytes).unwrap();
    let new = text(after(boot.as_bytes(), "keys:name", &written("Ada")));
    assert_eq!(new, boot.replace("Ida", "Ada"));
    let new = text(after(boot.as_bytes(), "keys:limit", &written("120")));
    assert!(new.contains("\"name\" \"Ida\"\n\"limit\" \"120\"\nquick\n"), "{new}");
    let colons = text(after(b"a: 1\n", "keys:b", &written("2")));
    assert_eq!(colons, "a: 1\nb: 2\n");
}

#[test]
fn json_keeps_its_comments_order_and_numbers() {
    let text = "{\n  // screen\n  \"video\": {\n    \"scale\": 1.50, // large\n    \"shadows\": \"high\"\n  },\n  \"seen\": []\n}\n";
    let read = |at: &str| read(text.as_bytes(), &part(at));
    assert_eq!(read("json:/video/scale"), written("1.50"));
    assert_eq!(read("json:/video/shadows"), written("\"high\""));
    assert!(matches!(read("json:/video"), State::Unreadable(_)));
    assert!(matches!(read("json:/sound/on"), State::Unreadable(_)));
    let as_text = |bytes| String::from_utf8(bytes).unwrap();
    let new = as_text(after(text.as_bytes(), "json:/video/scale", &written("1.0")));
    assert_eq!(new, text.replace("1.50", "1.0"));
    let new = as_text(after(text.as_bytes(), "json:/video/fog", &written("false")));
    assert_eq!(new, text.replace("\"high\"", "\"high\",\n    \"fog\": false"));
    let first = as_text(after(b"{ }", "json:/a", &written("1")));
    assert_eq!(first, "{\"a\": 1 }");
    assert!(write(text.as_bytes(), &part("json:/video/scale"), &written("high")).is_err());
    assert!(write(text.as_bytes(), &part("json:/video/scale"), &written("[]")).is_err());
}

#[test]
fn what_cannot_be_told_for_certain_is_unreadable_and_not_written() {
    let twice = b"[A]\nx=1\n[B]\n[a]\nX=2\n";
    let State::Unreadable(reason) = read(twice, &part("ini:[A]x")) else { panic!() };
    assert_eq!(reason, "the file has it twice, on lines 2 and 5");
    assert!(write(twice, &part("ini:[A]x"), &written("3")).is_err());
    assert!(matches!(read(b"{\"a\":1,\"a\":2}", &part("json:/a")), State::Unreadable(_)));
    assert!(matches!(read(b"{\"a\":", &part("json:/a")), State::Unreadable(_)));
    assert!(matches!(read(b"a=1\0", &part("ini:a")), State::Unreadable(_)));
    assert!(matches!(read(b"\xff\xfea", &part("ini:a")), State::Unreadable(_)));
}

#[test]
fn encodings_stay_what_they_are() {
    let utf16: Vec<u8> =
        "\u{feff}[Видео]\r\nV=1\r\n".encode_utf16().flat_map(u16::to_be_bytes).collect();
    let new = after(&utf16, "ini:[Видео]V", &written("0"));
    assert_eq!(new.len(), utf16.len());
    assert_eq!(after(&new, "ini:[Видео]V", &written("1")), utf16);
    let marked = after(b"\xEF\xBB\xBFa=1", "ini:a", &written("2"));
    assert_eq!(marked, b"\xEF\xBB\xBFa=2");
    let old = b"name=J\xF6rg\nv=1\n";
    assert_eq!(after(old, "ini:v", &written("2")), b"name=J\xF6rg\nv=2\n");
    assert!(write(old, &part("ini:v"), &written("\u{20ac}")).is_err(), "no such character in it");
}

#[test]
fn values_that_would_be_read_as_something_else_are_refused() {
    for value in ["1\nEvil=2", " 1", "1 ; note", "a\u{0}"] {
        assert!(write(b"[A]\nx=1\n", &part("ini:[A]x"), &written(value)).is_err(), "{value:?}");
    }
    // The blank behind the value would be taken for the one before it on the way back.
    assert!(write(b"x=1 \n", &part("ini:x"), &written("")).is_err());
    assert_eq!(after(b"x=1\n", "ini:x", &written("")), b"x=\n");
}

#[test]
fn the_parts_of_a_file_are_listed_once_each() {
    let shown = |bytes: &[u8], ending| {
        parts(bytes, ending).iter().map(ToString::to_string).collect::<Vec<_>>()
    };
    let ini = ["ini:Language", "ini:[Video]", "ini:[Video]VSync", "ini:[Video]Frame Cap"];
    assert_eq!(shown(OPTIONS.as_bytes(), "ini")[..4], ini);
    assert_eq!(shown(b"{\"a\":{\"b\":1},\"c\":[],\"d/e\":2}", "json"), ["json:/a/b", "json:/d~1e"]);
    assert_eq!(shown(b"a 1\nb=2\nc\n", "cfg"), ["keys:a", "keys:b"]);
}

/// Files as games leave them: any mix of lines and line ends, ended or not.
fn any_lines() -> impl Strategy<Value = String> {
    let line = prop_oneof![
        Just("[A]".to_owned()),
        Just("[B] ; b".to_owned()),
        Just(String::new()),
        Just("; x=0".to_owned()),
        Just("odd".to_owned()),
        Just("x=1".to_owned()),
        Just(" y = \"2\" ; c".to_owned()),
        Just("z=".to_owned()),
        Just("w 3".to_owned()),
        Just("v: 4 // d".to_owned()),
        r"[a-z\[\]=:;# \x22]{0,9}",
    ];
    let end = prop_oneof![4 => Just("\r\n"), 2 => Just("\n"), 1 => Just("\r")];
    (prop::collection::vec((line, end), 0..9), any::<bool>()).prop_map(|(lines, ended)| {
        let text: String =
            lines.into_iter().flat_map(|(line, end)| [line, end.to_owned()]).collect();
        if ended { text } else { text.trim_end().to_owned() }
    })
}

fn any_json() -> impl Strategy<Value = String> {
    let blank =
        || prop_oneof![Just(""), Just(" "), Just("\n  "), Just(" /* c */ "), Just(" // d\n")];
    let name = prop_oneof![Just("x"), Just("y"), Just("z"), Just("w")];
    let member = (blank(), name, blank(), blank())
        .prop_map(|(a, name, b, c)| format!("{a}\"{name}\":{b}1{c}"));
    (prop::collection::vec(member, 0..4), blank(), any::<bool>()).prop_map(
        |(members, end, comma)| {
            let comma = if comma && !members.is_empty() { "," } else { "" };
            format!("{{{}{comma}{end}}}", members.join(","))
        },
    )
}

const PARTS: [&str; 8] =
    ["ini:x", "ini:[A]x", "ini:[A]new", "ini:[B]y", "ini:[C]", "keys:x", "keys:w", "keys:new"];

proptest! {
    #![proptest_config(ProptestConfig::with_cases(1500))]

    /// Writes on top of one another, taken back in any order, leave the first bytes.
    #[test]
    fn whatever_is_written_is_taken_back_to_the_byte(
        text in any_lines(),
        chosen in prop::sample::subsequence(&PARTS[..5], 1..5),
        order in prop::collection::vec(any::<usize>(), 5),
        value in prop_oneof![Just("7"), Just("a b"), Just("\"q\"")],
    ) {
        takes_back(text.into_bytes(), &chosen, &order, value)?;
    }

    #[test]
    fn names_with_values_are_taken_back_to_the_byte(
        text in any_lines(),
        chosen in prop::sample::subsequence(&PARTS[5..], 1..3),
        order in prop::collection::vec(any::<usize>(), 3),
        value in prop_oneof![Just("7"), Just("a b"), Just("")],
    ) {
        takes_back(text.into_bytes(), &chosen, &order, value)?;
    }

    #[test]
    fn members_are_taken_back_to_the_byte(
        text in any_json(),
        chosen in prop::sample::subsequence(&["json:/x", "json:/new", "json:/other"][..], 1..3),
        order in prop::collection::vec(any::<usize>(), 3),
    ) {
        takes_back(text.into_bytes(), &chosen, &order, "true")?;
    }

    #[test]
    fn no_bytes_make_the_reader_panic(bytes in prop::collection::vec(any::<u8>(), 0..200)) {
        for at in PARTS {
            let _ = read(&bytes, &part(at));
            let _ = write(&bytes, &part(at), &written("1"));
        }
        for ending in ["ini", "json", "cfg"] {
            let _ = parts(&bytes, ending);
        }
    }
}

fn takes_back(
    first: Vec<u8>,
    chosen: &[&str],
    order: &[usize],
    value: &str,
) -> Result<(), TestCaseError> {
    let mut bytes = first.clone();
    let mut layers = Vec::new();
    for at in chosen {
        let part = part(at);
        let is_section = matches!(part, FilePart::Section(_));
        let state = if is_section { Value::Key.into() } else { written(value) };
        let before = read(&bytes, &part);
        if let Ok(Edit::Bytes(new)) = write(&bytes, &part, &state) {
            layers.push((part, before));
            bytes = new;
        }
    }
    prop_assume!(!layers.is_empty());
    for at in order {
        if layers.is_empty() {
            break;
        }
        let (part, before) = layers.remove(at % layers.len());
        match write(&bytes, &part, &before) {
            Ok(Edit::Bytes(back)) => bytes = back,
            other => prop_assert!(false, "{other:?} {}", String::from_utf8_lossy(&bytes)),
        }
    }
    prop_assert_eq!(String::from_utf8_lossy(&bytes), String::from_utf8_lossy(&first));
    Ok(())
}
