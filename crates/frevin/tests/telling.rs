//! What is told where things are not as somebody would think.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use common::Place;
use insta::assert_snapshot;

#[test]
fn files_deleted_for_good_are_not_called_rolled_back() {
    let place = Place::new();
    place.run(&["apply", "--tweak", "clean/old-files", "--yes"]).ok();
    place.run(&["cleaned", "empty", "--yes"]).ok();
    let listed = place.run(&["rollback", "--list"]).ok();
    assert!(listed.out.contains("no way back is left for some of it"), "{}", listed.out);
    let left = place.pc_files();
    let said = place.run(&["rollback", "1", "--yes"]).ok();
    assert_snapshot!(said.out, @"Nothing to roll back: 4 settings of it were let go, emptied for good or kept as others made them. There is no way back for them.");
    assert_eq!(place.pc_files(), left);
}

#[test]
fn what_was_mended_is_not_found_again() {
    let place = Place::new();
    let found = || -> Vec<String> {
        let findings = place.json(&["inspect"])["found"].clone();
        let id = |finding: &serde_json::Value| finding["id"].as_str().unwrap().to_owned();
        findings.as_array().unwrap().iter().map(id).collect()
    };
    let at_first = found();
    for id in ["display-below-its-rate", "recording-behind-the-game"] {
        assert!(at_first.iter().any(|found| found == id), "{at_first:?}");
    }
    place.run(&["apply", "--tweak", "graphics/highest-refresh", "--yes"]).ok();
    place.run(&["apply", "--tweak", "recording/background", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    let now = found();
    assert!(
        !now.iter().any(|id| id == "display-below-its-rate" || id == "recording-behind-the-game")
    );
    place.run(&["rollback", "--all", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    assert_eq!(found(), at_first);
}

#[test]
fn an_own_tweak_comes_along_with_a_profile() {
    let place = Place::new();
    fs_err::create_dir_all(place.path().join("home/tweaks/mine")).unwrap();
    let own = concat!(
        "id = \"mine/quick\"\ntitle = \"Menus\"\nwhat = \"w\"\nwhy = \"y\"\nmay_break = \"b\"\n",
        "standing = \"harmful\"\nstanding_reason = \"It is a test.\"\nrisk = \"safe\"\n",
        "takes_effect = \"now\"\n\n[[settings]]\naddress = \"visual:menu-delay\"\nvalue = 3\n\n",
        "[[sources]]\ntitle = \"t\"\nstates = \"s\"\n",
    );
    place.write("home/tweaks/mine/quick.toml", own);
    let document =
        "format = 1\nname = \"o\"\npurpose = \"p\"\n\n[[tweaks]]\nuse = \"mine/quick\"\n";
    place.write("o.toml", document);
    place.run(&["profile", "save", "o.toml"]).ok();
    let exported = place.run(&["profile", "export", "o"]).ok();
    place.write("theirs.toml", &exported.out);

    let elsewhere = |args: &[&str]| place.run(&[args, &["--home", "other"]].concat());
    assert_snapshot!(elsewhere(&["profile", "import", "theirs.toml"]).ok().out, @"
    Done. Saved as o@1 cf2e8fdda9.
    mine/quick came along, and is one of your own tweaks now.
    mine/quick: harmful: It is a test.
    Look at it before you apply it: frevin preview o
    ");
    let taken = fs_err::read_to_string(place.path().join("other/tweaks/mine/quick.toml")).unwrap();
    assert_eq!(taken, own);
    elsewhere(&["apply", "o", "--yes"]).ok();
    elsewhere(&["rollback", "--all", "--yes"]).ok();

    // A stranger's definition is checked like any other, and nothing of a bad one stays.
    let protected = exported.out.replace("visual:menu-delay", "service:WinDefend#start");
    place.write("bad.toml", protected.replace("value = 3", "value = 'disabled'"));
    let said = place.run(&["profile", "import", "bad.toml", "--home", "third"]).fails(4);
    assert!(said.err.contains("its risk has to be `expert`"), "{}", said.err);
    assert!(!place.path().join("third/tweaks").exists());
}

#[test]
fn a_rehearsed_power_cut_says_what_to_type() {
    let place = Place::with_evening();
    place.run(&["rehearsal", "fault", "--power-cut-after", "3"]).ok();
    let said = place.run(&["apply", "evening", "--yes"]).fails(-1);
    assert_snapshot!(said.err, @"the power failed, as rehearsed: `frevin recover` brings the PC back");
}

#[test]
fn a_refused_port_is_no_connection() {
    let place = Place::new();
    // Bound and let go: nothing listens there.
    let port = std::net::TcpListener::bind("127.0.0.1:0").unwrap().local_addr().unwrap().port();
    let address = format!("127.0.0.1:{port}");
    let said = place.run(&["network", "ping", &address, "--count", "2"]).ok();
    assert!(said.out.contains("2 of 2 were refused"), "{}", said.out);
    let said = place.json(&["network", "ping", &address, "--count", "2"]);
    assert_eq!(said["answers"]["refused"], 2, "{said}");
}

#[cfg(target_os = "linux")]
#[test]
fn what_cannot_be_printed_is_a_failure() {
    let place = Place::new();
    for args in [&["inspect"][..], &["inspect", "--json"], &["tweak", "list"]] {
        let full = fs_err::OpenOptions::new().write(true).open("/dev/full").unwrap();
        let status = place
            .command(args)
            .stdout(full.into_file())
            .stderr(std::process::Stdio::null())
            .status()
            .unwrap();
        assert_eq!(status.code(), Some(10), "{args:?}");
    }
}
