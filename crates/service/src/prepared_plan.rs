//! A plan together with what its sources made of it: what is kept for other requests, and what one request runs.

use std::sync::Arc;

use puente_core::error::Problem;
use puente_core::plan::{BoundPlan, Plan, Variables};
use puente_core::project::Limits;
use puente_run::Source;
use puente_run::parts::Part;

/// A plan that its sources are ready to run.
#[derive(Debug)]
pub(crate) struct PreparedPlan {
    plan: Arc<Plan>,
    parts: Arc<[Part]>,
}

/// The same with the values of one request.
#[derive(Debug, Clone)]
pub(crate) struct BoundQuery {
    pub(crate) bound: BoundPlan,
    pub(crate) parts: Arc<[Part]>,
}

impl PreparedPlan {
    pub(crate) fn new(plan: Plan, sources: &[Source]) -> Self {
        PreparedPlan { parts: parts(&plan, sources), plan: Arc::new(plan) }
    }

    /// About how many bytes it holds in memory, for the cache.
    pub(crate) fn weight(&self) -> usize {
        self.plan.weight() + self.parts.iter().map(|part| part.prepared.weight()).sum::<usize>()
    }

    /// Does it answer anything about the schema? That takes time, and needs no source.
    pub(crate) fn introspects(&self) -> bool {
        self.plan.introspects()
    }

    /// The plan with a request's values.
    ///
    /// # Errors
    /// As [`Plan::bind`].
    pub(crate) fn bind(&self, variables: &Variables, limits: &Limits) -> Result<BoundQuery, Problem> {
        Ok(BoundQuery { bound: self.plan.bind(variables, limits)?, parts: Arc::clone(&self.parts) })
    }
}

/// What each source of a plan makes of it.
pub(crate) fn parts(plan: &Plan, sources: &[Source]) -> Arc<[Part]> {
    let part = |source: &usize| Part {
        source: *source,
        connector: Source::clone(&sources[*source]),
        prepared: sources[*source].prepare(plan, *source),
    };
    plan.sources().iter().map(part).collect()
}
