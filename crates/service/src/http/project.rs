//! `/project/…`: what the console and commands with `--url` ask of the owner's service. Each is one operation, the same that the
//! command line does at home; edits are taken in development alone.

use std::sync::Arc;
use std::time::{Instant, SystemTime};

use actix_web::http::StatusCode;
use actix_web::http::header::{CACHE_CONTROL, HeaderValue, WWW_AUTHENTICATE};
use actix_web::{HttpRequest, HttpResponse, web};
use jiff::Timestamp;
use puente_core::access::{OWNER, Role, View, check_rule};
use puente_core::error::{Code, Problem};
use puente_core::model::{Model, TypeId};
use puente_core::project::{Edit, SourceSettings};
use puente_core::suggest::did_you_mean;
use puente_run::Source;
use serde::de::DeserializeOwned;
use serde::{Deserialize, Serialize};
use serde_json::{Map, Value as Json};
use utoipa::{OpenApi, ToSchema};

use super::negotiation::is_json;
use super::{Served, Shared, body};
use crate::folder::{FolderError, OpenError, ProjectFolder};
use crate::identity::Caller;
use crate::operations::access::{AccessOverview, WhoLine, access_overview, field_names, has_field, who_can};
use crate::operations::check::{Checked, Finding, find_drift};
use crate::operations::edit::{Proposed, SaveError, Surveys, diff, digest_of, propose, put_back, save};
use crate::operations::overview::{ModelOverview, overview};
use crate::operations::seen::{RowAccess, SeenRows, row_access, seen_rows};
use crate::operations::sheet::{TypeSheet, sheet};
use crate::operations::source::{Probed, probe, survey_new_source, write_source};
use crate::operations::survey::{Accepted, SurveyError, accept, survey_watched};
use crate::operations::surveyed::{
    RenameSheet, Surveyed, SurveyedColumns, columns, engine_word, rename_sheet, surveyed,
};
use crate::operations::{Visible, visible_rows};
use crate::workbench::Saved;

/// The interface, as an OpenAPI document. The types of the console are made from it.
#[derive(OpenApi)]
#[openapi(
    info(title = "Puente: the project", description = "What the console asks of the owner's service."),
    paths(
        me,
        state,
        model,
        type_sheet,
        access,
        visible,
        seen,
        row,
        who,
        rule,
        propose_edits,
        save_edits,
        undo,
        survey_state,
        start_survey,
        stop_survey,
        take_rename,
        drift,
        table_columns,
        try_source,
        new_source
    ),
    components(schemas(Refusal))
)]
struct Interface;

/// The interface, as OpenAPI in JSON.
pub fn interface() -> String {
    let mut text = Interface::openapi().to_pretty_json().unwrap_or_default();
    text.push('\n');
    text
}

pub(super) fn routes(config: &mut web::ServiceConfig) {
    config.service(
        web::scope("/project")
            .route("", web::get().to(state))
            .route("/openapi.json", web::get().to(openapi))
            .route("/me", web::get().to(me))
            .route("/model", web::get().to(model))
            .route("/types/{name}", web::get().to(type_sheet))
            .route("/access", web::get().to(access))
            .route("/access/visible", web::post().to(visible))
            .route("/access/seen", web::post().to(seen))
            .route("/access/row", web::post().to(row))
            .route("/access/who", web::get().to(who))
            .route("/rules/check", web::post().to(rule))
            .route("/edits/propose", web::post().to(propose_edits))
            .route("/edits/save", web::post().to(save_edits))
            .route("/edits/undo", web::post().to(undo))
            .route("/survey", web::get().to(survey_state))
            .route("/survey", web::post().to(start_survey))
            .route("/survey", web::delete().to(stop_survey))
            .route("/survey/renames", web::post().to(take_rename))
            .route("/drift", web::post().to(drift))
            .route("/tables/{source}/{table}", web::get().to(table_columns))
            .route("/sources/try", web::post().to(try_source))
            .route("/sources", web::post().to(new_source)),
    );
}

/// Why something was not done.
#[derive(Debug, Clone, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Refusal {
    /// A word for programs.
    code: String,
    /// What was expected, what came, and the remedy.
    message: String,
    /// What is wrong with the project file as it would be, where that is why.
    #[serde(skip_serializing_if = "Vec::is_empty")]
    findings: Vec<Finding>,
    /// The project file's text now, where it is another one than the edits were proposed for.
    #[serde(skip_serializing_if = "Option::is_none")]
    now: Option<String>,
    #[serde(skip)]
    status: u16,
}

type Answer<T> = Result<web::Json<T>, Refused>;

/// A refusal on its way out.
#[derive(Debug)]
pub(crate) struct Refused(Box<Refusal>);

impl Refused {
    fn new(status: StatusCode, code: impl Into<String>, message: impl Into<String>) -> Self {
        let (findings, now) = (Vec::new(), None);
        let refusal = Refusal { code: code.into(), message: message.into(), findings, now, status: status.as_u16() };
        Refused(Box::new(refusal))
    }

