//! How the database would run the commands of a plan: its own words, and what an index would spare.

use bson::{Bson, Document, doc};
use puente_core::catalog::Engine;
use puente_core::error::{Code, Problem};
use puente_run::Explanation;

use super::connect::{Server, Session};
use super::fault;
use super::pipeline::{Command, Find, Form};
use super::run::{OfRequest, commands};
use crate::cluster::Job;
use crate::server::within;
use crate::unindexed;

impl Server {
    /// Explains the commands of a plan without running them.
    pub(super) async fn explain(&self, job: Job) -> Result<Vec<Explanation>, Problem> {
        let request = &*job.request;
        let mut disconnected = job.disconnected;
        let session = self.session(&request.party, request.deadline).await?;
        let explaining = async {
            let mut explained = Vec::new();
            for (select, command) in commands(request).iter().enumerate() {
                let Some(command) = command else { continue };
                let mut told = explain_one(&session, command, &OfRequest(&request.bound)).await?;
                told.advice = unindexed::named(told.advice, request.bound.plan(), select, Engine::Mongodb);
                explained.push(told);
            }
            Ok(explained)
        };
        let explained = within(request.deadline, &mut disconnected, explaining).await;
        explained.unwrap_or_else(|| Err(Problem::new(Code::TimedOut, "explaining took too long; ask for less")))
    }
}

async fn explain_one(session: &Session, command: &Command, values: &OfRequest<'_>) -> Result<Explanation, Problem> {
    let asked = match &command.form {
        Form::Find(asked) => {
            let Find { filter, projection, sort, .. } = &**asked;
            let mut find = doc! {
                "find": &command.collection,
                "filter": filter.fill_document(values)?,
                "projection": projection.fill_document(values)?,
            };
            if let Some(sort) = sort {
                find.insert("sort", sort.fill_document(values)?);
            }
            find
        }
        Form::Stages(stages) => {
            let stages = stages.iter().map(|stage| stage.fill_document(values)).collect::<Result<Vec<_>, Problem>>()?;
            doc! { "aggregate": &command.collection, "pipeline": stages, "cursor": {} }
        }
        // What a lookup does for each key is not explained by the database.
        Form::Keyed { .. } => {
            let plan = vec!["a lookup for each key of the rows before".to_owned()];
            return Ok(Explanation { text: command.text(), plan, advice: Vec::new() });
        }
    };
    let explain = doc! { "explain": asked, "verbosity": "queryPlanner" };
    let told = session.reached.database.run_command(explain).await.map_err(|error| fault::problem(&error))?;
    let mut plan = Vec::new();
    steps(&told, &mut plan);
    let is_scan = plan.iter().any(|step| step.starts_with("COLLSCAN"));
    let filters = matches!(&command.form, Form::Find(find) if find.filter.asks());
    let advice = (is_scan && filters).then(|| {
        format!(
            "`{}` is read document by document; an index on the members of its conditions would find them",
            command.collection
        )
    });
    Ok(Explanation { text: command.text(), plan, advice: advice.into_iter().collect() })
}

/// The stages of the plan that won, from the top.
fn steps(told: &Document, into: &mut Vec<String>) {
    if let Ok(stage) = told.get_str("stage") {
        let index = told.get_str("indexName").map(|name| format!(" using {name}")).unwrap_or_default();
        into.push(format!("{stage}{index}"));
    }
    for name in ["queryPlanner", "winningPlan", "queryPlan", "inputStage", "$cursor"] {
        if let Ok(below) = told.get_document(name) {
            steps(below, into);
        }
    }
    if into.is_empty()
        && let Ok(stages) = told.get_array("stages")
    {
        stages.iter().filter_map(Bson::as_document).for_each(|stage| steps(stage, into));
    }
}
