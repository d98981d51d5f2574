//! The guide: every command of its blocks runs, in order, and what it points at is there.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::path::{Path, PathBuf};

use common::Place;

fn docs() -> PathBuf {
    Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs")
}

/// The commands of the blocks of a page, in order: the words after `$ frevin`.
fn commands(page: &str) -> Vec<Vec<String>> {
    let mut found = Vec::new();
    let mut prose = page.split("```console\n").next().unwrap();
    for block in page.split("```console\n").skip(1) {
        // What a reader does between two blocks, on a PC that Frevin does not restart by itself.
        if prose.contains("restart the PC") {
            found.push(vec!["rehearsal".to_owned(), "restart".to_owned()]);
        }
        prose = block.split_once("```").unwrap().1;
        let block = block.split("```").next().unwrap();
        for line in block.lines().filter_map(|line| line.strip_prefix("$ frevin ")) {
            let mut words = vec![String::new()];
            let mut is_quoted = false;
            for c in line.split(" # ").next().unwrap().chars() {
                match c {
                    '"' => is_quoted = !is_quoted,
                    ' ' if !is_quoted => words.push(String::new()),
                    c => words.last_mut().unwrap().push(c),
                }
            }
            found.push(words);
        }
    }
    found
}

/// Writes the files that a page tells its reader to write, each block with `file=PATH` behind its language.
fn write_files(page: &str, place: &Place) {
    for block in page.split("```").filter(|block| block.contains(" file=")) {
        let (head, text) = block.split_once('\n').unwrap();
        let Some((_, path)) = head.split_once(" file=") else { continue };
        fs_err::create_dir_all(place.path().join(path).parent().unwrap()).unwrap();
        place.write(path, text);
    }
}

#[test]
fn every_command_of_the_other_pages_does_what_they_say() {
    for name in ["first-day", "writing-a-tweak"] {
        let page = fs_err::read_to_string(docs().join(format!("guide/{name}.md"))).unwrap();
        let place = Place::new();
        write_files(&page, &place);
        let all = commands(&page);
        assert!(all.len() > 6, "{name}: {}", all.len());
        for words in &all {
            let words: Vec<&str> = words.iter().map(String::as_str).collect();
            let said = place.run(&words).ok();
            match words[..] {
                ["rollback", "--all", ..] => {
                    assert!(said.out.contains("put back and read back"), "{}", said.out);
                }
                ["profile", "export", ..] => {
                    let exported = fs_err::read_to_string(place.path().join("for-others.toml"));
                    assert!(exported.unwrap().contains("[[definitions]]"));
                }
                ["drift"] => assert!(said.out.contains("No drift"), "{}", said.out),
                _ => {}
            }
        }
    }
}

#[test]
fn every_command_of_the_first_hour_does_what_the_guide_says() {
    let page = fs_err::read_to_string(docs().join("guide/first-hour.md")).unwrap();
    let place = Place::empty();
    let all = commands(&page);
    assert!(all.len() > 20, "{}", all.len());
    let mut power_fails = false;
    for words in &all {
        let words: Vec<&str> = words.iter().map(String::as_str).collect();
        let said = place.run(&words);
        let is_cut = power_fails && words[0] == "apply";
        // Advice with faults in it, and a trial of it, are answered with no.
        let is_no =
            matches!(words[..], ["profile", "check", ..] | ["trial", "start", "evening", ..]);
        if is_cut {
            assert_ne!(said.code, 0);
        } else {
            assert!(
                said.code == 0 || (is_no && said.code == 1),
                "{words:?}: {}{}",
                said.out,
                said.err
            );
        }
        power_fails |= words.contains(&"--power-cut-after");
        match words[..] {
            ["trial", "start", "evening", ..] => {
                assert!(said.out.contains("Worse."), "{}", said.out)
            }
            ["sift", "show"] => assert!(said.out.contains("hurts"), "{}", said.out),
            ["recover"] => assert!(said.out.contains("is undone"), "{}", said.out),
            _ => {}
        }
    }
}

#[test]
fn what_pages_of_the_guide_point_at_is_there() {
    let folder = docs().join("guide");
    let mut pages = 0;
    for entry in fs_err::read_dir(&folder).unwrap() {
        let path = entry.unwrap().path();
        let page = fs_err::read_to_string(&path).unwrap();
        pages += 1;
        assert!(page.starts_with("# "), "{}", path.display());
        for link in page.split("](").skip(1).map(|rest| rest.split(')').next().unwrap()) {
            let file = link.split('#').next().unwrap();
            assert!(folder.join(file).exists(), "{} points at {link}", path.display());
        }
    }
    assert!(pages >= 3);
}