    fn of_problem(problem: &Problem) -> Self {
        let status = StatusCode::from_u16(problem.code.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        Refused::new(status, problem.code.as_str(), problem.message.clone())
    }

    fn wrong(message: impl Into<String>) -> Self {
        Refused::new(StatusCode::BAD_REQUEST, Code::InvalidRequest.as_str(), message)
    }

    fn not_found(message: impl Into<String>) -> Self {
        Refused::new(StatusCode::NOT_FOUND, "NOT_FOUND", message)
    }
}

impl From<FolderError> for Refused {
    fn from(error: FolderError) -> Self {
        let findings = Finding::of_files(&error);
        let message = error.to_string();
        let refusal = Refusal { code: "PROJECT_WRONG".to_owned(), message, findings, now: None, status: 422 };
        Refused(Box::new(refusal))
    }
}

impl From<OpenError> for Refused {
    fn from(error: OpenError) -> Self {
        match error {
            OpenError::Folder(error) => error.into(),
            OpenError::Source(problem) => Refused::of_problem(&problem),
            OpenError::Identity(error) => {
                Refused::new(StatusCode::UNPROCESSABLE_ENTITY, "PROJECT_WRONG", error.to_string())
            }
        }
    }
}

impl From<SurveyError> for Refused {
    fn from(error: SurveyError) -> Self {
        match error {
            SurveyError::Source(problem) => Refused::of_problem(&problem),
            SurveyError::Folder(error) => error.into(),
        }
    }
}

impl From<SaveError> for Refused {
    fn from(error: SaveError) -> Self {
        let refusal = |status, code: &str, message: &str, findings, now| {
            let (code, message) = (code.to_owned(), message.to_owned());
            Refused(Box::new(Refusal { code, message, findings, now, status }))
        };
        match error {
            SaveError::Edit(error) => refusal(409, "EDIT_IMPOSSIBLE", &error.0, Vec::new(), None),
            SaveError::Folder(error) => error.into(),
            SaveError::Changed { now } => {
                let text = "the project file was changed by somebody else meanwhile; look at both, and save again";
                refusal(409, "FILE_CHANGED", text, Vec::new(), Some(now))
            }
            SaveError::Unsound(findings) => {
                let text = "the project could not be served so; nothing was saved";
                refusal(422, "PROJECT_WRONG", text, findings, None)
            }
        }
    }
}

impl std::fmt::Display for Refused {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(&self.0.message)
    }
}

impl actix_web::ResponseError for Refused {
    fn error_response(&self) -> HttpResponse {
        let status = StatusCode::from_u16(self.0.status).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR);
        let mut response = HttpResponse::build(status);
        response.insert_header((CACHE_CONTROL, HeaderValue::from_static("no-store")));
        if status == StatusCode::UNAUTHORIZED {
            response.insert_header((WWW_AUTHENTICATE, HeaderValue::from_static("Bearer")));
        }
        response.json(&self.0)
    }
}

async fn caller(shared: &Shared, request: &HttpRequest) -> Result<(Arc<Served>, Caller), Refused> {
    let served = shared.served();
    match shared.caller(&served, request).await {
        Ok(caller) => Ok((served, caller)),
        Err(unidentified) => Err(match unidentified.told() {
            (Some(_), text) => Refused::new(StatusCode::UNAUTHORIZED, Code::Unauthenticated.as_str(), text),
            (None, text) => Refused::new(StatusCode::INTERNAL_SERVER_ERROR, Code::Internal.as_str(), text),
        }),
    }
}

/// What is served, if the owner asks.
async fn owner(shared: &Shared, request: &HttpRequest) -> Result<Arc<Served>, Refused> {
    let (served, caller) = caller(shared, request).await?;
    if caller.is_owner() {
        return Ok(served);
    }
    let text = "this is shown to the owner's access key only; `puente key create NAME --role owner` makes one";
    Err(Refused::new(StatusCode::FORBIDDEN, Code::RoleRefused.as_str(), text))
}

/// The same where something is changed: that is for development.
async fn editor(shared: &Shared, request: &HttpRequest) -> Result<Arc<Served>, Refused> {
    let served = owner(shared, request).await?;
    match why_not_edited(shared) {
        None => Ok(served),
        Some(text) => Err(Refused::new(StatusCode::FORBIDDEN, "READ_ONLY", text)),
    }
}

fn why_not_edited(shared: &Shared) -> Option<String> {
    (!shared.workbench.development).then(|| {
        "the project is read-only here: it is edited under `puente serve --development`, and a service in production takes the \
         file from where you keep it"
            .to_owned()
    })
}

/// Bytes of a request's body.
const MOST_BYTES: usize = 1 << 20;

