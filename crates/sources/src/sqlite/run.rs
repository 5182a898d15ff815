//! Running a bound plan on one connection. Every select is prepared at most once.
//!
//! Where indexes find the children of a parent, a child's statement is executed once per parent's row, as the writer
//! reaches it; where one does not, every statement is executed once for all parents.

use crate::statements::{needs_snapshot, program};
use std::time::{Duration, Instant};

use futures_util::FutureExt as _;
use puente_core::answer::{self, Answer, Fetch, KeyValues, Levels};
use puente_core::error::{Code, Problem};
use puente_core::model::SourceId;
use puente_core::plan::{BoundPlan, SelectId};
use puente_core::rows::{Row, Rows, check_held};
use puente_core::value::DatumRef;
use puente_sql::{Program, Slot, Statement};
use rusqlite::CachedStatement;
use rusqlite::types::ValueRef;

use super::bind::{Borrowed, bind_slot, keys_json};
use super::fault::problem;
use super::statements::Kept;
use super::{DatabaseFile, past_rollback};
use puente_run::levels::LevelReader;
use puente_run::snapshot::{LevelJob, LevelJobs};
use puente_run::{Outcome, Request, StatementReport};

/// Runs a plan. Its reads see one snapshot, which ends with the request.
///
/// # Errors
/// What the database reports, as the caller may know it.
pub(super) fn run(kept: &Kept, file: &DatabaseFile, request: &Request) -> Result<Outcome, Problem> {
    let plan = request.bound.plan();
    let several = plan.selects().len() > 1;
    if several {
        kept.begin_reading().map_err(|error| problem(&error, file))?;
    }
    let mut run = Run::new(kept, file, request);
    let answer = match program(request) {
        Program::Batched(..) => run.by_level(request.most_bytes),
        Program::NestedLoop(_) | Program::SingleStatement(..) => {
            answer::write(&request.bound, &mut run, request.most_bytes)
        }
    };
    let statements = run.take_reports();
    Ok(Outcome::new(answer?, statements))
}

/// Holds a snapshot for a request over several sources, until nobody reads it any more.
///
/// # Errors
/// What the database reports, where it was not told with the rows of a level.
pub(super) fn hold(kept: &Kept, file: &DatabaseFile, request: &Request, jobs: &mut LevelJobs) -> Result<(), Problem> {
    let plan = request.bound.plan();
    if needs_snapshot(request) {
        kept.begin_reading().map_err(|error| problem(&error, file))?;
    }
    let mut run = Run::new(kept, file, request);
    jobs.opened();
    while let Some(LevelJob { level, reply }) = jobs.blocking_next() {
        let read = level.read(plan, &mut run).now_or_never();
        match read.unwrap_or_else(|| Err(Problem::new(Code::Internal, "an embedded database kept us waiting"))) {
            Ok(read) => reply.tell(Ok(read)),
            Err(problem) => {
                reply.tell(Err(problem.clone()));
                return Err(problem);
            }
        }
    }
    Ok(())
}

#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    executions: u64,
    rows: u64,
    time: Duration,
}

struct Run<'c> {
    kept: &'c Kept,
    file: &'c DatabaseFile,
    bound: &'c BoundPlan,
    program: &'c Program,
    source: SourceId,
    timed: bool,
    most_bytes: usize,
    /// What the rows of each select hold in memory at the moment.
    held: Vec<usize>,
    statements: Vec<Option<CachedStatement<'c>>>,
    tallies: Vec<Tally>,
}

impl<'s> Fetch<'s> for Run<'_> {
    fn fetch(&mut self, select: SelectId, parent: Option<Row<'_, 's>>, into: &mut Rows<'s>) -> Result<(), Problem> {
        let plan = self.bound.plan();
        let slots = &self.statement(select).slots;
        let is_null =
            |slot: &Slot| matches!((slot, parent), (Slot::Parent(output), Some(row)) if row.cell(*output).is_null());
        if slots.iter().any(is_null) {
            // Nothing equals null: there is nothing at the other end of the link.
            answer::nothing(&plan.selects()[select], into);
            return Ok(());
        }
        into.clear(plan.row_width(select));
        let mut too_large = None;
        self.tallied(select, |run| run.execute(select, parent, into, &mut too_large))
            .map_err(|error| problem(&error, self.file))?;
        too_large.map_or(Ok(()), Err)
    }
}

impl<'c> Run<'c> {
    fn new(kept: &'c Kept, file: &'c DatabaseFile, request: &'c Request) -> Self {
        let selects = request.bound.plan().selects().len();
        Run {
            kept,
            file,
            bound: &request.bound,
            program: program(request),
            source: request.source,
            timed: request.timed,
            most_bytes: request.most_bytes,
            held: vec![0; selects],
            statements: (0..selects).map(|_| None).collect(),
            tallies: vec![Tally::default(); selects],
        }
    }

