//! A game's settings file: every part that is found in it is read, changed and taken back to the byte.
#![no_main]

use frevin_core::setting::{State, Value};
use frevin_core::settings_file::{self, Edit};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    for ending in ["ini", "cfg", "json", "xml"] {
        for part in settings_file::parts(bytes, ending).into_iter().take(20) {
            let before = settings_file::read(bytes, &part);
            for state in [State::Absent, State::Value(Value::Text("1".to_owned()))] {
                let Ok(Edit::Bytes(changed)) = settings_file::write(bytes, &part, &state) else { continue };
                assert_eq!(settings_file::read(&changed, &part), state);
                if state != State::Absent {
                    let back = settings_file::write(&changed, &part, &before);
                    assert_eq!(back, Ok(Edit::Bytes(bytes.to_vec())), "{part:?}");
                }
            }
        }
    }
});
