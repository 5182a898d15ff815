//! The API of one project: asks in, answers out, as a role. The same for HTTP and for the command line.

use std::sync::{Arc, LazyLock};
use std::time::{Duration, Instant, SystemTime};

use puente_core::access::{Claims, OWNER, Role, View};
use puente_core::answer::{self, Fetch};
use puente_core::error::{Code, Detail, Level, Problem, shortened};
use puente_core::model::{Model, SourceId};
use puente_core::plan::change::Mutation;
use puente_core::plan::{self, BoundPlan, Capabilities, Context, Document, SelectId, Variables};
use puente_core::project::Limits;
use puente_core::rows::{Row, Rows};
use puente_core::schema;
use puente_run::parts::{self, Part, SplitRequest};
use puente_run::turns::{Gate, Party, Places, Turn};
use puente_run::{ChangeRequest, Explanation, Outcome, Source, StatementReport};
use serde_json::{Map, Value as Json};

use crate::metrics::{AskLabels, CacheLabels, Metrics, SourceCounters};
use crate::persisted::{self, Hash};
use crate::prepared_plan::{self, BoundQuery, PreparedPlan};
use crate::principal::{Principal, no_such_role};
use crate::recent::RecentAsk;
use crate::roles::{RoleApi, Roles};
use crate::traces::{AskSpan, Traces};
use crate::under_way::{Held, UnderWay};

/// One request.
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
    /// Report the plan, as text? For the owner only.
    pub plan: bool,
    /// Run a mutation for real, and rolls it back in the end?
    pub rehearse: bool,
    /// How many bytes it came in, as far as that is known.
    pub bytes: usize,
    /// The SHA-256 hash of the document, as the client says; the document may then be left out.
    pub hash: Option<Hash>,
    /// Did it come in a way that must not change anything?
    pub reads_only: bool,
    /// What the requests before it in the same list have taken of their budget.
    pub spent: Spent,
}

/// What requests have taken of a budget.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
pub struct Spent {
    /// As [`Limits::cost`] counts.
    pub cost: u64,
    /// Bytes of answers.
    pub bytes: usize,
    /// Statements.
    pub statements: usize,
}

impl std::ops::AddAssign for Spent {
    fn add_assign(&mut self, more: Spent) {
        self.cost = self.cost.saturating_add(more.cost);
        self.bytes = self.bytes.saturating_add(more.bytes);
        self.statements = self.statements.saturating_add(more.statements);
    }
}

impl Spent {
    /// What is left of limits.
    fn leaves(self, limits: Limits) -> Limits {
        Limits {
            cost: limits.cost.saturating_sub(self.cost),
            answer_bytes: limits.answer_bytes.saturating_sub(self.bytes),
            statements: limits.statements.saturating_sub(self.statements),
            ..limits
        }
    }
}

impl Ask {
    /// All but the values, which are needed once.
    fn clone_without_variables(&self) -> Ask {
        Ask { document: String::new(), operation_name: None, variables: Map::new(), ..*self }
    }
}

/// What came of a request.
#[derive(Debug)]
pub struct AskResult {
    /// The response's body: `data`, `errors`, `extensions`.
    pub body: Vec<u8>,
    /// The first problem's code, if any.
    pub code: Option<Code>,
    /// Has the body a `data` member? Without one, the code decides the HTTP status.
    pub has_data: bool,
    /// What it took of its budget.
    pub spent: Spent,
    /// Counts its bytes until it is taken.
    pub(crate) held: Option<Held>,
}

/// How an [`Api`] is set up.
#[derive(Debug)]
pub struct ApiOptions {
    /// The model.
    pub model: Arc<Model>,
    /// The roles, beside the owner.
    pub roles: Vec<Role>,
    /// What a request may cost.
    pub limits: Limits,
    /// What cursors are sealed with.
    pub secret: Vec<u8>,
    /// The sources, in the order of the model.
    pub sources: Vec<Source>,
    /// Are documents remembered by their hash?
    pub persisted: bool,
    /// Where spans are sent; absent, nowhere.
    pub traces: Option<Arc<Traces>>,
}

/// When a request came, and what the log calls it: its time runs from there.
#[derive(Debug)]
pub struct Arrival<'a> {
    /// The request's id.
    pub id: &'a str,
    /// When its first byte came.
    pub at: Instant,
    /// The turn in which it was taken apart, where that took one. It is planned in the same: values take many times the memory of
    /// their text, and are not to wait.
    pub turn: Option<Turn>,
    /// Which program sent it, as far as it says so: its name, and its version.
    pub client: Client<'a>,
    /// The trace that it is part of, and the span that it came from, as `traceparent` says.
    pub trace: Option<&'a str>,
}

