//! Running a mutation on MariaDB: one transaction, read committed, on a session of the pool.

use std::time::Instant;

use mysql_async::Conn;
use mysql_async::prelude::Queryable as _;
use puente_core::error::Problem;
use puente_core::rows::Rows;
use puente_core::value::Scalar;
use puente_sql::{Dialect, Statement};

use super::connect::{self, Server};
use super::run::{Reading, Stopped, begin_reading, send};
use super::{fault, params, values};
use crate::attempts::{self, Transactional};
use crate::snapshots::Snapshots;
use crate::statements::{Lowered, SqlSession};
use puente_run::change::{self, Failure, Values};
use puente_run::levels::LevelReader;
use puente_run::turns::Party;
use puente_run::{ChangeRequest, Outcome, Request};

impl Transactional for Server {
    type Client = connect::Session;

    async fn take(&self, caller: &Party, deadline: Instant) -> Result<connect::Session, Problem> {
        self.session(caller, deadline).await
    }

    fn has_transactions(&self, _: &connect::Session) -> bool {
        true
    }

    async fn attempt(
        &self,
        client: &mut connect::Session,
        request: &ChangeRequest,
    ) -> (Result<Outcome, Problem>, bool) {
        let returns_inserted = self.returns_inserted(client);
        let mut transaction = Transaction { session: client, rolled_back: false, returns_inserted, last_number: None };
        let result = transaction.attempt(request).await;
        (result, transaction.rolled_back)
    }

    async fn cancel(&self, client: connect::Session) {
        self.cancel(client.id()).await;
        client.give_up().await;
    }

    async fn roll_back(&self, mut client: connect::Session) {
        // A session that cannot say so, or does not in time, is given up.
        if client.query_drop("rollback").await.is_ok() {
            client.give_back();
        }
    }

    async fn commit(&self, mut client: connect::Session) -> Result<(), Problem> {
        match client.query_drop("commit").await {
            Ok(()) => {
                client.give_back();
                Ok(())
            }
            Err(error @ mysql_async::Error::Server(_)) => {
                client.give_back();
                Err(fault::problem(&error))
            }
            Err(error) => Err(attempts::outcome_unknown(fault::told(&error))),
        }
    }
}

impl Snapshots for Server {
    async fn begin_snapshot(&self, client: &mut connect::Session) -> Result<(), Problem> {
        begin_reading(client).await
    }

    fn reader<'r>(&'r self, client: &'r mut connect::Session, request: &'r Request) -> impl LevelReader + Send + 'r {
        Reading::new(client, request)
    }

    fn can_ask_again(&self, _: &connect::Session, problem: &Problem) -> bool {
        let is_lost = fault::is_lost(problem);
        if is_lost {
            self.lost();
        }
        is_lost
    }

    async fn give_back(&self, client: connect::Session) {
        client.give_back();
    }
}

/// The transaction of one mutation.
struct Transaction<'c> {
    session: &'c mut Conn,
    /// Did the database rolls it back?
    rolled_back: bool,
    /// Does an insert tell what it made?
    returns_inserted: bool,
    /// What the last insert numbered its row with.
    last_number: Option<u64>,
}

impl Transaction<'_> {
    async fn attempt(&mut self, request: &ChangeRequest) -> Result<Outcome, Problem> {
        for text in ["set transaction isolation level read committed", "start transaction read write"] {
            self.session.query_drop(text).await.map_err(|error| fault::problem(&error))?;
        }
        change::run(&mut Lowered(self), request).await
    }

    async fn execute(
        &mut self,
        statement: &Statement,
        bound: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        let parameters = params::values(&statement.slots, bound.bound, bound.keys, bound.given);
        let rows = send(self.session, &statement.text, parameters, bound.most_bytes).await;
        if !self.returns_inserted {
            // Nothing was numbered where it is 0.
            self.last_number = self.session.last_insert_id().filter(|number| *number > 0);
        }
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
        into.clear(scalars.len());
        for row in &rows {
            for (at, scalar) in scalars.iter().enumerate() {
                let value = row.as_ref(at).unwrap_or(&mysql_async::Value::NULL);
                values::with_datum(value, &row.columns_ref()[at], *scalar, |cell| into.push(cell));
            }
        }
        Ok(into)
    }
}

impl SqlSession for &mut Transaction<'_> {
    fn dialect(&self) -> &'static dyn Dialect {
        &puente_sql::Mariadb
    }

    fn returns_inserted(&self) -> bool {
        self.returns_inserted
    }

    fn last_number(&self) -> Option<u64> {
        self.last_number
    }

    async fn run_statement(
        &mut self,
        statement: &Statement,
        values: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> Result<Rows<'static>, Failure> {
        self.execute(statement, values, scalars).await
    }

    async fn constrained_columns(&mut self, relation: &str, constraint: &str) -> Vec<String> {
        const COLUMNS: &str = "select column_name from information_schema.statistics
            where table_schema = database() and table_name = ? and index_name = ? order by seq_in_index";
        let Ok(statement) = self.session.prep(COLUMNS).await else { return Vec::new() };
        let found = self.session.exec(&statement, (relation, constraint)).await;
        let _ = self.session.close(statement).await;
        found.unwrap_or_default()
    }
}
