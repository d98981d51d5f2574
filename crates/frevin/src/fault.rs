//! A fault of Frevin's own: something that the program took for impossible.

use std::backtrace::{Backtrace, BacktraceStatus};
use std::panic;

use crate::failure::{Failure, Kind};

/// Tells a fault in a sentence, and ends the program with the exit code of one, whatever thread it is met on.
///
/// Nothing is cleared up: what is on the disk and on the PC is then as after a kill, which is what recovery is made for. So
/// released programs need nothing that unwinds a stack.
pub(crate) fn end_with_exit_code(tell: fn(&Failure)) {
    panic::set_hook(Box::new(move |fault| {
        let place = fault.location().map(|place| format!("{}:{}", place.file(), place.line()));
        let mut failure = failure(fault.payload_as_str(), place.as_deref());
        let backtrace = Backtrace::capture();
        if backtrace.status() == BacktraceStatus::Captured {
            failure = failure.details(backtrace.to_string().lines().map(str::to_owned));
        }
        tell(&failure);
        std::process::exit(failure.kind.exit_code().into());
    }));
}

fn failure(message: Option<&str>, place: Option<&str>) -> Failure {
    let message = message.unwrap_or("no reason is known");
    let mut failure = Failure::new(Kind::Internal, format!("a fault of Frevin itself: {message}"));
    if let Some(place) = place {
        failure = failure.detail(format!("at {place}"));
    }
    failure
        .hint("`frevin recover` puts back what is half done; please report this with what you did")
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_fault_says_what_where_and_what_to_do() {
        let told = failure(Some("index out of bounds"), Some("src/rows.rs:7"));
        assert_eq!(told.kind.exit_code(), 70);
        assert_eq!(told.message, "a fault of Frevin itself: index out of bounds");
        let json = serde_json::to_string(&told.told()).unwrap();
        assert!(json.contains("src/rows.rs:7") && json.contains("frevin recover"), "{json}");
    }
}