/// A program that sends requests.
#[derive(Debug, Clone, Copy, Default)]
pub struct Client<'a> {
    /// Its name.
    pub name: Option<&'a str>,
    /// Its version.
    pub version: Option<&'a str>,
}

impl<'a> Arrival<'a> {
    /// A request that comes now.
    pub fn now(id: &'a str) -> Self {
        Arrival { id, at: Instant::now(), turn: None, client: Client::default(), trace: None }
    }
}

/// The API of one project, as it was when it was read.
#[derive(Debug)]
pub struct Api {
    inner: Arc<Inner>,
    metrics: Arc<Metrics>,
    /// What is being sent, also of the API that this one took the place of.
    under_way: Arc<UnderWay>,
}

/// What an API is made of.
#[derive(Debug)]
struct Inner {
    limits: Limits,
    model: Arc<Model>,
    sources: Vec<Source>,
    /// What each of them did.
    counters: Vec<SourceCounters>,
    /// Are documents remembered by their hash?
    persisted: bool,
    traces: Option<Arc<Traces>>,
    /// What each of them can do.
    capabilities: Vec<Capabilities>,
    roles: Roles,
    /// Before whatever takes the processor for a while: parsing, validating, planning, schemas, introspection.
    planning: Gate,
}

/// Requests that may wait to be planned before those of who sent most of them are refused at once.
const MOST_WAITING: usize = 1_024;
/// Bytes of values up to which a known ask is bound where it arrived: more take long enough to keep others waiting.
const FEW_BYTES: usize = 16 << 10;

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
        let inner = Arc::new(Inner::new(options, &metrics));
        let under_way = Arc::clone(&metrics.under_way);
        Api { inner, metrics, under_way }
    }

    /// The project's limits.
    pub fn limits(&self) -> Limits {
        self.inner.limits
    }

    /// The sources, with their names.
    pub fn sources(&self) -> impl Iterator<Item = (&str, &Source)> {
        self.inner.model.sources.iter().map(String::as_str).zip(&self.inner.sources)
    }

    /// Where spans are sent.
    pub fn traces(&self) -> Option<&Arc<Traces>> {
        self.inner.traces.as_ref()
    }

    /// The counters.
    pub fn metrics(&self) -> &Arc<Metrics> {
        &self.metrics
    }

    /// The counters as OpenMetrics text, with how things are at this moment.
    pub(crate) fn counters(&self) -> String {
        let metrics = &self.metrics;
        let gauge = |number: usize| i64::try_from(number).unwrap_or(i64::MAX);
        for (name, source) in self.sources() {
            let load = source.load();
            Metrics::of(&metrics.source_working, name).set(gauge(load.working));
            Metrics::of(&metrics.source_waiting, name).set(gauge(load.waiting));
            Metrics::of(&metrics.source_places, name).set(gauge(load.places));
        }
        for role in self.inner.roles.all() {
            for (cache, bytes) in role.cached_bytes() {
                let labels = CacheLabels { role: role.view().role().to_owned(), cache: cache.to_owned() };
                metrics.cached_bytes.get_or_create(&labels).set(i64::try_from(bytes).unwrap_or(i64::MAX));
            }
        }
        metrics.answer_bytes.set(gauge(self.under_way.bytes()));
        metrics.to_text()
    }

    /// The name of the type of a source's table.
    pub(crate) fn type_of(&self, source: &str, table: &str) -> Option<&str> {
        let model = &self.inner.model;
        let at = model.sources.iter().position(|name| name == source)?;
        let is_its = |t: &&puente_core::model::Type| t.source == at && t.table == table && t.items_of.is_none();
        model.types.iter().find(is_its).map(|t| t.name.as_str())
    }

    /// The names of its roles, beside the owner, in the order of their names.
    pub fn role_names(&self) -> impl Iterator<Item = &str> {
        self.inner.roles.names().filter(|name| *name != OWNER)
    }

    /// Is there a role of this name?
    pub fn has_role(&self, name: &str) -> bool {
        self.inner.roles.get(name).is_some()
    }

    /// A role's schema as SDL; none where there is no such role.
    pub fn sdl(&self, role: &str) -> Option<String> {
        self.inner.roles.get(role).map(|role| schema::print(role.view()))
    }

    /// The same as [`schema::to_file`] prints it.
    pub fn sdl_file(&self, role: &str) -> Option<String> {
        self.inner.roles.get(role).map(|role| schema::to_file(role.view()))
    }

    /// Builds the owner's schema now, so that the first ask need not wait.
    ///
    /// # Errors
    /// `INTERNAL` where it cannot be built.
    pub fn warm_up(&self) -> Result<(), Problem> {
        let roles = &self.inner.roles;
        roles.get(OWNER).map_or(Ok(()), |owner| roles.schema(owner).map(|_| ()))
    }

    /// Builds the schemas of the roles that have one in another API, whose place this one is to take: until then that one serves.
    ///
    /// # Errors
    /// As [`Api::warm_up`].
    pub(crate) fn warm_up_as(&self, other: &Api) -> Result<(), Problem> {
        self.warm_up()?;
        for role in other.inner.roles.all().filter(|role| role.has_schema()) {
            if let Some(role) = self.inner.roles.get(role.view().role()) {
                self.inner.roles.schema(role)?;
            }
        }
        Ok(())
    }

    /// Answers a request. Dropping the future cancels it in the database.
    pub async fn ask(&self, ask: Ask, principal: &Principal, arrival: Arrival<'_>) -> AskResult {
        self.metrics.running.inc();
        let _running = Running(&self.metrics);
        let role = self.inner.roles.asked(&principal.role).cloned();
        let operation = ask.operation_name.clone();
        let Arrival { id, at, turn, client, trace } = arrival;
        let answered = match &role {
            Some(role) => self.answer_as(role, ask, principal, (at, turn)).await,
            None => Err(vec![no_such_role(&principal.role)].into()),
        };
        let (result, insight) = match answered {
            Ok((outcome, insight)) => (Ok(outcome), insight),
            Err(Failed { problems, insight }) => (Err(problems), insight),
        };
        let (result, held) = self.held(result, principal, insight.changes);
        let elapsed = at.elapsed();
        let operation = operation.as_deref().or(insight.operation.as_deref());
        let from = From { id, client, trace };
        self.account(&result, elapsed, operation, (role.as_deref(), principal), &from);
        AskResult { held, ..respond(result, &insight, elapsed, &self.inner.model.sources) }
    }

    /// The same answer, counted among those that are under way; or why it is not sent.
    fn held(
        &self,
        result: Result<Outcome, Vec<Problem>>,
        principal: &Principal,
        changes: bool,
    ) -> (Result<Outcome, Vec<Problem>>, Option<Held>) {
        let Ok(outcome) = result else { return (result, None) };
        let role = self.inner.roles.asked(&principal.role);
        let most = role.map_or(self.inner.limits.memory, |role| role.limits.memory);
        match self.under_way.hold(&principal.party, outcome.answer.body.len(), most, changes) {
            Ok(held) => (Ok(outcome), Some(held)),
            Err(problem) => (Err(vec![problem]), None),
        }
    }

    /// Answers a request, and leaves the answer as its parts.
    ///
    /// # Errors
    /// What is wrong with it, or with the source.
    pub async fn answer(&self, ask: Ask, principal: &Principal) -> Result<Outcome, Vec<Problem>> {
        let role = self.inner.roles.asked(&principal.role).ok_or_else(|| vec![no_such_role(&principal.role)])?;
        let answered = self.answer_as(role, ask, principal, (Instant::now(), None)).await;
        answered.map(|(outcome, _)| outcome).map_err(|failed| failed.problems)
    }

    async fn answer_as(
        &self,
        role: &Arc<RoleApi>,
        ask: Ask,
        principal: &Principal,
        (start, turn): (Instant, Option<Turn>),
    ) -> Result<(Outcome, Insight), Failed> {
        let share =
            role.shares.begin(&role.limits, &principal.party, Instant::now()).map_err(|problem| vec![problem])?;
        let (inner, role, metrics) = (Arc::clone(&self.inner), Arc::clone(role), Arc::clone(&self.metrics));
        let limits = ask.spent.leaves(role.limits);
        let deadline = start + Duration::from_millis(limits.time_ms);
        let asking = Asking { inner, role, limits, principal: principal.clone(), metrics, start, deadline };
        let answered = asking.run(ask, turn).await;
        drop(share);
        answered
    }

    /// Does something that takes the processor for a while, in the caller's turn and outside the threads that serve HTTP. The turn
    /// goes on with what came of it.
    ///
    /// # Errors
    /// `TOO_BUSY` for who filled the line; `TIMED_OUT` at the deadline, though the work goes on to its end.
    pub(crate) async fn in_turn<T: Send + 'static>(
        &self,
        party: &Party,
        deadline: Instant,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<(T, Turn), Problem> {
        self.inner.in_turn(party, deadline, None, work).await
    }

    fn account(
        &self,
        result: &Result<Outcome, Vec<Problem>>,
        elapsed: Duration,
        operation: Option<&str>,
        (role, principal): (Option<&RoleApi>, &Principal),
        from: &From<'_>,
    ) {
        let request_id = from.id;
        let problems = match result {
            Ok(outcome) => &outcome.answer.problems,
            Err(problems) => problems,
        };
        let outcome = problems.first().map_or("ok", |problem| problem.code.as_str());
        match role.filter(|_| problems.is_empty()) {
            Some(role) => role.answered.inc(),
            None => {
                // A name that is not a role is not counted under: whoever asks could make up any number of them.
                let name = role.map_or("", |role| role.view().role());
                self.metrics.asks.get_or_create(&AskLabels { role: name.to_owned(), outcome: outcome.to_owned() }).inc()
            }
        };
        self.metrics.seconds.observe(elapsed.as_secs_f64());
        let reports = result.as_ref().map_or(&[][..], |outcome| &outcome.statements);
        let (executions, rows) = reports.iter().fold((0, 0), |(e, r), report| (e + report.executions, r + report.rows));
        for report in reports {
            self.inner.counters[report.source].sent(report.executions, report.rows);
        }
        for source in result.as_ref().map_or(&[][..], |outcome| &outcome.away) {
            self.inner.counters[*source].away.inc();
        }
        let operation = shortened(operation.unwrap_or_default(), MOST_LOGGED_BYTES);
        let role = shortened(&principal.role, MOST_LOGGED_BYTES);
        tracing::info!(
            target: "puente::ask",
            request = request_id, role = &*role, by = %principal.by, operation = &*operation, outcome, rows, executions,
            ms = elapsed.as_secs_f64() * 1_000.0, client = from.client.name, client_version = from.client.version,
            trace = from.trace, "ask"
        );
        if let Some(traces) = &self.inner.traces {
            traces.tell(&AskSpan {
                parent: from.trace,
                operation: Some(&*operation).filter(|operation| !operation.is_empty()),
                role: &role,
                outcome,
                request_id,
                elapsed,
                statements: reports,
                sources: &self.inner.model.sources,
            });
        }
        self.metrics.recent.add(RecentAsk {
            at: SystemTime::now(),
            operation: operation.into_owned(),
            role: role.into_owned(),
            outcome: outcome.to_owned(),
            rows,
            microseconds: u64::try_from(elapsed.as_micros()).unwrap_or(u64::MAX),
        });
        let worth_a_line = |problem: &&Problem| problem.code.level() != Level::Info || problem.detail.is_some();
        for problem in problems.iter().filter(worth_a_line) {
            let (code, detail) = (problem.code.as_str(), problem.told());
            log_words(request_id, problem);
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

/// The database's own words, which may hold rows: for who asks for them by name, and at the level of those who look for a mistake.
fn log_words(request_id: &str, problem: &Problem) {
    static WANTED: LazyLock<bool> =
        LazyLock::new(|| crate::environment::read(crate::environment::LOG_VALUES).is_some());
    if let Some(words) = problem.detail.as_deref().and_then(Detail::words).filter(|_| *WANTED) {
        tracing::debug!(target: "puente::values", request = request_id, code = problem.code.as_str(), words, "the database's words");
    }
}

/// What the log calls a request, and what it says of where it comes from.
struct From<'a> {
    id: &'a str,
    client: Client<'a>,
    trace: Option<&'a str>,
}

/// What the owner is told of a request beside its answer, where it is asked for.
/// What is wrong with a request, and what is known of it all the same.
#[derive(Debug)]
struct Failed {
    problems: Vec<Problem>,
    insight: Insight,
}

impl std::convert::From<Vec<Problem>> for Failed {
    fn from(problems: Vec<Problem>) -> Self {
        Failed { problems, insight: Insight::default() }
    }
}

#[derive(Debug, Default)]
struct Insight {
    /// Are the statements told, each with how the engine runs it where that is known?
    statements: bool,
    explained: Explained,
    plan: Option<String>,
    /// The operation's name, as the document says it.
    operation: Option<String>,
    /// Has it changed something?
    changes: bool,
}

/// How sources run statements.
type Explained = Vec<(SourceId, Explanation)>;

/// Bytes of a caller's names in a line of the log.
const MOST_LOGGED_BYTES: usize = 100;

impl Inner {
    fn new(options: ApiOptions, metrics: &Metrics) -> Self {
        let ApiOptions { model, roles, limits, secret, sources, persisted, traces } = options;
        let capabilities = sources.iter().map(|source| source.capabilities()).collect();
        let processors = std::thread::available_parallelism().map_or(2, usize::from);
        let planning = Gate::new(Places { regular: processors, spare: processors }, MOST_WAITING);
        let counters = model.sources.iter().map(|name| metrics.of_source(name)).collect();
        let roles = Roles::new(&model, limits, roles, &secret, metrics);
        Inner { limits, model, sources, counters, persisted, traces, capabilities, roles, planning }
    }

    async fn in_turn<T: Send + 'static>(
        &self,
        party: &Party,
        deadline: Instant,
        turn: Option<Turn>,
        work: impl FnOnce() -> T + Send + 'static,
    ) -> Result<(T, Turn), Problem> {
        let turn = match turn {
            Some(turn) => turn,
            None => self.planning.enter(party, deadline).await?,
        };
        // The turn is with the work until it is done, whether or not anybody waits for it.
        let work = tokio::task::spawn_blocking(move || (work(), turn));
        match tokio::time::timeout_at(deadline.into(), work).await {
            Ok(Ok(done)) => Ok(done),
            Ok(Err(error)) => {
                let text = "a mistake of ours; the log has the details under the request's id";
                Err(Problem::new(Code::Internal, text).with_detail(Detail::plain(error)))
            }
            Err(_) => Err(Problem::new(Code::TimedOut, "the request took too long to plan; ask for less")),
        }
    }
}

