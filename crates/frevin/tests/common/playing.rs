//! Games that are begun and looked at while they run.
#![allow(unreachable_pub, reason = "each test that plays takes it in")]

use std::process::{Child, Stdio};
use std::time::{Duration, Instant};

use serde_json::Value;

use crate::common::Place;

/// Begins to play without waiting for the end.
pub fn begun(place: &Place, words: &[&str]) -> Child {
    let words = [&["--yes", "play"][..], words].concat();
    let said = std::fs::File::create(place.path().join("said")).unwrap();
    place.command(&words).stdout(Stdio::null()).stderr(said).spawn().unwrap()
}

/// Waits until something is so of what is held.
pub fn wait_for(place: &Place, what: &str, is_so: impl Fn(&Value) -> bool) -> Value {
    let begun = Instant::now();
    loop {
        let status = place.json(&["play", "status"]);
        if is_so(&status) {
            return status;
        }
        let said = || std::fs::read_to_string(place.path().join("said")).unwrap_or_default();
        assert!(begun.elapsed() < Duration::from_secs(20), "{what}: {status} {}", said());
        std::thread::sleep(Duration::from_millis(20));
    }
}

pub fn runs(status: &Value) -> bool {
    status["processes"].as_array().is_some_and(|ids| !ids.is_empty())
}

pub fn id_of_game(status: &Value) -> u32 {
    u32::try_from(status["processes"][0].as_u64().unwrap()).unwrap()
}

pub fn kill(id: u32) {
    let pid = rustix::process::Pid::from_raw(i32::try_from(id).unwrap()).unwrap();
    let _ = rustix::process::kill_process(pid, rustix::process::Signal::KILL);
}
