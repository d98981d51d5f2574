//! Whether two states of a PC are the same, bit for bit.

use schemars::JsonSchema;
use serde::{Deserialize, Serialize};
use std::fmt;

use crate::contract::{Pc, PcError};

/// A hash over every setting of a PC and exactly what it holds.
#[derive(Debug, Clone, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
pub struct Fingerprint {
    /// The BLAKE3 hash in hexadecimal digits.
    pub hash: String,
    /// How many settings it is over.
    pub settings: usize,
}

impl fmt::Display for Fingerprint {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        let short = self.hash.get(..16).unwrap_or(&self.hash);
        write!(f, "{short} over {} settings", self.settings)
    }
}

/// The fingerprint of everything that can be listed on a PC.
///
/// # Errors
/// Where the PC cannot be asked.
pub fn fingerprint(pc: &(impl Pc + ?Sized)) -> Result<Fingerprint, PcError> {
    let mut hasher = blake3::Hasher::new();
    let addresses = pc.addresses()?;
    for address in &addresses {
        let state = pc.read(address)?;
        let line = serde_json::json!([address.identity(), state]).to_string();
        hasher.update(line.as_bytes());
        hasher.update(b"\n");
    }
    Ok(Fingerprint { hash: hasher.finalize().to_hex().to_string(), settings: addresses.len() })
}
