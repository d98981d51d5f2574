//! A script of somebody's pack, which is read and never run.
#![no_main]

use frevin_core::script_text::{self, ScriptLanguage};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|text: &str| {
    for ending in ["ps1", "cmd"] {
        if let Some(language) = ScriptLanguage::of_ending(ending) {
            drop(script_text::read(text, language, None));
        }
    }
});
