//! Running a bound plan: one statement per level, in one read-only snapshot where there are several.

use std::sync::Arc;
use std::time::Instant;

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Params, Row, Value};
use puente_core::answer::{KeyValues, Levels};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{Capabilities, Plan, SelectId};
use puente_core::rows::check_held;
use puente_sql::{Dialect, Program, Statement};
use tokio::time::timeout;

use super::connect::Server;
use super::{fault, params, values};
use crate::attempts;
use crate::cluster::{self, Job};
use crate::server::{CANCEL_TIMEOUT, within};
use crate::statements::{self, needs_snapshot, program};
use puente_run::levels::{self, LevelReader};
use puente_run::turns::Load;
use puente_run::{ChangeRequest, Explanation, Outcome, Prepared, Request, StatementReport};

impl cluster::Server for Server {
    fn capabilities() -> Capabilities {
        puente_sql::Mariadb.capabilities()
    }

    fn prepare(plan: &Plan, source: SourceId) -> Arc<dyn Prepared> {
        statements::prepare(plan, &puente_sql::Mariadb, source)
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
            let mut session = self.session(&request.party, request.deadline).await?;
            let id = session.id();
            match within(request.deadline, &mut disconnected, work(&mut session, request)).await {
                // The session had died before this request, most likely; reads can be asked again on a new one.
                Some(Err(problem)) if fault::is_lost(&problem) && !retried => {
                    session.give_up().await;
                    self.lost();
                    retried = true;
                }
                Some(Err(problem)) => {
                    if problem.code == Code::TooCostly {
                        self.cancel(id).await;
                    }
                    // Whatever was begun ends with the session.
                    session.give_up().await;
                    return Err(problem);
                }
                Some(result) => {
                    session.give_back();
                    return result;
                }
                None => {
                    self.cancel(id).await;
                    session.give_up().await;
                    return Err(Problem::timed_out());
                }
            }
        }
    }

    /// Cancels what a session is doing, over a connection outside the pool.
    pub(super) async fn cancel(&self, id: u32) {
        let kill = async {
            let mut aside = self.aside().await?;
            aside.query_drop(format!("kill query {id}")).await?;
            aside.disconnect().await
        };
        if !matches!(timeout(CANCEL_TIMEOUT, kill).await, Ok(Ok(()))) {
            tracing::warn!(target: "puente::source", "a statement could not be cancelled in the database");
        }
    }
}

async fn work(session: &mut Conn, request: &Request) -> Result<Outcome, Problem> {
    let several = needs_snapshot(request);
    let told = |error: mysql_async::Error| fault::problem(&error);
    if several {
        begin_reading(session).await?;
    }
    let outcome = levels::answer(request, Reading::new(session, request)).await?;
    if several {
        session.query_drop("commit").await.map_err(told)?;
    }
    Ok(outcome)
}

pub(super) async fn begin_reading(session: &mut Conn) -> Result<(), Problem> {
    let begun = session.query_drop("start transaction with consistent snapshot, read only").await;
    begun.map_err(|error| fault::problem(&error))
}

/// A session that reads the levels of a request.
pub(super) struct Reading<'c> {
    session: &'c mut Conn,
    request: &'c Request,
    reports: Vec<StatementReport>,
}

impl<'c> Reading<'c> {
    pub(super) fn new(session: &'c mut Conn, request: &'c Request) -> Self {
        Reading { session, request, reports: Vec::new() }
    }
}

impl LevelReader for Reading<'_> {
    async fn read(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> Result<(), Problem> {
        let program = program(self.request);
        let statement = &program.statements()[select];
        let start = Instant::now();
        let few = match (program, keys) {
            (Program::Batched(_, union_per_parent), Some(keys)) if keys.rows().len() <= MOST_UNITED => {
                union_per_parent[select].as_ref().map(|one| (one, keys))
            }
            _ => None,
        };
        let rows = match few {
            Some((one, keys)) => unite(self.session, self.request, one, keys).await?,
            None => query(self.session, self.request, statement, keys).await?,
        };
        let text = match few {
            _ if !self.request.timed => String::new(),
            Some((one, _)) => united_text(one),
            None => statement.text.clone(),
        };
        let (source, count) = (self.request.source, rows.len() as u64);
        self.reports.push(StatementReport { source, text, executions: 1, rows: count, time: start.elapsed() });
        load(levels, self.request, select, &rows)
    }

    fn take_reports(&mut self) -> Vec<StatementReport> {
        std::mem::take(&mut self.reports)
    }
}

/// Parents whose children are read by a union of one select per parent; those of more are numbered in one pass.
const MOST_UNITED: usize = 64;

