//! Settings files and cleaning places of a rehearsal PC: nothing leads out of them, and what is set
//! aside comes back.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
#![cfg(unix)]

use std::os::unix::fs::symlink;
use std::path::{Path, PathBuf};

use frevin_core::setting::{Address, CleanPlace, State, Value};
use frevin_pc::rehearsal::{RehearsalPc, Template, create};
use frevin_pc::{Pc, WriteError, Written, fingerprint};

const VSYNC: &str = "text:documents/Gorsehollow Riders/options.ini#ini:[Video]VSync";
const TEMP: &str = "clean:user-temp#quarantine";

fn at(text: &str) -> Address {
    text.parse().unwrap()
}

fn written(text: &str) -> State {
    Value::Written(text.into()).into()
}

fn aside(untouched_days: u32) -> State {
    Value::Quarantined { untouched_days }.into()
}

struct Place {
    folder: tempfile::TempDir,
    pc: RehearsalPc,
}

impl Place {
    fn new() -> Self {
        let folder = tempfile::tempdir().unwrap();
        let template = Template::named("desktop").unwrap();
        let pc = create(&folder.path().join("pc"), template, "Test", 1).unwrap();
        Self { folder, pc }
    }

    fn file(&self, below: &str) -> PathBuf {
        self.pc.folder().join("files").join(below)
    }
}

#[track_caller]
fn is_guarded(pc: &mut RehearsalPc, address: &str, why: &str) {
    match pc.read(&at(address)).unwrap() {
        State::Unreadable(reason) => assert!(reason.contains(why), "{reason}"),
        other => panic!("{address} is {other}"),
    }
    match pc.write(&at(address), &written("0")) {
        Err(WriteError::Refused(reason)) => assert!(reason.contains(why), "{reason}"),
        other => panic!("{address}: {other:?}"),
    }
}

#[test]
fn a_link_on_the_way_to_a_settings_file_is_not_followed() {
    let mut place = Place::new();
    let outside = place.folder.path().join("outside");
    fs_err::create_dir(&outside).unwrap();
    fs_err::write(outside.join("options.ini"), "[Video]\nVSync=1\n").unwrap();

    symlink(&outside, place.file("documents/Linked")).unwrap();
    is_guarded(&mut place.pc, "text:documents/Linked/options.ini#ini:[Video]VSync", "is a link");
    fs_err::create_dir(place.file("documents/Own")).unwrap();
    symlink(outside.join("options.ini"), place.file("documents/Own/options.ini")).unwrap();
    is_guarded(&mut place.pc, "text:documents/Own/options.ini#ini:[Video]VSync", "is a link");
    fs_err::hard_link(outside.join("options.ini"), place.file("documents/Own/hard.ini")).unwrap();
    is_guarded(&mut place.pc, "text:documents/Own/hard.ini#ini:[Video]VSync", "same file");
    fs_err::create_dir(place.file("documents/Own/folder.ini")).unwrap();
    is_guarded(&mut place.pc, "text:documents/Own/folder.ini#ini:[Video]VSync", "not a file");
    fs_err::write(place.file("documents/Own/A.ini"), "x=1").unwrap();
    fs_err::write(place.file("documents/Own/a.INI"), "x=1").unwrap();
    is_guarded(&mut place.pc, "text:documents/own/a.ini#ini:x", "twice");

    assert_eq!(fs_err::read(outside.join("options.ini")).unwrap(), b"[Video]\nVSync=1\n");
}

