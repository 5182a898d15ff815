//! A plan together with what its source made of it: what is kept for other requests, and what one request runs.

use std::sync::Arc;

use puente_core::error::Problem;
use puente_core::plan::{BoundPlan, Plan, Variables};
use puente_core::project::Limits;
use puente_run::{Prepared, Source};

/// A plan that a source is ready to run.
#[derive(Debug)]
pub(crate) struct PreparedPlan {
    plan: Arc<Plan>,
    prepared: Arc<dyn Prepared>,
}

/// The same with the values of one request.
#[derive(Debug, Clone)]
pub(crate) struct BoundQuery {
    pub(crate) bound: BoundPlan,
    pub(crate) prepared: Arc<dyn Prepared>,
}

impl PreparedPlan {
    pub(crate) fn new(plan: Plan, source: &Source) -> Self {
        PreparedPlan { prepared: source.prepare(&plan), plan: Arc::new(plan) }
    }

    /// About how many bytes it holds in memory, for the cache.
    pub(crate) fn weight(&self) -> usize {
        self.plan.weight() + self.prepared.weight()
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
        Ok(BoundQuery { bound: self.plan.bind(variables, limits)?, prepared: Arc::clone(&self.prepared) })
    }
}
