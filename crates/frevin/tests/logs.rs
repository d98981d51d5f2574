//! Logs of frame times of any dialect and any length, through the built program: what is read from each
//! is compared with the figures of the frames that it was written from.
#![allow(clippy::unwrap_used, clippy::expect_used, clippy::panic, reason = "a test may fail")]
#![cfg(not(windows))]

mod common;

use std::io::Write as _;

use common::Place;
use serde_json::Value;

/// Frame times of no simple pattern, with some long ones among them.
fn frames(count: u32) -> Vec<f64> {
    let frame = |i: u32| {
        let wander = f64::from(i.wrapping_mul(2_654_435_761) >> 12) / f64::from(1 << 20);
        let ms = 7.0 + 2.0 * wander + if i % 211 == 5 { 30.0 } else { 0.0 };
        (ms * 10_000.0).round() / 10_000.0
    };
    (0..count).map(frame).collect()
}

/// Average, 1% low and 0.1% low by their definitions, over all frames sorted.
fn reference(frames: &[f64]) -> [f64; 3] {
    let mut sorted = frames.to_vec();
    sorted.sort_by(f64::total_cmp);
    let quantile = |p: f64| {
        let h = (sorted.len() - 1) as f64 * p;
        let (below, above) = (sorted[h.floor() as usize], sorted[h.ceil() as usize]);
        below + (h - h.floor()) * (above - below)
    };
    let average = 1000.0 * frames.len() as f64 / frames.iter().sum::<f64>();
    [average, 1000.0 / quantile(0.99), 1000.0 / quantile(0.999)]
}

fn figures(place: &Place, file: &str, more: &[&str]) -> Value {
    place.json(&[&["run", "figures", file][..], more].concat())["logs"][0].clone()
}

#[track_caller]
fn is_read(place: &Place, name: &str, bytes: impl AsRef<[u8]>, frames: &[f64]) -> Value {
    place.write(name, bytes);
    let found = figures(place, name, &[]);
    let metrics = &found["metrics"];
    assert_eq!(metrics["frames"], frames.len(), "{name}: {found}");
    let keys = ["average_fps", "low_1_percent_fps", "low_0_1_percent_fps"];
    for (key, expected) in keys.iter().zip(reference(frames)) {
        let given = metrics[*key].as_f64().unwrap();
        assert!((given / expected - 1.0).abs() < 1e-6, "{name}: {key} {given}, not {expected}");
    }
    found
}

fn rows(frames: &[f64], row: impl Fn(usize, f64, f64) -> String) -> String {
    let mut shown_ms = 0.0;
    let mut text = String::new();
    for (index, ms) in frames.iter().enumerate() {
        shown_ms += ms;
        text += &row(index, *ms, shown_ms);
    }
    text
}

#[test]
fn dialects_give_the_figures_of_the_frames_that_they_were_written_from() {
    let place = Place::empty();
    let all = frames(3000);
    let comma = |number: f64| number.to_string().replace('.', ",");
    let plain = rows(&all, |i, ms, at| format!("{i},{at:.6},{ms},hollow\n"));
    let plain = format!("frame,shown at (ms),frame time (ms),program\n{plain}");
    is_read(&place, "plain.csv", &plain, &all);
    is_read(&place, "crlf.csv", plain.replace('\n', "\r\n"), &all);
    is_read(&place, "bars.txt", plain.replace(',', " | "), &all);
    let tabbed = rows(&all, |i, ms, _| format!("{i}\t{}\t\"a \"\"b\"\"\tc\"\n", comma(ms)));
    is_read(&place, "tabs.txt", format!("n\tFrameTime\tnote\n{tabbed}"), &all);
    let spaced = rows(&all, |i, ms, _| format!("  {i}    {:.1}   -\n", ms * 1000.0));
    is_read(&place, "blanks.txt", format!("; made by hand\n\nn frame_us x\n{spaced}"), &all);
    let quoted = rows(&all, |i, ms, _| format!("\"{i}\",\"{}\",\"two\nlines\"\n", comma(ms)));
    is_read(&place, "quoted.csv", format!("\"n\",\"Frame Time\",\"note\"\n{quoted}"), &all);
    let one_list =
        serde_json::json!({ "about": { "cores": [1, 2] }, "run": { "frameTimes": all } });
    is_read(&place, "one.json", one_list.to_string(), &all);
    let side_by_side = serde_json::json!({ "load": vec![50; all.len()], "frame_ms": all });
    is_read(&place, "columns.json", side_by_side.to_string(), &all);
    let objects = rows(&all, |i, ms, _| format!("{{\"i\": {i}, \"frameTimeMs\": {ms}}}\n"));
    is_read(&place, "lines.jsonl", objects, &all);
    let mut old = b"Jeu;Temps d'image \xb5s;Frame duration (\xb5s)\n".to_vec();
    old.extend(
        rows(&all, |_, ms, _| format!("\u{e9}cho;x;{:.1}\n", ms * 1000.0)).chars().map(|c| c as u8),
    );
    is_read(&place, "windows-1252.csv", old, &all);
}

