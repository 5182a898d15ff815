//! Running the changes of a mutation inside a transaction that the engine has begun, whatever the engine.
//!
//! Rows are created batch by batch: first what they refer to, then the rows themselves, then what refers to them. What the
//! database made of a row (its key, its defaults) flows to the next batch. Rows that are there are found under every
//! condition, locked, and changed by key; then whatever must be true of them is asked of the database.

mod create;
mod linked;
mod refused;
mod run;
mod update;

use std::future::Future;

use puente_core::answer::{self, Answer, Fetch, KeyValues};
use puente_core::error::{Code, Detail, PathStep, Problem};
use puente_core::model::{Column, ColumnId, Model, TypeId};
use puente_core::plan::change::{Address, Assignment, Lookup, Root};
use puente_core::plan::{BoundPlan, Plan, SelectId};
use puente_core::rows::{Row, Rows};
use puente_core::value::{Datum, Scalar};

use crate::{ChangeRequest, Outcome, Rest, RootAnswer};
use run::Run;

/// What is bound to a statement.
#[derive(Clone, Copy)]
pub struct Values<'v> {
    /// The values of conditions.
    pub bound: &'v BoundPlan,
    /// Values of keys, or of rows to be inserted as arrays.
    pub keys: Option<&'v KeyValues>,
    /// The values of one execution.
    pub given: &'v [Datum],
    /// An answer of so many bytes could be made of what is read at the most.
    pub most_bytes: usize,
}

