//! How many bytes of answers are on their way to callers: an answer is in memory until it is taken, and a caller that takes none of
//! its answers must not be able to fill the memory with them.

use std::collections::HashMap;
use std::sync::{Arc, Mutex};

use puente_core::error::{Code, Problem};
use puente_run::turns::Party;

use crate::access_keys::lock;

/// One caller may have this part of all that may be under way, but always one answer.
const SHARE: usize = 4;
/// Answers up to so many bytes are counted and never refused: a refusal takes as much.
const SMALL: usize = 4 << 10;

/// The bytes of answers that are under way.
#[derive(Debug, Default)]
pub(crate) struct UnderWay(Mutex<Bytes>);

#[derive(Debug, Default)]
struct Bytes {
    all: usize,
    of_callers: HashMap<Party, usize>,
}

/// An answer that is under way, until it is dropped.
#[derive(Debug)]
pub(crate) struct Held {
    under_way: Arc<UnderWay>,
    party: Party,
    bytes: usize,
}

impl UnderWay {
    /// Counts an answer. `most` is what may be under way in all; `must_go` one that a change has made: it was done, and is told.
    ///
    /// # Errors
    /// `TOO_BUSY` where the caller has its share under way, or all have.
    pub(crate) fn hold(
        self: &Arc<Self>,
        party: &Party,
        bytes: usize,
        most: usize,
        must_go: bool,
    ) -> Result<Held, Problem> {
        let mut under_way = lock(&self.0);
        let own = under_way.of_callers.get(party).copied().unwrap_or_default();
        let is_over = own > 0 && own + bytes > most / SHARE || under_way.all > 0 && under_way.all + bytes > most;
        if is_over && bytes > SMALL && !must_go {
            let whose = if own > 0 { "your" } else { "other callers'" };
            let text = format!(
                "{whose} answers that are still being sent take as much memory as they may (`memory` of `[limits]`); read them first, \
                 and ask again"
            );
            return Err(Problem::new(Code::TooBusy, text));
        }
        under_way.all += bytes;
        *under_way.of_callers.entry(party.clone()).or_default() += bytes;
        Ok(Held { under_way: Arc::clone(self), party: party.clone(), bytes })
    }

    /// How many there are.
    pub(crate) fn bytes(&self) -> usize {
        lock(&self.0).all
    }
}

impl Drop for Held {
    fn drop(&mut self) {
        let mut under_way = lock(&self.under_way.0);
        under_way.all -= self.bytes;
        if let Some(own) = under_way.of_callers.get_mut(&self.party) {
            *own -= self.bytes;
            if *own == 0 {
                under_way.of_callers.remove(&self.party);
            }
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_caller_has_a_share_and_one_answer_always() {
        let under_way = Arc::new(UnderWay::default());
        let (one, other) = (Party::new("one"), Party::new("other"));
        let hold = |party: &Party, bytes| under_way.hold(party, bytes, 400_000, false);
        let large = hold(&one, 300_000).expect("one answer, however large");
        assert_eq!(hold(&one, 50_000).unwrap_err().code, Code::TooBusy);
        assert!(hold(&one, 2_000).is_ok(), "a little one is as large as a refusal");
        let held = hold(&other, 90_000).expect("its share");
        assert_eq!(hold(&other, 50_000).unwrap_err().code, Code::TooBusy, "over its share, and over all");
        assert!(under_way.hold(&other, 50_000, 400_000, true).is_ok(), "what was changed is told");
        drop((large, held));
        assert_eq!((under_way.bytes(), lock(&under_way.0).of_callers.len()), (0, 0));
    }
}
