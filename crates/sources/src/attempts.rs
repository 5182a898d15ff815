//! Attempts of one mutation on a server: each is a transaction of its own, and the next one begins only where the one
//! before was rolled back as a whole.

use std::future::Future;
use std::time::Instant;

use puente_core::error::{Code, Detail, Problem};
use tokio::time::{sleep_until, timeout};

use crate::cluster::Job;
use crate::server::END_TIMEOUT;
use puente_run::change;
use puente_run::turns::Party;
use puente_run::{ChangeRequest, Outcome};

/// Attempts at most.
const MOST_ATTEMPTS: u32 = 4;

/// A server that changes rows in transactions.
pub(crate) trait Transactional: Sync {
    /// A session of the server.
    type Client: Send;

    /// Takes a session when it is the caller's turn, and waits for one until the deadline.
    fn take(&self, caller: &Party, deadline: Instant) -> impl Future<Output = Result<Self::Client, Problem>> + Send;

    /// Has the server transactions at all?
    fn has_transactions(&self, client: &Self::Client) -> bool;

    /// Begins a transaction and runs the mutation in it. Also tells whether the database itself took it back, in favour of
    /// others.
    fn attempt(
        &self,
        client: &mut Self::Client,
        request: &ChangeRequest,
    ) -> impl Future<Output = (Result<Outcome, Problem>, bool)> + Send;

    /// Cancels what the session is doing in the database, and gives it up; its transaction ends with it.
    fn cancel(&self, client: Self::Client) -> impl Future<Output = ()> + Send;

    /// Ends the transaction without a trace.
    fn roll_back(&self, client: Self::Client) -> impl Future<Output = ()> + Send;

    /// Ends the transaction for good.
    fn commit(&self, client: Self::Client) -> impl Future<Output = Result<(), Problem>> + Send;
}

/// Runs a mutation. What nobody waits for any more, and what takes too long, is cancelled in the database, until the commit is
/// sent.
pub(crate) async fn run(server: &impl Transactional, job: Job<ChangeRequest>) -> Result<Outcome, Problem> {
    let (request, mut disconnected) = (&*job.request, job.disconnected);
    let mut attempts = 0;
    loop {
        attempts += 1;
        let mut client = server.take(&request.party, request.deadline).await?;
        let is_rolled_back = server.has_transactions(&client) && change::is_rolled_back(request);
        let result = tokio::select! {
            result = server.attempt(&mut client, request) => Some(result),
            () = sleep_until(request.deadline.into()) => None,
            _ = &mut disconnected => None,
        };
        match result {
            None => {
                server.cancel(client).await;
                let text = "the change took too long, and was rolled back; change less";
                return Err(if is_rolled_back {
                    Problem::new(Code::TimedOut, text)
                } else {
                    outcome_untold(Detail::plain("out of time"))
                });
            }
            // A session whose transaction does not end in time is dropped, and the transaction with it.
            Some((Ok(outcome), _)) if request.rehearse => {
                let _ = timeout(END_TIMEOUT, server.roll_back(client)).await;
                return Ok(outcome);
            }
            Some((Ok(outcome), _)) => {
                let patience = request.deadline.saturating_duration_since(Instant::now()).max(END_TIMEOUT);
                let committed = timeout(patience, server.commit(client)).await;
                return committed
                    .unwrap_or_else(|_| Err(outcome_unknown(Detail::plain("the commit was not answered"))))
                    .map(|()| outcome);
            }
            Some((Err(problem), rolled_back)) => {
                let _ = timeout(END_TIMEOUT, server.roll_back(client)).await;
                // The answer may be what was lost, and not the change.
                if !is_rolled_back && matches!(problem.code, Code::SourceUnavailable | Code::TimedOut) {
                    return Err(outcome_untold(Detail::plain(format_args!("{problem} {}", problem.told()))));
                }
                if attempts == MOST_ATTEMPTS || !(rolled_back || is_race(request, &problem)) {
                    return Err(problem);
                }
            }
        }
    }
}

/// Did another create the row between our look and our insert? Then a second look will find it.
fn is_race(request: &ChangeRequest, problem: &Problem) -> bool {
    problem.code == Code::Conflict && request.mutation.may_race()
}

/// The problem of a commit whose answer did not come.
pub(crate) fn outcome_unknown(detail: Detail) -> Problem {
    let text =
        "the connection was lost while the change was committed: it is done as a whole, or not at all; read to see";
    Problem::new(Code::OutcomeUnknown, text).with_detail(detail)
}

/// The problem of a change that nothing rolls back, and whose answer did not come.
fn outcome_untold(detail: Detail) -> Problem {
    let text = "the database did not answer, and has no transaction to roll back: the change is done, or a part of it, or \
                nothing; read to see";
    Problem::new(Code::OutcomeUnknown, text).with_detail(detail)
}
