//! Reconnecting without hammering: after a failed attempt, requests fail at once until the next one is due.

use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

/// The pause after the first failure; it doubles with each.
const FIRST: Duration = Duration::from_millis(50);
/// The longest pause.
const LONGEST: Duration = Duration::from_secs(2);

/// When a server may be tried again.
#[derive(Debug, Default)]
pub(crate) struct Backoff {
    state: Mutex<Option<Failing>>,
}

#[derive(Debug, Clone, Copy)]
struct Failing {
    pause: Duration,
    until: Instant,
}

impl Backoff {
    /// May the server be tried? Where it may after a failure, this attempt is the only one until it is told how it went.
    pub(crate) fn may_try(&self) -> bool {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        match state.as_mut() {
            None => true,
            Some(failing) if Instant::now() >= failing.until => {
                failing.until = Instant::now() + failing.pause;
                true
            }
            Some(_) => false,
        }
    }

    /// An attempt went well.
    pub(crate) fn succeeded(&self) {
        *self.state.lock().unwrap_or_else(PoisonError::into_inner) = None;
    }

    /// An attempt failed.
    pub(crate) fn failed(&self) {
        let mut state = self.state.lock().unwrap_or_else(PoisonError::into_inner);
        let pause = state.map_or(FIRST, |failing| (failing.pause * 2).min(LONGEST));
        *state = Some(Failing { pause, until: Instant::now() + pause });
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn after_a_failure_there_is_a_pause_and_then_one_attempt() {
        let backoff = Backoff::default();
        assert!(backoff.may_try() && backoff.may_try());
        backoff.failed();
        assert!(!backoff.may_try());
        std::thread::sleep(FIRST);
        assert!(backoff.may_try());
        assert!(!backoff.may_try(), "one attempt at a time");
        backoff.succeeded();
        assert!(backoff.may_try());
    }
}