#[test]
fn names_are_found_as_windows_finds_them_and_files_keep_their_form() {
    let mut place = Place::new();
    let file = place.file("documents/Gorsehollow Riders/options.ini");
    let before = fs_err::read(&file).unwrap();
    let loud = "text:documents/GORSEHOLLOW RIDERS/Options.ini#ini:[VIDEO]vsync";
    assert_eq!(place.pc.write(&at(loud), &written("0")).unwrap(), Written::Done);
    assert_eq!(place.pc.read(&at(VSYNC)).unwrap(), written("0"));
    let after = String::from_utf8(fs_err::read(&file).unwrap()).unwrap();
    assert!(after.contains("VSync=0          ; 0 off, 1 on\r\n"), "{after}");
    place.pc.write(&at(VSYNC), &written("1")).unwrap();
    assert_eq!(fs_err::read(&file).unwrap(), before);

    let speed = "text:saved-games/Gorsehollow Riders/controls.ini#ini:[Mouse]Acceleration";
    let utf16 = fs_err::read(place.file("saved-games/Gorsehollow Riders/controls.ini")).unwrap();
    place.pc.write(&at(speed), &written("0")).unwrap();
    let new = fs_err::read(place.file("saved-games/Gorsehollow Riders/controls.ini")).unwrap();
    assert_eq!(new.len(), utf16.len());
    let differing = new.iter().zip(&utf16).filter(|(a, b)| a != b).count();
    assert_eq!(differing, 1);
}

#[test]
fn files_are_set_aside_by_age_and_come_back_with_their_own() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    let first = fingerprint(&place.pc).unwrap();
    let log = place.file("user-temp/setup/installer.log");
    let changed = fs_err::metadata(&log).unwrap().modified().unwrap();

    place.pc.write(&at(TEMP), &aside(7)).unwrap();
    assert!(!log.exists());
    assert!(place.file("user-temp/today.tmp").exists(), "it is too young");
    let content = place.pc.clean_content().unwrap();
    let temp = content.iter().find(|content| content.place == CleanPlace::UserTemp).unwrap();
    assert_eq!((temp.files, temp.files_set_aside), (1, 3));
    assert!(place.pc.write(&at(TEMP), &aside(0)).is_err(), "not without the first ones back");

    place.pc.write(&at(TEMP), &State::Absent).unwrap();
    assert_eq!(fs_err::metadata(&log).unwrap().modified().unwrap(), changed);
    assert_eq!(fingerprint(&place.pc).unwrap(), first);
    assert!(!place.pc.folder().join("quarantine").exists());
}

#[test]
fn a_move_that_was_interrupted_is_told_and_goes_either_way() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    let first = fingerprint(&place.pc).unwrap();
    place.pc.write(&at(TEMP), &aside(7)).unwrap();
    let moved = fingerprint(&place.pc).unwrap();
    let quarantined = place.pc.folder().join("quarantine/user-temp/files/~df3a.tmp");
    for (state, expected) in [(aside(7), &moved), (State::Absent, &first)] {
        fs_err::rename(&quarantined, place.file("user-temp/~df3a.tmp")).unwrap();
        assert_eq!(place.pc.read(&at(TEMP)).unwrap(), Value::HalfQuarantined.into());
        place.pc.write(&at(TEMP), &state).unwrap();
        assert_eq!(&fingerprint(&place.pc).unwrap(), expected);
    }
}

#[test]
fn a_file_whose_place_is_taken_waits_in_quarantine() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    place.pc.write(&at(TEMP), &aside(7)).unwrap();
    let log = place.file("user-temp/setup/installer.log");
    fs_err::write(&log, "of another program").unwrap();
    assert_eq!(place.pc.write(&at(TEMP), &State::Absent).unwrap(), Written::LeftInPlace);
    assert_eq!(fs_err::read(&log).unwrap(), b"of another program");
    assert!(place.file("user-temp/~df3a.tmp").exists(), "the others are back");
    assert_eq!(place.pc.read(&at(TEMP)).unwrap(), aside(7));
    fs_err::remove_file(&log).unwrap();
    assert_eq!(place.pc.write(&at(TEMP), &State::Absent).unwrap(), Written::Done);
    assert_eq!(fs_err::metadata(&log).unwrap().len(), 3120);
}

