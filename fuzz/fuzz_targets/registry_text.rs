//! Registry text that somebody passes on; values that it sets are written and read again to the byte.
#![no_main]

use frevin_core::registry_text::{self, Operation};
use frevin_core::setting::{Address, State, Value};
use libfuzzer_sys::fuzz_target;

fuzz_target!(|bytes: &[u8]| {
    let Ok(read) = registry_text::read(bytes) else { return };
    for entry in read.entries {
        let Operation::SetValue(key, name, data) = entry.operation else { continue };
        let address = Address::RegistryValue(key.clone(), name.clone());
        let state = State::Value(Value::Registry(data.clone()));
        let text = registry_text::write([(&address, &state)]);
        let again = registry_text::read(&registry_text::encode(&text)).expect("it has its heading");
        let expected = Operation::SetValue(key, name, data);
        assert!(again.entries.iter().any(|entry| entry.operation == expected), "{text}");
    }
});