async fn read<T: DeserializeOwned>(request: &HttpRequest, payload: web::Payload) -> Result<T, Refused> {
    const PATIENCE: std::time::Duration = std::time::Duration::from_secs(10);
    if !is_json(request) {
        let text = "the body is to be JSON: `Content-Type: application/json`";
        return Err(Refused::new(StatusCode::UNSUPPORTED_MEDIA_TYPE, Code::InvalidRequest.as_str(), text));
    }
    let body = body::read(request, payload, MOST_BYTES, Instant::now() + PATIENCE).await;
    let body = body.map_err(|body::Unread(status, text)| Refused::new(status, Code::InvalidRequest.as_str(), text))?;
    serde_json::from_slice(&body)
        .map_err(|error| Refused::wrong(format!("the body is not what is expected here: {error}")))
}

/// Does what takes a while outside of the HTTP threads.
async fn blocking<T: Send + 'static>(work: impl FnOnce() -> T + Send + 'static) -> Result<T, Refused> {
    let stopped = |_| Refused::new(StatusCode::INTERNAL_SERVER_ERROR, Code::Internal.as_str(), "the work was given up");
    web::block(work).await.map_err(stopped)
}

/// The project as it was checked, of which there is a model.
async fn sound(shared: &web::Data<Shared>) -> Result<(Arc<Checked>, Arc<Model>), Refused> {
    let shared = shared.clone();
    let checked = blocking(move || shared.workbench.checked()).await?;
    match &checked.model {
        Some(model) => {
            let model = Arc::clone(model);
            Ok((checked, model))
        }
        None => {
            let refusal = Refusal {
                code: "PROJECT_WRONG".to_owned(),
                message: "the project has no model yet".to_owned(),
                findings: checked.findings.clone(),
                now: None,
                status: 422,
            };
            Err(Refused(Box::new(refusal)))
        }
    }
}

fn type_named(model: &Model, name: &str) -> Result<TypeId, Refused> {
    model.tables().find(|(_, t)| t.name == name).map(|(of, _)| of).ok_or_else(|| {
        let hint = did_you_mean(name, model.tables().map(|(_, t)| t.name.as_str()));
        Refused::not_found(format!("there is no type `{name}`{hint}"))
    })
}

async fn openapi() -> HttpResponse {
    HttpResponse::Ok().content_type("application/json").body(interface())
}

/// Who asks.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Me {
    /// Is it the owner?
    owner: bool,
    /// The role that requests are asked as where none is chosen; absent where the key has none here.
    #[serde(skip_serializing_if = "Option::is_none")]
    role: Option<String>,
    /// All roles that may be chosen. The owner may ask as anybody.
    roles: Vec<String>,
    /// The claims that come with the key or token.
    #[schema(value_type = Object)]
    claims: Map<String, Json>,
    /// How it is known, in words.
    by: String,
    /// Can the project be edited here, by who asks?
    editing: bool,
    /// Why not, where not.
    #[serde(skip_serializing_if = "Option::is_none")]
    why_not: Option<String>,
    /// What the project is called: its folder's name.
    project: String,
}

/// Who asks, and what is open to them.
#[utoipa::path(get, path = "/project/me", responses((status = 200, body = Me)))]
pub(crate) async fn me(request: HttpRequest, shared: web::Data<Shared>) -> Answer<Me> {
    let (served, caller) = caller(&shared, &request).await?;
    let owner = caller.is_owner();
    let roles: Vec<String> = match owner {
        true => std::iter::once(OWNER.to_owned()).chain(served.api.role_names().map(str::to_owned)).collect(),
        false => caller.roles().iter().filter(|role| served.api.has_role(role)).cloned().collect(),
    };
    let why_not = match owner {
        true => why_not_edited(&shared),
        false => Some("the project is edited with the owner's access key".to_owned()),
    };
    let folder = shared.workbench.path();
    let folder = std::fs::canonicalize(&folder).unwrap_or(folder);
    Ok(web::Json(Me {
        owner,
        role: roles.first().cloned(),
        roles,
        claims: caller.claims().clone(),
        by: caller.by().to_string(),
        editing: why_not.is_none(),
        why_not,
        project: folder.file_name().map_or_else(|| "project".to_owned(), |name| name.to_string_lossy().into_owned()),
    }))
}

/// The project, in short.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct ProjectState {
    /// Changes whenever anything changes that could change an answer.
    version: String,
    /// A digest of the project file as it is now.
    base: String,
    /// The sources.
    sources: Vec<SourceState>,
    /// How many types there are.
    types: usize,
    /// How many links.
    links: usize,
    /// How many roles, beside the owner.
    roles: usize,
    /// How many proposals of the last survey wait; absent where this service has not surveyed.
    #[serde(skip_serializing_if = "Option::is_none")]
    proposals: Option<usize>,
    /// What `puente check` says of the files.
    findings: Vec<Finding>,
    /// The last requests.
    asks: Vec<AskState>,
    /// How many saves of this service can be taken back.
    saved: usize,
}

/// A source, as it is now.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SourceState {
    /// Its name.
    name: String,
    /// What kind of database it is.
    engine: String,
    /// Does it answer?
    ready: bool,
    /// Why not.
    #[serde(skip_serializing_if = "Option::is_none")]
    text: Option<String>,
    /// How many types are of it.
    types: usize,
    /// Has it a survey file?
    surveyed: bool,
}

