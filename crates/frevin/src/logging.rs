//! Logging for those who look for a fault: quiet unless asked for.

use tracing_subscriber::Layer as _;
use tracing_subscriber::filter::Targets;
use tracing_subscriber::layer::SubscriberExt as _;

/// Logs to standard error what `-v` asks for, or FREVIN_LOG.
pub(crate) fn start(verbosity: u8) {
    let level = match verbosity {
        0 => "off",
        1 => "frevin=info",
        2 => "frevin=debug",
        _ => "trace",
    };
    let said = std::env::var("FREVIN_LOG").ok();
    let filter = said.and_then(|said| said.parse::<Targets>().ok());
    // The levels above are written as they are read.
    let filter = filter.or_else(|| level.parse().ok()).unwrap_or_default();
    let lines = tracing_subscriber::fmt::layer()
        .with_writer(std::io::stderr)
        .with_target(false)
        .without_time()
        .with_filter(filter);
    let subscriber = tracing_subscriber::registry().with(lines);
    // A second start, as in a test that calls the program twice, leaves the first in place.
    let _ = tracing::subscriber::set_global_default(subscriber);
}