/// One request on its way.
#[derive(Clone)]
struct Asking {
    inner: Arc<Inner>,
    role: Arc<RoleApi>,
    /// What the request may still cost.
    limits: Limits,
    principal: Principal,
    metrics: Arc<Metrics>,
    start: Instant,
    deadline: Instant,
}

/// What a request comes to, before any source hears of it.
enum Prepared {
    Query(BoundQuery),
    Mutation(Mutation),
}

/// How far a request was prepared where it arrived.
enum Begun {
    /// Whole: its plan was known, and nothing of it takes long.
    Ready(BoundQuery),
    /// Its document was known.
    Coerced(u64, Arc<Document>, Variables),
    /// Not at all.
    Not,
}

impl Asking {
    async fn run(self, mut ask: Ask, turn: Option<Turn>) -> Result<(Outcome, Insight), Failed> {
        if (ask.statements || ask.plan) && !self.principal.sees_statements() {
            let text = "statements and plans are shown to the owner only; leave `statements`, `explain` and `plan` out";
            return Err(vec![Problem::new(Code::RoleRefused, text)].into());
        }
        persisted::resolve(&self.role, self.inner.persisted, &mut ask).map_err(|problem| vec![problem])?;
        if ask.reads_only && plan::is_mutation(&ask.document, ask.operation_name.as_deref()) {
            let text = "GET does not change anything; send a mutation with POST";
            return Err(vec![Problem::new(Code::MethodNotAllowed, text)].into());
        }
        let prepared = match self.begin(&mut ask)? {
            Begun::Ready(query) => {
                drop(turn);
                Prepared::Query(query)
            }
            begun => {
                let (asking, asked) = (self.clone(), ask.clone_without_variables());
                let whole = std::mem::replace(&mut ask, asked);
                let prepare = move || asking.prepare(whole, begun);
                let prepared = self.inner.in_turn(&self.principal.party, self.deadline, turn, prepare).await;
                // Here the turn ends: sources have lines of their own.
                let (prepared, name) = prepared.map_err(|problem| vec![self.unplanned(problem)])?.0?;
                ask.operation_name = name;
                prepared
            }
        };
        match prepared {
            Prepared::Mutation(mutation) => {
                let plan = ask.plan.then(|| mutation.to_text());
                let outcome = self.change(mutation, &ask).await?;
                let operation = ask.operation_name;
                let changes = true;
                Ok((outcome, Insight { statements: ask.statements, explained: Vec::new(), plan, operation, changes }))
            }
            Prepared::Query(query) => {
                let plan = ask.plan.then(|| query.bound.plan().to_text());
                let (outcome, explained) = self.read(query, &ask).await;
                let operation = ask.operation_name.clone();
                let outcome = match outcome {
                    Ok(outcome) => outcome,
                    Err(problems) => {
                        let statements = ask.statements || !explained.is_empty();
                        let insight = Insight { statements, explained, plan, operation, changes: false };
                        return Err(Failed { problems, insight });
                    }
                };
                let changes = false;
                Ok((outcome, Insight { statements: ask.statements, explained, plan, operation, changes }))
            }
        }
    }