/// A request that was answered.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct AskState {
    /// When, as RFC 3339 has it.
    at: String,
    /// The operation's name; empty where it has none.
    operation: String,
    /// The role that asked.
    role: String,
    /// `ok`, or the first error's code.
    outcome: String,
    /// Rows that the sources delivered.
    rows: u64,
    /// How long it took.
    microseconds: u64,
}

/// The project, in short: its sources, what wants attention, the last requests.
#[utoipa::path(get, path = "/project", responses((status = 200, body = ProjectState)))]
pub(crate) async fn state(request: HttpRequest, shared: web::Data<Shared>) -> Answer<ProjectState> {
    let served = owner(&shared, &request).await?;
    let found = shared.readiness.look(&served.api).await;
    let state = blocking({
        let shared = shared.clone();
        move || project_state(&shared, &found)
    });
    let mut state = state.await??;
    state.asks = served.api.metrics().recent.all().into_iter().map(ask_state).collect();
    Ok(web::Json(state))
}

fn project_state(shared: &Shared, found: &[(String, Result<(), Problem>)]) -> Result<ProjectState, Refused> {
    let folder = shared.workbench.folder();
    let checked = shared.workbench.checked();
    let model = checked.model.as_deref();
    let sources = folder.project.sources.iter().map(|source| {
        let probed = found.iter().find(|(name, _)| *name == source.name).map(|(_, probed)| probed);
        let is_of = |t: &puente_core::model::Type| model.is_some_and(|model| model.sources[t.source] == source.name);
        SourceState {
            name: source.name.clone(),
            engine: engine_word(source.engine).to_owned(),
            ready: matches!(probed, Some(Ok(()))),
            text: probed.and_then(|probed| probed.as_ref().err()).map(|problem| problem.message.clone()),
            types: model.map_or(0, |model| model.tables().filter(|(_, t)| is_of(t)).count()),
            surveyed: folder.survey_file(source).exists(),
        }
    });
    let sources = sources.collect();
    let (_, _, last) = shared.workbench.survey();
    let proposals = match (&last, model) {
        (Some(last), Some(model)) => surveyed(&folder, model, Some(last))?.found.map(|found| found.proposals.len()),
        _ => None,
    };
    Ok(ProjectState {
        version: model.map_or_else(String::new, |model| model.version.clone()),
        base: digest_of(&folder.text()?),
        sources,
        types: model.map_or(0, |model| model.tables().count()),
        links: model.map_or(0, |model| model.types.iter().map(|t| t.links.len()).sum()),
        roles: folder.project.roles.len(),
        proposals,
        findings: checked.findings.clone(),
        asks: Vec::new(),
        saved: shared.workbench.last_saved().1,
    })
}

fn ask_state(ask: crate::recent::RecentAsk) -> AskState {
    AskState {
        at: moment(ask.at),
        operation: ask.operation,
        role: ask.role,
        outcome: ask.outcome,
        rows: ask.rows,
        microseconds: ask.microseconds,
    }
}

fn moment(at: SystemTime) -> String {
    Timestamp::try_from(at).map(|at| at.to_string()).unwrap_or_default()
}

/// The model as a whole.
#[utoipa::path(get, path = "/project/model", responses((status = 200, body = ModelOverview)))]
pub(crate) async fn model(request: HttpRequest, shared: web::Data<Shared>) -> Answer<ModelOverview> {
    owner(&shared, &request).await?;
    let (_, model) = sound(&shared).await?;
    let folder = shared.workbench.folder();
    Ok(web::Json(blocking(move || overview(&folder, &model)).await??))
}

/// One type with all that there is to say of it.
#[utoipa::path(get, path = "/project/types/{name}", params(("name" = String, Path,)), responses((status = 200, body = TypeSheet)))]
pub(crate) async fn type_sheet(
    request: HttpRequest,
    shared: web::Data<Shared>,
    name: web::Path<String>,
) -> Answer<TypeSheet> {
    owner(&shared, &request).await?;
    let (_, model) = sound(&shared).await?;
    let of = type_named(&model, &name)?;
    let folder = shared.workbench.folder();
    Ok(web::Json(blocking(move || sheet(&folder, &View::owner(model), of)).await??))
}

/// Every role with its grants.
#[utoipa::path(get, path = "/project/access", responses((status = 200, body = AccessOverview)))]
pub(crate) async fn access(request: HttpRequest, shared: web::Data<Shared>) -> Answer<AccessOverview> {
    owner(&shared, &request).await?;
    let (checked, model) = sound(&shared).await?;
    let roles = checked.roles.as_deref().unwrap_or_default();
    Ok(web::Json(access_overview(&shared.workbench.folder().project, &model, roles)))
}

