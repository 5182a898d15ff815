//! The databases: how each is surveyed and how it runs a bound plan. One folder per engine.

pub mod sqlite;

use std::time::Duration;

use puente_core::catalog::Catalog;
use puente_core::json::Answer;
use puente_core::model::Proposal;

/// What a survey brings home.
#[derive(Debug)]
pub struct Survey {
    /// Tables and views.
    pub catalog: Catalog,
    /// Links that names, types and sampled values suggest.
    pub proposals: Vec<Proposal>,
    /// What could not be surveyed, and why.
    pub notices: Vec<String>,
}

/// What running a plan gives.
#[derive(Debug)]
pub struct Outcome {
    /// The answer.
    pub answer: Answer,
    /// What was sent to the source, one entry per select that ran.
    pub statements: Vec<StatementReport>,
}

/// What one statement did during one ask.
#[derive(Debug, Clone)]
pub struct StatementReport {
    /// Its text.
    pub text: String,
    /// How often it was executed: once per parent's row.
    pub executions: u64,
    /// How many rows it gave in all.
    pub rows: u64,
    /// How long its executions took together.
    pub time: Duration,
}
