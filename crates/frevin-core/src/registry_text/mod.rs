//! Windows' registry text format: what Registry Editor exports and imports.
//!
//! [`read`] takes both versions of the format in every encoding that they come in; [`write()`] makes
//! the newer one. Reading goes on after a line that is none, as Windows does, and tells of it.

mod read;
mod write;

pub use read::{
    Entry, LineProblem, Operation, RegistryText, RegistryTextError, RegistryTextVersion, decode,
    read,
};
pub use write::{encode, write};

#[cfg(test)]
mod tests;
