//! What sources that speak SQL prepare of a plan: its statements.

use std::any::Any;
use std::sync::Arc;

use puente_core::model::{Column, Model, SourceId};
use puente_core::plan::{Plan, SelectId};
use puente_core::rows::Rows;
use puente_core::value::Scalar;
use puente_sql::{Dialect, Program, Statement};

use puente_run::change::{Failure, Session, Step, Values};
use puente_run::{Prepared, Request};

/// The statements of a plan.
#[derive(Debug)]
struct Statements(Program);

impl Prepared for Statements {
    fn weight(&self) -> usize {
        // The clauses of a statement stand in its text and its slots.
        const PER_SLOT: usize = 64;
        self.0.statements().iter().map(|statement| statement.text.capacity() + statement.slots.len() * PER_SLOT).sum()
    }
}

/// Puts a plan into statements.
pub(crate) fn prepare(plan: &Plan, dialect: &dyn Dialect, source: SourceId) -> Arc<dyn Prepared> {
    Arc::new(Statements(puente_sql::compile(plan, dialect, source)))
}

/// A transaction of a source that speaks SQL.
pub(crate) trait SqlSession: Send {
    /// Its dialect.
    fn dialect(&self) -> &'static dyn Dialect;

    /// Runs a statement. `scalars` has one entry per column that it delivers: its scalar, if it has one.
    fn run_statement(
        &mut self,
        statement: &Statement,
        values: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> impl Future<Output = Result<Rows<'static>, Failure>> + Send;

    /// Does it know `insert … returning`?
    fn returns_inserted(&self) -> bool {
        true
    }

    /// The number that the last insert gave its row, where the engine tells only that.
    fn last_number(&self) -> Option<u64> {
        None
    }

    /// The columns of a constraint that a refusal could only name.
    fn constrained_columns(&mut self, relation: &str, constraint: &str) -> impl Future<Output = Vec<String>> + Send {
        let _ = (relation, constraint);
        std::future::ready(Vec::new())
    }
}

/// A transaction of a source that speaks SQL, as the interpreter of changes knows it.
pub(crate) struct Lowered<S>(pub(crate) S);

impl<S: SqlSession> Session for Lowered<S> {
    type Prepared = Statement;

    fn prepare(&self, model: &Model, step: Step<'_>) -> Statement {
        let dialect = self.0.dialect();
        match step {
            Step::Level(plan, select) => puente_sql::level(plan, dialect, select),
            Step::Find(lookup) => puente_sql::keyed(model, dialect, &lookup.select, lookup.lock),
            Step::Address(address) => puente_sql::address(model, dialect, &address.select),
            Step::Insert { of, columns, rows, returning } => {
                let returning = if self.0.returns_inserted() { returning } else { &[] };
                puente_sql::insert(model, dialect, of, columns, rows, returning)
            }
            Step::Update { of, set, key, keys } => puente_sql::update(model, dialect, of, set, key, keys),
            Step::UpdateEach { of, set, key, rows } => puente_sql::update_each(model, dialect, of, set, key, rows),
            Step::Delete { of, key, keys } => puente_sql::delete(model, dialect, of, key, keys),
        }
    }

    fn text(prepared: &Statement) -> &str {
        &prepared.text
    }

    fn run(
        &mut self,
        prepared: &Statement,
        values: Values<'_>,
        scalars: &[Option<Scalar>],
    ) -> impl Future<Output = Result<Rows<'static>, Failure>> + Send {
        self.0.run_statement(prepared, values, scalars)
    }

    fn returns_inserted(&self) -> bool {
        self.0.returns_inserted()
    }

    fn last_number(&self) -> Option<u64> {
        self.0.last_number()
    }

    fn rows_per_insert(&self, columns: usize) -> usize {
        self.0.dialect().rows_per_insert(columns)
    }

    fn sets_rows_together(&self, columns: &[&Column]) -> bool {
        self.0.dialect().types_rows(columns)
    }

    fn columns_of(&mut self, relation: &str, constraint: &str) -> impl Future<Output = Vec<String>> + Send {
        self.0.constrained_columns(relation, constraint)
    }
}

/// Does a statement run for a select of a plan that its source reads level by level?
pub(crate) fn runs(request: &Request, select: SelectId) -> bool {
    let plan = request.bound.plan();
    plan.runs(select) && plan.source_of(select) == request.source
}

/// Does a request read its source with more than one statement? One is a snapshot anyway.
pub(crate) fn needs_snapshot(request: &Request) -> bool {
    let selects = 0..request.bound.plan().selects().len();
    selects.filter(|select| runs(request, *select)).count() > 1
}

/// The statements of a request's plan.
pub(crate) fn program(request: &Request) -> &Program {
    let prepared: &dyn Any = &*request.prepared;
    let statements: &Statements =
        prepared.downcast_ref().expect("a plan is run by a source of the kind that prepared it");
    &statements.0
}
