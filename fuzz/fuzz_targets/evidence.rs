//! A file of evidence that somebody passes on.
#![no_main]

use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| frevin::read_evidence_bytes(bytes));
