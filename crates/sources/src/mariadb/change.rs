//! Running a mutation on MariaDB: one transaction, read committed, on a session of the pool.

use std::time::Instant;

use mysql_async::Conn;
use mysql_async::prelude::Queryable as _;
use puente_core::error::Problem;
use puente_core::json::Rows;
use puente_core::sql::{self, Statement};
use puente_core::value::Scalar;

use super::connect::Server;
use super::run::{give_up, send};
use super::{fault, params, values};
use crate::change::attempts::{self, Transactional};
use crate::change::{self, Failure, Session, Values};
use crate::{ChangeRequest, Outcome};

impl Transactional for Server {
    type Client = Conn;

    async fn take(&self, deadline: Instant) -> Result<Conn, Problem> {
        self.session_for(deadline).await
    }

    async fn attempt(&self, client: &mut Conn, request: &ChangeRequest) -> (Result<Outcome, Problem>, bool) {
        let mut transaction = Transaction { session: client, taken_back: false };
        let result = transaction.attempt(request).await;
        (result, transaction.taken_back)
    }

    async fn cancel(&self, client: Conn) {
        self.cancel(client.id()).await;
        give_up(client).await;
    }

    async fn take_back(&self, mut client: Conn) {
        // A session that cannot say so is given up.
        if client.query_drop("rollback").await.is_err() {
            give_up(client).await;
        }
    }

    async fn commit(&self, mut client: Conn) -> Result<(), Problem> {
        let committed = client.query_drop("commit").await;
        committed.map_err(|error| match &error {
            mysql_async::Error::Server(_) => fault::problem(&error),
            _ => attempts::outcome_unknown(error),
        })
    }
}

/// The transaction of one mutation.
struct Transaction<'c> {
    session: &'c mut Conn,
    /// Did the database take it back?
    taken_back: bool,
}

impl Transaction<'_> {
    async fn attempt(&mut self, request: &ChangeRequest) -> Result<Outcome, Problem> {
        for text in ["set transaction isolation level read committed", "start transaction read write"] {
            self.session.query_drop(text).await.map_err(|error| fault::problem(&error))?;
        }
        change::run(self, &sql::Mariadb, request).await
    }

    async fn execute(
        &mut self,
        statement: &Statement,
        bound: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        let parameters = params::values(&statement.slots, bound.bound, bound.keys, bound.given);
        let rows = send(self.session, &statement.text, parameters).await.map_err(|error| {
            self.taken_back |= fault::is_rolled_back(&error);
            match fault::refusal(&error) {
                Some(refusal) => Failure::Refused(refusal),
                None => Failure::Problem(fault::problem(&error)),
            }
        })?;
        let mut into = Rows::default();
        into.clear(scalars.len());
        for row in &rows {
            for (at, scalar) in scalars.iter().enumerate() {
                let value = row.as_ref(at).unwrap_or(&mysql_async::Value::NULL);
                values::with_cell(value, &row.columns_ref()[at], *scalar, |cell| into.push(cell));
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
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        self.execute(statement, values, scalars).await
    }

    async fn columns_of(&mut self, relation: &str, constraint: &str) -> Vec<String> {
        const COLUMNS: &str = "select column_name from information_schema.statistics
            where table_schema = database() and table_name = ? and index_name = ? order by seq_in_index";
        self.session.exec(COLUMNS, (relation, constraint)).await.unwrap_or_default()
    }
}
