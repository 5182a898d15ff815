//! What every source can do, whatever its engine.

use std::any::Any;
use std::fmt::Debug;
use std::sync::Arc;
use std::time::Instant;

use futures_util::future::BoxFuture;
use puente_core::error::Problem;
use puente_core::model::SourceId;
use puente_core::plan::change::Mutation;
use puente_core::plan::{BoundPlan, Capabilities, Plan};

use crate::snapshot::Snapshot;
use crate::turns::{Load, Party};
use crate::{Explanation, Outcome};

/// One plan to run.
#[derive(Debug)]
pub struct Request {
    /// The plan with its values.
    pub bound: BoundPlan,
    /// What the source made of the plan.
    pub prepared: Arc<dyn Prepared>,
    /// Which of the model's sources it is.
    pub source: SourceId,
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
    /// Roll everything back in the end?
    pub rehearse: bool,
}

/// A plan in the language of the source that is to run it, kept for as long as the plan.
pub trait Prepared: Any + Debug + Send + Sync {
    /// About how many bytes it holds in memory, for the cache.
    fn weight(&self) -> usize;
}

/// A source that is ready to run plans.
pub type Source = Arc<dyn Connector>;

/// What a source can do: one for each engine, found in [`ENGINES`](crate::ENGINES) by its address. Dropping a future cancels what
/// it does in the database.
pub trait Connector: Debug + Send + Sync {
    /// What planning has to know of it.
    fn capabilities(&self) -> Capabilities;

    /// Puts a plan into the source's own language: what it reads of this source, where it reads several.
    fn prepare(&self, plan: &Plan, source: SourceId) -> Arc<dyn Prepared>;

    /// Runs a plan, and writes its answer.
    ///
    /// # Errors
    /// What the source reports; `TIMED_OUT` at the deadline; `TOO_BUSY` where too many of the caller's requests wait;
    /// `SOURCE_UNAVAILABLE` where it is out of reach.
    fn answer(&self, request: Request) -> BoxFuture<'_, Result<Outcome, Problem>>;

    /// Begins to read a plan over several sources: the selects of this one, level by level, in one snapshot. Whether the source
    /// can be reached is told by [`Snapshot::opened`], or with the first rows.
    fn snapshot(&self, request: Request) -> Snapshot;

    /// Runs a mutation in one transaction: all of it, or nothing. A commit that was sent is not cancelled.
    ///
    /// # Errors
    /// The first problem, and then nothing was changed; `OUTCOME_UNKNOWN` where the connection was lost after the commit was
    /// sent.
    fn change(&self, request: ChangeRequest) -> BoxFuture<'_, Result<Outcome, Problem>>;

    /// How the engine would run the statements of a plan.
    ///
    /// # Errors
    /// As [`Connector::answer`].
    fn explain(&self, request: Request) -> BoxFuture<'_, Result<Vec<Explanation>, Problem>>;

    /// Can the source be reached and read?
    ///
    /// # Errors
    /// `SOURCE_UNAVAILABLE`, with the reason.
    fn probe(&self) -> BoxFuture<'_, Result<(), Problem>>;

    /// How much there is to do.
    fn load(&self) -> Load;
}