/// One step of a change, whatever the engine.
#[derive(Debug, Clone, Copy)]
pub enum Step<'c> {
    /// Reads one level of the answer.
    Level(&'c Plan, SelectId),
    /// Finds rows by key: the key's ordinal comes first.
    Find(&'c Lookup),
    /// Finds the rows that an update or a delete is about, and locks them.
    Address(&'c Address),
    /// Creates rows, and delivers columns of each, in order.
    Insert {
        /// Their type.
        of: TypeId,
        /// The columns that have values.
        columns: &'c [ColumnId],
        /// How many rows.
        rows: usize,
        /// The columns that are delivered.
        returning: &'c [ColumnId],
    },
    /// Sets the same in the rows of some keys, which come after the values.
    Update {
        /// Their type.
        of: TypeId,
        /// What becomes of columns.
        set: &'c [(ColumnId, Assignment)],
        /// The key's columns.
        key: &'c [ColumnId],
        /// How many keys.
        keys: usize,
    },
    /// Sets columns of rows to values of their own: those of a row's key, then the columns'.
    UpdateEach {
        /// Their type.
        of: TypeId,
        /// The columns that are set.
        set: &'c [ColumnId],
        /// The key's columns.
        key: &'c [ColumnId],
        /// How many rows.
        rows: usize,
    },
    /// Deletes the rows of some keys.
    Delete {
        /// Their type.
        of: TypeId,
        /// The key's columns.
        key: &'c [ColumnId],
        /// How many keys.
        keys: usize,
    },
}

/// A connection inside a transaction.
pub trait Session: Send {
    /// A step in the engine's own language.
    type Prepared: Send + Sync;

    /// Puts a step into it.
    fn prepare(&self, model: &Model, step: Step<'_>) -> Self::Prepared;

    /// How a step is told to whoever may see statements.
    fn text(prepared: &Self::Prepared) -> &str;

    /// Runs a step. `scalars` has one entry per column that it delivers: its scalar, if it has one.
    fn run(
        &mut self,
        prepared: &Self::Prepared,
        values: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> impl Future<Output = Result<Rows<'static>, Failure>> + Send;

    /// Does an insert deliver columns of the rows that it made? Else they are found again by their keys.
    fn returns_inserted(&self) -> bool {
        true
    }

    /// The key that the engine numbered the row of the last insert with, where an insert delivers nothing.
    fn last_number(&self) -> Option<u64> {
        None
    }

    /// How many rows of so many columns one insert takes.
    fn rows_per_insert(&self, columns: usize) -> usize;

    /// Can several rows be set to values of their own in one step, where these columns are set?
    fn sets_rows_together(&self, columns: &[&Column]) -> bool;

    /// The columns of a constraint that a refusal could only name.
    fn columns_of(&mut self, relation: &str, constraint: &str) -> impl Future<Output = Vec<String>> + Send {
        let _ = (relation, constraint);
        std::future::ready(Vec::new())
    }
}

/// Why a statement failed.
#[derive(Debug)]
pub enum Failure {
    /// The table does not take what was given.
    Refused(ConstraintViolation),
    /// Anything else.
    Problem(Problem),
}

impl From<Problem> for Failure {
    fn from(problem: Problem) -> Self {
        Failure::Problem(problem)
    }
}

/// What a table does not take.
#[derive(Debug)]
pub struct ConstraintViolation {
    /// What kind of constraint.
    pub rule: ConstraintKind,
    /// The columns, where the engine tells them.
    pub columns: Vec<String>,
    /// The constraint's name, where the engine tells only that; or its text.
    pub constraint: Option<String>,
    /// The database's own text, for the log.
    pub detail: Detail,
}

/// The rule of a table that was broken.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum ConstraintKind {
    /// A unique key.
    Unique,
    /// A foreign key.
    Reference,
    /// NOT NULL.
    NotNull,
    /// CHECK, or a trigger that raises.
    Check,
    /// A length.
    Length,
    /// A range of numbers or dates.
    Range,
    /// A form: a value that is none of the column's type.
    Form,
}

/// Runs every change, and writes the answer of each as it is reached.
///
/// # Errors
/// The first problem: the caller rolls everything back.
pub async fn run<S: Session>(session: &mut S, request: &ChangeRequest) -> Result<Outcome, Problem> {
    check_transactional(request)?;
    let (mut roots, mut statements, mut pending) = (Vec::new(), Vec::new(), Vec::new());
    let mut touched = Touched::new(request.mutation.most_changes());
    let (mut bytes, mut cost) = (0, 0_u64);
    for root in request.mutation.roots() {
        let answer = match &root.change {
            None => answer::write(&root.answer, &mut Nothing, request.most_bytes)
                .map(|written| RootAnswer { written, open: None }),
            Some(change) => {
                let mut run = Run::new(session, request, (root, change), &mut touched);
                let answer = run.root().await;
                statements.append(&mut run.statements);
                cost = cost.saturating_add(run.cost);
                pending.extend(run.checked.into_iter().map(|(lookup, keys)| (root, change, lookup, keys)));
                answer
            }
        }
        .map_err(|problem| placed(problem, root))?;
        bytes += answer.written.data().len();
        if bytes > request.most_bytes {
            return Err(puente_core::rows::too_large(request.most_bytes));
        }
        roots.push(answer);
    }
    // What was true of a row when it was written may not be after what was written later.
    for (root, change, lookup, keys) in pending {
        let mut run = Run::new(session, request, (root, change), &mut touched);
        run.check_again(lookup, keys).await.map_err(|problem| placed(problem, root))?;
        statements.append(&mut run.statements);
    }
    let answer = combined(roots.iter().map(|root| &root.written));
    let rest = roots.iter().any(|root| root.open.is_some()).then_some(Rest { roots });
    Ok(Outcome { rest, cost, ..Outcome::new(answer, statements) })
}

/// The answers of several root fields as one.
pub(crate) fn combined<'a>(answers: impl Iterator<Item = &'a Answer>) -> Answer {
    let mut body = b"{\"data\":{".to_vec();
    let (mut problems, mut is_null, mut is_first) = (Vec::new(), false, true);
    for answer in answers {
        match answer.data().strip_prefix(b"{").and_then(|data| data.strip_suffix(b"}")) {
            Some(members) => {
                if !std::mem::take(&mut is_first) {
                    body.push(b',');
                }
                body.extend_from_slice(members);
            }
            None => is_null = true,
        }
        problems.extend(answer.problems.iter().cloned());
    }
    body.push(b'}');
    if is_null {
        body = b"{\"data\":null".to_vec();
    }
    Answer { body, problems }
}

/// Rows and edges that an operation touches, counted before they are.
pub struct Touched {
    left: usize,
    most: usize,
}

impl Touched {
    fn new(most: usize) -> Self {
        Touched { left: most, most }
    }

    /// Counts more of them.
    ///
    /// # Errors
    /// `TOO_COSTLY` where there are too many.
    fn add(&mut self, rows: usize) -> Result<(), Problem> {
        match self.left.checked_sub(rows) {
            Some(left) => {
                self.left = left;
                Ok(())
            }
            None => {
                let text = format!(
                    "the operation would touch over {} rows and edges, the limit of `changes` in `[limits]`; change in parts",
                    self.most
                );
                Err(Problem::new(Code::TooCostly, text))
            }
        }
    }
}

/// Where the engine rolls nothing back, only what is done as a whole by one statement can be done at all.
fn check_transactional(request: &ChangeRequest) -> Result<(), Problem> {
    let roots = request.mutation.roots();
    for root in roots {
        let Some(change) = &root.change else { continue };
        let model = root.answer.plan().model();
        let written = change.written(model);
        let Some(t) = written.into_iter().map(|of| &model.types[of]).find(|t| !t.transactional) else { continue };
        if !change.checks.is_empty() {
            let text = format!(
                "the rows of `{}` are kept without transactions, so that a change could not be taken back where the role's check \
                 refuses it; it needs a grant without `check` and without `rows`",
                t.name
            );
            return Err(placed(Problem::new(Code::InvalidArgument, text), root));
        }
        if request.rehearse || roots.len() > 1 || !change.is_one_statement() {
            let text = format!(
                "the table of `{}` is kept without transactions: its rows can be changed one at a time only, and not rehearsed",
                t.name
            );
            return Err(placed(Problem::new(Code::InvalidArgument, text), root));
        }
    }
    Ok(())
}

/// Are all rows that the mutation changes kept with transactions, so that what does not end well is rolled back?
pub fn is_rolled_back(request: &ChangeRequest) -> bool {
    let mut changed = request.mutation.roots().iter().filter_map(|root| Some((root, root.change.as_ref()?)));
    changed.all(|(root, change)| {
        let model = root.answer.plan().model();
        change.written(model).into_iter().all(|of| model.types[of].transactional)
    })
}

fn placed(mut problem: Problem, root: &Root) -> Problem {
    if problem.path.is_empty() {
        problem.path = vec![PathStep::Key(root.key.clone())];
        problem = problem.at(root.location);
    }
    problem
}

/// The problem of a constraint that is looked at with the commit only.
pub fn late_refusal(refusal: ConstraintViolation) -> Problem {
    let (code, text) = match refusal.rule {
        ConstraintKind::Unique => (Code::Conflict, "two rows would have the same key; choose another value"),
        ConstraintKind::Reference => {
            (Code::ReferenceBroken, "a row would refer to one that is not there; give the key of one that is")
        }
        _ => (Code::ValueRefused, "the rows as they would be are refused by a check of their table"),
    };
    Problem::new(code, text).with_detail(refusal.detail)
}

/// The source of an answer that reads nothing.
struct Nothing;

impl<'s> Fetch<'s> for Nothing {
    fn fetch(&mut self, _: SelectId, _: Option<Row<'_, 's>>, _: &mut Rows<'s>) -> Result<(), Problem> {
        Err(Problem::new(Code::Internal, "a plan without selects has nothing to fetch"))
    }
}
