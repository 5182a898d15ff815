//! What a source tells beside the answer: what it was sent, and what the engine says of it.

use std::time::Duration;

use puente_core::answer::{Answer, Levels};
use puente_core::model::SourceId;
use puente_core::plan::BoundPlan;

/// What running a plan gives.
#[derive(Debug)]
pub struct Outcome {
    /// The answer.
    pub answer: Answer,
    /// What was sent to the source, one entry per statement that ran.
    pub statements: Vec<StatementReport>,
    /// What of a mutation's answer is to be read of other sources, now that the mutation is done.
    pub rest: Option<Rest>,
    /// The sources that were away: what they should have given is an error in the answer.
    pub away: Vec<SourceId>,
    /// What it may have cost, as the project's limit counts it.
    pub cost: u64,
}

impl Outcome {
    /// A whole answer, and what was sent for it.
    pub fn new(answer: Answer, statements: Vec<StatementReport>) -> Self {
        Outcome { answer, statements, rest: None, away: Vec::new(), cost: 0 }
    }
}

/// The answers of a mutation's root fields, as far as the source that it wrote gives them.
#[derive(Debug)]
pub struct Rest {
    /// One for each root field.
    pub roots: Vec<RootAnswer>,
}

/// What a root field of a mutation answers.
#[derive(Debug)]
pub struct RootAnswer {
    /// Without what other sources have; an error stands in its place.
    pub written: Answer,
    /// The rows of the source that was written, where those of others belong to them.
    pub open: Option<(BoundPlan, Levels<'static>)>,
}

/// What one statement did during one request.
#[derive(Debug, Clone)]
pub struct StatementReport {
    /// Which of the model's sources it was sent to.
    pub source: SourceId,
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
