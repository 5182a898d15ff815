//! MariaDB 10.6 and later, and MySQL 8 as far as it understands the same.
//!
//! A request is one statement per level, keyed by the parents' values, in one read-only snapshot. Reads run in sessions
//! that cannot write.

mod change;
mod connect;
mod explain;
mod fault;
mod params;
mod run;
mod survey;
mod types;
mod values;

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
pub(crate) fn connector(settings: &SourceSettings, base: &Path, _: usize) -> Result<Source, Problem> {
    let server = |url: &str| connect::Server::new(url, settings, base);
    Ok(Arc::new(Cluster::open("mariadb", settings, server)?))
}
