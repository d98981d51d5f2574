//! A definition of a tweak that somebody passes on, with what it makes of the values that it is tried with.
#![no_main]

use frevin_core::tweak::{Catalogue, Tweak};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    if let Ok(tweak) = Tweak::parse("own/tweak.toml", text) {
        drop(tweak.sample_settings());
        drop(Catalogue::from_definitions([("own/tweak.toml", text)]));
    }
});