/// Whose eyes to look through.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct Looking {
    /// The role.
    role: String,
    /// The type.
    #[serde(rename = "type")]
    of: String,
    /// The claims.
    #[serde(default)]
    #[schema(value_type = Object)]
    claims: Map<String, Json>,
    /// Edits that are not saved yet: it is looked as if they were.
    #[serde(default)]
    edits: Vec<Edit>,
    /// What the last page said under `next`.
    #[serde(default)]
    after: Option<String>,
    /// Only the rows that the role sees?
    #[serde(default)]
    only_seen: bool,
}

/// The role that is looked through, on the project as it would be with the edits.
async fn looked_through(
    shared: &web::Data<Shared>,
    looking: &Looking,
) -> Result<(Arc<ProjectFolder>, Role, TypeId), Refused> {
    let folder = shared.workbench.folder();
    let checked = match looking.edits.is_empty() {
        true => sound(shared).await?.0,
        false => {
            let (folder, edits) = (Arc::clone(&folder), looking.edits.clone());
            Arc::new(blocking(move || edited(&folder, &edits)).await??)
        }
    };
    let Some((model, roles)) = checked.model.as_ref().zip(checked.roles.as_ref()) else {
        return Err(SaveError::Unsound(checked.findings.clone()).into());
    };
    // The type is called as it is now, also where the edits call it otherwise.
    let (_, now) = sound(shared).await?;
    let t = &now.types[type_named(&now, &looking.of)?];
    let is_it = |(_, other): &(TypeId, &puente_core::model::Type)| {
        other.table == t.table && model.sources[other.source] == now.sources[t.source]
    };
    let of = model
        .tables()
        .find(is_it)
        .map(|(of, _)| of)
        .ok_or_else(|| Refused::not_found(format!("`{}` is left out by the edits: nobody sees it", looking.of)))?;
    let role = roles.iter().find(|role| role.view.role() == looking.role).ok_or_else(|| {
        let hint = did_you_mean(&looking.role, roles.iter().map(|role| role.view.role()));
        Refused::not_found(format!("there is no role `{}`{hint}", looking.role))
    })?;
    Ok((folder, role.clone(), of))
}

fn edited(folder: &ProjectFolder, edits: &[Edit]) -> Result<Checked, Refused> {
    let surveys = Surveys::of(folder);
    let text = surveys.edited(&folder.text()?, edits).map_err(SaveError::Edit)?;
    Ok(surveys.check(&text))
}

/// The sources that the service has open, by their settings.
fn open_sources<'s>(served: &'s Served, folder: &'s ProjectFolder) -> impl Fn(&SourceSettings) -> Option<Source> + 's {
    |source| {
        let is_as_it_was = folder.project.source(&source.name) == Some(source);
        let open = served.api.sources().find(|(name, _)| is_as_it_was && *name == source.name);
        open.map(|(_, source)| Source::clone(source))
    }
}

/// How many rows of a type a role sees.
#[utoipa::path(post, path = "/project/access/visible", request_body = Looking, responses((status = 200, body = Visible)))]
pub(crate) async fn visible(request: HttpRequest, shared: web::Data<Shared>, payload: web::Payload) -> Answer<Visible> {
    let served = owner(&shared, &request).await?;
    let looking: Looking = read(&request, payload).await?;
    let (folder, role, of) = looked_through(&shared, &looking).await?;
    if role.view.type_view(of).is_none() {
        let text = format!("role `{}` reads nothing of `{}`: no row is seen", looking.role, looking.of);
        return Err(Refused::new(StatusCode::UNPROCESSABLE_ENTITY, "NOT_GRANTED", text));
    }
    let open = open_sources(&served, &folder);
    Ok(web::Json(visible_rows(&folder, &role, of, looking.claims, &open).await?))
}

/// Rows of a table, and what of them a role sees.
#[utoipa::path(post, path = "/project/access/seen", request_body = Looking, responses((status = 200, body = SeenRows)))]
pub(crate) async fn seen(request: HttpRequest, shared: web::Data<Shared>, payload: web::Payload) -> Answer<SeenRows> {
    let served = owner(&shared, &request).await?;
    let looking: Looking = read(&request, payload).await?;
    let (folder, role, of) = looked_through(&shared, &looking).await?;
    let open = open_sources(&served, &folder);
    Ok(web::Json(
        seen_rows(&folder, &role, of, looking.claims, (looking.after.as_deref(), looking.only_seen), &open).await?,
    ))
}

/// A row that is asked about.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct RowQuestion {
    /// The type.
    #[serde(rename = "type")]
    of: String,
    /// The fields of its key, with their values.
    #[schema(value_type = Object)]
    key: Map<String, Json>,
    /// The claims of whoever is thought of.
    #[serde(default)]
    #[schema(value_type = Object)]
    claims: Map<String, Json>,
}