    /// Prepares as much as takes no time worth speaking of.
    fn begin(&self, ask: &mut Ask) -> Result<Begun, Vec<Problem>> {
        if ask.bytes > FEW_BYTES {
            return Ok(Begun::Not);
        }
        let Some((number, document)) = self.role.known_document(ask) else { return Ok(Begun::Not) };
        if document.is_mutation() {
            return Ok(Begun::Not);
        }
        if ask.operation_name.is_none() {
            ask.operation_name = document.name().map(str::to_owned);
        }
        let variables = self.variables(ask, &document)?;
        let key = document.plan_key(&variables, &self.role.sealer).map(|key| (number, key));
        match key.and_then(|key| self.role.plan(&key)).filter(|plan| !plan.introspects()) {
            Some(plan) => {
                self.metrics.plans_reused.inc();
                let query = plan.bind(&variables, &self.limits).map_err(|problem| vec![problem])?;
                Ok(Begun::Ready(query))
            }
            None => Ok(Begun::Coerced(number, document, variables)),
        }
    }

    /// Prepares the rest.
    fn prepare(&self, mut ask: Ask, begun: Begun) -> Result<(Prepared, Option<String>), Vec<Problem>> {
        let (number, document, variables) = match begun {
            Begun::Ready(query) => return Ok((Prepared::Query(query), ask.operation_name)),
            Begun::Coerced(number, document, variables) => (number, document, variables),
            Begun::Not => {
                let (number, document) = self.role.document(&self.inner.roles, &ask, &self.metrics)?;
                if let Some(hash) = ask.hash.filter(|_| self.inner.persisted) {
                    self.role.persisted.keep(hash, &ask.document);
                }
                let variables = self.variables(&mut ask, &document)?;
                (number, document, variables)
            }
        };
        let name = document.name().map(str::to_owned);
        if document.is_mutation() {
            if ask.explain {
                let text = "only a query can be explained; leave `explain` out";
                return Err(vec![Problem::new(Code::InvalidRequest, text)]);
            }
            // A mutation's plan is made for one request: which statements run depends on its values.
            let view = self.role.specialised(variables.resolved_claims());
            let mutation = plan::change::build_mutation(self.context(&view), &document, &variables);
            self.metrics.plans_built.inc();
            return mutation.map(|mutation| (Prepared::Mutation(mutation), name)).map_err(|problem| vec![problem]);
        }
        let plan = self.plan(number, document, &variables)?;
        let bound = plan.bind(&variables, &self.limits).map_err(|problem| vec![problem])?;
        Ok((Prepared::Query(bound), name))
    }

