//! Running a mutation on MariaDB: one transaction, read committed, on a session of the pool.

use mysql_async::Conn;
use mysql_async::prelude::Queryable as _;
use puente_core::error::{Code, Problem};
use puente_core::json::Rows;
use puente_core::sql::{self, Statement};
use puente_core::value::Scalar;
use tokio::time::sleep_until;

use super::connect::Server;
use super::run::{give_up, send};
use super::{fault, params, values};
use crate::change::{self, Failure, MOST_ATTEMPTS, Session, Values};
use crate::cluster::Job;
use crate::{ChangeRequest, Outcome};

impl Server {
    /// Runs a mutation. What nobody waits for any more, and what takes too long, is cancelled in the database, until the
    /// commit is sent.
    pub(super) async fn change(&self, job: Job<ChangeRequest>) -> Result<Outcome, Problem> {
        let (request, mut left) = (&*job.request, job.left);
        for attempt in 1.. {
            let mut session = self.session_for(request.deadline).await?;
            let id = session.id();
            let mut transaction = Transaction { session: &mut session, taken_back: false };
            let result = tokio::select! {
                result = transaction.attempt(request) => Some(result),
                () = sleep_until(request.deadline.into()) => None,
                _ = &mut left => None,
            };
            let taken_back = transaction.taken_back;
            match result {
                None => {
                    self.cancel(id).await;
                    give_up(session).await;
                    return Err(Problem::new(
                        Code::TimedOut,
                        "the change took too long, and was taken back; change less",
                    ));
                }
                Some(Ok(outcome)) if request.rehearse => {
                    take_back(session).await;
                    return Ok(outcome);
                }
                Some(Ok(outcome)) => return commit(session).await.map(|()| outcome),
                Some(Err(problem)) => {
                    take_back(session).await;
                    if attempt == MOST_ATTEMPTS || !(taken_back || change::is_race(request, &problem)) {
                        return Err(problem);
                    }
                }
            }
        }
        Err(Problem::new(Code::Internal, "the attempts are counted"))
    }
}

/// Ends a transaction without a trace; a session that cannot say so is given up.
async fn take_back(mut session: Conn) {
    if session.query_drop("rollback").await.is_err() {
        give_up(session).await;
    }
}

async fn commit(mut session: Conn) -> Result<(), Problem> {
    let committed = session.query_drop("commit").await;
    committed.map_err(|error| match &error {
        mysql_async::Error::Server(_) => fault::problem(&error),
        _ => {
            let text = "the connection was lost while the change was committed: it is done as a whole, or not at all; read to see";
            Problem::new(Code::OutcomeUnknown, text).with_detail(error)
        }
    })
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
