//! The API of one project: asks in, answers out, as a role. The same for HTTP and for the command line.

use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, OnceLock};
use std::time::{Duration, Instant};

use prometheus_client::metrics::counter::Counter;
use puente_core::access::View;
use puente_core::error::{Code, Level, Problem};
use puente_core::json::{self, Fetch, Row, Rows};
use puente_core::model::Model;
use puente_core::plan::{self, BoundPlan, Context, Document, Plan, Sealer, SelectId, Variables};
use puente_core::project::Limits;
use puente_core::schema;
use puente_sources::{ChangeRequest, Explanation, Outcome, Request, Source, StatementReport};
use quick_cache::sync::Cache;
use quick_cache::{Equivalent, Weighter};
use serde_json::{Map, Value as Json};

use crate::metrics::{AskLabels, Metrics};

type SharedSchema = Arc<schema::ValidSchema>;

/// Bytes of parsed documents, and of plans, that one role may hold in the cache.
const CACHE_BYTES_PER_ROLE: u64 = 32 << 20;
/// About how many of them are expected.
const CACHE_ITEMS: usize = 4_096;

/// One ask.
#[derive(Debug, Clone, Default)]
pub struct Ask {
    /// The GraphQL document.
    pub document: String,
    /// Which of its operations.
    pub operation_name: Option<String>,
    /// The variables' values.
    pub variables: Map<String, Json>,
    /// Report the statements? For the owner only.
    pub statements: bool,
    /// Report how the engine runs each statement, too? For the owner only.
    pub explain: bool,
    /// Run a mutation for real, and take it back in the end?
    pub rehearse: bool,
}

/// What came of an ask.
#[derive(Debug)]
pub struct AskResult {
    /// The response's body: `data`, `errors`, `extensions`.
    pub body: Vec<u8>,
    /// The first problem's code, if any.
    pub code: Option<Code>,
    /// Has the body a `data` member? Without one, the code decides the HTTP status.
    pub has_data: bool,
}

/// How an [`Api`] is set up.
#[derive(Debug)]
pub struct ApiOptions {
    /// The model.
    pub model: Arc<Model>,
    /// What an ask may cost.
    pub limits: Limits,
    /// What cursors are sealed with.
    pub secret: Vec<u8>,
    /// The source.
    pub source: Source,
}

/// The API of one project.
#[derive(Debug)]
pub struct Api {
    limits: Limits,
    source: Source,
    owner: RoleApi,
    metrics: Arc<Metrics>,
}

/// What is kept per role: its view, its schema once it was asked for, and its share of the caches.
#[derive(Debug)]
struct RoleApi {
    view: View,
    schema: OnceLock<Result<SharedSchema, Problem>>,
    sealer: Sealer,
    documents: Cache<DocumentKey, (u64, Arc<Document>), Bytes>,
    /// The number of the next document that is parsed.
    next_document: AtomicU64,
    plans: Cache<PlanKey, Arc<Plan>, Bytes>,
    /// Counts the asks that went well, without looking it up by its labels each time.
    answered: Counter,
}

/// A document's text and the operation's name.
#[derive(Debug, Clone, PartialEq, Eq, Hash)]
struct DocumentKey {
    text: String,
    operation: Option<String>,
}

/// The same, borrowed from an ask.
#[derive(Debug, Clone, Copy, Hash)]
struct Asked<'a> {
    text: &'a str,
    operation: Option<&'a str>,
}

impl Equivalent<DocumentKey> for Asked<'_> {
    fn equivalent(&self, key: &DocumentKey) -> bool {
        self.text == key.text && self.operation == key.operation.as_deref()
    }
}

/// A parsed document's number, and its variables' shape.
type PlanKey = (u64, Vec<u8>);

#[derive(Debug, Clone)]
struct Bytes;

impl Weighter<DocumentKey, (u64, Arc<Document>)> for Bytes {
    fn weight(&self, key: &DocumentKey, (_, document): &(u64, Arc<Document>)) -> u64 {
        (document.weight() + key.text.len()) as u64
    }
}