    fn variables(&self, ask: &mut Ask, document: &Document) -> Result<Variables, Vec<Problem>> {
        let claims = Claims { members: &self.principal.claims, now: jiff::Timestamp::now() };
        Variables::coerce(document, std::mem::take(&mut ask.variables), self.role.view().resolve(&claims))
    }

    fn context<'c>(&'c self, view: &'c View) -> Context<'c> {
        Context { view, limits: &self.limits, sealer: &self.role.sealer, capabilities: &self.inner.capabilities }
    }

    fn plan(
        &self,
        number: u64,
        document: Arc<Document>,
        variables: &Variables,
    ) -> Result<Arc<PreparedPlan>, Vec<Problem>> {
        let key = |document: &Document| document.plan_key(variables, &self.role.sealer).map(|key| (number, key));
        if let Some(plan) = key(&document).and_then(|key| self.role.plan(&key)) {
            self.metrics.plans_reused.inc();
            return Ok(plan);
        }
        self.metrics.plans_built.inc();
        let view = self.role.specialised(variables.resolved_claims());
        let plan = plan::build(self.context(&view), &document, variables);
        let plan = plan.map_err(|problem| vec![problem])?;
        let plan = Arc::new(PreparedPlan::new(plan, &self.inner.sources));
        // What was read is known only now.
        if let Some(key) = key(&document) {
            self.role.keep(key, &plan);
        }
        Ok(plan)
    }