#[test]
fn time_stamps_of_every_kind_give_the_frames_between_them() {
    let place = Place::empty();
    let all = frames(2000);
    let between = &all[1..];
    let epoch_ns = 1_763_900_000_000_000_000_i64;
    let long = rows(&all, |_, _, at| format!("{}\n", epoch_ns + (at * 1e6).round() as i64));
    is_read(&place, "epoch.csv", format!("timestamp_ns\n{long}"), between);
    let clock = |at_ms: f64| {
        let ns = (at_ms * 1e6).round() as i64 + 86_395_000_000_000;
        let of_day = ns % 86_400_000_000_000;
        let (s, below) = (of_day / 1_000_000_000, of_day % 1_000_000_000);
        format!("{:02}:{:02}:{:02}.{below:09}", s / 3600, s / 60 % 60, s % 60)
    };
    // Midnight comes five seconds after the first frame.
    let wrapped = rows(&all, |i, _, at| format!("{i};{}\n", clock(at)));
    let found = is_read(&place, "clock.csv", format!("n;time\n{wrapped}"), between);
    assert!(found["taken"].to_string().contains("as a clock shows it"), "{found}");
    let dated = rows(&all, |_, _, at| {
        let ns = (at * 1e6).round() as i64;
        format!(
            "2026-11-23 10:{:02}:{:02}.{:09}\n",
            ns / 60_000_000_000,
            ns / 1_000_000_000 % 60,
            ns % 1_000_000_000
        )
    });
    is_read(&place, "dated.csv", format!("time\n{dated}"), between);
}

#[test]
fn a_row_whose_time_cannot_be_read_makes_no_long_frame() {
    let place = Place::empty();
    let mut text = "elapsed_ms\n".to_owned();
    for i in 0..1000 {
        text += &if i == 500 { "?\n".to_owned() } else { format!("{}\n", i * 10 + i % 2) };
    }
    place.write("gap.csv", text);
    let found = figures(&place, "gap.csv", &[]);
    assert_eq!(found["metrics"]["longest_frame_ms"], 11.0);
    assert_eq!(found["metrics"]["frames"], 997);
    assert_eq!((&found["rejected"], &found["rejected_rows"][0]["line"]), (&1.into(), &502.into()));
}

#[test]
fn logs_of_several_displays_and_absurd_times_are_told() {
    let place = Place::empty();
    let text = rows(&frames(600), |i, ms, _| format!("game,{},{ms}\n", i % 2 + 1));
    place.write("two.csv", format!("program,display,frametime_ms\n{text}"));
    let failed = place.run(&["run", "figures", "two.csv"]).fails(4).err;
    assert!(failed.contains("`display` holds `1`, `2`"), "{failed}");
    let one = figures(&place, "two.csv", &["--only", "display=2", "--only", "program=game"]);
    assert_eq!(one["metrics"]["frames"], 300);
    let mut absurd = rows(&frames(1000), |_, ms, _| format!("{ms}\n"));
    absurd += "NaN\n0\n-5\ninf\n1e9\n1e-9\n";
    place.write("absurd.csv", format!("frame_ms\n{absurd}"));
    let found = figures(&place, "absurd.csv", &[]);
    assert_eq!((&found["rows"], &found["rejected"]), (&1006.into(), &6.into()));
    assert_eq!(found["metrics"]["frames"], 1000);
    place.write("rates.csv", "FPS\n60\n61\n59\n");
    let rates = place.run(&["run", "figures", "rates.csv"]).fails(4).err;
    assert!(rates.contains("cannot be had from averages"), "{rates}");
}

/// Pieces of a long log are read on several threads; what they come to must not depend on where it is cut.
#[test]
fn a_long_log_is_read_in_pieces_as_it_would_be_in_one() {
    let place = Place::empty();
    let all = frames(150_000);
    let row = |i: usize, ms: f64, at: f64| format!("{i},{at:.4},{ms},\"road, {}\"\n", i % 7);
    let text = format!("frame,shown_at_ms,frame_ms,place\n{}", rows(&all, row));
    assert!(text.len() > 4 << 20, "several pieces");
    is_read(&place, "long.csv", &text, &all);
    let mut packed = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    packed.write_all(text.as_bytes()).unwrap();
    let packed = packed.finish().unwrap();
    is_read(&place, "long.gz", &packed, &all);
    place.write("cut.gz", &packed[..packed.len() / 2]);
    place.run(&["run", "figures", "cut.gz"]).fails(4);
    let stamps = rows(&all, |i, _, at| format!("{at:.4},{i}\n"));
    is_read(&place, "stamps.csv", format!("elapsed_ms,n\n{stamps}"), &all[1..]);
    let mut broken: Vec<String> = text.lines().map(str::to_owned).collect();
    broken[100_000] = "nothing here".to_owned();
    place.write("broken.csv", broken.join("\n"));
    let found = figures(&place, "broken.csv", &[]);
    assert_eq!(found["rejected_rows"][0]["line"], 100_001);
    // A row is kept of what was cut off in the middle of one.
    let cut = &text[..text.len() - 20];
    place.write("cut.csv", cut);
    let of_cut = figures(&place, "cut.csv", &[]);
    assert!(of_cut["metrics"]["frames"].as_u64().unwrap() >= 149_999, "{of_cut}");
}
