//! Running a mutation on PostgreSQL: one transaction, read committed, on a session of the pool.

use std::time::Instant;

use deadpool_postgres::Object;
use puente_core::error::Problem;
use puente_core::json::Rows;
use puente_core::sql::{self, Statement};
use puente_core::value::{CellRef, Scalar};

use super::connect::Server;
use super::run::column;
use super::{fault, params, wire};
use crate::change::attempts::{self, Transactional};
use crate::change::{self, Failure, Session, Values};
use crate::{ChangeRequest, Outcome};

impl Transactional for Server {
    type Client = Object;

    async fn take(&self, deadline: Instant) -> Result<Object, Problem> {
        self.client_for(deadline).await
    }

    async fn attempt(&self, client: &mut Object, request: &ChangeRequest) -> (Result<Outcome, Problem>, bool) {
        let mut transaction = Transaction { server: self, client, taken_back: false };
        let result = transaction.attempt(request).await;
        (result, transaction.taken_back)
    }

    async fn cancel(&self, client: Object) {
        self.cancel(client).await;
    }

    async fn take_back(&self, client: Object) {
        // A session that cannot say so is given up.
        if client.batch_execute("rollback").await.is_err() {
            drop(Object::take(client));
        }
    }

    async fn commit(&self, client: Object) -> Result<(), Problem> {
        client.batch_execute("commit").await.map_err(|error| {
            if error.code().is_some() {
                return fault::problem(&error);
            }
            self.lost();
            attempts::outcome_unknown(error)
        })
    }
}

/// The transaction of one mutation.
struct Transaction<'c> {
    server: &'c Server,
    client: &'c Object,
    /// Did the database take it back?
    taken_back: bool,
}

impl Transaction<'_> {
    async fn attempt(&mut self, request: &ChangeRequest) -> Result<Outcome, Problem> {
        let begin = "begin isolation level read committed read write";
        self.client.batch_execute(begin).await.map_err(|error| fault::problem(&error))?;
        let outcome = change::run(self, &sql::Postgres, request).await?;
        let checked = self.client.batch_execute("set constraints all immediate").await;
        checked.map_err(|error| match fault::refusal(&error) {
            Some(refusal) => change::late_refusal(refusal),
            None => fault::problem(&error),
        })?;
        Ok(outcome)
    }

    async fn execute(&mut self, statement: &Statement, values: Values<'_>) -> Result<Rows<'static>, Failure> {
        let bound = params::values(&statement.slots, values.bound, values.keys, values.given);
        let rows = self.server.execute(self.client, &statement.text, &bound).await.map_err(|error| {
            self.taken_back |= fault::is_rolled_back(&error);
            match fault::refusal(&error) {
                Some(refusal) => Failure::Refused(refusal),
                None => Failure::Problem(fault::problem(&error)),
            }
        })?;
        let mut into = Rows::default();
        into.clear(rows.first().map_or(0, tokio_postgres::Row::len));
        for row in &rows {
            for (at, told) in row.columns().iter().enumerate() {
                match column(row, at)? {
                    None => into.push(CellRef::Null),
                    Some(bytes) => wire::copy(&mut into, told.type_().oid(), bytes),
                }
            }
        }
        Ok(into)
    }
}

impl Session for Transaction<'_> {
    async fn run(
        &mut self,
        statement: &Statement,
        values: Values<'_>,
        _: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        self.execute(statement, values).await
    }
}
