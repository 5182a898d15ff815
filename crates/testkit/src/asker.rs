//! Asks of a view against a source, without the service: the shortest way through the real code.

use std::sync::Arc;
use std::time::{Duration, Instant};

use puente_core::access::View;
use puente_core::error::Problem;
use puente_core::plan::{self, Context, Document, Plan, Sealer, Variables};
use puente_core::project::Limits;
use puente_core::schema::{self, ValidSchema};
use puente_sources::{ChangeRequest, Outcome, Request, Source};
use serde_json::{Map, Value as Json};

/// Plans and runs asks as one role.
#[derive(Debug)]
pub struct Asker {
    /// What the role may see.
    pub view: View,
    /// What seals its cursors.
    pub sealer: Sealer,
    /// What an ask may cost.
    pub limits: Limits,
    schema: Arc<ValidSchema>,
    source: Source,
    runtime: tokio::runtime::Runtime,
}

impl Asker {
    /// An asker on a source.
    ///
    /// # Panics
    /// Where the view's schema is not valid.
    pub fn new(source: Source, view: View) -> Self {
        let schema = match schema::build(&view) {
            Ok(schema) => Arc::new(schema),
            Err(problem) => panic!("{problem} {:?}\n{}", problem.detail, schema::print(&view)),
        };
        Asker {
            sealer: Sealer::new(b"the tests' secret, thirty-two bytes.", view.role()),
            view,
            // Nested random pages multiply: here it is the answers that are judged, not their cost.
            limits: Limits { cost: u64::MAX, ..Limits::default() },
            schema,
            source,
            runtime: tokio::runtime::Builder::new_current_thread().build().expect("a runtime"),
        }
    }

    /// The plan of a document for some variables.
    ///
    /// # Errors
    /// What is wrong with them.
    pub fn plan(&self, text: &str, variables: &Map<String, Json>) -> Result<(Arc<Plan>, Variables), Vec<Problem>> {
        let document = Arc::new(Document::parse(&self.schema, text, None)?);
        let variables = Variables::coerce(&document, variables, &self.sealer)?;
        let context =
            Context { view: &self.view, limits: &self.limits, sealer: &self.sealer, dialect: self.source.dialect() };
        let plan = plan::build(context, document, &variables).map_err(|problem| vec![problem])?;
        Ok((Arc::new(plan), variables))
    }

    /// Runs a mutation, or rehearses it.
    ///
    /// # Errors
    /// What is wrong with it, or why nothing was changed.
    pub fn change(&self, text: &str, variables: &Map<String, Json>, rehearse: bool) -> Result<Outcome, Vec<Problem>> {
        let document = Arc::new(Document::parse(&self.schema, text, None)?);
        let variables = Variables::coerce(&document, variables, &self.sealer)?;
        let context =
            Context { view: &self.view, limits: &self.limits, sealer: &self.sealer, dialect: self.source.dialect() };
        let mutation = plan::change::build_mutation(context, &document, &variables).map_err(|problem| vec![problem])?;
        let request = ChangeRequest {
            mutation,
            most_cost: self.limits.cost,
            most_bytes: self.limits.answer_bytes,
            deadline: Instant::now() + Duration::from_millis(self.limits.time_ms),
            timed: true,
            rehearse,
        };
        self.runtime.block_on(self.source.change(request)).map_err(|problem| vec![problem])
    }

    /// Answers a document.
    ///
    /// # Errors
    /// What is wrong with it, or with the source.
    pub fn ask(&self, text: &str, variables: &Map<String, Json>) -> Result<Outcome, Vec<Problem>> {
        let (plan, variables) = self.plan(text, variables)?;
        let bound = plan.bind(&variables, &self.limits).map_err(|problem| vec![problem])?;
        let request = Request {
            bound,
            role: self.view.role().to_owned(),
            most_bytes: self.limits.answer_bytes,
            deadline: Instant::now() + Duration::from_millis(self.limits.time_ms),
            timed: true,
        };
        self.runtime.block_on(self.source.run(request)).map_err(|problem| vec![problem])
    }
}
