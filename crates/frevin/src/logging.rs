//! Logging for those who look for a fault: quiet unless asked for.

use tracing_subscriber::EnvFilter;

/// Logs to standard error what `-v` asks for, or FREVIN_LOG.
pub(crate) fn start(verbosity: u8) {
    let level = match verbosity {
        0 => "off",
        1 => "frevin=info",
        2 => "frevin=debug",
        _ => "trace",
    };
    let filter = EnvFilter::try_from_env("FREVIN_LOG").unwrap_or_else(|_| EnvFilter::new(level));
    let subscriber = tracing_subscriber::fmt()
        .with_env_filter(filter)
        .with_writer(std::io::stderr)
        .with_target(false)
        .without_time()
        .finish();
    // A second start, as in a test that calls the program twice, leaves the first in place.
    let _ = tracing::subscriber::set_global_default(subscriber);
}
