//! A log of frames, of whatever kind: each frame that is read is one that a run can have.
#![no_main]

use frevin_frames::{LogOptions, read_log_bytes};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    if let Ok((series, reading)) = read_log_bytes(bytes, &LogOptions::default()) {
        assert_eq!(series.frame_ms().len() as u64, reading.frames);
        frevin_frames::metrics(&series);
    }
});
