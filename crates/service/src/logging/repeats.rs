//! What is said again and again is said a few times, and then counted: a caller that sends wrong keys as fast as it can must not fill
//! the disk.

use std::collections::HashMap;
use std::fmt::{Debug, Write as _};
use std::sync::{Mutex, PoisonError};
use std::time::{Duration, Instant};

use tracing::field::{Field, Visit};
use tracing::{Event, Level, Metadata, Subscriber};
use tracing_subscriber::layer::{Context, Filter};

/// Lines of one kind in a second that are written; more are counted.
const FEW: u64 = 5;
/// How long a second is.
const SECOND: Duration = Duration::from_secs(1);
/// Kinds that are told from each other; more than these are one.
const MOST_KINDS: usize = 5_000;
/// Fields that tell one kind of line from another of the same place in the program.
const TELLING: [&str; 5] = ["from", "source", "code", "reason", "table"];

/// Lines that may be repeated, by their kinds.
#[derive(Debug, Default)]
pub(super) struct Repeats(Mutex<HashMap<String, Kind>>);

#[derive(Debug)]
struct Kind {
    since: Instant,
    written: u64,
    counted: u64,
}

impl Repeats {
    pub(super) const fn new() -> std::sync::LazyLock<Self> {
        std::sync::LazyLock::new(Repeats::default)
    }

    /// Is one more line of a kind written?
    fn is_written(&self, kind: &str, now: Instant) -> bool {
        let mut kinds = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let kind = if kinds.len() >= MOST_KINDS && !kinds.contains_key(kind) { "others" } else { kind };
        if !kinds.contains_key(kind) {
            kinds.insert(kind.to_owned(), Kind { since: now, written: 0, counted: 0 });
        }
        let Some(known) = kinds.get_mut(kind) else { return true };
        if now.saturating_duration_since(known.since) >= SECOND && known.counted == 0 {
            *known = Kind { since: now, written: 0, counted: 0 };
        }
        if known.written < FEW {
            known.written += 1;
            return true;
        }
        known.counted += 1;
        false
    }

    /// What was counted and not written, by its kinds, once a second is over; kinds of which nothing more came are forgotten.
    pub(super) fn counted(&self, now: Instant) -> Vec<(String, u64)> {
        let mut kinds = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let mut found = Vec::new();
        for (name, kind) in kinds.iter_mut() {
            if kind.counted > 0 && now.saturating_duration_since(kind.since) >= SECOND {
                found.push((name.clone(), kind.counted));
                // The next second is over its few already: what goes on is counted only.
                *kind = Kind { since: now, written: FEW, counted: 0 };
            }
        }
        kinds.retain(|_, kind| kind.counted > 0 || now.saturating_duration_since(kind.since) < 2 * SECOND);
        found.sort_unstable();
        found
    }
}

/// May lines of this kind be repeated without end? Requests have a line each, which is what the log is for.
fn may_repeat(about: &Metadata<'_>) -> bool {
    *about.level() <= Level::WARN || about.target() == "puente::identity"
}

/// What tells a line's kind.
#[derive(Default)]
struct Telling(String);

impl Visit for Telling {
    fn record_debug(&mut self, field: &Field, value: &dyn Debug) {
        if TELLING.contains(&field.name()) {
            let _ = write!(self.0, " {}={value:?}", field.name());
        }
    }
}

/// Passes what [`Repeats`] lets be written.
#[derive(Debug, Clone, Copy)]
pub(super) struct Few(pub(super) &'static Repeats);

impl<S: Subscriber> Filter<S> for Few {
    fn enabled(&self, _: &Metadata<'_>, _: &Context<'_, S>) -> bool {
        true
    }

    fn event_enabled(&self, event: &Event<'_>, _: &Context<'_, S>) -> bool {
        let about = event.metadata();
        if !may_repeat(about) || about.target() == super::REPEATED {
            return true;
        }
        let mut telling = Telling::default();
        event.record(&mut telling);
        let kind = format!("{} {}{}", about.target(), about.line().unwrap_or_default(), telling.0);
        self.0.is_written(&kind, Instant::now())
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_flood_is_a_few_lines_and_a_count() {
        let (repeats, begin) = (Repeats::default(), Instant::now());
        let written = (0..100_000_u32).filter(|_| repeats.is_written("wrong key from=10.0.0.1", begin)).count();
        assert_eq!(written, 5);
        assert!(repeats.is_written("wrong key from=10.0.0.2", begin), "others are told as before");
        assert_eq!(repeats.counted(begin), [], "the second is not over");
        let later = begin + SECOND;
        assert_eq!(repeats.counted(later), [("wrong key from=10.0.0.1".to_owned(), 99_995)]);
        assert!(!repeats.is_written("wrong key from=10.0.0.1", later), "it goes on, and is counted only");
        assert_eq!(repeats.counted(later + SECOND).len(), 1);
        let quiet = later + 4 * SECOND;
        assert_eq!(repeats.counted(quiet), []);
        assert!(repeats.is_written("wrong key from=10.0.0.1", quiet), "after a while it is told again");
    }

    #[test]
    fn kinds_without_end_are_one() {
        let (repeats, begin) = (Repeats::default(), Instant::now());
        let written = (0..100_000_u32).filter(|at| repeats.is_written(&format!("from={at}"), begin)).count();
        assert!(written <= MOST_KINDS + 5, "{written}");
    }
}
