//! The walk over a plan whose selects are read level by level, each once for all of its parents' rows. There is one for every
//! engine, and for the answers of changes.

use puente_core::answer::{self, KeyValues, Levels};
use puente_core::error::Problem;
use puente_core::plan::{Plan, SelectId};

use crate::{Outcome, Request, StatementReport};

/// What reads the levels of one request: a session under one snapshot, or a transaction.
pub trait LevelReader {
    /// Reads the rows of one select, for these keys of its parents (absent at the root), and hands them in.
    fn read(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> impl Future<Output = Result<(), Problem>> + Send;

    /// What was sent since this was asked last.
    fn take_reports(&mut self) -> Vec<StatementReport>;
}

/// Reads all levels of a request, and writes its answer.
///
/// # Errors
/// As [`read`], and what writing the answer reports.
pub async fn answer(request: &Request, mut reader: impl LevelReader) -> Result<Outcome, Problem> {
    let plan = request.bound.plan();
    let mut levels = Levels::new(plan);
    read(plan, &mut levels, request.most_bytes, &mut reader).await?;
    let answer = answer::write(&request.bound, &mut levels.fetch(plan), request.most_bytes)?;
    Ok(Outcome::new(answer, reader.take_reports()))
}

/// Reads every select that runs, parents before their children; not what hangs on rows of another source.
///
/// # Errors
/// What the reader reports; `TOO_COSTLY` where all rows together could not make an answer of so many bytes.
pub async fn read(
    plan: &Plan,
    levels: &mut Levels<'_>,
    most_bytes: usize,
    reader: &mut impl LevelReader,
) -> Result<(), Problem> {
    for (select, node) in plan.selects().iter().enumerate() {
        if !plan.runs(select) || plan.is_split() && plan.is_beyond_crossing(select) {
            continue;
        }
        let keys = levels.keys(plan, select);
        if node.parent.is_some() && keys.is_empty() {
            continue;
        }
        reader.read(select, node.parent.is_some().then_some(&keys), levels).await?;
        levels.check_size(most_bytes)?;
    }
    Ok(())
}
