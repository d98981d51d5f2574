//! Pinging and ranking name servers, with servers of these tests' own on loopback.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
#![cfg(not(windows))]

mod common;

use std::net::{SocketAddr, TcpListener, UdpSocket};
use std::thread;
use std::time::Duration;

use common::Place;
use simple_dns::{Packet, RCODE};

/// A name server that answers late, loses every so-many-th question, and may refuse the others.
fn name_server(delay_ms: u64, loses_every: usize, refuses: bool) -> SocketAddr {
    let socket = UdpSocket::bind("127.0.0.1:0").unwrap();
    let address = socket.local_addr().unwrap();
    thread::spawn(move || {
        let mut buffer = [0; 512];
        for number in 1.. {
            let Ok((length, from)) = socket.recv_from(&mut buffer) else { return };
            let question = Packet::parse(&buffer[..length]).unwrap();
            if number % loses_every == 0 {
                continue;
            }
            thread::sleep(Duration::from_millis(delay_ms));
            let mut answer = Packet::new_reply(question.id());
            answer.questions = question.questions;
            if refuses {
                *answer.rcode_mut() = RCODE::Refused;
            }
            // What belongs to nobody's question must not count.
            let ours = answer.build_bytes_vec().unwrap();
            answer.set_id(answer.id().wrapping_add(1));
            socket.send_to(&answer.build_bytes_vec().unwrap(), from).unwrap();
            socket.send_to(&ours, from).unwrap();
        }
    });
    address
}

#[test]
fn name_servers_are_ranked_by_what_was_measured() {
    let place = Place::empty();
    let never = usize::MAX;
    let (fast, slow, leaky) =
        (name_server(1, never, false), name_server(25, never, false), name_server(1, 3, false));
    let refusing = name_server(1, never, true);
    let addresses = [refusing, leaky, slow, fast].map(|address| address.to_string());
    let servers: Vec<&str> = addresses.iter().map(String::as_str).collect();
    let probes = ["--count", "12", "--pause-ms", "0", "--lost-after-ms", "1000"];
    let report = place.json(&[&["network", "name-servers"][..], &servers, &probes].concat());
    let ranked = report["servers"].as_array().unwrap();
    let order: Vec<&str> = ranked.iter().map(|server| server["server"].as_str().unwrap()).collect();
    assert_eq!(order, [fast, slow, leaky, refusing].map(|address| address.to_string()), "{report}");
    let median_ms = ranked[1]["answers"]["times"]["median_ms"].as_f64().unwrap();
    assert!(median_ms >= 25.0, "{report}");
    assert_eq!(ranked[0]["answers"]["answered"], 12);
    assert_eq!(ranked[2]["answers"]["answered"], 8, "every third was lost: {report}");
    assert!(ranked[3]["refusal"].as_str().unwrap().to_lowercase().contains("refused"), "{report}");
    assert_eq!(ranked[3]["answers"]["answered"], 0);

    let other_port = ["--adapter", "Ethernet", "--profile", "names.toml"];
    let args = [&["network", "name-servers"][..], &servers[3..], &probes, &other_port].concat();
    let failed = place.run(&args).fails(4).err;
    assert!(
        failed.contains("port 53 only") && failed.contains("no profile was written"),
        "{failed}"
    );
    assert!(!place.path().join("names.toml").exists());
    let dead = ["network", "name-servers", "127.0.0.1:1", "--count", "2", "--lost-after-ms", "20"];
    assert!(place.run(&dead).fails(1).out.contains("refused"));
    place.run(&["network", "name-servers", "nowhere"]).fails(2);
}

#[test]
fn the_winners_become_a_profile_that_can_be_applied_and_taken_back() {
    let place = Place::with_evening();
    // Port 53 cannot be listened on by tests: the profile is the one that a measurement writes.
    let profile = "format = 1\nname = \"name-servers\"\npurpose = \"The name servers that answered fastest here\"\n\n\
        [[tweaks]]\nuse = \"network/name-servers\"\nnote = \"Measured medians: 192.0.2.53 3.1 ms\"\n\n\
        [tweaks.with]\nadapter = \"Ethernet\"\nservers = [\"192.0.2.53\", \"192.0.2.54\"]\n";
    place.write("names.toml", profile);
    place.run(&["profile", "save", "names.toml"]).ok();
    let before = place.pc_files();
    place.run(&["apply", "name-servers", "--yes"]).ok();
    let settings: String = place
        .pc_files()
        .values()
        .map(|bytes| String::from_utf8_lossy(bytes).into_owned())
        .collect();
    assert!(settings.contains("192.0.2.54"));
    place.run(&["rollback", "1", "--yes"]).ok();
    assert_eq!(place.pc_files(), before);
}

