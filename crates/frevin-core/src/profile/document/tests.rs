use super::*;
use crate::tweak::Argument;

fn parse(text: &str) -> Result<Profile, BadDocument> {
    Profile::parse("p.toml", text, &Catalogue::built_in().unwrap())
}

/// Every problem with its place and advice, one a line.
fn problems(text: &str) -> String {
    let bad = parse(text).unwrap_err();
    let places = bad.to_string();
    let line = |(place, problem): (&str, &Problem)| match &problem.advice {
        Some(advice) => format!("{place}\n  {advice}"),
        None => place.to_owned(),
    };
    places.lines().zip(&bad.problems).map(line).collect::<Vec<_>>().join("\n")
}

const HEAD: &str = "format = 1\nname = \"evening\"\npurpose = \"p\"\n";

#[test]
fn a_profile_reads_with_arguments_conditions_and_notes() {
    let text = format!(
        "{HEAD}scene = \"canyon\"\n[[tweaks]]\nuse = \"power/active-plan\"\nwith = {{ plan = \"balanced\" }}\n\
         when = \"facts.power_source == 'mains'\"\nnote = \"quiet\"\n[[tweaks]]\nuse = \"services/diagnostics\"\n"
    );
    let profile = parse(&text).unwrap();
    assert_eq!(profile.name.as_str(), "evening");
    assert_eq!(profile.scene.unwrap().as_str(), "canyon");
    assert_eq!(profile.entries.len(), 2);
    let expected = Arguments::from([("plan".into(), Argument::Choice("balanced".into()))]);
    assert_eq!(profile.entries[0].arguments, expected);
    assert_eq!(profile.entries[0].note.as_deref(), Some("quiet"));
    assert!(profile.entries[0].when.is_some());
}

#[test]
fn every_problem_is_placed_and_comes_with_advice() {
    let text = format!(
        "{HEAD}[[tweaks]]\nuse = \"power/active-plam\"\n\n[[tweaks]]\nuse = \"looks/menu-delay\"\n\
         with = {{ delay_ms = 9000, dela = 1 }}\n\n[[tweaks]]\nuse = \"looks/menu-delay\"\n\n\
         [[tweaks]]\nuse = \"power/throttling\"\nwith = {{ x = 1 }}\nwhen = \"facts.form\"\n"
    );
    insta::assert_snapshot!(problems(&text), @r#"
    p.toml:5:7: there is no tweak `power/active-plam` in the catalogue
      did you mean `power/active-plan`? `frevin tweak list` shows them all
    p.toml:9:21: `delay_ms` takes 0 to 4000 ms, not 9000
      The wait before a submenu opens. (see `frevin tweak show looks/menu-delay`)
    p.toml:9:27: `looks/menu-delay` has no parameter `dela`
      it has delay_ms
    p.toml:12:7: `looks/menu-delay` is listed a second time with the same choices
      remove one of the two, or choose something else for one
    p.toml:16:10: `power/throttling` has no parameter `x`
      it has none; remove `with`
    p.toml:17:8: `facts.form` gives "desktop", where true or false is needed
    "#);
}

#[test]
fn a_document_of_another_shape_is_placed_too() {
    insta::assert_snapshot!(problems("format = 1\nname = \"x\npurpose"), @r#"
    p.toml:2:10: invalid basic string, expected `"`
    p.toml:3:8: key with no value, expected `=`
    "#);
    insta::assert_snapshot!(problems(&format!("{HEAD}scen = 'x'\n")), @"p.toml:4:1: unknown field `scen`, expected one of `format`, `name`, `purpose`, `scene`, `builds_on`, `without`, `tweaks`, `while_playing`, `playing`, `definitions`");
    insta::assert_snapshot!(problems("format = 9\nname = \"../up\"\npurpose = \"\"\n"), @"
    p.toml:1:10: this Frevin reads profiles of format 1
      a newer Frevin may read it
    p.toml:2:8: `../up` is not a name: write lower-case letters, digits and hyphens, at most 60
    ");
}

#[test]
fn names_can_name_a_file_anywhere() {
    for bad in ["", "Evening", "a/b", "..", "con", "com7", "a b", "-x", &"x".repeat(61)] {
        assert!(bad.parse::<ProfileName>().is_err(), "{bad}");
    }
    assert!("com77".parse::<ProfileName>().is_ok());
}

#[test]
fn a_starting_document_is_a_profile() {
    let catalogue = Catalogue::built_in().unwrap();
    let tweaks: Vec<_> = catalogue.iter().map(|tweak| tweak.id.clone()).collect();
    let name = "all".parse().unwrap();
    let text = starting_document(&name, "say \"all\"\nof it", &tweaks, &catalogue);
    let profile = parse(&text).unwrap();
    assert_eq!(profile.entries.len(), tweaks.len());
    assert_eq!(profile.purpose, "say \"all\"\nof it");
    assert!(parse(&starting_document(&name, "none", &[], &catalogue)).unwrap().entries.is_empty());
}

#[test]
fn choices_that_lead_out_of_their_place_are_found_when_the_profile_is_read() {
    let with = |file: &str| {
        format!(
            "{HEAD}[[tweaks]]\nuse = \"games/ini-value\"\nwith = {{ file = \"{file}\", section = \"A\", key = \"b\", value = \"1\" }}\n"
        )
    };
    assert!(parse(&with("documents/Game/a.ini")).is_ok());
    for file in ["documents/../../secret.ini", "documents/run.bat", "C:/a.ini", "documents/nul.ini"]
    {
        let found = problems(&with(file));
        assert!(found.contains("p.toml:5:7") && found.contains("gives the address"), "{found}");
    }
}

#[test]
fn what_is_held_while_playing_is_a_list_of_its_own_and_stays_in_the_document() {
    let text = format!(
        "{HEAD}[[tweaks]]\nuse = \"looks/menu-delay\"\nwith = {{ delay_ms = 50 }}\n\n\
         [[while_playing]]\nuse = \"looks/menu-delay\"\nwith = {{ delay_ms = 10 }}\nwhen = \"facts.power_source == 'mains'\"\n"
    );
    let profile = parse(&text).unwrap();
    // Both want the setting: what is held while playing lies above the other.
    assert_eq!(profile.entries[0].arguments["delay_ms"], Argument::Whole(50));
    assert_eq!(profile.while_playing[0].arguments["delay_ms"], Argument::Whole(10));
    let again = parse(&profile.to_document()).unwrap();
    let plain = |entries: &[Entry]| -> Vec<_> {
        entries
            .iter()
            .map(|one| (one.tweak.clone(), one.arguments.clone(), one.when.clone()))
            .collect()
    };
    assert_eq!(plain(&again.while_playing), plain(&profile.while_playing));
    assert_eq!(plain(&again.entries), plain(&profile.entries));
    let bad = format!("{HEAD}[[while_playing]]\nuse = \"looks/menu-dela\"\n");
    assert!(problems(&bad).contains("did you mean `looks/menu-delay`?"));
    let twice = "[[while_playing]]\nuse = \"looks/menu-delay\"\n";
    assert!(problems(&format!("{HEAD}{twice}{twice}")).contains("listed a second time"));
}
