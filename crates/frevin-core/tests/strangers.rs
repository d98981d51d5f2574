//! Documents come from strangers: whatever they hold, reading one ends in a value or in problems
//! with places inside the text, and never in a panic.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

use frevin_core::document::BadDocument;
use frevin_core::profile::{Profile, starting_document};
use frevin_core::setting::{Address, protection};
use frevin_core::tweak::{Catalogue, Tweak};
use proptest::prelude::*;

fn catalogue() -> &'static Catalogue {
    static CATALOGUE: std::sync::OnceLock<Catalogue> = std::sync::OnceLock::new();
    CATALOGUE.get_or_init(|| Catalogue::built_in().unwrap())
}

fn good_profile() -> String {
    let tweaks: Vec<_> = catalogue().iter().map(|tweak| tweak.id.clone()).collect();
    starting_document(&"all".parse().unwrap(), "every tweak", &tweaks, catalogue())
}

fn good_tweak() -> &'static str {
    include_str!("../../../catalogue/looks/effects-level.toml")
}

/// Cuts a piece out of a text, and puts another in its place.
fn damaged(text: &str, from: usize, length: usize, instead: &str) -> String {
    let mut from = from % text.len();
    while !text.is_char_boundary(from) {
        from -= 1;
    }
    let mut to = (from + length).min(text.len());
    while !text.is_char_boundary(to) {
        to -= 1;
    }
    format!("{}{instead}{}", &text[..from], &text[to.max(from)..])
}

fn check_places(bad: &BadDocument) {
    assert!(!bad.problems.is_empty());
    for problem in &bad.problems {
        assert!(!problem.message.is_empty());
        if let Some(span) = &problem.span {
            assert!(span.start <= span.end && span.end <= bad.text.len(), "{problem:?}");
        }
    }
    assert!(bad.to_string().contains(&bad.name));
}

/// How many cases each property is tried with; more when asked for.
fn cases() -> ProptestConfig {
    let cases = std::env::var("FREVIN_CASES").ok().and_then(|number| number.parse().ok());
    ProptestConfig::with_cases(cases.unwrap_or(400))
}

/// An address of every kind.
const ADDRESSES: [&str; 12] = [
    r"registry:HKLM\SYSTEM\CurrentControlSet\Control\A%23B#Value",
    r"registry:HKEY_USERS\.DEFAULT\Control Panel\Keyboard#",
    "service:SysMain#start",
    "power:381b4222-f694-41f0-9685-ff5bb260df2e#exists",
    "power:8c5e7fda-e8bf-4a96-9a85-a6e23a8c635c/54533251-82be-4824-96c1-47b60b740d00/893dee8e-2bef-41e0-89c6-b55d0929964c#mains",
    "visual:menu-delay",
    r"task:\Microsoft\Windows\Maps\MapsUpdateTask#enabled",
    r"device:PCI\VEN_0000&DEV_0001\3&1#2#interrupt-priority",
    "text:documents/Gorsehollow Riders/options.ini#ini:[/Script/Video]r.Shadow",
    "text:local-app-data/A %2325/engine.json#json:/graphics/a~1b",
    "text:roaming-app-data/A/boot.cfg#keys:worker_threads",
    "clean:user-temp#quarantine",
];

proptest! {
    #![proptest_config(cases())]

    /// What is taken for an address is shown as it is taken, stays in its place, and has an
    /// identity that is its own.
    #[test]
    fn a_damaged_address_is_refused_or_is_one_thing(
        which in 0..ADDRESSES.len(),
        from in any::<usize>(),
        length in 0..12usize,
        instead in prop_oneof![
            r"[ -~]{0,8}", r"\PC{0,6}", Just("../".to_owned()), Just("\u{202e}".to_owned()),
            Just("%23".to_owned()), Just("CON".to_owned()), Just("/..\\".to_owned()),
        ],
    ) {
        let text = damaged(ADDRESSES[which], from, length, &instead);
        if let Ok(address) = text.parse::<Address>() {
            let again: Address = address.to_string().parse().unwrap();
            prop_assert_eq!(&again, &address);
            prop_assert_eq!(again.identity(), address.identity());
            prop_assert_eq!(protection(&again), protection(&address));
            let other: Address = ADDRESSES[which].parse().unwrap();
            prop_assert_eq!(other == address, other.identity() == address.identity());
            if let Address::Text(setting) = &address {
                let names = setting.file().names();
                prop_assert!(names.iter().all(|n| ![".", ".."].contains(&n.as_str())));
            }
        }
    }

    #[test]
    fn a_damaged_profile_is_read_or_its_problems_are_placed(
        from in any::<usize>(), length in 0..40usize, instead in r#"[ -~é"\n\[\]=]{0,12}"#
    ) {
        let text = damaged(&good_profile(), from, length, &instead);
        if let Err(bad) = Profile::parse("p.toml", &text, catalogue()) {
            check_places(&bad);
        }
    }

    #[test]
    fn a_damaged_definition_is_read_or_its_problems_are_placed(
        from in any::<usize>(), length in 0..40usize, instead in r#"[ -~é"\n\[\]=]{0,12}"#
    ) {
        let text = damaged(good_tweak(), from, length, &instead);
        if let Err(bad) = Tweak::parse("t.toml", &text) {
            check_places(&bad);
        }
    }

    #[test]
    fn no_text_at_all_makes_a_reader_panic(text in r"\PC{0,200}") {
        let _ = Profile::parse("p.toml", &text, catalogue());
        let _ = Tweak::parse("t.toml", &text);
    }

    /// Case, the long names of roots, and escapes are spellings: protection sees through them.
    #[test]
    fn protection_holds_for_every_spelling(
        upper in prop::collection::vec(any::<bool>(), 120), long_root in any::<bool>(), below in r"[a-z]{0,6}"
    ) {
        let root = if long_root { "HKEY_LOCAL_MACHINE" } else { "HKLM" };
        let below = if below.is_empty() { String::new() } else { format!(r"\{below}") };
        let path = format!(r"{root}\SYSTEM\CurrentControlSet\Services\WinDefend{below}#Start");
        let spelled: String = path
            .chars()
            .zip(upper.iter().cycle())
            .map(|(c, upper)| if *upper { c.to_ascii_uppercase() } else { c.to_ascii_lowercase() })
            .collect();
        let address: Address = format!("registry:{spelled}").parse().unwrap();
        prop_assert!(protection(&address).is_some(), "{spelled}");
    }
}

#[test]
fn a_profile_cannot_hold_anything_but_data() {
    let head = "format = 1\nname = \"x\"\npurpose = \"p\"\n";
    for foreign in [
        "run = \"format c:\"",
        "include = \"../../secret.toml\"",
        "[[tweaks]]\nuse = \"looks/menu-delay\"\nexec = \"x\"",
        "[[tweaks]]\nuse = \"../looks/menu-delay\"",
        "[[settings]]\naddress = \"service:WinDefend#start\"\nvalue = \"disabled\"",
        "[[tweaks]]\nuse = \"looks/menu-delay\"\nwhen = \"system('x') == 1\"",
    ] {
        let bad = Profile::parse("x.toml", &format!("{head}{foreign}\n"), catalogue()).unwrap_err();
        check_places(&bad);
    }
}