impl Weighter<PlanKey, Arc<Plan>> for Bytes {
    fn weight(&self, key: &PlanKey, plan: &Arc<Plan>) -> u64 {
        (plan.weight() + key.1.len()) as u64
    }
}

impl RoleApi {
    fn new(view: View, secret: &[u8], metrics: &Metrics) -> Self {
        let labels = AskLabels { role: view.role().to_owned(), outcome: "ok".to_owned() };
        RoleApi {
            answered: metrics.asks.get_or_create(&labels).clone(),
            sealer: Sealer::new(secret, view.role()),
            view,
            schema: OnceLock::new(),
            documents: Cache::with_weighter(CACHE_ITEMS, CACHE_BYTES_PER_ROLE, Bytes),
            next_document: AtomicU64::new(0),
            plans: Cache::with_weighter(CACHE_ITEMS, CACHE_BYTES_PER_ROLE, Bytes),
        }
    }

    fn schema(&self) -> Result<&SharedSchema, Problem> {
        self.schema.get_or_init(|| schema::build(&self.view).map(Arc::new)).as_ref().map_err(Clone::clone)
    }
}

/// The source of a plan that reads nothing: introspection and `__typename` only.
struct Nothing;

impl<'s> Fetch<'s> for Nothing {
    fn fetch(&mut self, _: SelectId, _: Option<Row<'_, 's>>, _: &mut Rows<'s>) -> Result<(), Problem> {
        Err(Problem::new(Code::Internal, "a plan without selects has nothing to fetch"))
    }
}

impl Api {
    /// Sets up the API; schemas are built when first asked for.
    pub fn new(options: ApiOptions, metrics: Arc<Metrics>) -> Self {
        let ApiOptions { model, limits, secret, source } = options;
        Api { limits, source, owner: RoleApi::new(View::owner(model), &secret, &metrics), metrics }
    }

    /// The project's limits.
    pub fn limits(&self) -> &Limits {
        &self.limits
    }

    /// The source.
    pub fn source(&self) -> &Source {
        &self.source
    }

    /// The counters.
    pub fn metrics(&self) -> &Metrics {
        &self.metrics
    }

    /// The owner's schema as SDL.
    pub fn sdl(&self) -> String {
        schema::print(&self.owner.view)
    }

    /// Builds the owner's schema now, so that the first ask need not wait.
    ///
    /// # Errors
    /// `INTERNAL` where it cannot be built.
    pub fn warm_up(&self) -> Result<(), Problem> {
        self.owner.schema().map(|_| ())
    }

    /// Answers an ask as the owner. Dropping the future cancels it in the database.
    pub async fn ask(&self, ask: &Ask, request_id: &str) -> AskResult {
        let start = Instant::now();
        self.metrics.running.inc();
        let _running = Running(&self.metrics);
        let (result, explained) = match self.run(ask, start).await {
            Ok((outcome, explained)) => (Ok(outcome), explained),
            Err(problems) => (Err(problems), Vec::new()),
        };
        let elapsed = start.elapsed();
        self.account(&result, elapsed, ask, request_id);
        respond(result, ask.statements.then_some(&explained[..]), elapsed)
    }

    async fn run(&self, ask: &Ask, start: Instant) -> Result<(Outcome, Vec<Explanation>), Vec<Problem>> {
        let (document, number) = self.document(ask)?;
        if document.is_mutation() {
            return self.change(ask, &document, start).await.map(|outcome| (outcome, Vec::new()));
        }
        if ask.rehearse {
            let text = "only a mutation can be rehearsed; leave `rehearse` out to ask a query";
            return Err(vec![Problem::new(Code::InvalidRequest, text)]);
        }
        let bound = self.bind(ask, Arc::clone(&document), number)?;
        if bound.plan().selects().is_empty() {
            let answer =
                json::write(&bound, &mut Nothing, self.limits.answer_bytes).map_err(|problem| vec![problem])?;
            return Ok((Outcome { answer, statements: Vec::new() }, Vec::new()));
        }
        let request = |bound| Request {
            bound,
            role: self.owner.view.role().to_owned(),
            most_bytes: self.limits.answer_bytes,
            deadline: start + Duration::from_millis(self.limits.time_ms),
            timed: ask.statements,
        };
        let outcome = self.source.run(request(bound)).await.map_err(|problem| vec![problem])?;
        let explained = if ask.explain {
            let bound = self.bind(ask, document, number)?;
            self.source.explain(request(bound)).await.map_err(|problem| vec![problem])?
        } else {
            Vec::new()
        };
        Ok((outcome, explained))
    }

