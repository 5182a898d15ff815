//! Running a mutation on PostgreSQL: one transaction, read committed, on a session of the pool.

use std::time::Instant;

use deadpool_postgres::Object;
use puente_core::error::{Code, Problem};
use puente_core::rows::Rows;
use puente_core::value::{DatumRef, Scalar};
use puente_sql::{Dialect, Statement};

use super::connect::{self, Server};
use super::run::{Reading, Stopped, column};
use super::{fault, params, wire};
use crate::attempts::{self, Transactional};
use crate::snapshots::Snapshots;
use crate::statements::{Lowered, SqlSession};
use puente_run::change::{self, Failure, Values};
use puente_run::levels::LevelReader;
use puente_run::turns::Party;
use puente_run::{ChangeRequest, Outcome, Request};

impl Transactional for Server {
    type Client = Lease;

    async fn take(&self, caller: &Party, deadline: Instant) -> Result<Lease, Problem> {
        self.session(caller, deadline).await.map(|session| Lease(Some(session)))
    }

    fn has_transactions(&self, _: &Lease) -> bool {
        true
    }

    async fn attempt(&self, client: &mut Lease, request: &ChangeRequest) -> (Result<Outcome, Problem>, bool) {
        let mut transaction = Transaction { server: self, client: client.client(), rolled_back: false };
        let result = transaction.attempt(request).await;
        (result, transaction.rolled_back)
    }

    async fn cancel(&self, mut client: Lease) {
        if let Some(client) = client.0.take() {
            self.cancel(client).await;
        }
    }

    async fn roll_back(&self, client: Lease) {
        if client.client().batch_execute("rollback").await.is_ok() {
            client.give_back();
        }
    }

    async fn commit(&self, client: Lease) -> Result<(), Problem> {
        match client.client().batch_execute("commit").await {
            Ok(()) => {
                client.give_back();
                Ok(())
            }
            Err(error) if error.code().is_some() => Err(fault::problem(&error)),
            Err(error) => {
                self.lost();
                Err(attempts::outcome_unknown(fault::told(&error)))
            }
        }
    }
}

impl Snapshots for Server {
    async fn begin_snapshot(&self, client: &mut Lease) -> Result<(), Problem> {
        self.begin_reading(client.client()).await
    }

    fn reader<'r>(&'r self, client: &'r mut Lease, request: &'r Request) -> impl LevelReader + Send + 'r {
        Reading::new(self, client.client(), request)
    }

    fn can_ask_again(&self, client: &Lease, problem: &Problem) -> bool {
        let session = client.client();
        if fault::is_stale_plan(problem) {
            // The tables changed under a prepared statement; perhaps it still fits when it is prepared again.
            session.statement_cache.clear();
            return true;
        }
        let has_died = session.is_closed() && problem.code != Code::TooCostly;
        if has_died {
            self.lost();
        }
        has_died
    }

    async fn give_back(&self, client: Lease) {
        client.give_back();
    }
}

/// A session that goes back to the pool only when its transaction has ended; else it is given up, and the transaction with
/// it.
pub(super) struct Lease(Option<connect::Session>);

impl Lease {
    fn client(&self) -> &Object {
        self.0.as_ref().expect("a lease holds its session until it is given back")
    }

    fn give_back(mut self) {
        drop(self.0.take());
    }
}

impl Drop for Lease {
    fn drop(&mut self) {
        if let Some(session) = self.0.take() {
            drop(session.give_up());
        }
    }
}

/// The transaction of one mutation.
struct Transaction<'c> {
    server: &'c Server,
    client: &'c Object,
    /// Did the database rolls it back?
    rolled_back: bool,
}

impl Transaction<'_> {
    async fn attempt(&mut self, request: &ChangeRequest) -> Result<Outcome, Problem> {
        let begin = "begin isolation level read committed read write";
        self.client.batch_execute(begin).await.map_err(|error| fault::problem(&error))?;
        let outcome = change::run(&mut Lowered(&mut *self), request).await?;
        let checked = self.client.batch_execute("set constraints all immediate").await;
        checked.map_err(|error| match fault::refusal(&error) {
            Some(refusal) => change::late_refusal(refusal),
            None => fault::problem(&error),
        })?;
        Ok(outcome)
    }

    async fn execute(&mut self, statement: &Statement, values: Values<'_>) -> Result<Rows<'static>, Failure> {
        let bound = params::values(&statement.slots, values.bound, values.keys, values.given);
        let rows = self.server.execute(self.client, &statement.text, &bound, values.most_bytes).await;
        let rows = rows.map_err(|stopped| match stopped {
            Stopped::TooLarge(problem) => Failure::Problem(problem),
            Stopped::Failed(error) => {
                self.rolled_back |= fault::is_rolled_back(&error);
                match fault::refusal(&error) {
                    Some(refusal) => Failure::Refused(refusal),
                    None => Failure::Problem(fault::problem(&error)),
                }
            }
        })?;
        let mut into = Rows::default();
        into.clear(rows.first().map_or(0, tokio_postgres::Row::len));
        for row in &rows {
            for (at, told) in row.columns().iter().enumerate() {
                match column(row, at)? {
                    None => into.push(DatumRef::Null),
                    Some(bytes) => wire::copy(&mut into, told.type_().oid(), bytes),
                }
            }
        }
        Ok(into)
    }
}

impl SqlSession for &mut Transaction<'_> {
    fn dialect(&self) -> &'static dyn Dialect {
        &puente_sql::Postgres
    }

    async fn run_statement(
        &mut self,
        statement: &Statement,
        values: Values<'_>,
        _: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        self.execute(statement, values).await
    }
}
