//! Measuring: runs recorded and imported, and states compared.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]

mod common;

use std::fmt::Write as _;
use std::path::Path;

use common::Place;
use insta::assert_snapshot;

fn record(place: &Place, state: &str) {
    place.run(&["rehearsal", "restart"]).ok();
    place.run(&["run", "record", "--scene", "canyon-run", "--state", state]).ok();
}

#[test]
fn a_visit_is_recorded_with_its_warm_up_marked() {
    let place = Place::new();
    let args = ["run", "record", "--scene", "canyon-run", "--state", "before"];
    assert_snapshot!(place.run(&args).ok().out, @"
    Recorded. Visit 1 of `before` in canyon-run: 3 runs in FPS.
      run           average  1% low  0.1% low  longest  stutters  length
        1  warm-up     78.8    60.0      17.4    81 ms  18.0/min    60 s
        2              84.9    64.0      24.4    68 ms   8.0/min    60 s
        3              84.7    72.0      43.7    78 ms   5.0/min    60 s
        4              85.6    67.7      37.8    73 ms  10.0/min    60 s

    The PC around it
                                  before    after
      processes                      171      171
      services that run               92       92
      free on all drives         758 GiB  758 GiB
      refresh rate of Lumet 22S    60 Hz    60 Hz
      refresh rate of Lumet 27Q    60 Hz    60 Hz
    ");
    let again = place.json(&args);
    let runs = again["visit"]["runs"].as_array().unwrap();
    assert_eq!(runs.len(), 3, "no warm-up where the PC has not restarted since");
    assert_snapshot!(place.run(&["run", "show", "2"]).ok().out, @"
    Run 2 of `before` in canyon-run (visit 1)
      source  recorded on a rehearsal PC
      frames  5097 in 60.0 s

      average FPS  84.9
      1% low FPS   64.0

      median FPS                    86.0
      0.1% low FPS                  24.4  unstable from run to run
      average of the slowest 1 %    41.8
      average of the slowest 0.1 %  15.5
      1% low by time                50.2
      longest frame                 68.0 ms
      standard deviation            1.97 ms
      pacing                        0.63 ms  from frame to frame; 5.3 % of the mean
      stutters                      8 (8.0 a minute), 0.54 % of the time

      latency             38.07 ms  `simulated latency`, of 5097 frames
      slowest twentieth   48.06 ms or more
      graphics card busy  80 % of the time
      frame thread busy   95 % of the time

      The processor limits the frames: the thread that makes them is busy 95 % of the time.

    Longest frames over time
      ▂▃▂▂▃▃▂▃▂▃▄▃▂▅▃▂▃▂▃█▃▃▂▂▂▂▂▂▃▂▃▂▇▂▇▃▄▃▂▃▃▂▃▂▂▃▃▂▃▃▃▂▂▃▂▃▂▂▃▇▂▃▂▂▃▂▃▂▂▂▃▃█▂▃▃▂▃▃▃
      0 to 60 s, highest 68 ms

    Frames by length
      9.6 to 10.1 ms      █ 32
      10.1 to 10.8 ms     ██████████ 377
      10.8 to 11.4 ms     ████████████████████████████████████ 1481
      11.4 to 12.1 ms     ██████████████████████████████████████████████████ 2059
      12.1 to 12.9 ms     ██████████████████████ 902
      12.9 to 13.7 ms     ████ 160
      13.7 to 14.5 ms     █ 23
      14.5 to 15.4 ms     █ 10
      15.4 to 15.7 ms     █ 4
      15.7 ms and longer  ██ 49
    ");
    assert_snapshot!(place.run(&["scene", "list"]).ok().out, @"
    scene                            game                graphics  resolution  route
    canyon-run                       Gorsehollow Riders  high      2560x1440   From the north gate to
                                                                               the mill, 60 seconds on
                                                                               horseback
    night-market (not recorded yet)  Gorsehollow Riders  high      2560x1440   Once around the market
                                                                               square, 60 seconds on
                                                                               foot
    ");
}

#[test]
fn nothing_is_recorded_while_something_waits_for_a_restart() {
    let place = Place::with_evening();
    place.run(&["apply", "evening", "--yes"]).ok();
    let args = ["run", "record", "--scene", "canyon-run", "--state", "after"];
    assert_snapshot!(place.run(&args).fails(5).err, @r"
    error: nothing was recorded: the PC does not yet behave by all that is in force
      registry:HKLM\SOFTWARE\Policies\Microsoft\Windows\GameDVR#AllowGameDVR (recording/background) waits for a sign-out
      registry:HKLM\SYSTEM\CurrentControlSet\Control\Session Manager\Memory Management#LargeSystemCache (memory/large-file-cache) waits for a restart
      registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#AppCaptureEnabled (recording/background) waits for a sign-out
      registry:HKCU\SOFTWARE\Microsoft\Windows\CurrentVersion\GameDVR#HistoricalCaptureEnabled (recording/background) waits for a sign-out
    help: restart the PC first (a rehearsal PC: `frevin rehearsal restart`)
    help: --despite-waiting records all the same, and marks the runs
    ");
    let despite: Vec<&str> = args.iter().copied().chain(["--despite-waiting"]).collect();
    place.run(&despite).ok();
    place.run(&["rehearsal", "restart"]).ok();
    place.run(&args).ok();
}

#[test]
fn a_change_that_helps_is_found_better_and_one_that_hurts_worse() {
    let place = Place::new();
    let apply = |tweak: &str| {
        place.run(&["apply", "--tweak", tweak, "--yes"]).ok();
    };
    let nothing = || {
        place.run(&["rollback", "--all", "--yes"]).ok();
    };
    let is_decided = |a: &str, b: &str| place.json(&["compare", a, b])["is_finished"] == true;
    // Pairs in turns, until the rule has a verdict: it ends by itself at 12 pairs.
    let mut pairs = 0;
    while pairs == 0 || !is_decided("before", "quiet") || !is_decided("before", "cached") {
        record(&place, "before");
        apply("recording/background");
        record(&place, "quiet");
        nothing();
        apply("memory/large-file-cache");
        record(&place, "cached");
        nothing();
        pairs += 1;
    }
    assert_snapshot!(place.run(&["compare", "before", "quiet"]).ok().out, @"
    Is `quiet` better than `before` in canyon-run?
    Better. 6 pairs of visits

                      A     B  difference      95 % interval  found
      average FPS  85.2  89.3      +5.2 %   +3.9 % to +6.4 %  better after 4 pairs
      1% low FPS   68.7  74.9      +7.7 %  +2.0 % to +13.7 %  better after 6 pairs

      average FPS  -14 % ·················┊│┊···├─●┤·········· +14 %
      1% low FPS   -14 % ··············┊···│··├──────●───────┤ +14 %
      ● estimate  ├─┤ interval  ┊ worth having  │ no difference

      guard: stutters -33.3 %, within +25 %
      guard: uneven pacing -10.4 %, within +10 %
      guard: latency -3.7 %, within +5 %

      The processor limits the frames: the thread that makes them is busy 96 % of the time.

    Around the visits, on average
                                       A        B
      processes                      171      171
      services that run               92       92
      free on all drives         758 GiB  758 GiB
      refresh rate of Lumet 22S    60 Hz    60 Hz
      refresh rate of Lumet 27Q    60 Hz    60 Hz

    Next
      see what is in force now  frevin status
      add it to a profile       frevin profile add NAME --tweak AREA/NAME
    ");
    let worse = place.run(&["compare", "before", "cached"]).fails(1);
    assert!(worse.out.contains("Worse."), "{}", worse.out);
    let json = place.json(&["compare", "before", "quiet"]);
    assert_eq!(json["verdict"], "better");
    let after = (&json["pairs"], &json["pairs_after_verdict"]);
    assert_eq!(after.0.as_u64().unwrap() + after.1.as_u64().unwrap(), pairs, "{json}");
}

#[test]
fn a_comparison_says_what_weakens_it() {
    let place = Place::new();
    for state in ["a", "a", "b", "b", "b"] {
        let args = ["run", "record", "--scene", "canyon-run", "--state", state];
        let short = ["--seconds", "5", "--runs", "2", "--warm-up", "0"];
        place.run(&[&args[..], &short].concat()).ok();
    }
    assert_snapshot!(place.run(&["compare", "a", "b"]).ok().out, @"
    Is `b` better than `a` in canyon-run?
    Undecided. 2 pairs of visits; the first look is at 4, the last at 12

                      A     B     difference  95 % interval  found
      average FPS  84.1  85.4  too few pairs  too few pairs  undecided
      1% low FPS   67.7  71.4  too few pairs  too few pairs  undecided

      ● estimate  ├─┤ interval  ┊ worth having  │ no difference

      guard: stutters: too few pairs to say
      guard: uneven pacing: too few pairs to say
      guard: latency: too few pairs to say

      The processor limits the frames: the thread that makes them is busy 95 % of the time.

    Around the visits, on average
                                       A        B
      processes                      171      171
      services that run               92       92
      free on all drives         758 GiB  758 GiB
      refresh rate of Lumet 22S    60 Hz    60 Hz
      refresh rate of Lumet 27Q    60 Hz    60 Hz

    caution:
      The visits were not made in turns: a PC that slowly warms up or fills up would look like a
      difference. Record A and B alternately.
    caution:
      Visits of one state with none of the other beside them, and left out: 1.
    caution:
      Runs that were the first after a restart, and count all the same: 1. They are slower than what
      follows.
    caution:
      4 visits have fewer than three runs: one odd run weighs more there.
    caution:
      Both names stand for the same state of the PC: by Frevin's settings there is nothing to compare.

    Next
      another visit of each, in turns  frevin run record --scene canyon-run --state a
      and with the other state         frevin run record --scene canyon-run --state b
    ");
    place.run(&["compare", "a", "c"]).fails(3);
}

#[test]
fn a_name_that_stands_for_two_states_is_told() {
    let place = Place::new();
    for state in ["a", "b"] {
        record(&place, state);
    }
    let said = place.run(&["compare", "a", "b"]).ok();
    assert!(said.out.contains("stand for the same state"), "{}", said.out);
    place.run(&["apply", "--tweak", "looks/menu-delay", "--yes"]).ok();
    place.run(&["rehearsal", "restart"]).ok();
    let again = ["run", "record", "--scene", "canyon-run", "--state", "a"];
    let said = place.run(&again).fails(5);
    assert_snapshot!(said.err, @"
    error: nothing was recorded: `a` is the name of another state of this PC
      in force in visit 1: no tweaks
      in force now: looks/menu-delay
    help: choose another --state, or bring the PC into the one that you mean
    help: `frevin run label 1 NAME` gives that visit another name
    ");
    // A visit that was named wrongly is named anew, or taken out.
    place.run(&["run", "label", "1", "c"]).ok();
    place.run(&again).ok();
    place.run(&["run", "void", "2", "--reason", "the wrong state"]).ok();
    let said = place.run(&["run", "list", "--state", "b"]).ok();
    assert!(said.out.contains("void: the wrong state"), "{}", said.out);
    assert_eq!(place.json(&["compare", "a", "b"])["pairs"], 0);
}

/// A log as a person has it: `frames` rows after a heading, in microseconds with decimals.
fn log(frames: usize, offset_us: f64) -> String {
    let mut text = String::from("\u{feff}when;what;took us\r\n");
    for frame in 0..frames {
        let us = 8_000.0 + offset_us + (frame % 7) as f64 * 100.25;
        let _ = write!(text, "{frame};\"present; flip\";{}\r\n", us.to_string().replace('.', ","));
    }
    text
}

#[test]
fn logs_are_imported_and_compared() {
    let place = Place::new();
    place.add_mill();
    for visit in 0..4 {
        for (state, offset_us) in [("old", 0.0), ("new", -400.0)] {
            let name = format!("{state}-{visit}.csv");
            place.write(&name, log(5_000, offset_us + f64::from(visit) * 3.0));
            let import = ["run", "import", &name, "--column", "took us", "--unit", "us"];
            let said = place.run(&[&import[..], &["--scene", "mill", "--state", state]].concat());
            if visit == 0 && state == "old" {
                assert_snapshot!(said.ok().out, @"
                old-0.csv: 5000 rows
                Imported. Visit 1 of `old` in mill, in FPS:
                  run     average  1% low  0.1% low  longest  stutters  length
                    1       120.5   116.3     116.3     9 ms   0.0/min    42 s
                ");
            } else {
                said.ok();
            }
        }
    }
    let compared = place.json(&["compare", "old", "new"]);
    assert_eq!(compared["verdict"], "better");
    let run = place.json(&["run", "show", "1"]);
    assert_eq!(run["source"]["log-file"], "old-0.csv", "no private path is kept");
    assert_eq!(run["metrics"]["frames"], 5000);
}

#[test]
fn a_row_or_two_without_a_frame_is_told() {
    let place = Place::new();
    place.add_mill();
    place.write("a.csv", format!("ms\n{}oops\n", "16.6\n".repeat(300)));
    let import = ["run", "import", "a.csv", "--column", "ms", "--unit", "ms"];
    let said = place.run(&[&import[..], &["--scene", "mill", "--state", "a"]].concat()).ok();
    assert_snapshot!(said.out, @"
    a.csv: 301 rows
      1 without a frame time, left out:
        line 302: `oops` is not a number
    Imported. Visit 1 of `a` in mill, in FPS:
      run     average  1% low  0.1% low  longest  stutters  length
        1        60.2    60.2      60.2    17 ms   0.0/min     5 s
    run 1: It looks to have been under a frame cap: 100 % of the frames make just 60.2 a second.
    ");
}

#[test]
fn logs_of_any_dialect_are_imported_and_what_was_taken_is_told() {
    let place = Place::empty();
    place.add_mill();
    let mut packer = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::default());
    std::io::Write::write_all(&mut packer, b"frametime_us,n\n7100,1\n8000,2\n9000,3\n").unwrap();
    place.write("a.log", packer.finish().unwrap());
    let stamps = b"# Friday\nelapsed s;load\n0,000;5\n0,007;6\n0,0152;7\n0,0242;8\n";
    place.write("b.zst", zstd::encode_all(&stamps[..], 1).unwrap());
    place.write("c.jsonl", "{\"frame_ms\": 7.3}\n{\"frame_ms\": 8}\n{\"frame_ms\": 9}\n");
    let wide = "\u{feff}Frame Time [ms]\r\n7.4\r\n8\r\n9\r\n".encode_utf16();
    place.write("d.csv", wide.flat_map(u16::to_le_bytes).collect::<Vec<u8>>());
    let import = |files: &[&str]| {
        let args = [&["run", "import"][..], files, &["--scene", "mill", "--state", "a"]].concat();
        place.run(&args)
    };
    let said = import(&["a.log", "b.zst", "c.jsonl", "d.csv"]).ok();
    assert_snapshot!(said.out, @"
    a.log: 3 rows
      cells are separated by commas
      `frametime_us` holds frame times, by its name
      `frametime_us` names its unit: us
    b.zst: 4 rows
      cells are separated by semicolons
      the heading is line 2
      `elapsed s` holds times at which frames were shown, by its name
      `elapsed s` names its unit: s
    c.jsonl: 3 rows
      it is JSON, an object on each line
      `frame_ms` holds frame times, by its name
      `frame_ms` names its unit: ms
    d.csv: 3 rows
      `Frame Time [ms]` holds frame times, by its name
      `Frame Time [ms]` names its unit: ms
    Imported. Visit 1 of `a` in mill, in FPS:
      run     average  1% low  0.1% low  longest  stutters  length
        1       124.5   111.4     111.1     9 ms   0.0/min     0 s
        2       124.0   111.3     111.1     9 ms   0.0/min     0 s
        3       123.5   111.4     111.1     9 ms   0.0/min     0 s
        4       123.0   111.4     111.1     9 ms   0.0/min     0 s
    ");

    place.write("two.csv", "program,frametime\na.exe,7\nb.exe,8\na.exe,9\n");
    assert_snapshot!(import(&["two.csv"]).fails(4).err, @r#"
    error: two.csv: the log is of several: `program` holds `a.exe`, `b.exe`
    help: choose one: --only "program=TEXT"
    help: nothing was kept
    "#);
    let only = ["two.csv", "--only", "program=a.exe"];
    assert!(import(&only).ok().out.contains("2 rows"));
    place.write("cut.gz", [0x1F, 0x8B, 8, 0, 0, 0]);
    assert_snapshot!(import(&["cut.gz"]).fails(4).err, @"
    error: cut.gz: it cannot be read to its end: unexpected end of file
    help: was it written to its end?
    help: nothing was kept
    ");
    place.write("words.txt", "no numbers here\nat all\n");
    assert_snapshot!(import(&["words.txt"]).fails(4).err, @"
    error: words.txt: no row of numbers was found; it begins:
        no numbers here
        at all
    help: a log has a row for each frame, with its time in it
    help: nothing was kept
    ");
}

#[test]
fn frames_go_out_for_other_tools_and_come_in_again_as_they_were() {
    let place = Place::with_evening();
    let record = ["run", "record", "--scene", "canyon-run", "--state", "a", "--runs", "1"];
    place.run(&[&record[..], &["--warm-up", "0", "--seconds", "2"]].concat()).ok();
    let figures = |run: &str| place.json(&["run", "show", run])["metrics"].clone();
    let parquet = ["run", "export", "1", "--format", "parquet"];
    place.run(&parquet).fails(2);
    place.run(&[&parquet[..], &["--file", "out.parquet"]].concat()).ok();
    assert_eq!(frames_in_parquet(&place.path().join("out.parquet")), frames_in_csv(&place));
    for (format, file) in [("csv", "out.csv"), ("jsonl", "out.jsonl")] {
        place.run(&["run", "export", "1", "--format", format, "--file", file]).ok();
        place.run(&["run", "export", "1", "--format", format, "--file", file]).fails(4);
        let read = place.json(&["run", "figures", file]);
        assert_eq!(read["logs"][0]["metrics"], figures("1"));
        // Known again by its frames, whatever the format: copies are no second visit.
        let import = ["run", "import", file, "--scene", "canyon-run", "--state", "b"];
        let said = place.run(&import).fails(4);
        assert!(said.err.contains("in the ledger already: run 1"), "{}", said.err);
    }
    let text = place.run(&["run", "export", "1"]).ok().out;
    assert_eq!(text.lines().next(), Some("frame,shown_ms,frame_ms"));
    place.run(&["run", "export", "9"]).fails(3);
}

/// Frame numbers, when each was shown and how long it took, read by another reader than ours.
fn frames_in_parquet(file: &Path) -> Vec<(i64, f64, f64)> {
    use parquet::file::reader::{FileReader as _, SerializedFileReader};
    use parquet::record::RowAccessor as _;

    let reader = SerializedFileReader::new(std::fs::File::open(file).unwrap()).unwrap();
    let rows = reader.get_row_iter(None).unwrap().map(Result::unwrap);
    rows.map(|row| {
        let (frame, shown_ms) = (row.get_long(0).unwrap(), row.get_double(1).unwrap());
        (frame, shown_ms, row.get_double(2).unwrap())
    })
    .collect()
}

fn frames_in_csv(place: &Place) -> Vec<(i64, f64, f64)> {
    let text = place.run(&["run", "export", "1"]).ok().out;
    let row = |line: &str| {
        let cells: Vec<&str> = line.split(',').collect();
        (cells[0].parse().unwrap(), cells[1].parse().unwrap(), cells[2].parse().unwrap())
    };
    text.lines().skip(1).map(row).collect()
}

#[test]
fn what_runs_were_recorded_under_is_marked_and_unlike_ones_are_told() {
    let place = Place::empty();
    place.add_mill();
    let play = |seconds: f64, middle_ms: f64| -> Vec<f64> {
        let count = (seconds * 1000.0 / middle_ms) as u32;
        (0..count).map(|i| middle_ms * (0.8 + f64::from(i * 37 % 101) / 250.0)).collect()
    };
    let text = |frames: Vec<f64>| {
        let rows: String = frames.iter().map(|ms| format!("{ms}\n")).collect();
        format!("frametime_ms\n{rows}")
    };
    place.write("played.csv", text(play(30.0, 10.0)));
    place.write("menu.csv", text([play(8.0, 3.0), play(40.0, 10.0), vec![3000.0]].concat()));
    let import = |file: &str, state: &str, more: &[&str]| {
        let args = ["run", "import", file, "--scene", "mill", "--state", state];
        place.run(&[&args[..], more].concat()).ok()
    };
    import("played.csv", "calm", &["--game-version", "1.0"]);
    let told = ["--on-battery", "--while-recording", "--game-version", "1.1"];
    let shown = import("menu.csv", "busy", &told).out;
    for mark in ["From 0 s on, for 8 s", "A pause at 48 s", "On battery", "a video", "version 1.1"]
    {
        assert!(shown.contains(mark), "{mark} in {shown}");
        assert!(place.run(&["run", "show", "2"]).ok().out.contains(mark), "{mark}");
    }
    let cautions = place.json(&["compare", "calm", "busy"])["cautions"].to_string();
    for caution in [
        "phases",
        "pauses",
        "some-on-battery",
        "some-while-recording",
        "several-versions",
        "unlike-lengths",
    ] {
        assert!(cautions.contains(caution), "{caution} in {cautions}");
    }
    let in_words = place.run(&["compare", "calm", "busy"]).ok().out;
    let in_words = in_words.split_whitespace().collect::<Vec<_>>().join(" ");
    for caution in [
        "1 of 1 runs of busy hold a stretch unlike",
        "1 of 1 runs of busy hold a pause",
        "on battery: 0 of 1 of A, 1 of 1 of B",
        "while a video was recorded: 0 of 1",
        "several versions of the game: 1.0, 1.1",
        "between 30 and 51 s long",
    ] {
        assert!(in_words.contains(caution), "{caution} in {in_words}");
    }
    place.write("again.csv", text(play(30.0, 10.01)));
    import("again.csv", "again", &["--game-version", "1.0"]);
    let alike = place.json(&["compare", "calm", "again"])["cautions"].to_string();
    assert!(!alike.contains("battery") && !alike.contains("version"), "{alike}");
}

#[test]
fn a_frame_cap_is_seen_and_weakens_a_comparison() {
    let place = Place::empty();
    place.add_mill();
    let log = |shortest_ms: f64| {
        let frame_ms = |i: u32| (14.0 + f64::from(i * 31 % 97) / 25.0).max(shortest_ms);
        let rows: String = (0..2000).map(|i| format!("{}\n", frame_ms(i))).collect();
        format!("frametime_ms\n{rows}")
    };
    place.write("free.csv", log(0.0));
    place.write("capped.csv", log(1000.0 / 60.0));
    for state in ["free", "capped"] {
        let file = format!("{state}.csv");
        let args = ["run", "import", &file, "--scene", "mill", "--state", state];
        place.run(&args).ok();
    }
    assert!(place.json(&["run", "show", "1"])["conditions"]["detected"]["frame_cap"].is_null());
    let shown = place.json(&["run", "show", "2"])["conditions"]["detected"].clone();
    let cap = shown["frame_cap"]["fps"].as_f64().unwrap();
    assert!((cap - 60.0).abs() < 0.1, "{cap}");
    assert!(place.run(&["run", "show", "2"]).ok().out.contains("under a frame cap"));
    let compared = place.json(&["compare", "free", "capped"]);
    let cautions = compared["cautions"].to_string();
    assert_eq!(cautions.matches("\"capped\"").count(), 2, "one caution, of one state: {cautions}");
    assert!(!cautions.contains("\"free\""), "{cautions}");
}
