//! Running a bound plan: one statement with one row, or one statement per level in one snapshot.

use std::time::{Duration, Instant};

use deadpool_postgres::Object;
use puente_core::error::{Code, Problem};
use puente_core::json::{self, KeyValues, Levels};
use puente_core::plan::SelectId;
use puente_core::sql::{Program, Statement};
use puente_core::value::CellRef;
use tokio::time::{sleep_until, timeout};
use tokio_postgres::types::{FromSql, ToSql, Type};
use tokio_postgres::{Error, Row};

use super::connect::Server;
use super::fault;
use super::params::{self, Text};
use super::wire::{self, Answer, Nested};
use crate::change::attempts;
use crate::cluster::{self, Job};
use crate::server::{CANCEL_TIMEOUT, STATEMENTS_KEPT};
use crate::{ChangeRequest, Explanation, Outcome, Request, StatementReport};

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
        let client = self.client().await?;
        client.batch_execute("select 1").await.map_err(|error| fault::problem(&error))
    }
}

impl Server {
    /// Runs a plan. What nobody waits for any more, and what takes too long, is cancelled in the database.
    async fn run(&self, job: Job) -> Result<Outcome, Problem> {
        let request = &*job.request;
        let mut client = self.client_for(request.deadline).await?;
        let work = async {
            let mut result = self.work(&client, request).await;
            if let Err(problem) = &result
                && fault::is_stale_plan(problem)
            {
                // The tables changed under a prepared statement; perhaps it still fits when it is prepared anew.
                client.statement_cache.clear();
                result = self.work(&client, request).await;
            }
            result
        };
        let result = tokio::select! {
            result = work => Some(result),
            () = sleep_until(request.deadline.into()) => None,
            _ = job.left => None,
        };
        match result {
            Some(Err(_)) if client.is_closed() => {
                // The session had died before this ask, most likely; reads can be asked again on a new one.
                self.lost();
                drop(client);
                client = self.client_for(request.deadline).await?;
                self.work(&client, request).await
            }
            Some(result) => result,
            None => {
                self.cancel(client).await;
                Err(Problem::new(Code::TimedOut, "the ask took too long; ask for less"))
            }
        }
    }

    pub(super) async fn client_for(&self, deadline: Instant) -> Result<Object, Problem> {
        let waited = timeout(deadline.saturating_duration_since(Instant::now()), self.client()).await;
        waited.unwrap_or_else(|_| {
            Err(Problem::new(Code::TimedOut, "the ask waited too long for the database; ask again in a moment"))
        })
    }

    /// Cancels what the session is doing, over a connection outside the pool. The session is given up: a late
    /// cancellation must not hit the next ask.
    pub(super) async fn cancel(&self, client: Object) {
        let token = client.cancel_token();
        let client = Object::take(client);
        let cancelled = timeout(CANCEL_TIMEOUT, token.cancel_query(self.tls.clone())).await;
        if !matches!(cancelled, Ok(Ok(()))) {
            tracing::warn!(target: "puente::source", "a statement could not be cancelled in the database");
        }
        drop(client);
    }

    async fn work(&self, client: &Object, request: &Request) -> Result<Outcome, Problem> {
        match request.bound.plan().program() {
            Program::Whole(statement) => self.whole(client, request, statement).await,
            Program::PerLevel(statements, _) | Program::PerParent(statements) => {
                self.begin(client).await?;
                let result = self.by_level(client, request, statements).await;
                let ended = client.batch_execute("rollback").await;
                ended.map_err(|error| fault::problem(&error))?;
                result
            }
        }
    }

    async fn whole(&self, client: &Object, request: &Request, statement: &Statement) -> Result<Outcome, Problem> {
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
        let mut nested = Nested::new(plan, told);
        let answer = json::write(&request.bound, &mut nested, request.most_bytes)?;
        let report = report(request, statement, nested.rows, time);
        Ok(Outcome { answer, statements: vec![report] })
    }

    async fn begin(&self, client: &Object) -> Result<(), Problem> {
        let begun = client.batch_execute("begin isolation level repeatable read read only").await;
        begun.map_err(|error| fault::problem(&error))
    }

    async fn by_level(&self, client: &Object, request: &Request, statements: &[Statement]) -> Result<Outcome, Problem> {
        let plan = request.bound.plan();
        let mut reports = Vec::new();
        let mut levels = Levels::new(plan);
        for (select, node) in plan.selects().iter().enumerate().filter(|(select, _)| plan.runs(*select)) {
            let keys = levels.keys(plan, select);
            if node.parent.is_some() && keys.is_empty() {
                continue;
            }
            let start = Instant::now();
            let rows = self.query(client, request, &statements[select], Some(&keys)).await?;
            reports.push(report(request, &statements[select], rows.len() as u64, start.elapsed()));
            load(&mut levels, select, node.parent.is_some(), &rows)?;
            levels.check_size(request.most_bytes)?;
        }
        let answer = json::write(&request.bound, &mut levels.fetch(plan), request.most_bytes)?;
        Ok(Outcome { answer, statements: reports })
    }

    async fn query(
        &self,
        client: &Object,
        request: &Request,
        statement: &Statement,
        keys: Option<&KeyValues>,
    ) -> Result<Vec<Row>, Problem> {
        let values = params::values(&statement.slots, &request.bound, keys, &[]);
        self.execute(client, &statement.text, &values).await.map_err(|error| fault::problem(&error))
    }

    /// Runs a statement, prepared where the way to the server lets us keep prepared statements.
    pub(super) async fn execute(&self, client: &Object, text: &str, values: &[Text]) -> Result<Vec<Row>, Error> {
        if self.prepared {
            if client.statement_cache.size() > STATEMENTS_KEPT {
                client.statement_cache.clear();
            }
            let prepared = client.prepare_cached(text).await?;
            let values: Vec<&(dyn ToSql + Sync)> = values.iter().map(|value| value as _).collect();
            client.query(&prepared, &values).await
        } else {
            let values: Vec<(&(dyn ToSql + Sync), Type)> =
                values.iter().map(|value: &Text| (value as &(dyn ToSql + Sync), Type::UNKNOWN)).collect();
            client.query_typed(text, &values).await
        }
    }
}

fn report(request: &Request, statement: &Statement, rows: u64, time: Duration) -> StatementReport {
    let text = if request.timed { statement.text.clone() } else { String::new() };
    StatementReport { text, executions: 1, rows, time }
}

/// Hands a select's rows in; of a child, the first column is the parent's ordinal.
fn load(levels: &mut Levels<'_>, select: SelectId, is_child: bool, rows: &[Row]) -> Result<(), Problem> {
    for row in rows {
        for at in usize::from(is_child)..row.len() {
            match column(row, at)? {
                None => levels.rows(select).push(CellRef::Null),
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
