//! What sources that speak SQL prepare of a plan: its statements.

use std::any::Any;
use std::sync::Arc;

use puente_core::model::{Column, Model};
use puente_core::plan::Plan;
use puente_core::rows::Rows;
use puente_core::value::Scalar;
use puente_sql::{Dialect, Program, Statement};

use crate::change::{Failure, Session, Step, Values};
use crate::{Prepared, Request};

impl Prepared for Program {
    fn weight(&self) -> usize {
        // The clauses of a statement stand in its text and its slots.
        const PER_SLOT: usize = 64;
        self.statements().iter().map(|statement| statement.text.capacity() + statement.slots.len() * PER_SLOT).sum()
    }
}

/// The statements of a plan.
pub(crate) fn prepare(plan: &Plan, dialect: &dyn Dialect) -> Arc<dyn Prepared> {
    Arc::new(puente_sql::compile(plan, dialect))
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

    /// The columns of a constraint that a refusal could only name.
    fn constrained_columns(&mut self, relation: &str, constraint: &str) -> impl Future<Output = Vec<String>> + Send {
        let _ = (relation, constraint);
        std::future::ready(Vec::new())
    }
}

impl<S: SqlSession> Session for S {
    type Prepared = Statement;

    fn prepare(&self, model: &Model, step: Step<'_>) -> Statement {
        let dialect = self.dialect();
        match step {
            Step::Level(plan, select) => puente_sql::level(plan, dialect, select),
            Step::Find(lookup) => puente_sql::keyed(model, dialect, &lookup.select, lookup.lock),
            Step::Address(address) => puente_sql::address(model, dialect, &address.select),
            Step::Insert { of, columns, rows, returning } => {
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
        self.run_statement(prepared, values, scalars)
    }

    fn rows_per_insert(&self, columns: usize) -> usize {
        self.dialect().rows_per_insert(columns)
    }

    fn sets_rows_together(&self, columns: &[&Column]) -> bool {
        self.dialect().types_rows(columns)
    }

    fn columns_of(&mut self, relation: &str, constraint: &str) -> impl Future<Output = Vec<String>> + Send {
        self.constrained_columns(relation, constraint)
    }
}

impl Request {
    /// The statements of its plan.
    pub(crate) fn program(&self) -> &Program {
        let prepared: &dyn Any = &*self.prepared;
        prepared.downcast_ref().expect("a plan is run by a source of the kind that prepared it")
    }
}
