//! One source, whatever its engine.

use std::path::Path;
use std::time::Instant;

use puente_core::catalog::{Catalog, Engine};
use puente_core::error::Problem;
use puente_core::model::{KeyProposal, Proposal};
use puente_core::plan::BoundPlan;
use puente_core::plan::change::Mutation;
use puente_core::project::SourceSettings;
use puente_core::sql::{self, Dialect};

use crate::turns::Party;
use crate::{Explanation, Outcome};

/// What a survey brings home.
#[derive(Debug)]
pub struct Survey {
    /// Tables and views.
    pub catalog: Catalog,
    /// Links that names, types and sampled values suggest.
    pub proposals: Vec<Proposal>,
    /// Keys that sampled values suggest for tables and views without one.
    pub keys: Vec<KeyProposal>,
    /// What could not be surveyed, and why.
    pub notices: Vec<String>,
}

/// One plan to run.
#[derive(Debug)]
pub struct Request {
    /// The plan with its values.
    pub bound: BoundPlan,
    /// As which role: some roles' reads may be answered by a replica.
    pub role: String,
    /// Whose turn it is.
    pub party: Party,
    /// The most bytes of the answer.
    pub most_bytes: usize,
    /// When the database gives up.
    pub deadline: Instant,
    /// Measure each statement and report its text?
    pub timed: bool,
}

/// One mutation to run.
#[derive(Debug)]
pub struct ChangeRequest {
    /// What is to be changed, and answered.
    pub mutation: Mutation,
    /// Whose turn it is.
    pub party: Party,
    /// The most that each change's answer may cost.
    pub most_cost: u64,
    /// The most bytes of the answer.
    pub most_bytes: usize,
    /// When the database gives up; once the commit is sent, it is waited for.
    pub deadline: Instant,
    /// Measure each statement and report its text?
    pub timed: bool,
    /// Take everything back in the end?
    pub rehearse: bool,
}

/// A source that is ready to run plans. Cheap to clone; the connections are shared.
#[derive(Debug, Clone)]
pub enum Source {
    /// SQLite.
    #[cfg(feature = "sqlite")]
    Sqlite(crate::sqlite::Pool),
    /// PostgreSQL.
    #[cfg(feature = "postgres")]
    Postgres(crate::postgres::Postgres),
    /// MariaDB.
    #[cfg(feature = "mariadb")]
    Mariadb(crate::mariadb::Mariadb),
}

impl Source {
    /// Sets a source up; it is reached with the first ask, and need not be there yet. Relative paths count from `base`; an
    /// answer has at most so many bytes.
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE` where the address or a certificate cannot be understood.
    pub fn open(settings: &SourceSettings, base: &Path, most_bytes: usize) -> Result<Source, Problem> {
        match settings.engine {
            #[cfg(feature = "sqlite")]
            Engine::Sqlite => {
                let file = crate::sqlite::file_of(&settings.url.0, base);
                let readers = settings.connections.unwrap_or_else(processors);
                Ok(Source::Sqlite(crate::sqlite::Pool::start(file, readers)))
            }
            #[cfg(feature = "postgres")]
            Engine::Postgres => crate::postgres::Postgres::open(settings, base, most_bytes).map(Source::Postgres),
            #[cfg(feature = "mariadb")]
            Engine::Mariadb => crate::mariadb::Mariadb::open(settings, base).map(Source::Mariadb),
            #[cfg(not(all(feature = "sqlite", feature = "postgres", feature = "mariadb")))]
            _ => Err(not_built_in()),
        }
    }

    /// The SQL that it speaks.
    pub fn dialect(&self) -> &'static dyn Dialect {
        match self {
            #[cfg(feature = "sqlite")]
            Source::Sqlite(_) => &sql::Sqlite,
            #[cfg(feature = "postgres")]
            Source::Postgres(_) => &sql::Postgres,
            #[cfg(feature = "mariadb")]
            Source::Mariadb(_) => &sql::Mariadb,
        }
    }

    /// Runs a plan. Dropping the future cancels it in the database.
    ///
    /// # Errors
    /// What the source reports; `TIMED_OUT` at the deadline; `TOO_BUSY` where too many of the caller's asks wait.
    pub async fn run(&self, request: Request) -> Result<Outcome, Problem> {
        match self {
            #[cfg(feature = "sqlite")]
            Source::Sqlite(pool) => pool.run(request).await,
            #[cfg(feature = "postgres")]
            Source::Postgres(source) => source.run(request).await,
            #[cfg(feature = "mariadb")]
            Source::Mariadb(source) => source.run(request).await,
        }
    }

    /// Runs a mutation in one transaction: all of it, or nothing. Dropping the future cancels it in the database, unless
    /// the commit was sent already.
    ///
    /// # Errors
    /// The first problem, and then nothing was changed; `OUTCOME_UNKNOWN` where the connection was lost after the commit
    /// was sent.
    pub async fn change(&self, request: ChangeRequest) -> Result<Outcome, Problem> {
        match self {
            #[cfg(feature = "sqlite")]
            Source::Sqlite(pool) => pool.change(request).await,
            #[cfg(feature = "postgres")]
            Source::Postgres(source) => source.change(request).await,
            #[cfg(feature = "mariadb")]
            Source::Mariadb(source) => source.change(request).await,
        }
    }

    /// How the engine would run the statements of a plan.
    ///
    /// # Errors
    /// What the source reports.
    pub async fn explain(&self, request: Request) -> Result<Vec<Explanation>, Problem> {
        match self {
            #[cfg(feature = "sqlite")]
            Source::Sqlite(pool) => pool.explain(request).await,
            #[cfg(feature = "postgres")]
            Source::Postgres(source) => source.explain(request).await,
            #[cfg(feature = "mariadb")]
            Source::Mariadb(source) => source.explain(request).await,
        }
    }

    /// Can the source be reached and read?
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE`, with the reason.
    pub async fn probe(&self) -> Result<(), Problem> {
        match self {
            #[cfg(feature = "sqlite")]
            Source::Sqlite(pool) => pool.probe().await,
            #[cfg(feature = "postgres")]
            Source::Postgres(source) => source.probe().await,
            #[cfg(feature = "mariadb")]
            Source::Mariadb(source) => source.probe().await,
        }
    }
}

/// Surveys a source. Takes its time: not for an asynchronous task.
///
/// # Errors
/// `SOURCE_UNAVAILABLE` where it cannot be reached, or what it reports.
pub fn survey(settings: &SourceSettings, base: &Path) -> Result<Survey, Problem> {
    match settings.engine {
        #[cfg(feature = "sqlite")]
        Engine::Sqlite => crate::sqlite::survey(&crate::sqlite::file_of(&settings.url.0, base), settings),
        #[cfg(feature = "postgres")]
        Engine::Postgres => crate::postgres::survey(settings, base),
        #[cfg(feature = "mariadb")]
        Engine::Mariadb => crate::mariadb::survey(settings, base),
        #[cfg(not(all(feature = "sqlite", feature = "postgres", feature = "mariadb")))]
        _ => Err(not_built_in()),
    }
}

#[cfg(not(all(feature = "sqlite", feature = "postgres", feature = "mariadb")))]
fn not_built_in() -> Problem {
    Problem::new(puente_core::error::Code::SourceUnavailable, "this build of Puente is without that kind of database")
}

#[cfg(feature = "sqlite")]
fn processors() -> usize {
    std::thread::available_parallelism().map_or(2, usize::from)
}
