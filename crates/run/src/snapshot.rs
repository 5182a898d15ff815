//! One snapshot of a source, read level by level on behalf of a request that reads other sources, too. A thread or a task of the
//! source holds it, and is told by a queue what to read.

use std::any::Any;
use std::sync::{Arc, OnceLock};

use puente_core::answer::{KeyValues, LevelRows, Levels};
use puente_core::error::{Code, Problem};
use puente_core::plan::{Plan, SelectId};
use tokio::sync::{mpsc, oneshot};

use crate::StatementReport;
use crate::levels::LevelReader;

/// A snapshot, for whoever reads it. It ends when it is dropped, and what it still reads is cancelled.
pub struct Snapshot {
    jobs: mpsc::UnboundedSender<LevelJob>,
    opened: Option<oneshot::Receiver<Result<(), Problem>>>,
    /// Why nothing can be read, for whoever asks too late to be told.
    refused: Arc<OnceLock<Problem>>,
    /// Is dropped with it.
    _alive: oneshot::Sender<()>,
    _held: Option<Box<dyn Any + Send + Sync>>,
}

impl std::fmt::Debug for Snapshot {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Snapshot")
    }
}

/// What is to be read from a snapshot, for whoever holds it.
#[derive(Debug)]
pub struct LevelJobs {
    jobs: mpsc::UnboundedReceiver<LevelJob>,
    opened: Option<oneshot::Sender<Result<(), Problem>>>,
    refused: Arc<OnceLock<Problem>>,
    dropped: oneshot::Receiver<()>,
}

/// The rows of one select, for these keys of its parents.
#[derive(Debug)]
pub struct LevelJob {
    /// What is read.
    pub level: Level,
    /// Whom it is told.
    pub reply: LevelReply,
}

/// Which rows are to be read.
#[derive(Debug)]
pub struct Level {
    select: SelectId,
    keys: Option<KeyValues>,
}

/// Who waits for a level.
#[derive(Debug)]
pub struct LevelReply(oneshot::Sender<Result<LevelRead, Problem>>);

/// The rows of a level, and what was sent for them.
#[derive(Debug)]
pub struct LevelRead {
    /// The rows.
    pub rows: LevelRows,
    /// The statements that ran.
    pub statements: Vec<StatementReport>,
}

/// A snapshot that nobody holds yet. `held` is dropped with it.
pub fn snapshot(held: Option<Box<dyn Any + Send + Sync>>) -> (Snapshot, LevelJobs) {
    let (sender, receiver) = mpsc::unbounded_channel();
    let (tell, opened) = oneshot::channel();
    let (alive, dropped) = oneshot::channel();
    let refused = Arc::default();
    let told = Arc::clone(&refused);
    let snapshot = Snapshot { jobs: sender, opened: Some(opened), refused: told, _alive: alive, _held: held };
    (snapshot, LevelJobs { jobs: receiver, opened: Some(tell), refused, dropped })
}

impl Snapshot {
    /// Waits until the source holds it.
    ///
    /// # Errors
    /// Why the source could not.
    pub async fn opened(&mut self) -> Result<(), Problem> {
        match self.opened.take() {
            Some(opened) => opened.await.unwrap_or_else(|_| Err(self.gone())),
            None => Ok(()),
        }
    }

    /// Reads the rows of one select, for these keys of its parents (absent at the root).
    ///
    /// # Errors
    /// What the source reports; nothing more can be read then.
    pub async fn read(&self, select: SelectId, keys: Option<KeyValues>) -> Result<LevelRead, Problem> {
        let (reply, answer) = oneshot::channel();
        let job = LevelJob { level: Level { select, keys }, reply: LevelReply(reply) };
        self.jobs.send(job).map_err(|_| self.gone())?;
        answer.await.unwrap_or_else(|_| Err(self.gone()))
    }

    /// Why nobody reads for it any more.
    fn gone(&self) -> Problem {
        self.refused.get().cloned().unwrap_or_else(|| {
            Problem::new(Code::Internal, "a mistake of ours; the log has the details under the request's id")
        })
    }
}

impl LevelJobs {
    /// Tells that the snapshot is held from now on.
    pub fn opened(&mut self) {
        if let Some(opened) = self.opened.take() {
            // Who does not wait for it finds out with the first rows.
            let _ = opened.send(Ok(()));
        }
    }

    /// Tells whoever waits, and whoever asks later, that nothing can be read.
    pub fn refuse(&mut self, problem: &Problem) {
        let _ = self.refused.set(problem.clone());
        if let Some(opened) = self.opened.take() {
            let _ = opened.send(Err(problem.clone()));
        }
        self.jobs.close();
        while let Ok(job) = self.jobs.try_recv() {
            job.reply.tell(Err(problem.clone()));
        }
    }

    /// The next level; none once the snapshot is dropped.
    pub async fn next(&mut self) -> Option<LevelJob> {
        self.jobs.recv().await
    }

    /// The same, for a thread that may wait.
    pub fn blocking_next(&mut self) -> Option<LevelJob> {
        self.jobs.blocking_recv()
    }

    /// Resolves when the snapshot is dropped: nobody waits for anything of it any more.
    pub async fn abandoned(&mut self) {
        if !self.dropped.is_terminated() {
            // Nothing is ever sent.
            let _ = (&mut self.dropped).await;
        }
    }
}

impl Level {
    /// Reads the rows.
    ///
    /// # Errors
    /// What the reader reports.
    pub async fn read(&self, plan: &Plan, reader: &mut impl LevelReader) -> Result<LevelRead, Problem> {
        let mut levels = Levels::for_one(plan, self.select, self.keys.as_ref().map_or(0, |keys| keys.rows().len()));
        reader.read(self.select, self.keys.as_ref(), &mut levels).await?;
        let rows =
            levels.take(self.select).ok_or_else(|| Problem::new(Code::Internal, "a select that is not there"))?;
        Ok(LevelRead { rows, statements: reader.take_reports() })
    }
}

impl LevelReply {
    /// Tells what came of it. Where nobody waits any more there is nothing to say.
    pub fn tell(self, read: Result<LevelRead, Problem>) {
        let _ = self.0.send(read);
    }
}

#[cfg(test)]
mod tests {
    use futures_util::FutureExt as _;

    use super::*;

    fn away() -> Problem {
        Problem::new(Code::SourceUnavailable, "out of reach")
    }

    #[tokio::test]
    async fn whoever_asks_after_a_refusal_is_told_why() {
        let (mut snapshot, mut jobs) = snapshot(None);
        jobs.refuse(&away());
        drop(jobs);
        assert_eq!(snapshot.opened().await.unwrap_err().code, Code::SourceUnavailable);
        assert_eq!(snapshot.read(0, None).await.unwrap_err(), away());
    }

    #[tokio::test]
    async fn whoever_waits_is_told_and_who_left_is_noticed() {
        let (snapshot, mut jobs) = snapshot(None);
        let reading = snapshot.read(0, None);
        let refusing = async {
            let LevelJob { reply, .. } = jobs.next().await.unwrap();
            reply.tell(Err(away()));
        };
        assert_eq!(tokio::join!(reading, refusing).0.unwrap_err(), away());
        assert!(jobs.abandoned().now_or_never().is_none());
        drop(snapshot);
        jobs.abandoned().await;
        jobs.abandoned().await;
        assert!(jobs.next().await.is_none());
    }
}
