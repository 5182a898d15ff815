//! The API of one project: asks in, answers out, as a role. The same for HTTP and for the command line.

use std::sync::{Arc, PoisonError, RwLock};
use std::time::{Duration, Instant};

use puente_core::access::{Claims, OWNER, Role, Settled, View};
use puente_core::error::{Code, Level, Problem};
use puente_core::json::{self, Fetch, Row, Rows};
use puente_core::model::Model;
use puente_core::plan::{self, BoundPlan, Context, Document, SelectId, Variables};
use puente_core::project::Limits;
use puente_core::schema;
use puente_sources::{ChangeRequest, Explanation, Outcome, Request, Source, StatementReport};
use serde_json::{Map, Value as Json};

use crate::asker::{Asker, no_such_role};
use crate::metrics::{AskLabels, Metrics};
use crate::roles::{RoleApi, Roles};

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
    /// The roles, beside the owner.
    pub roles: Vec<Role>,
    /// What an ask may cost.
    pub limits: Limits,
    /// What cursors are sealed with.
    pub secret: Vec<u8>,
    /// The source.
    pub source: Source,
}

/// The API of one project. What it is made of can be replaced while it runs: an ask ends with what it began with.
#[derive(Debug)]
pub struct Api {
    inner: RwLock<Arc<Inner>>,
    metrics: Arc<Metrics>,
}

