//! What a role sees, on live data: for whoever answers for the grants.

use std::sync::Arc;

use puente_core::access::{OWNER, Role};
use puente_core::error::{Code, Problem};
use puente_core::model::TypeId;
use serde_json::{Map, Value as Json};

use crate::api::{Api, Arrival, Ask};
use crate::folder::{OpenError, ProjectFolder};
use crate::metrics::Metrics;
use crate::principal::Principal;

/// How many rows of a type a role sees.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Visible {
    /// The role, with its claims.
    pub rows: u64,
    /// All there are.
    pub of: u64,
}

/// Counts the rows of a type that a role sees with these claims, and all there are.
///
/// # Errors
/// What is wrong with the project, or with the source.
pub async fn visible_rows(
    folder: &ProjectFolder,
    role: &Role,
    of: TypeId,
    claims: Map<String, Json>,
) -> Result<Visible, OpenError> {
    let mut options = folder.api_options(Vec::new(), &|_| None)?;
    // Whether the role itself may count is another question.
    let counting = Role { view: role.view.clone().counting(), ..role.clone() };
    let (name, list) = (role.view.role().to_owned(), options.model.types[of].list.clone());
    options.roles = vec![counting];
    let api = Api::new(options, Arc::new(Metrics::default()));
    let count = async |role: &str, claims: Map<String, Json>| {
        let ask = Ask { document: format!("{{ {list} {{ totalCount }} }}"), ..Ask::default() };
        let result = api.ask(ask, &Principal::at_command_line(role, claims), Arrival::now("access")).await;
        let answer: Json = serde_json::from_slice(&result.body).unwrap_or_default();
        answer["data"][&list]["totalCount"].as_u64().ok_or_else(|| {
            let text = answer["errors"][0]["message"].as_str().unwrap_or("the rows could not be counted");
            OpenError::Source(Problem::new(result.code.unwrap_or(Code::Internal), text))
        })
    };
    Ok(Visible { rows: count(&name, claims).await?, of: count(OWNER, Map::new()).await? })
}
