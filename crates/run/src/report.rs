//! What a source tells beside the answer: what it was sent, and what the engine says of it.

use std::time::Duration;

use puente_core::answer::Answer;

/// What running a plan gives.
#[derive(Debug)]
pub struct Outcome {
    /// The answer.
    pub answer: Answer,
    /// What was sent to the source, one entry per statement that ran.
    pub statements: Vec<StatementReport>,
}

/// What one statement did during one request.
#[derive(Debug, Clone)]
pub struct StatementReport {
    /// Its text; empty where the caller may not see it.
    pub text: String,
    /// How often it was executed.
    pub executions: u64,
    /// How many rows it gave in all.
    pub rows: u64,
    /// How long its executions took together.
    pub time: Duration,
}

/// How the engine would run one statement.
#[derive(Debug, Clone)]
pub struct Explanation {
    /// The statement's text.
    pub text: String,
    /// The engine's own plan, one step a line.
    pub plan: Vec<String>,
    /// Whole tables that are read although an index could find the rows: what to do about it.
    pub advice: Vec<String>,
}
