//! Structured logs on standard error. Secrets, rows and values never appear in them.
//!
//! `info` has one line per ask and per start or stop; `warn` what somebody should look at today; `error` now. The
//! target says what it is about: `puente::ask`, `puente::source`, `puente::service`.

use std::io::IsTerminal as _;

use tracing_subscriber::EnvFilter;

/// Starts logging: for people on a terminal, as JSON elsewhere.
pub fn start() {
    let filter = crate::environment::read(crate::environment::LOG);
    let filter = EnvFilter::new(filter.as_deref().unwrap_or("info"));
    let builder = tracing_subscriber::fmt().with_env_filter(filter).with_writer(std::io::stderr);
    // A second start, in a test, changes nothing.
    let _ = if std::io::stderr().is_terminal() { builder.try_init() } else { builder.json().try_init() };
}