    /// Reads what a query asks for. Where it is to be explained, that comes first: what takes too long can be explained all the same.
    async fn read(&self, query: BoundQuery, ask: &Ask) -> (Result<Outcome, Vec<Problem>>, Explained) {
        let mut explained = Explained::new();
        let reads = query.bound.plan().selects().iter().any(|select| select.read);
        if ask.explain && reads && !ask.rehearse {
            match self.explain(&query, self.deadline).await {
                Ok(told) => explained = told,
                Err(problem) => return (Err(vec![problem]), explained),
            }
        }
        let again = query.clone();
        let outcome = self.read_now(query, ask).await;
        let Err(problems) = outcome else { return (outcome, explained) };
        let problems = problems.into_iter().map(|problem| self.limited(problem)).collect::<Vec<_>>();
        let is_late = problems.iter().any(|problem| problem.code == Code::TimedOut);
        if is_late && explained.is_empty() && reads {
            explained = self.diagnose(again).await;
        }
        (Err(problems), explained)
    }

    /// What would have run, and what would help it: for those who may see it, and for the log now and then.
    async fn diagnose(&self, query: BoundQuery) -> Explained {
        /// For how long an explanation is waited for: it does not run what it explains.
        const PATIENCE: Duration = Duration::from_secs(2);
        let is_shown = self.principal.sees_statements();
        if !is_shown && !self.metrics.diagnosed.may_begin() {
            return Explained::new();
        }
        let explained = self.explain(&query, Instant::now() + PATIENCE).await.unwrap_or_default();
        for (_, told) in &explained {
            let advice = told.advice.join("; ");
            tracing::warn!(
                target: "puente::slow", role = self.principal.role, statement = told.text, advice,
                "a request took longer than it may; this is what it ran"
            );
        }
        if is_shown { explained } else { Explained::new() }
    }

