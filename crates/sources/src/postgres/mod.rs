//! PostgreSQL 12 and later.
//!
//! An ask is one statement with one row, children nested as arrays of records (`wire.rs`); where no index finds the
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

use crate::cluster::Cluster;
use crate::{ChangeRequest, Explanation, Outcome, Request};
pub use connect::connect;
pub use survey::survey;

/// A PostgreSQL source. Cheap to clone; the sessions are shared.
#[derive(Debug, Clone)]
pub struct Postgres(Arc<Cluster<connect::Server>>);

impl Postgres {
    /// Sets the source up; nothing is connected before the first ask. `most_bytes` is what an answer may have.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE` where an address or a certificate cannot be understood.
    pub fn open(settings: &SourceSettings, base: &Path, most_bytes: usize) -> Result<Self, Problem> {
        let server = |url: &str| connect::Server::new(url, settings, base, most_bytes);
        Cluster::open("postgres", settings, server).map(Arc::new).map(Postgres)
    }

    /// Runs a plan. Dropping the future cancels it in the database.
    ///
    /// # Errors
    /// What the database reports; `TIMED_OUT` at the deadline; `SOURCE_UNAVAILABLE` where it is out of reach.
    pub async fn run(&self, request: Request) -> Result<Outcome, Problem> {
        self.0.run(request).await
    }

    /// Runs a mutation: all of it, or nothing.
    ///
    /// # Errors
    /// The first problem, and then nothing was changed; `OUTCOME_UNKNOWN` where the connection was lost after the commit
    /// was sent.
    pub async fn change(&self, request: ChangeRequest) -> Result<Outcome, Problem> {
        self.0.change(request).await
    }

    /// Explains the statements of a plan without running them.
    ///
    /// # Errors
    /// As [`Postgres::run`].
    pub async fn explain(&self, request: Request) -> Result<Vec<Explanation>, Problem> {
        self.0.explain(request).await
    }

    /// Can the database be reached?
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE`, with the reason.
    pub async fn probe(&self) -> Result<(), Problem> {
        self.0.probe().await
    }
}