/// Which roles may read, change or delete a row, and by which line.
#[utoipa::path(post, path = "/project/access/row", request_body = RowQuestion, responses((status = 200, body = Vec<RowAccess>)))]
pub(crate) async fn row(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<Vec<RowAccess>> {
    let served = owner(&shared, &request).await?;
    let question: RowQuestion = read(&request, payload).await?;
    let (checked, model) = sound(&shared).await?;
    let of = type_named(&model, &question.of)?;
    let folder = shared.workbench.folder();
    let roles = checked.roles.as_deref().unwrap_or_default();
    let open = open_sources(&served, &folder);
    Ok(web::Json(row_access(&folder, roles, of, &question.key, &question.claims, &open).await?))
}

/// A field that is asked about.
#[derive(Debug, Deserialize, utoipa::IntoParams)]
#[into_params(parameter_in = Query)]
pub(crate) struct FieldQuestion {
    /// The type.
    #[serde(rename = "type")]
    of: String,
    /// The field.
    field: String,
}

/// Which roles may read or change a field, and by which line.
#[utoipa::path(get, path = "/project/access/who", params(FieldQuestion), responses((status = 200, body = Vec<WhoLine>)))]
pub(crate) async fn who(request: HttpRequest, shared: web::Data<Shared>) -> Answer<Vec<WhoLine>> {
    owner(&shared, &request).await?;
    let question = web::Query::<FieldQuestion>::from_query(request.query_string());
    let question = question.map_err(|error| Refused::wrong(format!("the query string: {error}")))?;
    let (checked, model) = sound(&shared).await?;
    let of = type_named(&model, &question.of)?;
    if !has_field(&model, of, &question.field) {
        let hint = did_you_mean(&question.field, field_names(&model, of));
        return Err(Refused::not_found(format!("`{}` has no field `{}`{hint}", question.of, question.field)));
    }
    let roles = checked.roles.as_deref().unwrap_or_default();
    Ok(web::Json(who_can(&model, roles, of, &question.field)))
}

/// A rule that is being written.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct RuleQuestion {
    /// The type of whose rows it speaks.
    #[serde(rename = "type")]
    of: String,
    /// Its text.
    text: String,
}

/// What is wrong with a rule.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct RuleVerdict {
    /// The first mistake; absent where there is none.
    #[serde(skip_serializing_if = "Option::is_none")]
    mistake: Option<RuleMistake>,
}

/// A mistake in a rule.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct RuleMistake {
    /// What was expected, what came, and the remedy.
    text: String,
    /// The line of the rule, from 1.
    line: usize,
    /// The column there, from 1.
    column: usize,
}

/// Is a rule right, on the model as it is?
#[utoipa::path(post, path = "/project/rules/check", request_body = RuleQuestion, responses((status = 200, body = RuleVerdict)))]
pub(crate) async fn rule(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<RuleVerdict> {
    owner(&shared, &request).await?;
    let question: RuleQuestion = read(&request, payload).await?;
    let (_, model) = sound(&shared).await?;
    let of = type_named(&model, &question.of)?;
    let mistake = check_rule(&model, of, &question.text).err();
    let mistake = mistake.map(|mistake| RuleMistake {
        text: mistake.text,
        line: mistake.place.line,
        column: mistake.place.column,
    });
    Ok(web::Json(RuleVerdict { mistake }))
}

/// Edits that are thought of.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct Edits {
    /// The edits, one after the other.
    edits: Vec<Edit>,
}

/// Edits that are to be made.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct SaveRequest {
    /// The digest of the file that they were proposed for.
    base: String,
    /// The edits, one after the other.
    edits: Vec<Edit>,
}

/// The project file after a save.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SavedState {
    /// A digest of its text.
    base: String,
    /// The lines that changed.
    lines: Vec<crate::operations::edit::DiffGroup>,
    /// How many saves of this service can be taken back.
    saved: usize,
}

