//! Running a bound plan: one statement with one row, or one statement per level in one snapshot.

use std::pin::pin;
use std::sync::Arc;
use std::time::{Duration, Instant};

use deadpool_postgres::Object;
use futures_util::TryStreamExt as _;
use puente_core::answer::{self, KeyValues, Levels};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{Capabilities, Plan, SelectId};
use puente_core::rows::check_held;
use puente_core::value::DatumRef;
use puente_sql::{Dialect, NestedFields, Program, Statement};
use tokio::time::timeout;
use tokio_postgres::types::{FromSql, Type};
use tokio_postgres::{Error, Row};

use super::connect::{Server, Session};
use super::fault;
use super::params::{self, Text};
use super::wire::{self, Answer, Nested};
use crate::attempts;
use crate::cluster::{self, Job};
use crate::server::{CANCEL_TIMEOUT, KEPT_TEXT_BYTES, STATEMENTS_KEPT, within};
use crate::statements::{self, program};
use puente_run::levels::{self, LevelReader};
use puente_run::turns::Load;
use puente_run::{ChangeRequest, Explanation, Outcome, Prepared, Request, StatementReport};

/// The bytes of a value as they came.
pub(super) struct Raw<'a>(pub(super) &'a [u8]);

impl<'a> FromSql<'a> for Raw<'a> {
    fn from_sql(_: &Type, raw: &'a [u8]) -> Result<Self, Box<dyn std::error::Error + Sync + Send>> {
        Ok(Raw(raw))
    }

    fn accepts(_: &Type) -> bool {
        true
    }
}

/// The bytes of a column; none is null.
pub(super) fn column(row: &Row, at: usize) -> Result<Option<&[u8]>, Problem> {
    row.try_get::<_, Option<Raw<'_>>>(at).map(|raw| raw.map(|raw| raw.0)).map_err(|error| fault::problem(&error))
}

impl cluster::Server for Server {
    fn capabilities() -> Capabilities {
        puente_sql::Postgres.capabilities()
    }

    fn prepare(plan: &Plan, source: SourceId) -> Arc<dyn Prepared> {
        statements::prepare(plan, &puente_sql::Postgres, source)
    }

    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        self.run(job).await
    }

    async fn change(&self, job: Job<ChangeRequest>) -> Result<Outcome, Problem> {
        attempts::run(self, job).await
    }

    async fn explain(&self, job: Job) -> Result<Vec<Explanation>, Problem> {
        self.explain(job).await
    }

    fn load(&self) -> Load {
        self.load()
    }

    async fn reach(&self) -> Result<(), Problem> {
        self.reach().await
    }
}

impl Server {
    /// Runs a plan. What nobody waits for any more, and what takes too long, is cancelled in the database.
    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        let request = &*job.request;
        let mut disconnected = job.disconnected;
        let mut retried = false;
        loop {
            let session = self.session(&request.party, request.deadline).await?;
            let work = async {
                let mut result = self.work(&session, request).await;
                if let Err(problem) = &result
                    && fault::is_stale_plan(problem)
                {
                    // The tables changed under a prepared statement; perhaps it still fits when it is prepared again.
                    session.statement_cache.clear();
                    result = self.work(&session, request).await;
                }
                result
            };
            match within(request.deadline, &mut disconnected, work).await {
                Some(Err(problem)) if session.is_closed() && problem.code != Code::TooCostly && !retried => {
                    // The session had died before this request, most likely; reads can be asked again on a new one.
                    self.lost();
                    retried = true;
                }
                // What is still on its way must not meet the next request.
                Some(Err(problem)) if problem.code == Code::TooCostly => {
                    self.cancel(session).await;
                    return Err(problem);
                }
                Some(result) => return result,
                None => {
                    self.cancel(session).await;
                    return Err(Problem::timed_out());
                }
            }
        }
    }

    /// Cancels what the session is doing, over a connection outside the pool. The session is given up: a late
    /// cancellation must not hit the next request.
    pub(super) async fn cancel(&self, session: Session) {
        let token = session.cancel_token();
        let client = session.give_up();
        let cancelled = timeout(CANCEL_TIMEOUT, self.connecting.cancel(&token)).await;
        if !matches!(cancelled, Ok(Ok(()))) {
            tracing::warn!(target: "puente::source", "a statement could not be cancelled in the database");
        }
        drop(client);
    }

    async fn work(&self, client: &Object, request: &Request) -> Result<Outcome, Problem> {
        match program(request) {
            Program::SingleStatement(statement, nested) => self.whole(client, request, (statement, nested)).await,
            Program::Batched(..) | Program::NestedLoop(_) => {
                self.begin_reading(client).await?;
                let result = levels::answer(request, Reading::new(self, client, request)).await;
                let ended = client.batch_execute("rollback").await;
                ended.map_err(|error| fault::problem(&error))?;
                result
            }
        }
    }

    async fn whole(
        &self,
        client: &Object,
        request: &Request,
        (statement, fields): (&Statement, &NestedFields),
    ) -> Result<Outcome, Problem> {
        let plan = request.bound.plan();
        let start = Instant::now();
        let rows = self.query(client, request, statement, None).await?;
        let time = start.elapsed();
        let roots: Vec<SelectId> = (0..plan.selects().len())
            .filter(|id| plan.selects()[*id].parent.is_none() && plan.selects()[*id].read)
            .collect();
        let told = match (roots.as_slice(), rows.first()) {
            ([_], _) => Answer::Rows(&rows),
            (several, Some(row)) => {
                let columns = several.iter().enumerate().map(|(at, id)| Ok((*id, column(row, at)?)));
                Answer::Columns(columns.collect::<Result<_, Problem>>()?)
            }
            (_, None) => return Err(Problem::new(Code::Internal, "the database answered nothing")),
        };
        let mut nested = Nested::new(plan, fields, told);
        let answer = answer::write(&request.bound, &mut nested, request.most_bytes)?;
        let report = report(request, statement, nested.rows, time);
        Ok(Outcome::new(answer, vec![report]))
    }

    pub(super) async fn begin_reading(&self, client: &Object) -> Result<(), Problem> {
        let begun = client.batch_execute("begin isolation level repeatable read read only").await;
        begun.map_err(|error| fault::problem(&error))
    }

    async fn query(
        &self,
        client: &Object,
        request: &Request,
        statement: &Statement,
        keys: Option<&KeyValues>,
    ) -> Result<Vec<Row>, Problem> {
        let values = params::values(&statement.slots, &request.bound, keys, &[]);
        self.execute(client, &statement.text, &values, request.most_bytes).await.map_err(|stopped| stopped.problem())
    }

    /// Runs a statement. Rows are counted as they arrive: they stop where an answer of `most_bytes` could not be made of them.
    pub(super) async fn execute(
        &self,
        client: &Object,
        text: &str,
        values: &[Text],
        most_bytes: usize,
    ) -> Result<Vec<Row>, Stopped> {
        let ended = self.connecting.ended();
        self.rows(client, text, values, most_bytes).await.map_err(|stopped| match stopped {
            // A row alone was too large, and the socket ended in the middle of it.
            Stopped::Failed(_) if client.is_closed() && self.connecting.ended() > ended => {
                Stopped::TooLarge(puente_core::rows::too_large(most_bytes))
            }
            stopped => stopped,
        })
    }

    /// The rows of a statement, prepared where the way to the server lets us keep prepared statements.
    async fn rows(&self, client: &Object, text: &str, values: &[Text], most_bytes: usize) -> Result<Vec<Row>, Stopped> {
        let rows = if self.prepared && text.len() <= KEPT_TEXT_BYTES {
            if client.statement_cache.size() > STATEMENTS_KEPT {
                client.statement_cache.clear();
            }
            let prepared = client.prepare_cached(text).await?;
            client.query_raw(&prepared, values).await?
        } else {
            client.query_typed_raw(text, values.iter().map(|value| (value, Type::UNKNOWN))).await?
        };
        let mut rows = pin!(rows);
        let (mut found, mut bytes) = (Vec::new(), 0_usize);
        while let Some(row) = rows.try_next().await? {
            // What the driver holds of a row beside its bytes.
            bytes += row.raw_size_bytes() + std::mem::size_of::<Row>() + row.len() * PER_CELL;
            check_held(bytes, most_bytes).map_err(Stopped::TooLarge)?;
            found.push(row);
        }
        Ok(found)
    }
}