    /// Runs a mutation. Its plan is made for this one request: which statements run depends on its values.
    async fn change(&self, ask: &Ask, document: &Arc<Document>, start: Instant) -> Result<Outcome, Vec<Problem>> {
        if ask.explain {
            let text = "only a query can be explained; leave `explain` out";
            return Err(vec![Problem::new(Code::InvalidRequest, text)]);
        }
        let variables = Variables::coerce(document, &ask.variables, &self.owner.sealer)?;
        let mutation =
            plan::change::build_mutation(self.context(), document, &variables).map_err(|problem| vec![problem])?;
        self.metrics.plans_built.inc();
        let most_ms = if ask.rehearse { self.limits.rehearse_ms.min(self.limits.time_ms) } else { self.limits.time_ms };
        let request = ChangeRequest {
            mutation,
            most_cost: self.limits.cost,
            most_bytes: self.limits.answer_bytes,
            deadline: start + Duration::from_millis(most_ms),
            timed: ask.statements,
            rehearse: ask.rehearse,
        };
        self.source.change(request).await.map_err(|problem| vec![problem])
    }

    fn context(&self) -> Context<'_> {
        Context {
            view: &self.owner.view,
            limits: &self.limits,
            sealer: &self.owner.sealer,
            dialect: self.source.dialect(),
        }
    }

    /// The parsed document of an ask, and its number.
    fn document(&self, ask: &Ask) -> Result<(Arc<Document>, u64), Vec<Problem>> {
        let role = &self.owner;
        let asked = Asked { text: &ask.document, operation: ask.operation_name.as_deref() };
        Ok(match role.documents.get(&asked) {
            Some((number, document)) => (document, number),
            None => {
                self.metrics.documents_parsed.inc();
                let schema = role.schema().map_err(|problem| vec![problem])?;
                let document = Document::parse(schema, &ask.document, ask.operation_name.as_deref())?;
                let numbered = (role.next_document.fetch_add(1, Ordering::Relaxed), Arc::new(document));
                let key = DocumentKey { text: ask.document.clone(), operation: ask.operation_name.clone() };
                role.documents.insert(key, numbered.clone());
                (numbered.1, numbered.0)
            }
        })
    }

    fn bind(&self, ask: &Ask, document: Arc<Document>, number: u64) -> Result<BoundPlan, Vec<Problem>> {
        let role = &self.owner;
        let mut variables = Variables::coerce(&document, &ask.variables, &role.sealer)?;
        let key = (number, std::mem::take(&mut variables.shape));
        let plan = match role.plans.get(&key) {
            Some(plan) => {
                self.metrics.plans_reused.inc();
                plan
            }
            None => {
                self.metrics.plans_built.inc();
                let plan = plan::build(self.context(), document, &variables).map_err(|problem| vec![problem])?;
                let plan = Arc::new(plan);
                role.plans.insert(key, Arc::clone(&plan));
                plan
            }
        };
        plan.bind(&variables, &self.limits).map_err(|problem| vec![problem])
    }

    fn account(&self, result: &Result<Outcome, Vec<Problem>>, elapsed: Duration, ask: &Ask, request_id: &str) {
        let problems = match result {
            Ok(outcome) => &outcome.answer.problems,
            Err(problems) => problems,
        };
        let outcome = problems.first().map_or("ok", |problem| problem.code.as_str());
        let role = self.owner.view.role();
        if problems.is_empty() {
            self.owner.answered.inc();
        } else {
            self.metrics.asks.get_or_create(&AskLabels { role: role.to_owned(), outcome: outcome.to_owned() }).inc();
        }
        self.metrics.seconds.observe(elapsed.as_secs_f64());
        let reports = result.as_ref().map_or(&[][..], |outcome| &outcome.statements);
        let (executions, rows) = reports.iter().fold((0, 0), |(e, r), report| (e + report.executions, r + report.rows));
        self.metrics.statements.inc_by(reports.len() as u64);
        self.metrics.executions.inc_by(executions);
        self.metrics.rows.inc_by(rows);
        let operation = ask.operation_name.as_deref().unwrap_or_default();
        tracing::info!(
            target: "puente::ask",
            request = request_id, role, operation, outcome, rows, executions,
            ms = elapsed.as_secs_f64() * 1_000.0,
            "ask"
        );
        let worth_a_line = |problem: &&Problem| problem.code.level() != Level::Info || problem.detail.is_some();
        for problem in problems.iter().filter(worth_a_line) {
            let (code, detail) = (problem.code.as_str(), problem.detail.as_deref().unwrap_or_default());
            match problem.code.level() {
                Level::Error => {
                    tracing::error!(target: "puente::ask", request = request_id, code, detail, "{}", problem.message)
                }
                Level::Info => {
                    tracing::info!(target: "puente::ask", request = request_id, code, detail, "{}", problem.message)
                }
                Level::Warn => {
                    tracing::warn!(target: "puente::ask", request = request_id, code, detail, "{}", problem.message)
                }
            }
        }
    }
}

