//! What only the owner knows: `frevin inspect --ask`, and what `config.toml` tells.

#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

/// A laptop whose folder leaves some facts open.
fn place() -> Place {
    let place = Place::empty();
    place.run(&["rehearsal", "new", "pc", "--like", "laptop"]).ok();
    let path = place.pc().join("facts.toml");
    let facts = fs_err::read_to_string(&path).unwrap();
    let open: String = facts
        .lines()
        .filter(|line| !["kind = ", "printer = "].iter().any(|open| line.starts_with(open)))
        .map(|line| format!("{line}\n"))
        .collect();
    let unknown = "[unknown]\n\"drives.kind\" = \"the drive does not tell\"\n\
                   \"uses.printer\" = \"only the owner can say\"\n\
                   \"load.processes\" = \"Windows does not tell\"\n";
    fs_err::write(&path, format!("{open}\n{unknown}")).unwrap();
    place
}

#[test]
fn what_a_pc_does_not_tell_is_asked_for() {
    let place = place();
    let identity = fs_err::read_to_string(place.pc().join("pc.toml")).unwrap();
    let identity: toml::Table = identity.parse().unwrap();
    let pc = identity["id"].as_str().unwrap().to_owned();
    let said = place.run(&["inspect", "--ask"]).ok().out;
    assert_snapshot!(said, @r#"
    What this PC does not tell, what is most needed first
    Is this drive solid-state, or does it spin? (C:)
      Task Manager, Performance, under the drive's name: SSD or HDD.
      Needed by 4 tweaks and 2 findings.
      [rehearsal_facts.[ID].drives."C:"]  kind = "solid-state" or
      "spinning"
    Do you print from this PC, be it to a file?
      Needed by 1 tweak.
      [rehearsal_facts.[ID].uses]  printer = true or false

    Answer in a terminal with `frevin inspect --ask`, or write the answers into config.toml in Frevin's
    home, under the headings given here.
    "#);
    let asked = place.json(&["inspect", "--ask"]);
    let paths: Vec<&str> = asked["questions"]
        .as_array()
        .unwrap()
        .iter()
        .map(|question| question["path"].as_str().unwrap())
        .collect();
    assert_eq!(paths, ["drives.kind", "uses.printer"], "the most needed first");
    assert_eq!(asked["questions"][0]["of"], "C:");

    // Written as it is said there, it is known, and asked for no more.
    let spooler = ["preview", "--tweak", "services/printing"];
    assert!(place.run(&spooler).out.contains("uses.printer is not known"));
    let path = place.path().join("home/config.toml");
    let config = if path.exists() { fs_err::read_to_string(&path).unwrap() } else { String::new() };
    let told = format!("{config}\n[rehearsal_facts.{pc}.uses]\nprinter = false\n");
    fs_err::write(&path, &told).unwrap();
    assert!(!place.run(&spooler).ok().out.contains("is not known"));
    let drive = format!("[rehearsal_facts.{pc}.drives.\"C:\"]\nkind = \"solid-state\"\n");
    fs_err::write(&path, format!("{told}{drive}")).unwrap();
    assert_snapshot!(place.run(&["inspect", "--ask"]).ok().out, @"Nothing needs to be asked: this PC tells what tweaks and findings need.");
    let inspected = place.json(&["inspect"]);
    assert_eq!(inspected["facts"]["drives"][0]["kind"], "solid-state");
    assert_eq!(inspected["facts"]["unknown"].as_object().unwrap().len(), 1);

    // What is told and is no fact is refused, with where it stands.
    let wrong = format!("{told}[rehearsal_facts.{pc}.drives.\"Q:\"]\nkind = \"solid-state\"\n");
    fs_err::write(&path, wrong).unwrap();
    let said = place.run(&["inspect"]).fails(4).err;
    assert_snapshot!(said, @"
    error: [rehearsal_facts.[ID]] in [HERE]/home/config.toml: this PC has no drives.Q:
    help: `frevin inspect --json` shows the facts and what they are called
    ");
}