    fn statement(&self, select: SelectId) -> &'c Statement {
        &self.program.statements()[select]
    }

    /// Runs `execute`, which tells how many rows it read.
    fn tallied(
        &mut self,
        select: SelectId,
        mut execute: impl FnMut(&mut Self) -> rusqlite::Result<u64>,
    ) -> rusqlite::Result<()> {
        let start = self.timed.then(Instant::now);
        let rows = past_rollback(|| execute(self))?;
        let tally = &mut self.tallies[select];
        tally.executions += 1;
        tally.rows += rows;
        if let Some(start) = start {
            tally.time += start.elapsed();
        }
        Ok(())
    }

    fn execute(
        &mut self,
        select: SelectId,
        parent: Option<Row<'_, '_>>,
        into: &mut Rows<'_>,
        too_large: &mut Option<Problem>,
    ) -> rusqlite::Result<u64> {
        let Statement { text, slots } = self.statement(select);
        let is_new = self.statements[select].is_none();
        if is_new {
            self.statements[select] = Some(self.kept.prepare(text)?);
        }
        let statement = self.statements[select].as_mut().expect("just prepared");
        for (at, slot) in slots.iter().enumerate() {
            match (slot, parent) {
                (Slot::Parent(output), Some(row)) => {
                    statement.raw_bind_parameter(at + 1, Borrowed(row.cell(*output)))?;
                }
                // What is not the parent's stays bound for every parent.
                _ if !is_new => {}
                _ => bind_slot(statement, at + 1, slot, self.bound)?,
            }
        }
        let width = statement.column_count();
        self.held[select] = 0;
        let held: usize = self.held.iter().sum();
        let mut rows = statement.raw_query();
        let mut count = 0;
        while let Some(row) = rows.next()? {
            for column in 0..width {
                into.push(cell(row.get_ref(column)?));
            }
            count += 1;
            if let Err(problem) = check_held(held + into.weight(), self.most_bytes) {
                *too_large = Some(problem);
                break;
            }
        }
        self.held[select] = into.weight();
        Ok(count)
    }

    /// Every select once, for all of its parents' rows; then the answer is written.
    fn by_level(&mut self, most_bytes: usize) -> Result<Answer, Problem> {
        let bound = self.bound;
        let mut levels = Levels::new(bound.plan());
        puente_run::levels::read(bound.plan(), &mut levels, most_bytes, self)
            .now_or_never()
            .unwrap_or_else(|| Err(Problem::new(Code::Internal, "an embedded database kept us waiting")))?;
        answer::write(bound, &mut levels.fetch(bound.plan()), most_bytes)
    }

    fn read_level(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> Result<(), Problem> {
        let keys = keys.map(keys_json);
        let mut failed = None;
        self.tallied(select, |run| run.execute_level(select, keys.as_deref(), levels, &mut failed))
            .map_err(|error| problem(&error, self.file))?;
        failed.map_or(Ok(()), Err)
    }

    fn execute_level(
        &mut self,
        select: SelectId,
        keys: Option<&str>,
        levels: &mut Levels<'_>,
        failed: &mut Option<Problem>,
    ) -> rusqlite::Result<u64> {
        let Statement { text, slots } = self.statement(select);
        let mut statement = self.kept.prepare(text)?;
        for (at, slot) in slots.iter().enumerate() {
            match (slot, keys) {
                (Slot::Keys, Some(keys)) => statement.raw_bind_parameter(at + 1, keys)?,
                _ => bind_slot(&mut statement, at + 1, slot, self.bound)?,
            }
        }
        let width = statement.column_count();
        let first = usize::from(keys.is_some());
        let mut rows = statement.raw_query();
        let mut count = 0;
        while let Some(row) = rows.next()? {
            for column in first..width {
                levels.rows(select).push(cell(row.get_ref(column)?));
            }
            if keys.is_some()
                && let Err(problem) = levels.row_belongs_to(select, row.get(0)?)
            {
                *failed = Some(problem);
                return Ok(count);
            }
            count += 1;
            if count % ROWS_PER_CHECK == 0
                && let Err(problem) = levels.check_size(self.most_bytes)
            {
                *failed = Some(problem);
                return Ok(count);
            }
        }
        if let Err(problem) = levels.check_size(self.most_bytes) {
            *failed = Some(problem);
        }
        Ok(count)
    }
}

impl LevelReader for Run<'_> {
    fn read(
        &mut self,
        select: SelectId,
        keys: Option<&KeyValues>,
        levels: &mut Levels<'_>,
    ) -> impl Future<Output = Result<(), Problem>> + Send {
        std::future::ready(self.read_level(select, keys, levels))
    }

    fn take_reports(&mut self) -> Vec<StatementReport> {
        let none = vec![Tally::default(); self.tallies.len()];
        let tallies = std::mem::replace(&mut self.tallies, none).into_iter();
        let told = self.program.statements().iter().zip(tallies).filter(|(_, tally)| tally.executions > 0);
        told.map(|(statement, tally)| StatementReport {
            source: self.source,
            text: if self.timed { statement.text.clone() } else { String::new() },
            executions: tally.executions,
            rows: tally.rows,
            time: tally.time,
        })
        .collect()
    }
}

/// After so many rows of a level it is looked at what all of them hold.
const ROWS_PER_CHECK: u64 = 16;

pub(super) fn cell(value: ValueRef<'_>) -> DatumRef<'_> {
    match value {
        ValueRef::Null => DatumRef::Null,
        ValueRef::Integer(value) => DatumRef::Integer(value),
        ValueRef::Real(value) => DatumRef::Real(value),
        ValueRef::Text(text) => DatumRef::Text(text),
        ValueRef::Blob(bytes) => DatumRef::Blob(bytes),
    }
}
