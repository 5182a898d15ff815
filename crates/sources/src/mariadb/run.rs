//! Running a bound plan: one statement per level, in one read-only snapshot where there are several.

use std::time::Instant;

use mysql_async::prelude::Queryable as _;
use mysql_async::{Conn, Row, Value};
use puente_core::error::{Code, Problem};
use puente_core::json::{self, KeyValues, Levels};
use puente_core::plan::{Plan, SelectId, witness};
use puente_core::sql::{Program, Statement};
use puente_core::value::Scalar;
use tokio::time::{sleep_until, timeout};

use super::connect::Server;
use super::{fault, params, values};
use crate::cluster::{self, Job};
use crate::server::CANCEL_TIMEOUT;
use crate::{Explanation, Outcome, Request, StatementReport};

impl cluster::Server for Server {
    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        self.run(job).await
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
        let mut session = self.session_for(request).await?;
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
                work(&mut self.session_for(request).await?, request).await
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

    async fn session_for(&self, request: &Request) -> Result<Conn, Problem> {
        let waited = timeout(request.deadline.saturating_duration_since(Instant::now()), self.session()).await;
        waited.unwrap_or_else(|_| {
            Err(Problem::new(Code::TimedOut, "the ask waited too long for the database; ask again in a moment"))
        })
    }

    /// Cancels what a session is doing, over a connection outside the pool.
    async fn cancel(&self, id: u32) {
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
async fn give_up(session: Conn) {
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
    let values = params::values(&statement.slots, &request.bound, Some(keys));
    execute(session, &statement.text, values).await
}

/// Runs a prepared statement; the driver wants to be told apart whether anything is bound.
pub(super) async fn execute(session: &mut Conn, text: &str, values: Vec<Value>) -> Result<Vec<Row>, Problem> {
    let rows = if values.is_empty() { session.exec(text, ()).await } else { session.exec(text, values).await };
    rows.map_err(|error| fault::problem(&error))
}

/// The scalar of every field of a select's rows; none for marks, counts and what is no scalar.
fn scalars(plan: &Plan, select: SelectId) -> Vec<Option<Scalar>> {
    let node = &plan.selects()[select];
    let mut scalars: Vec<Option<Scalar>> =
        (0..node.output.len()).map(|output| node.scalar(plan.model(), output)).collect();
    for child in plan.children(select).filter(|child| plan.is_joined(*child)) {
        scalars.extend(witness(plan.model(), &plan.selects()[child]).is_none().then_some(None));
        scalars.extend(self::scalars(plan, child));
    }
    if scalars.is_empty() && !plan.is_joined(select) {
        // A row has at least one cell, so that it can be counted.
        scalars.push(None);
    }
    scalars
}

/// Hands a select's rows in; of a child, the first column is the parent's ordinal.
fn load(levels: &mut Levels<'_>, request: &Request, select: SelectId, rows: &[Row]) -> Result<(), Problem> {
    let plan = request.bound.plan();
    let node = &plan.selects()[select];
    let first = usize::from(node.parent.is_some());
    let scalars = scalars(plan, select);
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
