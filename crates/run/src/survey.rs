//! What a survey brings home, and who watches it meanwhile.

use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Mutex, PoisonError};

use puente_core::catalog::Catalog;
use puente_core::model::{KeyProposal, Proposal};

/// What a survey brings home.
#[derive(Debug)]
pub struct Survey {
    /// Tables and views.
    pub catalog: Catalog,
    /// Links that names, types and sampled values suggest.
    pub proposals: Vec<Proposal>,
    /// Keys that sampled values suggest for tables and views without one.
    pub keys: Vec<KeyProposal>,
    /// What could not be surveyed, and why.
    pub notices: Vec<String>,
}

/// Whoever watches a survey: is told what is looked at, and may stop it.
#[derive(Debug, Default)]
pub struct SurveyWatch {
    step: Mutex<SurveyStep>,
    stopped: AtomicBool,
}

/// What a survey is doing.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct SurveyStep {
    /// What it looks at, in words: "table huts".
    pub what: String,
    /// How many of them it has looked at.
    pub done: usize,
    /// How many there are.
    pub of: usize,
}

impl SurveyWatch {
    /// The survey reaches the next of so many things. Is it to go on?
    pub fn reach(&self, what: impl Into<String>, done: usize, of: usize) -> bool {
        *self.step.lock().unwrap_or_else(PoisonError::into_inner) = SurveyStep { what: what.into(), done, of };
        !self.is_stopped()
    }

    /// What it is doing.
    pub fn step(&self) -> SurveyStep {
        self.step.lock().unwrap_or_else(PoisonError::into_inner).clone()
    }

    /// Stops it before the next step. What it would have brought home is lost, and nothing is changed.
    pub fn stop(&self) {
        self.stopped.store(true, Ordering::Relaxed);
    }

    /// Was it stopped?
    pub fn is_stopped(&self) -> bool {
        self.stopped.load(Ordering::Relaxed)
    }
}