/// A session that reads the levels of a request.
pub(super) struct Reading<'c> {
    server: &'c Server,
    client: &'c Object,
    request: &'c Request,
    statements: &'c [Statement],
    reports: Vec<StatementReport>,
}

impl<'c> Reading<'c> {
    pub(super) fn new(server: &'c Server, client: &'c Object, request: &'c Request) -> Self {
        let statements = program(request).statements();
        Reading { server, client, request, statements, reports: Vec::new() }
    }
}

impl LevelReader for Reading<'_> {
    async fn read(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> Result<(), Problem> {
        let (start, statement) = (Instant::now(), &self.statements[select]);
        let rows = self.server.query(self.client, self.request, statement, keys).await?;
        self.reports.push(report(self.request, statement, rows.len() as u64, start.elapsed()));
        load(levels, select, keys.is_some(), &rows)
    }

    fn take_reports(&mut self) -> Vec<StatementReport> {
        std::mem::take(&mut self.reports)
    }
}

/// Bytes that the driver holds of a cell beside its value.
const PER_CELL: usize = 16;

/// Why a statement's rows stopped.
#[derive(Debug)]
pub(super) enum Stopped {
    /// The driver's error.
    Failed(Error),
    /// There are too many of them, or too large ones.
    TooLarge(Problem),
}

impl From<Error> for Stopped {
    fn from(error: Error) -> Self {
        Stopped::Failed(error)
    }
}

impl Stopped {
    pub(super) fn problem(self) -> Problem {
        match self {
            Stopped::Failed(error) => fault::problem_of_reading(&error),
            Stopped::TooLarge(problem) => problem,
        }
    }
}

fn report(request: &Request, statement: &Statement, rows: u64, time: Duration) -> StatementReport {
    let text = if request.timed { statement.text.clone() } else { String::new() };
    StatementReport { source: request.source, text, executions: 1, rows, time }
}

/// Hands a select's rows in; of a child, the first column is the parent's ordinal.
fn load(levels: &mut Levels<'_>, select: SelectId, is_child: bool, rows: &[Row]) -> Result<(), Problem> {
    for row in rows {
        for at in usize::from(is_child)..row.len() {
            match column(row, at)? {
                None => levels.rows(select).push(DatumRef::Null),
                Some(bytes) => wire::copy(levels.rows(select), row.columns()[at].type_().oid(), bytes),
            }
        }
        if is_child {
            let ordinal = column(row, 0)?.and_then(|bytes| bytes.try_into().ok()).map(i64::from_be_bytes);
            levels.row_belongs_to(select, ordinal.unwrap_or(0))?;
        }
    }
    Ok(())
}