#[test]
fn links_in_a_cleaning_place_are_neither_followed_nor_moved() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    let treasure = place.folder.path().join("treasure");
    fs_err::create_dir(&treasure).unwrap();
    fs_err::write(treasure.join("dear.txt"), "dear").unwrap();
    symlink(&treasure, place.file("user-temp/link")).unwrap();
    place.pc.write(&at(TEMP), &aside(0)).unwrap();
    assert!(treasure.join("dear.txt").exists());
    assert!(fs_err::symlink_metadata(place.file("user-temp/link")).is_ok());

    // Somebody replaces the folder that files are to come back to by a link.
    fs_err::remove_dir(place.file("user-temp/setup")).unwrap();
    symlink(&treasure, place.file("user-temp/setup")).unwrap();
    assert!(place.pc.write(&at(TEMP), &State::Absent).is_err());
    assert!(!treasure.join("installer.log").exists());
    fs_err::remove_file(place.file("user-temp/setup")).unwrap();
    place.pc.write(&at(TEMP), &State::Absent).unwrap();
    assert!(place.file("user-temp/setup/installer.log").exists());
}

#[test]
fn a_manifest_that_leads_out_is_not_believed() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    for way in ["../../../escaped", "/escaped", "a/./b", "a\\..\\b", "C:escaped"] {
        let folder = place.pc.folder().join("quarantine/user-temp");
        fs_err::create_dir_all(folder.join("files")).unwrap();
        let manifest = serde_json::json!({"untouched_days": 0, "files": {way: {"bytes": 1}}});
        fs_err::write(folder.join("manifest.json"), manifest.to_string()).unwrap();
        assert!(!place.pc.read(&at(TEMP)).unwrap().is_readable(), "{way}");
        assert!(place.pc.write(&at(TEMP), &State::Absent).is_err(), "{way}");
    }
    assert!(!Path::new("/escaped").exists());
}

#[test]
fn emptying_is_for_good_and_says_how_much() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    place.pc.write(&at(TEMP), &aside(7)).unwrap();
    let gone = place.pc.empty_quarantine(CleanPlace::UserTemp).unwrap();
    assert_eq!((gone.files_set_aside, gone.bytes_set_aside), (3, 5460));
    assert_eq!(place.pc.read(&at(TEMP)).unwrap(), State::Absent);
    assert_eq!(place.pc.empty_quarantine(CleanPlace::UserTemp).unwrap().files_set_aside, 0);
    assert!(place.file("user-temp/today.tmp").exists());
}

/// What the quarantine of temporary files holds, by name.
fn aside_files(place: &Place) -> Vec<String> {
    let mut names: Vec<String> =
        fs_err::read_dir(place.pc.folder().join("quarantine/user-temp/files"))
            .map(|entries| entries.map(|e| e.unwrap().file_name().into_string().unwrap()).collect())
            .unwrap_or_default();
    names.sort();
    names
}

#[test]
fn what_is_set_aside_is_never_replaced_and_neither_is_a_newcomer() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    fs_err::write(place.file("user-temp/mine.tmp"), "mine").unwrap();
    place.pc.write(&at(TEMP), &aside(0)).unwrap();
    let kept = aside_files(&place);
    assert!(kept.contains(&"mine.tmp".to_owned()));
    fs_err::write(place.file("user-temp/mine.tmp"), "new").unwrap();

    // Again, as after a crash or a drift: the one that is told of stays, and so does the newcomer.
    place.pc.write(&at(TEMP), &aside(0)).unwrap();
    let set_aside = place.pc.folder().join("quarantine/user-temp/files/mine.tmp");
    assert_eq!(fs_err::read_to_string(&set_aside).unwrap(), "mine");
    assert_eq!(fs_err::read_to_string(place.file("user-temp/mine.tmp")).unwrap(), "new");
    assert_eq!(place.pc.write(&at(TEMP), &State::Absent).unwrap(), Written::LeftInPlace);
    assert_eq!(fs_err::read_to_string(place.file("user-temp/mine.tmp")).unwrap(), "new");
    assert!(aside_files(&place).contains(&"mine.tmp".to_owned()));
    fs_err::rename(place.file("user-temp/mine.tmp"), place.file("user-temp/other")).unwrap();
    assert_eq!(place.pc.write(&at(TEMP), &State::Absent).unwrap(), Written::Done);
    assert_eq!(fs_err::read_to_string(place.file("user-temp/mine.tmp")).unwrap(), "mine");
}

