//! The last requests, for whoever looks at what the service does. They are not kept: who needs them later reads the log.

use std::collections::VecDeque;
use std::sync::{Mutex, PoisonError};
use std::time::SystemTime;

/// Requests that are remembered.
const MOST: usize = 50;

/// One request that was answered.
#[derive(Debug, Clone)]
pub struct RecentAsk {
    /// When it was answered.
    pub at: SystemTime,
    /// The operation's name; empty where it has none.
    pub operation: String,
    /// The role that asked.
    pub role: String,
    /// `ok`, or the first error's code.
    pub outcome: String,
    /// Rows that the sources delivered.
    pub rows: u64,
    /// How long it took, in microseconds.
    pub microseconds: u64,
}

/// The last requests.
#[derive(Debug, Default)]
pub struct RecentAsks(Mutex<VecDeque<RecentAsk>>);

impl RecentAsks {
    /// One more.
    pub fn add(&self, ask: RecentAsk) {
        let mut asks = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        if asks.len() == MOST {
            asks.pop_front();
        }
        asks.push_back(ask);
    }

    /// All that are remembered, the last one first.
    pub fn all(&self) -> Vec<RecentAsk> {
        self.0.lock().unwrap_or_else(PoisonError::into_inner).iter().rev().cloned().collect()
    }
}
