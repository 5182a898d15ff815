//! Asks of a view against a source, without the service: the shortest way through the real code.

use std::sync::Arc;
use std::time::{Duration, Instant};

use jiff::Timestamp;
use puente_core::access::{self, Claims, Settled, View};
use puente_core::error::Problem;
use puente_core::model::Model;
use puente_core::plan::{self, Context, Document, Plan, Sealer, Variables};
use puente_core::project::{self, Limits};
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
    settled: Settled,
    source: Source,
    runtime: tokio::runtime::Runtime,
}

impl Asker {
    /// An asker on a source, as the role of a project file with some claims.
    ///
    /// # Panics
    /// Where the file does not fit the model.
    pub fn of_grants(source: Source, model: &Arc<Model>, grants: &str, claims: &Map<String, Json>) -> Self {
        let text = format!("[source.test]\nurl = \"sqlite:test.db\"\n{grants}");
        let project = project::read(&text, &|_| None).unwrap_or_else(|wrong| panic!("{wrong:#?}\n{text}"));
        let roles = access::roles(model, &project).unwrap_or_else(|wrong| panic!("{wrong:#?}\n{text}"));
        let role = roles.into_iter().next().unwrap_or_else(|| panic!("no role in\n{text}"));
        Asker::new(source, role.view, claims)
    }

    /// An asker on a source.
    ///
    /// # Panics
    /// Where the view's schema is not valid.
    pub fn new(source: Source, view: View, claims: &Map<String, Json>) -> Self {
        let schema = match schema::build(&view) {
            Ok(schema) => Arc::new(schema),
            Err(problem) => panic!("{problem} {:?}\n{}", problem.detail, schema::print(&view)),
        };
        let settled = view.settle(&Claims { members: claims, now: Timestamp::now() });
        let view = view.settled(&settled.pattern);
        Asker {
            settled,
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
        let variables = Variables::coerce(&document, variables, &self.sealer)?.with_claims(&self.settled);
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
        let variables = Variables::coerce(&document, variables, &self.sealer)?.with_claims(&self.settled);
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
