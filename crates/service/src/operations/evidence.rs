//! What sampled values say of links between sources. No database can compare two of them: values of one side are asked for like any
//! request asks for them, and then looked for on the other side, whatever the engines.

use std::sync::Arc;

use puente_core::access::OWNER;
use puente_core::model::{Column, CrossingCandidate, Model, Proposal, SourceId, Type};
use puente_core::project::Limits;
use puente_core::value::{StorageFormat, convert_key, datum_from_json, write_scalar};
use serde_json::{Map, Value as Json, json};

use crate::api::{Api, Ask};
use crate::folder::ProjectFolder;
use crate::metrics::Metrics;
use crate::principal::Principal;

/// Distinct values that are looked for.
const SAMPLED_VALUES: u32 = 500;

/// The candidates that sampled values do not speak against, each with how many values there were, and how many were found.
pub(crate) fn convincing(folder: &ProjectFolder, candidates: Vec<CrossingCandidate>) -> Vec<CrossingCandidate> {
    if candidates.is_empty() {
        return candidates;
    }
    let Ok(mut options) = folder.api_options(Vec::new(), &|_| None) else { return Vec::new() };
    options.limits = Limits { page: SAMPLED_VALUES, ..Limits::default() };
    let model = Arc::clone(&options.model);
    let api = Api::new(options, Arc::new(Metrics::default()));
    // A thread of its own: whoever surveys may be in a runtime already.
    std::thread::scope(|scope| {
        let sampling = scope.spawn(|| {
            let runtime = tokio::runtime::Builder::new_current_thread().enable_all().build().ok()?;
            Some(runtime.block_on(sampled(&api, &model, candidates)))
        });
        sampling.join().ok().flatten().unwrap_or_default()
    })
}

async fn sampled(api: &Api, model: &Model, candidates: Vec<CrossingCandidate>) -> Vec<CrossingCandidate> {
    let mut found = Vec::new();
    for candidate in candidates {
        let Some((values, there)) = sample(api, model, &candidate).await else { continue };
        // Half of the values on the other side: a reference with some dangling values is still one.
        if there * 2 >= values {
            let proposal = Proposal { sampled: Some((values, there)), ..candidate.proposal };
            found.push(CrossingCandidate { proposal, ..candidate });
        }
    }
    found
}

/// How many distinct values there are, and how many of them on the other side; none where that cannot be asked. Values prove
/// nothing where there is nothing on the other side.
async fn sample(api: &Api, model: &Model, candidate: &CrossingCandidate) -> Option<(u64, u64)> {
    let (from, own) = field(model, candidate.source, &candidate.proposal.table, &candidate.proposal.column)?;
    let (to, key) = field(model, candidate.to_source, &candidate.proposal.to, &candidate.proposal.references)?;
    let grouped = from.summary_field(own.field.as_deref()?).into_owned();
    let document = format!(
        "query ($size: Int) {{ rows: {}(filter: {{ {}: {{ isNull: false }} }}) {{ groups(by: [{{ {grouped}: VALUE }}], first: $size) \
         {{ key {{ {grouped} }} }} }} }}",
        from.list,
        own.field.as_deref()?
    );
    let variables = Map::from_iter([("size".to_owned(), SAMPLED_VALUES.into())]);
    let answer = ask(api, document, variables).await?;
    let groups = answer["rows"]["groups"].as_array()?;
    let values: Vec<Json> = groups.iter().map(|group| group["key"][&grouped].clone()).collect();
    let converted: Vec<Json> = values.iter().filter_map(|value| convert(value, own, key)).collect();
    let document = format!(
        "query ($keys: [{}!]!) {{ found: {list}(filter: {{ {}: {{ in: $keys }} }}) {{ totalCount }} any: {list}(first: 1) \
         {{ nodes {{ __typename }} }} }}",
        model.kind_name(key.kind),
        key.field.as_deref()?,
        list = to.list
    );
    let answer = ask(api, document, Map::from_iter([("keys".to_owned(), json!(converted))])).await?;
    let is_empty = answer["any"]["nodes"].as_array()?.is_empty();
    let there = answer["found"]["totalCount"].as_u64()?;
    Some((if is_empty { 0 } else { values.len() as u64 }, there))
}

async fn ask(api: &Api, document: String, variables: Map<String, Json>) -> Option<Json> {
    let ask = Ask { document, variables, ..Ask::default() };
    let outcome = api.answer(ask, &Principal::at_command_line(OWNER, Map::new())).await;
    let told = |problems: &Vec<puente_core::error::Problem>| {
        tracing::debug!(target: "puente::source", problem = problems.first().map(|p| &*p.message), "a proposal could not be sampled");
    };
    serde_json::from_slice(outcome.inspect_err(told).ok()?.answer.data()).ok()
}

fn field<'m>(model: &'m Model, source: SourceId, table: &str, column: &str) -> Option<(&'m Type, &'m Column)> {
    let t = model.types.iter().find(|t| t.source == source && t.table == table)?;
    let column = t.columns.iter().find(|known| known.name == column && known.field.is_some())?;
    Some((t, column))
}

/// A value of one column as the other one's scalar is written.
fn convert(value: &Json, from: &Column, to: &Column) -> Option<Json> {
    let (from, to) = (from.scalar()?, to.scalar()?);
    let usual = |scalar| (scalar, StorageFormat::Usual);
    let datum = datum_from_json(from, StorageFormat::Usual, value).ok()?;
    let converted = convert_key(datum.as_ref(), usual(from), usual(to))?;
    let mut text = Vec::new();
    write_scalar(&mut text, to, converted.as_ref()).ok()?;
    serde_json::from_slice(&text).ok()
}