/// What edits would make of the project file.
#[utoipa::path(post, path = "/project/edits/propose", request_body = Edits, responses((status = 200, body = Proposed)))]
pub(crate) async fn propose_edits(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<Proposed> {
    owner(&shared, &request).await?;
    let Edits { edits } = read(&request, payload).await?;
    let folder = shared.workbench.folder();
    Ok(web::Json(blocking(move || propose(&folder, &edits)).await??))
}

/// Makes edits in the project file, if it is still the one that they were proposed for, and serves it so.
#[utoipa::path(post, path = "/project/edits/save", request_body = SaveRequest, responses((status = 200, body = SavedState), (status = 409, body = Refusal)))]
pub(crate) async fn save_edits(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<SavedState> {
    editor(&shared, &request).await?;
    let SaveRequest { base, edits } = read(&request, payload).await?;
    let work = move || {
        let _writing = shared.workbench.write();
        let folder = shared.workbench.folder();
        let (before, after) = save(&folder, &base, &edits)?;
        shared.workbench.remember(Saved { made: digest_of(&after), before: before.clone(), edits: edits.len() });
        crate::reload::reload(&shared)?;
        Ok::<_, Refused>(saved_state(&shared, &before, &after))
    };
    Ok(web::Json(blocking(work).await??))
}

fn saved_state(shared: &Shared, before: &str, after: &str) -> SavedState {
    SavedState { base: digest_of(after), lines: diff(before, after), saved: shared.workbench.last_saved().1 }
}

/// Takes the last save of this service back, if the file is still what that save made of it.
#[utoipa::path(post, path = "/project/edits/undo", responses((status = 200, body = SavedState), (status = 409, body = Refusal)))]
pub(crate) async fn undo(request: HttpRequest, shared: web::Data<Shared>) -> Answer<SavedState> {
    editor(&shared, &request).await?;
    let work = move || {
        let _writing = shared.workbench.write();
        let folder = shared.workbench.folder();
        let (Some(saved), _) = shared.workbench.last_saved() else {
            return Err(Refused::new(
                StatusCode::CONFLICT,
                "NOTHING_SAVED",
                "this service has saved nothing to take back",
            ));
        };
        let now = folder.text()?;
        put_back(&folder, &saved.made, &saved.before)?;
        shared.workbench.forget_last();
        tracing::info!(target: "puente::service", edits = saved.edits, "the last save of the project file was taken back");
        crate::reload::reload(&shared)?;
        Ok(saved_state(&shared, &now, &saved.before))
    };
    Ok(web::Json(blocking(work).await??))
}

/// What is known of the sources, and the survey that runs.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct SurveyState {
    /// The survey that runs; absent where none does.
    #[serde(skip_serializing_if = "Option::is_none")]
    running: Option<RunningState>,
    /// Why the last survey failed; absent where it did not.
    #[serde(skip_serializing_if = "Option::is_none")]
    failed: Option<String>,
    /// What is known.
    surveyed: Surveyed,
}

/// A survey that runs.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct RunningState {
    /// The one source that is surveyed; absent, all.
    #[serde(skip_serializing_if = "Option::is_none")]
    source: Option<String>,
    /// For how long, in milliseconds.
    milliseconds: u64,
    /// What it looks at.
    what: String,
    /// How many of them it has looked at.
    done: usize,
    /// How many there are.
    of: usize,
}

/// What is known of the sources, and the survey that runs.
#[utoipa::path(get, path = "/project/survey", responses((status = 200, body = SurveyState)))]
pub(crate) async fn survey_state(request: HttpRequest, shared: web::Data<Shared>) -> Answer<SurveyState> {
    owner(&shared, &request).await?;
    let work = move || {
        let (running, failed, last) = shared.workbench.survey();
        let checked = shared.workbench.checked();
        let folder = shared.workbench.folder();
        let surveyed = match &checked.model {
            Some(model) => surveyed(&folder, model, last.as_deref())?,
            None => Surveyed { sources: Vec::new(), found: None },
        };
        let running = running.map(|running| RunningState {
            source: running.source,
            milliseconds: u64::try_from(running.since.as_millis()).unwrap_or(u64::MAX),
            what: running.step.what,
            done: running.step.done,
            of: running.step.of,
        });
        Ok::<_, Refused>(SurveyState { running, failed, surveyed })
    };
    Ok(web::Json(blocking(work).await??))
}

/// What is to be surveyed.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct SurveyRequest {
    /// The one source; absent, all.
    #[serde(default)]
    source: Option<String>,
}

/// Something that goes on.
#[derive(Debug, Serialize, ToSchema)]
#[serde(rename_all = "camelCase")]
pub(crate) struct Begun {
    /// Always true.
    begun: bool,
}

