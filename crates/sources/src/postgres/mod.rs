//! PostgreSQL 12 and later.
//!
//! A request is one statement with one row, children nested as arrays of records (`wire.rs`); where no index finds the
//! children of a parent, one statement per level in one read-only snapshot. Reads run in sessions that cannot write.

mod change;
mod connect;
mod explain;
mod fault;
mod params;
mod run;
mod socket;
mod spell;
mod survey;
mod types;
mod wire;

use std::path::Path;
use std::sync::Arc;

use puente_core::error::Problem;
use puente_core::project::SourceSettings;
use puente_run::Source;

use crate::cluster::Cluster;
pub use connect::connect;
pub(crate) use survey::fingerprint;
pub use survey::survey;

/// Sets a source up; nothing is connected before the first request.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where an address or a certificate cannot be understood.
pub(crate) fn connector(settings: &SourceSettings, base: &Path, most_bytes: usize) -> Result<Source, Problem> {
    let server = |url: &str| connect::Server::new(url, settings, base, most_bytes);
    Ok(Arc::new(Cluster::open("postgres", settings, server)?))
}
