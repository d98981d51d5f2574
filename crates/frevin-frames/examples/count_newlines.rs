//! Counts the line breaks of a file: what reading a log costs at the very least, for `benches/frame-logs`.
#![allow(clippy::print_stdout, reason = "that is what it does")]

use std::io::Read as _;

fn main() -> std::io::Result<()> {
    let path = std::env::args_os().nth(1).unwrap_or_default();
    let mut file = std::fs::File::open(path)?;
    let mut piece = vec![0; 1 << 20];
    let mut count = 0;
    loop {
        match file.read(&mut piece)? {
            0 => break,
            read => count += memchr::memchr_iter(b'\n', &piece[..read]).count(),
        }
    }
    println!("{count}");
    Ok(())
}
