//! What strangers send: documents, packs, logs. Nothing of it hides, gets out of its place, or goes on
//! without end.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

const ENTRY: &str = "[[tweaks]]\nuse = \"looks/menu-delay\"\n";

fn profile(name: &str, purpose: &str) -> String {
    format!("format = 1\nname = \"{name}\"\npurpose = {purpose}\n\n{ENTRY}")
}

#[test]
fn what_hides_or_moves_is_shown_by_its_number() {
    let place = Place::new();
    let purpose = r#""txt.\u202Eexe\u2066 \r\u001B[2J\u009B31m""#;
    place.write("p.toml", profile("p", purpose));
    place.run(&["profile", "import", "p.toml"]).ok();
    let listed = place.run(&["profile", "list"]).ok().out;
    assert!(listed.contains(r"txt.\u{202e}exe\u{2066}"), "{listed}");
    let json = place.run(&["profile", "list", "--json"]).ok().out;
    for shown in [&listed, &json] {
        let hidden = |c: char| frevin_core::plain_text::is_hidden(c) && c != '\n';
        assert!(!shown.contains(hidden), "{shown:?}");
    }
    assert!(json.contains(r"\u202e"), "{json}");
    let broken = "format = 1\nname = \"q\"\npurpose = \"a\u{202e}b\"\nx = 1\n";
    place.write("q.toml", broken);
    let said = place.run(&["profile", "check", "q.toml"]).fails(4);
    assert!(!said.err.contains('\u{202e}'), "{:?}", said.err);
}

#[test]
fn the_name_of_a_pack_stays_in_its_comment() {
    let place = Place::new();
    let name = "e\nrisk = \"safe\"\n#.reg";
    let pack = "Windows Registry Editor Version 5.00\r\n\r\n[HKEY_CURRENT_USER\\Software\\X]\r\n\
                \"a\"=dword:1\r\n";
    place.write(name, pack);
    place.run(&["profile", "import", name, "--name", "e"]).ok();
    let definition =
        fs_err::read_to_string(place.path().join("home/tweaks/imported/e.toml")).unwrap();
    assert_eq!(definition.matches("\nrisk = ").count(), 1, "{definition}");
    place.run(&["preview", "e"]).ok();
}

#[test]
fn a_value_whose_name_holds_a_line_end_is_no_setting() {
    let place = Place::new();
    let own = concat!(
        "id = \"mine/raw\"\ntitle = \"t\"\nwhat = \"w\"\nwhy = \"y\"\nmay_break = \"b\"\n",
        "standing = \"contested\"\nstanding_reason = \"s\"\nrisk = \"safe\"\ntakes_effect = \"now\"\n\n",
        "[[settings]]\naddress = \"registry:HKCU\\\\Software\\\\X#a\\nb\"\ntype = \"dword\"\nvalue = 1\n\n",
        "[[sources]]\ntitle = \"t\"\nstates = \"s\"\n",
    );
    fs_err::create_dir_all(place.path().join("home/tweaks/mine")).unwrap();
    place.write("home/tweaks/mine/raw.toml", own);
    let said = place.run(&["apply", "--tweak", "mine/raw", "--yes"]).fails(4);
    assert!(said.err.contains("no control characters"), "{}", said.err);
}

#[test]
fn a_stranger_takes_no_name_that_means_something() {
    let place = Place::new();
    place.write("careful.toml", profile("careful", "\"p\""));
    let said = place.run(&["profile", "import", "careful.toml"]).fails(4);
    assert_snapshot!(said.err, @"
    error: `careful` is a profile that comes with Frevin
    help: nothing was changed; give this one another name with --name
    ");
    place.run(&["profile", "import", "careful.toml", "--name", "theirs"]).ok();
}

#[test]
fn what_has_no_end_is_read_no_further_than_its_limit() {
    let place = Place::new();
    for args in [["profile", "check"], ["profile", "import"], ["run", "figures"]] {
        let said = place.run(&[args[0], args[1], "/dev/zero"]).fails(4);
        assert!(!said.err.contains("memory"), "{}", said.err);
    }
    let many: String = (0..10_000).map(|n| format!("[[tweaks]]\nuse = \"a/b{n}\"\n")).collect();
    place.write("many.toml", format!("format = 1\nname = \"x\"\npurpose = \"p\"\n{many}"));
    let said = place.run(&["profile", "check", "many.toml"]).fails(4);
    assert!(said.err.contains("at most 1000 entries"), "{}", said.err);
    place.write("long.json", format!("[{}1]", "1.5,".repeat(17 << 20)));
    let said = place.run(&["run", "figures", "long.json"]).fails(4);
    assert!(said.err.contains("an object on each line"), "{}", said.err);
}

#[test]
fn a_log_that_is_imported_finds_the_scenes_of_the_pc() {
    let place = Place::new();
    place.write("log.csv", format!("frame_ms\n{}", "16.61\n16.64\n16.7\n".repeat(300)));
    place.run(&["run", "import", "log.csv", "--scene", "canyon-run", "--state", "before"]).ok();
    place.run(&["run", "import", "log.csv", "--scene", "nowhere", "--state", "before"]).fails(3);
}

#[test]
fn a_key_deeper_than_a_rehearsal_pc_holds_is_refused_and_the_pc_stays_readable() {
    let place = Place::new();
    let deep = format!(r"registry:HKCU\Software\{}#x", vec!["k"; 80].join(r"\"));
    let pack = format!(
        "Windows Registry Editor Version 5.00\r\n\r\n[{}]\r\n\"x\"=dword:1\r\n",
        deep.trim_start_matches("registry:").trim_end_matches("#x").replacen(
            "HKCU",
            "HKEY_CURRENT_USER",
            1
        )
    );
    place.write("deep.reg", pack);
    place.run(&["profile", "import", "deep.reg", "--name", "deep"]).ok();
    let at_first = place.pc_files();
    let said = place.run(&["apply", "deep", "--yes"]).fails(6);
    assert!(said.err.contains("at most 60 deep"), "{}", said.err);
    assert_eq!(place.pc_files(), at_first);
    place.run(&["drift"]).ok();
}
