//! A profile that somebody passes on: read, and written again where it is one.
#![no_main]

use std::sync::LazyLock;

use frevin_core::profile::Profile;
use frevin_core::tweak::Catalogue;
use libfuzzer_sys::fuzz_target;

static CATALOGUE: LazyLock<Catalogue> = LazyLock::new(|| Catalogue::built_in().expect("it is Frevin's own"));

fuzz_target!(|text: &str| {
    if let Ok(profile) = Profile::parse("profile.toml", text, &CATALOGUE) {
        let document = profile.to_document();
        let again = Profile::parse("again.toml", &document, &CATALOGUE);
        assert!(again.is_ok(), "what was written is read again:\n{document}");
    }
});