/// Begins a survey; `GET` tells how far it is.
#[utoipa::path(post, path = "/project/survey", request_body = SurveyRequest, responses((status = 200, body = Begun)))]
pub(crate) async fn start_survey(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<Begun> {
    editor(&shared, &request).await?;
    let SurveyRequest { source } = read(&request, payload).await?;
    let folder = shared.workbench.folder();
    if let Some(name) = source.as_ref().filter(|name| folder.project.source(name).is_none()) {
        let hint = did_you_mean(name, folder.project.sources.iter().map(|source| source.name.as_str()));
        return Err(Refused::not_found(format!("there is no source `{name}`{hint}")));
    }
    let watch = shared.workbench.begin_survey(source.clone()).ok_or_else(is_surveying)?;
    std::thread::spawn(move || {
        let outcome =
            survey_watched(&folder, (source.as_deref(), false), &watch).map_err(|error| text_of(error.into()));
        // Reloaded first: whoever sees that the survey has ended sees what it found, too.
        if outcome.is_ok()
            && let Err(error) = crate::reload::reload(&shared)
        {
            tracing::error!(target: "puente::service", "the project cannot be reloaded after its survey: {error}");
        }
        shared.workbench.end_survey(outcome);
    });
    Ok(web::Json(Begun { begun: true }))
}

fn is_surveying() -> Refused {
    Refused::new(StatusCode::CONFLICT, "SURVEYING", "a survey runs already; wait for it, or stop it")
}

fn text_of(refused: Refused) -> String {
    refused.to_string()
}

/// Stops the survey that runs. What it would have found is lost, and nothing is changed.
#[utoipa::path(delete, path = "/project/survey", responses((status = 200, body = Begun)))]
pub(crate) async fn stop_survey(request: HttpRequest, shared: web::Data<Shared>) -> Answer<Begun> {
    editor(&shared, &request).await?;
    shared.workbench.stop_survey();
    Ok(web::Json(Begun { begun: true }))
}

/// Lets something keep the names that it had before it was renamed in the database.
#[utoipa::path(post, path = "/project/survey/renames", request_body = RenameSheet, responses((status = 200, body = Begun)))]
pub(crate) async fn take_rename(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<Begun> {
    editor(&shared, &request).await?;
    let wanted: RenameSheet = read(&request, payload).await?;
    let work = move || {
        let (_, _, last) = shared.workbench.survey();
        let last = last.ok_or_else(|| Refused::not_found("this service has not surveyed yet"))?;
        let mut known = last.renames();
        let Some(rename) = known.find(|(source, rename)| rename_sheet(source, rename) == wanted) else {
            return Err(Refused::not_found(format!("nothing says that {} was {}", wanted.now, wanted.before)));
        };
        let folder = shared.workbench.folder();
        accept(&folder, &Accepted { renames: vec![rename], ..Accepted::default() })?;
        let again = survey_watched(&folder, (Some(&wanted.source), false), &puente_run::SurveyWatch::default());
        shared.workbench.end_survey(again.map_err(|error| text_of(error.into())));
        crate::reload::reload(&shared)?;
        Ok(Begun { begun: true })
    };
    Ok(web::Json(blocking(work).await??))
}

/// How the databases differ from their surveys; takes as long as a survey does.
#[utoipa::path(post, path = "/project/drift", responses((status = 200, body = Vec<Finding>)))]
pub(crate) async fn drift(request: HttpRequest, shared: web::Data<Shared>) -> Answer<Vec<Finding>> {
    owner(&shared, &request).await?;
    let folder = shared.workbench.folder();
    Ok(web::Json(blocking(move || find_drift(&folder)).await?))
}

/// The columns of a table, as the survey found them.
#[utoipa::path(get, path = "/project/tables/{source}/{table}", params(("source" = String, Path,), ("table" = String, Path,)), responses((status = 200, body = SurveyedColumns)))]
pub(crate) async fn table_columns(
    request: HttpRequest,
    shared: web::Data<Shared>,
    path: web::Path<(String, String)>,
) -> Answer<SurveyedColumns> {
    owner(&shared, &request).await?;
    let (source, table) = path.into_inner();
    let folder = shared.workbench.folder();
    let work = move || {
        let settings = folder.project.source(&source);
        let catalog = settings.map(|settings| folder.surveyed(settings)).transpose()?.flatten();
        let found = catalog.as_ref().and_then(|catalog| columns(catalog, &table));
        found.ok_or_else(|| Refused::not_found(format!("the survey of `{source}` has no table `{table}`")))
    };
    Ok(web::Json(blocking(work).await??))
}

/// A database that is thought of.
#[derive(Debug, Deserialize, ToSchema)]
#[serde(rename_all = "camelCase", deny_unknown_fields)]
pub(crate) struct NewSource {
    /// The source's name.
    name: String,
    /// Its address; a password in it stays out of the project file.
    url: String,
}

/// Tries an address: is it one, and does a database answer there?
#[utoipa::path(post, path = "/project/sources/try", request_body = NewSource, responses((status = 200, body = Probed)))]
pub(crate) async fn try_source(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<Probed> {
    editor(&shared, &request).await?;
    let NewSource { name, url } = read(&request, payload).await?;
    let folder = shared.workbench.folder();
    Ok(web::Json(probe(&folder, &name, &url).await))
}

/// Surveys another database and writes it into the project file; `GET /project/survey` tells how far it is.
#[utoipa::path(post, path = "/project/sources", request_body = NewSource, responses((status = 200, body = Begun)))]
pub(crate) async fn new_source(
    request: HttpRequest,
    shared: web::Data<Shared>,
    payload: web::Payload,
) -> Answer<Begun> {
    editor(&shared, &request).await?;
    let NewSource { name, url } = read(&request, payload).await?;
    let watch = shared.workbench.begin_survey(Some(name.clone())).ok_or_else(is_surveying)?;
    std::thread::spawn(move || {
        let folder = shared.workbench.folder();
        let added = survey_new_source(&folder, (&name, &url), &watch).and_then(|outcome| {
            let _writing = shared.workbench.write();
            let (before, after) = write_source(&folder, (&name, &url)).map_err(SurveyError::Folder)?;
            shared.workbench.remember(Saved { made: digest_of(&after), before, edits: 1 });
            Ok(outcome)
        });
        // Reloaded first: whoever sees that the survey has ended sees its types, too.
        if added.is_ok()
            && let Err(error) = crate::reload::reload(&shared)
        {
            tracing::error!(target: "puente::service", "the project cannot be reloaded with its new source: {error}");
        }
        shared.workbench.end_survey(added.map_err(|error| text_of(error.into())));
    });
    Ok(web::Json(Begun { begun: true }))
}