    /// How the sources would run a query; nothing of it is run.
    async fn explain(&self, query: &BoundQuery, deadline: Instant) -> Result<Explained, Problem> {
        let most_bytes = self.limits.answer_bytes;
        let mut explained = Explained::new();
        for part in &*query.parts {
            let request = self.split_request(query.bound.clone(), &query.parts, (most_bytes, true));
            let request = SplitRequest { deadline, ..request };
            match part.connector.explain(request.of(part)).await {
                Ok(told) => explained.extend(told.into_iter().map(|told| (part.source, told))),
                // Of several sources one that is away says nothing.
                Err(problem) if query.parts.len() > 1 && problem.code == Code::SourceUnavailable => {}
                Err(problem) => return Err(problem),
            }
        }
        Ok(explained)
    }

    /// A problem with the limit that it met, by its name in the project file.
    fn limited(&self, problem: Problem) -> Problem {
        if problem.code != Code::TimedOut {
            return problem;
        }
        let statements = if self.principal.sees_statements() {
            "`extensions.statements` says what ran, and what would help it"
        } else {
            "whoever runs the service finds in the log what ran"
        };
        let text = format!(
            "the request took longer than the {} ms that `time_ms` of `[limits]` allows; ask for less ({statements})",
            self.limits.time_ms
        );
        Problem { message: text, ..problem }
    }

    /// The same of one that ended before it was planned.
    fn unplanned(&self, problem: Problem) -> Problem {
        if problem.code == Code::TimedOut && !self.role.has_schema() {
            let text = "the schema of this role is still being built, which takes a while where it has many types; ask again in a moment";
            return Problem { message: text.to_owned(), ..problem };
        }
        problem
    }

    async fn read_now(&self, query: BoundQuery, ask: &Ask) -> Result<Outcome, Vec<Problem>> {
        if ask.rehearse {
            let text = "only a mutation can be rehearsed; leave `rehearse` out to ask a query";
            return Err(vec![Problem::new(Code::InvalidRequest, text)]);
        }
        let BoundQuery { bound, parts } = query;
        let limits = &self.limits;
        let most_bytes = limits.answer_bytes + bound.introspection_bytes();
        if bound.plan().selects().iter().all(|select| !select.read) {
            let answer = answer::write(&bound, &mut Nothing, most_bytes).map_err(|problem| vec![problem])?;
            return Ok(Outcome::new(answer, Vec::new()));
        }
        let cost = bound.cost();
        let request = |bound| self.split_request(bound, &parts, (most_bytes, self.times(ask)));
        let answered = match &*parts {
            [only] => {
                let answer = only.connector.answer(request(bound).into_one(only));
                answer.await.map_err(|problem| self.noted(problem, only.source))
            }
            _ => parts::answer(&request(bound)).await,
        };
        Ok(Outcome { cost, ..answered.map_err(|problem| vec![problem])? })
    }

    fn split_request(&self, bound: BoundPlan, parts: &Arc<[Part]>, (most_bytes, timed): (usize, bool)) -> SplitRequest {
        SplitRequest {
            bound,
            parts: Arc::clone(parts),
            role: self.principal.role.clone(),
            party: self.principal.party.clone(),
            most_bytes,
            deadline: self.deadline,
            timed,
        }
    }

    /// Counts a source that was away.
    fn noted(&self, problem: Problem, source: SourceId) -> Problem {
        if problem.code == Code::SourceUnavailable {
            self.inner.counters[source].away.inc();
        }
        problem
    }

    /// Is somebody told how long each statement took?
    fn times(&self, ask: &Ask) -> bool {
        ask.statements || self.inner.traces.is_some()
    }

    async fn change(&self, mutation: Mutation, ask: &Ask) -> Result<Outcome, Vec<Problem>> {
        let limits = &self.limits;
        let most_ms = if ask.rehearse { limits.rehearse_ms.min(limits.time_ms) } else { limits.time_ms };
        let request = ChangeRequest {
            mutation,
            party: self.principal.party.clone(),
            most_cost: limits.cost,
            most_bytes: limits.answer_bytes,
            deadline: self.start + Duration::from_millis(most_ms),
            timed: self.times(ask),
            rehearse: ask.rehearse,
        };
        let mut asked_elsewhere = Vec::new();
        for ends in request.mutation.roots().iter().flat_map(|root| &root.elsewhere) {
            let parts = prepared_plan::parts(ends.plan.plan(), &self.inner.sources);
            let told = Ask { statements: ask.statements, ..Ask::default() };
            let outcome = self.read_now(BoundQuery { bound: ends.plan.clone(), parts }, &told).await?;
            ends.check(outcome.answer.data()).map_err(|problem| vec![problem])?;
            asked_elsewhere.extend(outcome.statements);
        }
        let written = request.mutation.source();
        let outcome = self.inner.sources[written].change(request).await;
        let outcome = outcome.map_err(|problem| vec![self.noted(problem, written)])?;
        let rest = |bound: BoundPlan| {
            let parts = prepared_plan::parts(bound.plan(), &self.inner.sources);
            self.split_request(bound, &parts, (limits.answer_bytes, self.times(ask)))
        };
        let mut outcome = parts::finish(outcome, &rest).await;
        outcome.statements.splice(0..0, asked_elsewhere);
        Ok(outcome)
    }
}

