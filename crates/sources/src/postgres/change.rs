//! Running a mutation on PostgreSQL: one transaction, read committed, on a session of the pool.

use deadpool_postgres::Object;
use puente_core::error::{Code, Problem};
use puente_core::json::Rows;
use puente_core::sql::{self, Statement};
use puente_core::value::{CellRef, Scalar};
use tokio::time::sleep_until;

use super::connect::Server;
use super::run::column;
use super::{fault, params, wire};
use crate::change::{self, Failure, MOST_ATTEMPTS, Session, Values};
use crate::cluster::Job;
use crate::{ChangeRequest, Outcome};

impl Server {
    /// Runs a mutation. What nobody waits for any more, and what takes too long, is cancelled in the database, until the
    /// commit is sent.
    pub(super) async fn change(&self, job: Job<ChangeRequest>) -> Result<Outcome, Problem> {
        let (request, mut left) = (&*job.request, job.left);
        for attempt in 1.. {
            let client = self.client_for(request.deadline).await?;
            let mut transaction = Transaction { server: self, client: &client, taken_back: false };
            let result = tokio::select! {
                result = transaction.attempt(request) => Some(result),
                () = sleep_until(request.deadline.into()) => None,
                _ = &mut left => None,
            };
            let taken_back = transaction.taken_back;
            match result {
                None => {
                    self.cancel(client).await;
                    return Err(Problem::new(
                        Code::TimedOut,
                        "the change took too long, and was taken back; change less",
                    ));
                }
                Some(Ok(outcome)) if request.rehearse => {
                    self.take_back(client).await;
                    return Ok(outcome);
                }
                Some(Ok(outcome)) => return self.commit(&client).await.map(|()| outcome),
                Some(Err(problem)) => {
                    self.take_back(client).await;
                    if attempt == MOST_ATTEMPTS || !(taken_back || change::is_race(request, &problem)) {
                        return Err(problem);
                    }
                }
            }
        }
        Err(Problem::new(Code::Internal, "the attempts are counted"))
    }

    /// Ends a transaction without a trace; a session that cannot say so is given up.
    async fn take_back(&self, client: Object) {
        if client.batch_execute("rollback").await.is_err() {
            drop(Object::take(client));
        }
    }

    async fn commit(&self, client: &Object) -> Result<(), Problem> {
        client.batch_execute("commit").await.map_err(|error| {
            if error.code().is_none() {
                self.lost();
                let text = "the connection was lost while the change was committed: it is done as a whole, or not at all; read to see";
                return Problem::new(Code::OutcomeUnknown, text).with_detail(error);
            }
            fault::problem(&error)
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
