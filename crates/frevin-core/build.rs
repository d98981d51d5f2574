//! Rebuilds the core when a tweak definition is added, changed or removed.

fn main() {
    println!("cargo::rerun-if-changed=../../catalogue");
}