#[test]
fn a_folder_that_became_a_link_leads_nowhere_in_either_direction() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    let outside = place.folder.path().join("outside");
    fs_err::create_dir(&outside).unwrap();
    fs_err::write(outside.join("old.tmp"), "theirs").unwrap();
    fs_err::create_dir(place.file("user-temp/sub")).unwrap();
    fs_err::write(place.file("user-temp/sub/old.tmp"), "ours").unwrap();
    place.pc.write(&at(TEMP), &aside(0)).unwrap();

    // The folder that the file came from is a link now: nothing comes back through it.
    let _ = fs_err::remove_dir(place.file("user-temp/sub"));
    symlink(&outside, place.file("user-temp/sub")).unwrap();
    assert!(place.pc.write(&at(TEMP), &State::Absent).is_err());
    assert_eq!(fs_err::read_to_string(outside.join("old.tmp")).unwrap(), "theirs");
    fs_err::remove_file(place.file("user-temp/sub")).unwrap();
    place.pc.write(&at(TEMP), &State::Absent).unwrap();
    assert_eq!(fs_err::read_to_string(place.file("user-temp/sub/old.tmp")).unwrap(), "ours");

    // And the other way: what is told of under a link is not taken out of elsewhere.
    place.pc.write(&at(TEMP), &aside(0)).unwrap();
    fs_err::rename(
        place.pc.folder().join("quarantine/user-temp/files/sub"),
        place.folder.path().join("taken"),
    )
    .unwrap();
    fs_err::remove_dir(place.file("user-temp/sub")).unwrap();
    symlink(&outside, place.file("user-temp/sub")).unwrap();
    assert!(place.pc.write(&at(TEMP), &aside(0)).is_err());
    assert_eq!(fs_err::read_to_string(outside.join("old.tmp")).unwrap(), "theirs");
}

#[test]
fn a_place_or_a_quarantine_that_is_a_link_is_refused() {
    let mut place = Place::new();
    let _lock = place.pc.lock().unwrap();
    let outside = place.folder.path().join("outside");
    fs_err::create_dir(&outside).unwrap();
    fs_err::write(outside.join("options.ini"), "[Video]\nVSync=1\n").unwrap();
    fs_err::remove_dir_all(place.file("user-temp")).unwrap();
    symlink(&outside, place.file("user-temp")).unwrap();
    assert!(
        !place.pc.read(&at(TEMP.replace("quarantine", "files").as_str())).unwrap().is_readable()
    );
    assert!(matches!(place.pc.write(&at(TEMP), &aside(0)), Err(WriteError::Refused(_))));

    fs_err::remove_file(place.file("user-temp")).unwrap();
    fs_err::create_dir(place.file("user-temp")).unwrap();
    fs_err::write(place.file("user-temp/a.tmp"), "a").unwrap();
    fs_err::create_dir_all(place.pc.folder().join("quarantine/user-temp")).unwrap();
    symlink(&outside, place.pc.folder().join("quarantine/user-temp/files")).unwrap();
    assert!(place.pc.write(&at(TEMP), &aside(0)).is_err());
    assert_eq!(fs_err::read_dir(&outside).unwrap().count(), 1);
    assert_eq!(fs_err::read_to_string(place.file("user-temp/a.tmp")).unwrap(), "a");
}

#[test]
fn a_pc_one_of_whose_own_files_is_a_link_is_not_opened() {
    let place = Place::new();
    let outside = place.folder.path().join("outside.json");
    fs_err::write(&outside, "{}").unwrap();
    for name in
        ["settings/registry.json.new", "clock.json.new", "settings-file.new", "events.jsonl"]
    {
        let path = place.pc.folder().join(name);
        let _ = fs_err::remove_file(&path);
        symlink(&outside, &path).unwrap();
        let error = RehearsalPc::open(place.pc.folder()).unwrap_err().to_string();
        assert!(error.contains("is a link"), "{name}: {error}");
        fs_err::remove_file(&path).unwrap();
    }
    assert_eq!(fs_err::read_to_string(&outside).unwrap(), "{}");
}
