//! Rebuilds this crate when a shipped rehearsal PC changes.

fn main() {
    println!("cargo::rerun-if-changed=../../rehearsal");
}
