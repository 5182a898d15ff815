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

use futures_util::future::{BoxFuture, FutureExt as _};
use puente_core::error::Problem;
use puente_core::plan::{Capabilities, Plan};
use puente_core::project::SourceSettings;
use puente_sql::Dialect as _;

use crate::cluster::Cluster;
use crate::statements;
pub use connect::connect;
use puente_run::{ChangeRequest, Connector, Explanation, Outcome, Prepared, Request, Source};
pub use survey::survey;

/// Sets a source up; nothing is connected before the first request.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where an address or a certificate cannot be understood.
pub(crate) fn connector(settings: &SourceSettings, base: &Path, most_bytes: usize) -> Result<Source, Problem> {
    let server = |url: &str| connect::Server::new(url, settings, base, most_bytes);
    Ok(Arc::new(Postgres(Cluster::open("postgres", settings, server)?)))
}

/// A PostgreSQL source.
#[derive(Debug)]
struct Postgres(Cluster<connect::Server>);

impl Connector for Postgres {
    fn capabilities(&self) -> Capabilities {
        puente_sql::Postgres.capabilities()
    }

    fn prepare(&self, plan: &Plan) -> Arc<dyn Prepared> {
        statements::prepare(plan, &puente_sql::Postgres)
    }

    fn answer(&self, request: Request) -> BoxFuture<'_, Result<Outcome, Problem>> {
        self.0.answer(request).boxed()
    }

    fn change(&self, request: ChangeRequest) -> BoxFuture<'_, Result<Outcome, Problem>> {
        self.0.change(request).boxed()
    }

    fn explain(&self, request: Request) -> BoxFuture<'_, Result<Vec<Explanation>, Problem>> {
        self.0.explain(request).boxed()
    }

    fn probe(&self) -> BoxFuture<'_, Result<(), Problem>> {
        self.0.probe().boxed()
    }
}