/// What an API is made of.
#[derive(Debug)]
struct Inner {
    limits: Limits,
    source: Source,
    roles: Roles,
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
        let inner = RwLock::new(Arc::new(Inner::new(options, &metrics)));
        Api { inner, metrics }
    }

    /// Puts a newly read project in the place of what is there: whoever asks from now on asks it.
    pub fn replace(&self, options: ApiOptions) {
        let inner = Arc::new(Inner::new(options, &self.metrics));
        *self.inner.write().unwrap_or_else(PoisonError::into_inner) = inner;
    }

    fn inner(&self) -> Arc<Inner> {
        Arc::clone(&self.inner.read().unwrap_or_else(PoisonError::into_inner))
    }

    /// The project's limits.
    pub fn limits(&self) -> Limits {
        self.inner().limits
    }

    /// The source.
    pub fn source(&self) -> Source {
        self.inner().source.clone()
    }

    /// The counters.
    pub fn metrics(&self) -> &Metrics {
        &self.metrics
    }

    /// Is there a role of this name?
    pub fn has_role(&self, name: &str) -> bool {
        self.inner().roles.get(name).is_some()
    }

    /// A role's schema as SDL; none where there is no such role.
    pub fn sdl(&self, role: &str) -> Option<String> {
        self.inner().roles.get(role).map(|role| schema::print(role.view()))
    }

    /// Builds the owner's schema now, so that the first ask need not wait.
    ///
    /// # Errors
    /// `INTERNAL` where it cannot be built.
    pub fn warm_up(&self) -> Result<(), Problem> {
        let inner = self.inner();
        inner.roles.get(OWNER).map_or(Ok(()), |owner| inner.roles.schema(owner).map(|_| ()))
    }

    /// Answers an ask. Dropping the future cancels it in the database.
    pub async fn ask(&self, ask: &Ask, asker: &Asker, request_id: &str) -> AskResult {
        let start = Instant::now();
        self.metrics.running.inc();
        let _running = Running(&self.metrics);
        let inner = self.inner();
        let role = inner.roles.get(&asker.role);
        let answered = match role {
            Some(role) => Asking { inner: &inner, role, asker, metrics: &self.metrics, start }.run(ask).await,
            None => Err(vec![no_such_role(&asker.role)]),
        };
        let (result, explained) = match answered {
            Ok((outcome, explained)) => (Ok(outcome), explained),
            Err(problems) => (Err(problems), Vec::new()),
        };
        let elapsed = start.elapsed();
        self.account(&result, elapsed, ask, (role, asker), request_id);
        respond(result, ask.statements.then_some(&explained[..]), elapsed)
    }

    fn account(
        &self,
        result: &Result<Outcome, Vec<Problem>>,
        elapsed: Duration,
        ask: &Ask,
        (role, asker): (Option<&RoleApi>, &Asker),
        request_id: &str,
    ) {
        let problems = match result {
            Ok(outcome) => &outcome.answer.problems,
            Err(problems) => problems,
        };
        let outcome = problems.first().map_or("ok", |problem| problem.code.as_str());
        match role.filter(|_| problems.is_empty()) {
            Some(role) => role.answered.inc(),
            None => {
                // A name that is no role is not counted under: whoever asks could make up any number of them.
                let name = role.map_or("", |role| role.view().role());
                self.metrics.asks.get_or_create(&AskLabels { role: name.to_owned(), outcome: outcome.to_owned() }).inc()
            }
        };
        self.metrics.seconds.observe(elapsed.as_secs_f64());
        let reports = result.as_ref().map_or(&[][..], |outcome| &outcome.statements);
        let (executions, rows) = reports.iter().fold((0, 0), |(e, r), report| (e + report.executions, r + report.rows));
        self.metrics.statements.inc_by(reports.len() as u64);
        self.metrics.executions.inc_by(executions);
        self.metrics.rows.inc_by(rows);
        let operation = ask.operation_name.as_deref().unwrap_or_default();
        tracing::info!(
            target: "puente::ask",
            request = request_id, role = asker.role, by = %asker.by, operation, outcome, rows, executions,
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

impl Inner {
    fn new(options: ApiOptions, metrics: &Metrics) -> Self {
        let ApiOptions { model, roles, limits, secret, source } = options;
        Inner { limits, source, roles: Roles::new(&model, limits, roles, &secret, metrics) }
    }
}

/// One ask on its way.
struct Asking<'a> {
    inner: &'a Inner,
    role: &'a RoleApi,
    asker: &'a Asker,
    metrics: &'a Metrics,
    start: Instant,
}

/// What the claims of an ask come to, and the view under them.
struct Seen {
    settled: Settled,
    view: Arc<View>,
}

impl Asking<'_> {
    async fn run(&self, ask: &Ask) -> Result<(Outcome, Vec<Explanation>), Vec<Problem>> {
        if ask.statements && !self.asker.sees_statements() {
            let text = "statements are shown to the owner only; leave `statements` and `explain` out";
            return Err(vec![Problem::new(Code::RoleRefused, text)]);
        }
        let (document, number) = self.role.document(&self.inner.roles, ask, self.metrics)?;
        let claims = Claims { members: &self.asker.claims, now: jiff::Timestamp::now() };
        let settled = self.role.view().settle(&claims);
        let seen = Seen { view: self.role.settled(&settled), settled };
        if document.is_mutation() {
            return self.change(ask, &document, &seen).await.map(|outcome| (outcome, Vec::new()));
        }
        if ask.rehearse {
            let text = "only a mutation can be rehearsed; leave `rehearse` out to ask a query";
            return Err(vec![Problem::new(Code::InvalidRequest, text)]);
        }
        let limits = &self.role.limits;
        let bound = self.bind(ask, Arc::clone(&document), number, &seen)?;
        if bound.plan().selects().is_empty() {
            let answer = json::write(&bound, &mut Nothing, limits.answer_bytes).map_err(|problem| vec![problem])?;
            return Ok((Outcome { answer, statements: Vec::new() }, Vec::new()));
        }
        let request = |bound| Request {
            bound,
            role: self.asker.role.clone(),
            most_bytes: limits.answer_bytes,
            deadline: self.start + Duration::from_millis(limits.time_ms),
            timed: ask.statements,
        };
        let source = &self.inner.source;
        let outcome = source.run(request(bound)).await.map_err(|problem| vec![problem])?;
        let explained = if ask.explain {
            let bound = self.bind(ask, document, number, &seen)?;
            source.explain(request(bound)).await.map_err(|problem| vec![problem])?
        } else {
            Vec::new()
        };
        Ok((outcome, explained))
    }

    /// Runs a mutation. Its plan is made for this one request: which statements run depends on its values.
    async fn change(&self, ask: &Ask, document: &Arc<Document>, seen: &Seen) -> Result<Outcome, Vec<Problem>> {
        if ask.explain {
            let text = "only a query can be explained; leave `explain` out";
            return Err(vec![Problem::new(Code::InvalidRequest, text)]);
        }
        let variables = self.variables(ask, document, seen)?;
        let mutation =
            plan::change::build_mutation(self.context(seen), document, &variables).map_err(|problem| vec![problem])?;
        self.metrics.plans_built.inc();
        let limits = &self.role.limits;
        let most_ms = if ask.rehearse { limits.rehearse_ms.min(limits.time_ms) } else { limits.time_ms };
        let request = ChangeRequest {
            mutation,
            most_cost: limits.cost,
            most_bytes: limits.answer_bytes,
            deadline: self.start + Duration::from_millis(most_ms),
            timed: ask.statements,
            rehearse: ask.rehearse,
        };
        self.inner.source.change(request).await.map_err(|problem| vec![problem])
    }

    fn context<'c>(&'c self, seen: &'c Seen) -> Context<'c> {
        Context {
            view: &seen.view,
            limits: &self.role.limits,
            sealer: &self.role.sealer,
            dialect: self.inner.source.dialect(),
        }
    }

    fn variables(&self, ask: &Ask, document: &Document, seen: &Seen) -> Result<Variables, Vec<Problem>> {
        Variables::coerce(document, &ask.variables, &self.role.sealer)
            .map(|variables| variables.with_claims(&seen.settled))
    }

    fn bind(&self, ask: &Ask, document: Arc<Document>, number: u64, seen: &Seen) -> Result<BoundPlan, Vec<Problem>> {
        let mut variables = self.variables(ask, &document, seen)?;
        let key = (number, std::mem::take(&mut variables.shape));
        let plan = match self.role.plan(&key) {
            Some(plan) => {
                self.metrics.plans_reused.inc();
                plan
            }
            None => {
                self.metrics.plans_built.inc();
                let plan = plan::build(self.context(seen), document, &variables).map_err(|problem| vec![problem])?;
                let plan = Arc::new(plan);
                self.role.keep(key, &plan);
                plan
            }
        };
        plan.bind(&variables, &self.role.limits).map_err(|problem| vec![problem])
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
