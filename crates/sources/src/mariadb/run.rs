//! Running a bound plan: one statement per level, in one read-only snapshot where there are several.

use std::time::Instant;

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Row, Value};
use puente_core::error::{Code, Problem};
use puente_core::json::{self, KeyValues, Levels};
use puente_core::plan::SelectId;
use puente_core::sql::{Program, Statement};
use tokio::time::{sleep_until, timeout};

use super::connect::Server;
use super::{fault, params, values};
use crate::change::attempts;
use crate::cluster::{self, Job};
use crate::server::CANCEL_TIMEOUT;
use crate::{ChangeRequest, Explanation, Outcome, Request, StatementReport};

impl cluster::Server for Server {
    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        self.run(job).await
    }

    async fn change(&self, job: Job<ChangeRequest>) -> Result<Outcome, Problem> {
        attempts::run(self, job).await
    }

    async fn explain(&self, job: Job) -> Result<Vec<Explanation>, Problem> {
        self.explain(job).await
    }

    async fn reach(&self) -> Result<(), Problem> {
        let mut session = self.session().await?;
        session.ping().await.map_err(|error| fault::problem(&error))
    }
}

impl Server {
    /// Runs a plan. What nobody waits for any more, and what takes too long, is cancelled in the database.
    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        let request = &*job.request;
        let mut session = self.session_for(request.deadline).await?;
        let id = session.id();
        let result = tokio::select! {
            result = work(&mut session, request) => Some(result),
            () = sleep_until(request.deadline.into()) => None,
            _ = job.left => None,
        };
        match result {
            Some(Err(problem)) if fault::is_lost(&problem) => {
                // The session had died before this ask, most likely; reads can be asked again on a new one.
                drop(session);
                work(&mut self.session_for(request.deadline).await?, request).await
            }
            Some(Err(problem)) => {
                // Whatever was begun ends with the session.
                give_up(session).await;
                Err(problem)
            }
            Some(result) => result,
            None => {
                self.cancel(id).await;
                give_up(session).await;
                Err(Problem::new(Code::TimedOut, "the ask took too long; ask for less"))
            }
        }
    }

    pub(super) async fn session_for(&self, deadline: Instant) -> Result<Conn, Problem> {
        let waited = timeout(deadline.saturating_duration_since(Instant::now()), self.session()).await;
        waited.unwrap_or_else(|_| {
            Err(Problem::new(Code::TimedOut, "the ask waited too long for the database; ask again in a moment"))
        })
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

/// Ends a session instead of giving it back: a late cancellation must not hit the next ask.
pub(super) async fn give_up(session: Conn) {
    let _ = timeout(CANCEL_TIMEOUT, session.disconnect()).await;
}

async fn work(session: &mut Conn, request: &Request) -> Result<Outcome, Problem> {
    let plan = request.bound.plan();
    let several = (0..plan.selects().len()).filter(|select| plan.runs(*select)).count() > 1;
    let told = |error: mysql_async::Error| fault::problem(&error);
    if several {
        session.query_drop("start transaction with consistent snapshot, read only").await.map_err(told)?;
    }
    let outcome = by_level(session, request).await?;
    if several {
        session.query_drop("commit").await.map_err(told)?;
    }
    Ok(outcome)
}

async fn by_level(session: &mut Conn, request: &Request) -> Result<Outcome, Problem> {
    let plan = request.bound.plan();
    let mut reports = Vec::new();
    let mut levels = Levels::new(plan);
    for (select, node) in plan.selects().iter().enumerate().filter(|(select, _)| plan.runs(*select)) {
        let keys = levels.keys(plan, select);
        if node.parent.is_some() && keys.is_empty() {
            continue;
        }
        let statement = &plan.program().statements()[select];
        let start = Instant::now();
        let few = match plan.program() {
            Program::PerLevel(_, united) if keys.rows().len() <= MOST_UNITED => united[select].as_ref(),
            _ => None,
        };
        let rows = match few {
            Some(one) => unite(session, request, one, &keys).await?,
            None => query(session, request, statement, &keys).await?,
        };
        let text = match few {
            _ if !request.timed => String::new(),
            Some(one) => united_text(one),
            None => statement.text.clone(),
        };
        reports.push(StatementReport { text, executions: 1, rows: rows.len() as u64, time: start.elapsed() });
        load(&mut levels, request, select, &rows)?;
        levels.check_size(request.most_bytes)?;
    }
    let answer = json::write(&request.bound, &mut levels.fetch(plan), request.most_bytes)?;
    Ok(Outcome { answer, statements: reports })
}

/// Parents whose children are read by a union of one select per parent; those of more are numbered in one pass.
const MOST_UNITED: usize = 64;

/// How a union of one select per parent is told.
pub(super) fn united_text(one: &Statement) -> String {
    format!("({}) union all …", one.text)
}

/// One select per parent, united to one statement. Their number is rounded up, so that there are few statements to keep
/// prepared; each comes with its parent's ordinal, in order.
async fn unite(session: &mut Conn, request: &Request, one: &Statement, keys: &KeyValues) -> Result<Vec<Row>, Problem> {
    let copies = keys.rows().len().next_power_of_two();
    let text = vec![format!("({})", one.text); copies].join(" union all ");
    let values = params::united(&one.slots, &request.bound, keys, copies);
    execute(session, &text, values).await
}

async fn query(
    session: &mut Conn,
    request: &Request,
    statement: &Statement,
    keys: &KeyValues,
) -> Result<Vec<Row>, Problem> {
    let values = params::values(&statement.slots, &request.bound, Some(keys), &[]);
    execute(session, &statement.text, values).await
}

/// Runs a prepared statement; the driver wants to be told apart whether anything is bound.
pub(super) async fn send(session: &mut Conn, text: &str, values: Vec<Value>) -> mysql_async::Result<Vec<Row>> {
    if values.is_empty() { session.exec(text, ()).await } else { session.exec(text, values).await }
}

pub(super) async fn execute(session: &mut Conn, text: &str, values: Vec<Value>) -> Result<Vec<Row>, Problem> {
    send(session, text, values).await.map_err(|error| fault::problem(&error))
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
            values::with_cell(value, &row.columns_ref()[at], *scalar, |cell| levels.rows(select).push(cell));
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