struct Running<'a>(&'a Metrics);

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.0.running.dec();
    }
}

/// The body of the response ([Response format](https://spec.graphql.org/September2025/#sec-Response-Format)).
fn respond(result: Result<Outcome, Vec<Problem>>, explained: Option<&[Explanation]>, elapsed: Duration) -> AskResult {
    match result {
        Ok(Outcome { answer, statements: reports }) => {
            let code = answer.problems.first().map(|problem| problem.code);
            let mut body = answer.body;
            if !answer.problems.is_empty() {
                body.extend_from_slice(b",\"errors\":");
                serde_json::to_writer(&mut body, &answer.problems).expect("problems are serialisable");
            }
            if let Some(explained) = explained {
                body.extend_from_slice(b",\"extensions\":");
                let extensions = extensions(&reports, explained, elapsed);
                serde_json::to_writer(&mut body, &extensions).expect("reports are serialisable");
            }
            body.push(b'}');
            AskResult { body, code, has_data: true }
        }
        Err(problems) => AskResult::refused(&problems),
    }
}

impl AskResult {
    /// The result of an ask that was refused as a whole. A change that the rows do not allow was well-formed, and
    /// executed: its data is null.
    pub fn refused(problems: &[Problem]) -> Self {
        let mut body = b"{\"errors\":".to_vec();
        serde_json::to_writer(&mut body, problems).expect("problems are serialisable");
        let code = problems.first().map(|problem| problem.code);
        let has_data = code.is_some_and(|code| code.status() == 200);
        body.extend_from_slice(if has_data { b",\"data\":null}" } else { b"}" });
        AskResult { body, code, has_data }
    }
}

fn extensions(reports: &[StatementReport], explained: &[Explanation], elapsed: Duration) -> Json {
    let micros = |time: Duration| u64::try_from(time.as_micros()).unwrap_or(u64::MAX);
    let statements: Vec<Json> = reports
        .iter()
        .map(|report| {
            let mut told = serde_json::json!({
                "text": report.text,
                "executions": report.executions,
                "rows": report.rows,
                "microseconds": micros(report.time),
            });
            if let Some(explanation) = explained.iter().find(|explanation| explanation.text == report.text) {
                told["plan"] = explanation.plan.clone().into();
                told["advice"] = explanation.advice.clone().into();
            }
            told
        })
        .collect();
    serde_json::json!({ "statements": statements, "microseconds": micros(elapsed) })
}