#[test]
fn an_address_is_pinged_around_a_visit_and_kept_with_it() {
    let place = Place::with_evening();
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    let ping = ["network", "ping", &address, "--count", "5", "--pause-ms", "0"];
    let answers = place.json(&ping)["answers"].clone();
    assert_eq!((&answers["sent"], &answers["answered"]), (&5.into(), &5.into()));
    for state in ["a", "b"] {
        let record = ["run", "record", "--scene", "canyon-run", "--state", state, "--runs", "1"];
        let visit = place.json(&[&record[..], &["--seconds", "2", "--ping", &address]].concat());
        let around = &visit["visit"]["environment"];
        assert_eq!(around["before"]["ping"]["sent"], 20, "{visit}");
        assert!(around["after"]["processes"].is_u64(), "{visit}");
    }
    let compared = place.run(&["compare", "a", "b"]).out;
    assert!(compared.contains("ping, average") && compared.contains("processes"), "{compared}");
    place.run(&["network", "ping", "no.such.name.invalid:1"]).fails(3);
}

/// The same path for both states: no difference, and nothing needs a game.
#[test]
fn a_trial_is_judged_by_ping_without_a_game() {
    let listener = TcpListener::bind("127.0.0.1:0").unwrap();
    let address = listener.local_addr().unwrap().to_string();
    thread::spawn(move || listener.incoming().for_each(drop));
    let place = Place::new();
    let start = ["trial", "start", "--tweak", "looks/menu-delay", "--seed", "1", "--yes"];
    let judge = ["--judge", "ping", "--ping", &address, "--ping-pause-ms", "0", "--runs", "1"];
    let said = place.json(&[&start[..], &judge, &["--average-margin", "40"]].concat());
    assert_eq!((&said["judge"], &said["restarts"]), (&"ping".into(), &false.into()));
    assert_eq!(said["scenes"][0], "network");
    assert_eq!(said["findings"][0]["primary"], "ping-median");
    assert!(said["findings"][0]["a_ms"].as_f64().unwrap() >= 0.0);
    assert_eq!(said["kept"], said["verdict"] == "better");
    let sent = said["visits"][0]["a"]["ping_loss"]["sent"].as_u64();
    assert_eq!(sent, Some(200), "{}", said["visits"][0]);
    assert!(said["cautions"].as_array().unwrap().is_empty(), "{}", said["cautions"]);
    // Nothing is known of frames, and nothing breaks on that.
    place.run(&["tweak", "show", "looks/menu-delay"]).ok();
    place.run(&["compare", "trial-1-a", "trial-1-b"]).fails(4);
    place.run(&["run", "list"]).ok();
    let shown = place.run(&["trial", "show"]).ok();
    assert!(shown.out.contains("ping, median"), "{}", shown.out);
}

#[test]
fn several_addresses_are_asked_in_turns_and_ranked() {
    let place = Place::empty();
    let [open, closed] = ["127.0.0.1:0"; 2].map(|any| TcpListener::bind(any).unwrap());
    let addresses = [&open, &closed].map(|listener| listener.local_addr().unwrap().to_string());
    drop(closed);
    let probes = ["--count", "7", "--pause-ms", "0", "--lost-after-ms", "1000"];
    let ping = [&["network", "ping"][..], &addresses.each_ref().map(String::as_str), &probes];
    let report = place.json(&ping.concat());
    let ranked = report["addresses"].as_array().unwrap();
    assert_eq!(ranked.len(), 2);
    for one in ranked {
        let refused = if one["address"] == addresses[1].as_str() { 7 } else { 0 };
        assert_eq!(
            (&one["answers"]["answered"], &one["answers"]["refused"]),
            (&7.into(), &refused.into())
        );
    }
    let said = place.run(&ping.concat()).ok();
    assert!(said.out.contains("2 addresses, in turns"), "{}", said.out);
    assert!(said.out.contains("Medians and their 95 % intervals"), "{}", said.out);
}