struct Running<'a>(&'a Metrics);

impl Drop for Running<'_> {
    fn drop(&mut self) {
        self.0.running.dec();
    }
}

/// The body of the response ([Response format](https://spec.graphql.org/September2025/#sec-Response-Format)).
fn respond(
    result: Result<Outcome, Vec<Problem>>,
    insight: &Insight,
    elapsed: Duration,
    sources: &[String],
) -> AskResult {
    match result {
        Ok(Outcome { answer, statements: reports, cost, .. }) => {
            let executions = reports.iter().map(|report| usize::try_from(report.executions).unwrap_or(usize::MAX));
            let statements = executions.fold(0, usize::saturating_add);
            let code = answer.problems.first().map(|problem| problem.code);
            let mut body = answer.body;
            let is_told = insight.statements || insight.plan.is_some();
            if answer.problems.is_empty() && !is_told {
                // One byte more is no reason to hold twice as many.
                body.reserve_exact(1);
            }
            if !answer.problems.is_empty() {
                body.extend_from_slice(b",\"errors\":");
                serde_json::to_writer(&mut body, &answer.problems).expect("problems are serialisable");
            }
            if is_told {
                body.extend_from_slice(b",\"extensions\":");
                let extensions = extensions(&reports, insight, elapsed, sources);
                serde_json::to_writer(&mut body, &extensions).expect("reports are serialisable");
            }
            body.push(b'}');
            let spent = Spent { cost, bytes: body.len(), statements };
            AskResult { body, code, has_data: true, spent, held: None }
        }
        Err(problems) => {
            let refused = AskResult::refused(&problems);
            if !insight.statements || insight.explained.is_empty() {
                return refused;
            }
            let mut body = refused.body;
            body.pop();
            body.extend_from_slice(b",\"extensions\":");
            let extensions = extensions(&[], insight, elapsed, sources);
            serde_json::to_writer(&mut body, &extensions).expect("reports are serialisable");
            body.push(b'}');
            AskResult { body, ..refused }
        }
    }
}

impl AskResult {
    /// The result of a request that was refused as a whole. A change that the rows do not allow was well-formed, and
    /// executed: its data is null.
    pub fn refused(problems: &[Problem]) -> Self {
        let mut body = b"{\"errors\":".to_vec();
        serde_json::to_writer(&mut body, problems).expect("problems are serialisable");
        let code = problems.first().map(|problem| problem.code);
        let has_data = code.is_some_and(|code| code.status() == 200);
        body.extend_from_slice(if has_data { b",\"data\":null}" } else { b"}" });
        let spent = Spent { bytes: body.len(), ..Spent::default() };
        AskResult { body, code, has_data, spent, held: None }
    }
}

fn extensions(reports: &[StatementReport], insight: &Insight, elapsed: Duration, sources: &[String]) -> Json {
    let micros = |time: Duration| u64::try_from(time.as_micros()).unwrap_or(u64::MAX);
    // What was not run, and would have been.
    let is_unrun = |told: &&(SourceId, Explanation)| !reports.iter().any(|report| report.text == told.1.text);
    let unrun = insight.explained.iter().filter(is_unrun).map(|(source, told)| {
        let mut statement = serde_json::json!({ "text": told.text, "plan": told.plan, "advice": told.advice });
        if sources.len() > 1 {
            statement["source"] = sources[*source].as_str().into();
        }
        statement
    });
    let unrun: Vec<Json> = if reports.is_empty() { unrun.collect() } else { Vec::new() };
    let statements: Vec<Json> = reports
        .iter()
        .map(|report| {
            let mut told = serde_json::json!({
                "text": report.text,
                "executions": report.executions,
                "rows": report.rows,
                "microseconds": micros(report.time),
            });
            if sources.len() > 1 {
                told["source"] = sources[report.source].as_str().into();
            }
            let is_its = |(source, explanation): &&(SourceId, Explanation)| {
                *source == report.source && explanation.text == report.text
            };
            if let Some((_, explanation)) = insight.explained.iter().find(is_its) {
                told["plan"] = explanation.plan.clone().into();
                told["advice"] = explanation.advice.clone().into();
            }
            told
        })
        .chain(unrun)
        .collect();
    let mut extensions = serde_json::json!({ "microseconds": micros(elapsed) });
    if insight.statements {
        extensions["statements"] = statements.into();
    }
    if let Some(plan) = &insight.plan {
        extensions["plan"] = plan.as_str().into();
    }
    extensions
}