/// How a union of one select per parent is told.
pub(super) fn united_text(one: &Statement) -> String {
    format!("({}) union all …", one.text)
}

/// One select per parent, united to one statement. Their number is rounded up, so that there are few different statements; each
/// comes with its parent's ordinal, in order.
async fn unite(session: &mut Conn, request: &Request, one: &Statement, keys: &KeyValues) -> Result<Vec<Row>, Problem> {
    let copies = keys.rows().len().next_power_of_two();
    let text = vec![format!("({})", one.text); copies].join(" union all ");
    let values = params::union_per_parent(&one.slots, &request.bound, keys, copies);
    execute(session, &text, values, request.most_bytes).await
}

async fn query(
    session: &mut Conn,
    request: &Request,
    statement: &Statement,
    keys: Option<&KeyValues>,
) -> Result<Vec<Row>, Problem> {
    let values = params::values(&statement.slots, &request.bound, keys, &[]);
    execute(session, &statement.text, values, request.most_bytes).await
}

/// Why a statement's rows stopped.
#[derive(Debug)]
pub(super) enum Stopped {
    /// The driver's error.
    Failed(mysql_async::Error),
    /// There are too many of them, or too large ones.
    TooLarge(Problem),
}

impl From<mysql_async::Error> for Stopped {
    fn from(error: mysql_async::Error) -> Self {
        Stopped::Failed(error)
    }
}

/// Prepares a statement, and runs it once: executed a second time, MariaDB 10.11 answers some wrongly (conditions that it moved
/// into a subquery are lost; the oracle found it). Rows are counted as they arrive: they stop where an answer of `most_bytes`
/// could not be made of them, and the session has to be given up then.
pub(super) async fn send(
    session: &mut Conn,
    text: &str,
    values: Vec<Value>,
    most_bytes: usize,
) -> Result<Vec<Row>, Stopped> {
    let statement = session.prep(text).await?;
    let found = rows(session, &statement, values, most_bytes).await;
    // Rows that nobody wants any more are still on their way: the session ends, and the statement with it.
    if !matches!(found, Err(Stopped::TooLarge(_))) {
        session.close(statement).await?;
    }
    found
}

async fn rows(
    session: &mut Conn,
    statement: &mysql_async::Statement,
    values: Vec<Value>,
    most_bytes: usize,
) -> Result<Vec<Row>, Stopped> {
    let values = if values.is_empty() { Params::Empty } else { Params::Positional(values) };
    let mut result = session.exec_iter(statement, values).await?;
    let (mut found, mut bytes) = (Vec::new(), 0_usize);
    while let Some(row) = result.next().await? {
        bytes += weight(&row);
        check_held(bytes, most_bytes).map_err(Stopped::TooLarge)?;
        found.push(row);
    }
    Ok(found)
}

/// What the driver holds of a row.
fn weight(row: &Row) -> usize {
    let values = (0..row.len()).map(|at| match row.as_ref(at) {
        Some(Value::Bytes(bytes)) => bytes.len(),
        _ => 0,
    });
    values.sum::<usize>() + row.len() * std::mem::size_of::<Value>()
}

pub(super) async fn execute(
    session: &mut Conn,
    text: &str,
    values: Vec<Value>,
    most_bytes: usize,
) -> Result<Vec<Row>, Problem> {
    send(session, text, values, most_bytes).await.map_err(|stopped| match stopped {
        Stopped::Failed(error) => fault::problem_of_reading(&error),
        Stopped::TooLarge(problem) => problem,
    })
}

/// Hands a select's rows in; of a child, the first column is the parent's ordinal.
fn load(levels: &mut Levels<'_>, request: &Request, select: SelectId, rows: &[Row]) -> Result<(), Problem> {
    let plan = request.bound.plan();
    let node = &plan.selects()[select];
    let first = usize::from(node.parent.is_some());
    let scalars = plan.scalars(select);
    for row in rows {
        for (output, scalar) in scalars.iter().enumerate() {
            let at = first + output;
            let value = row.as_ref(at).unwrap_or(&Value::NULL);
            values::with_datum(value, &row.columns_ref()[at], *scalar, |cell| levels.rows(select).push(cell));
        }
        if first == 1 {
            let ordinal = match row.as_ref(0) {
                Some(Value::Int(ordinal)) => *ordinal,
                Some(Value::UInt(ordinal)) => i64::try_from(*ordinal).unwrap_or(0),
                _ => 0,
            };
            levels.row_belongs_to(select, ordinal)?;
        }
    }
    Ok(())
}
