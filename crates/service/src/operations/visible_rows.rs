//! What a role sees, on live data: for whoever answers for the grants.

use std::sync::Arc;

use puente_core::access::{OWNER, Role};
use puente_core::error::{Code, Problem};
use puente_core::model::{Model, TypeId};
use puente_core::project::{Limits, SourceSettings};
use puente_run::Source;
use serde::Serialize;
use serde_json::{Map, Value as Json};
use utoipa::ToSchema;

use crate::api::{Api, ApiOptions, Arrival, Ask};
use crate::folder::{OpenError, ProjectFolder};
use crate::metrics::Metrics;
use crate::principal::Principal;

/// How many rows of a type a role sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub struct Visible {
    /// The role, with its claims.
    pub rows: u64,
    /// All there are.
    pub of: u64,
}

/// Sources that are open already, by their settings.
pub(super) type OpenSources<'a> = dyn Fn(&SourceSettings) -> Option<Source> + Sync + 'a;

/// Counts the rows of a type that a role sees with these claims, and all there are.
///
/// # Errors
/// What is wrong with the project, or with the source.
pub async fn visible_rows(
    folder: &ProjectFolder,
    role: &Role,
    of: TypeId,
    claims: Map<String, Json>,
    open: &OpenSources<'_>,
) -> Result<Visible, OpenError> {
    let model = Arc::clone(role.view.model());
    let list = model.types[of].list.clone();
    // Whether the role itself may count is another question.
    let counting = Role { view: role.view.clone().counting(), ..role.clone() };
    let api = api_of(folder, model, vec![counting], open)?;
    let document = format!("{{ {list} {{ totalCount }} }}");
    let count = async |role: &str, claims| {
        let data = data(&api, role, claims, document.clone()).await?;
        data[&list]["totalCount"].as_u64().ok_or_else(|| uncounted("the rows could not be counted", None))
    };
    Ok(Visible { rows: count(role.view.role(), claims).await?, of: count(OWNER, Map::new()).await? })
}

/// An API for a look at what roles see. Nothing of it is kept. How often callers may ask does not hold here: one look is a few
/// requests, of a number that no caller chooses.
pub(super) fn api_of(
    folder: &ProjectFolder,
    model: Arc<Model>,
    roles: Vec<Role>,
    open: &OpenSources<'_>,
) -> Result<Api, OpenError> {
    let sources = folder.open_sources(open).map_err(OpenError::Source)?;
    let unshared = |limits: Limits| Limits { asks_per_second: 0, asks_at_once: 0, ..limits };
    let roles = roles.into_iter().map(|role| Role { limits: unshared(role.limits), ..role }).collect();
    let limits = unshared(folder.project.limits);
    let options = ApiOptions { model, roles, limits, secret: Vec::new(), sources, persisted: false, traces: None };
    Ok(Api::new(options, Arc::new(Metrics::default())))
}

/// The data of a request without errors.
pub(super) async fn data(
    api: &Api,
    role: &str,
    claims: Map<String, Json>,
    document: String,
) -> Result<Json, OpenError> {
    let ask = Ask { document, ..Ask::default() };
    let result = api.ask(ask, &Principal::at_command_line(role, claims), Arrival::now("access")).await;
    let mut answer: Json = serde_json::from_slice(&result.body).unwrap_or_default();
    match answer["errors"][0]["message"].as_str() {
        Some(text) => Err(uncounted(text, result.code)),
        None => Ok(answer["data"].take()),
    }
}

fn uncounted(text: &str, code: Option<Code>) -> OpenError {
    OpenError::Source(Problem::new(code.unwrap_or(Code::Internal), text))
}
