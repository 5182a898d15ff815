//! MongoDB 6.0 and later, and servers that speak its protocol, by the official driver, which finds the members of a replica set or
//! the routers of a sharded cluster.
//!
//! A collection is a table: the members of its documents, as samples show them, are columns, `_id` is the key. A request is one
//! command per level; the rows of several levels are read in one snapshot, where the server has snapshots.
//!
//! ```text
//! condition, pipeline   Condition, Select ─► commands with places for values (template)
//! values                BSON ─► cells and JSON, and back
//! run, change           reading levels; a mutation's steps in a transaction
//! survey                collections, validators, indexes, samples ─► a catalog
//! ```

mod change;
mod condition;
mod connect;
mod explain;
mod fault;
mod pipeline;
mod run;
mod survey;
mod template;
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
/// `SOURCE_UNAVAILABLE` where an address cannot be understood.
pub(crate) fn connector(settings: &SourceSettings, base: &Path, _: usize) -> Result<Source, Problem> {
    let server = |_: &str| connect::Server::new(settings, base);
    Ok(Arc::new(Cluster::open("mongodb", settings, server)?))
}
