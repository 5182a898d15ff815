//! A session of a server that reads level by level for a request over several sources, in one snapshot.

use std::sync::Arc;

use puente_core::error::{Code, Problem};
use puente_run::Request;
use puente_run::levels::LevelReader;
use puente_run::snapshot::{LevelJob, LevelJobs};
use tokio::time::timeout;

use crate::attempts::Transactional;
use crate::server::{END_TIMEOUT, within};
use crate::statements::needs_snapshot;

/// A server whose sessions read snapshots.
pub(crate) trait Snapshots: Transactional {
    /// Begins a transaction that only reads, and sees one state of the data.
    fn begin_snapshot(&self, client: &mut Self::Client) -> impl Future<Output = Result<(), Problem>> + Send;

    /// Reads levels on a session.
    fn reader<'r>(&'r self, client: &'r mut Self::Client, request: &'r Request) -> impl LevelReader + Send + 'r;

    /// Can what failed be asked once more, on another session or on this one after it was tidied? Where a session had died
    /// before the request, most likely.
    fn can_ask_again(&self, client: &Self::Client, problem: &Problem) -> bool;

    /// Gives a session back that is in no transaction.
    fn give_back(&self, client: Self::Client) -> impl Future<Output = ()> + Send;
}

/// Holds a snapshot until nobody reads it any more: of the first server that is not away.
pub(crate) async fn hold<S: Snapshots>(servers: &[Arc<S>], request: &Request, mut jobs: LevelJobs) {
    let mut servers = servers.iter();
    let Some(mut server) = servers.next().map(|server| &**server) else { return };
    let plan = request.bound.plan();
    let begins = needs_snapshot(request);
    let mut again: Option<LevelJob> = None;
    let mut may_retry = true;
    loop {
        let taken = within(request.deadline, jobs.abandoned(), server.take(&request.party, request.deadline)).await;
        let mut client = match taken.unwrap_or_else(|| Err(Problem::timed_out())) {
            Ok(client) => client,
            Err(problem) => {
                match servers.next().filter(|_| matches!(problem.code, Code::SourceUnavailable | Code::Contention)) {
                    // A replica that is away must not be missed.
                    Some(next) => {
                        tracing::warn!(target: "puente::source", detail = problem.told(), "a replica is away");
                        server = next;
                        continue;
                    }
                    None => return refuse(again, jobs, &problem),
                }
            }
        };
        if begins {
            let begun = within(request.deadline, jobs.abandoned(), server.begin_snapshot(&mut client)).await;
            if let Err(problem) = begun.unwrap_or_else(|| Err(Problem::timed_out())) {
                let asks_again = std::mem::take(&mut may_retry) && server.can_ask_again(&client, &problem);
                server.cancel(client).await;
                if asks_again {
                    continue;
                }
                return refuse(again, jobs, &problem);
            }
        }
        jobs.opened();
        loop {
            let next = match again.take() {
                Some(job) => Some(job),
                None => jobs.next().await,
            };
            let Some(LevelJob { level, reply }) = next else {
                return end(server, client, begins).await;
            };
            let read = {
                let mut reader = server.reader(&mut client, request);
                within(request.deadline, jobs.abandoned(), level.read(plan, &mut reader)).await
            };
            let problem = match read {
                Some(Ok(read)) => {
                    may_retry = false;
                    reply.tell(Ok(read));
                    continue;
                }
                Some(Err(problem)) => problem,
                None => {
                    server.cancel(client).await;
                    return refuse(Some(LevelJob { level, reply }), jobs, &Problem::timed_out());
                }
            };
            let asks_again = std::mem::take(&mut may_retry) && server.can_ask_again(&client, &problem);
            // What is still on its way must not meet the next request.
            if problem.code == Code::TooCostly {
                server.cancel(client).await;
            } else {
                let _ = timeout(END_TIMEOUT, server.roll_back(client)).await;
            }
            if !asks_again {
                return refuse(Some(LevelJob { level, reply }), jobs, &problem);
            }
            again = Some(LevelJob { level, reply });
            break;
        }
    }
}

async fn end<S: Snapshots>(server: &S, client: S::Client, in_transaction: bool) {
    if in_transaction {
        // A session whose transaction does not end in time is dropped, and the transaction with it.
        let _ = timeout(END_TIMEOUT, server.roll_back(client)).await;
    } else {
        server.give_back(client).await;
    }
}

fn refuse(job: Option<LevelJob>, mut jobs: LevelJobs, problem: &Problem) {
    if let Some(job) = job {
        job.reply.tell(Err(problem.clone()));
    }
    jobs.refuse(problem);
}
