//! How much one caller may ask, where a project limits it: so many requests at once, so many in a second.

use std::collections::HashMap;
use std::sync::Mutex;
use std::time::Instant;

use puente_core::error::{Code, Problem};
use puente_core::project::Limits;
use puente_run::turns::Party;

use crate::access_keys::lock;

/// Callers that are remembered at most; those that ask nothing are forgotten first.
const MOST_PARTIES: usize = 10_000;

/// What the callers of one role have used.
#[derive(Debug, Default)]
pub(crate) struct Shares(Mutex<HashMap<Party, Share>>);

#[derive(Debug)]
struct Share {
    running: u32,
    /// Requests that may begin at once, as of `at`.
    left: f64,
    at: Instant,
}

/// A request of a caller that counts among those that run at once; until it is dropped.
#[derive(Debug)]
pub(crate) struct Running<'s> {
    shares: &'s Shares,
    party: Party,
}

impl Shares {
    /// Counts a request that begins; none where nothing is limited.
    ///
    /// # Errors
    /// `TOO_BUSY` where the caller has had its share.
    pub(crate) fn begin(&self, limits: &Limits, party: &Party, now: Instant) -> Result<Option<Running<'_>>, Problem> {
        let (rate, at_once) = (limits.asks_per_second, limits.asks_at_once);
        if rate == 0 && at_once == 0 {
            return Ok(None);
        }
        let mut parties = lock(&self.0);
        if parties.len() >= MOST_PARTIES && !parties.contains_key(party) {
            // What was idle for a second has its whole share again.
            parties.retain(|_, share| share.running > 0 || now.saturating_duration_since(share.at).as_secs() < 1);
            if parties.len() >= MOST_PARTIES {
                return Err(too_busy("too many callers ask at the moment"));
            }
        }
        let full = f64::from(rate);
        let share = parties.entry(party.clone()).or_insert(Share { running: 0, left: full, at: now });
        share.left = (share.left + now.saturating_duration_since(share.at).as_secs_f64() * full).min(full);
        share.at = now;
        if at_once > 0 && share.running >= at_once {
            return Err(too_busy(&format!("{at_once} of your requests run already, as many as may")));
        }
        if rate > 0 {
            if share.left < 1.0 {
                return Err(too_busy(&format!("you may ask {rate} times a second")));
            }
            share.left -= 1.0;
        }
        share.running += 1;
        Ok(Some(Running { shares: self, party: party.clone() }))
    }
}

fn too_busy(what: &str) -> Problem {
    Problem::new(Code::TooBusy, format!("{what}; ask again in a moment"))
}

impl Drop for Running<'_> {
    fn drop(&mut self) {
        if let Some(share) = lock(&self.shares.0).get_mut(&self.party) {
            share.running -= 1;
        }
    }
}

#[cfg(test)]
mod tests {
    use std::time::Duration;

    use super::*;

    #[test]
    fn a_caller_has_its_share_and_others_have_theirs() {
        let shares = Shares::default();
        let limits = Limits { asks_per_second: 2, asks_at_once: 1, ..Limits::default() };
        let (one, other, start) = (Party::new("one"), Party::new("other"), Instant::now());
        let first = shares.begin(&limits, &one, start).unwrap();
        assert!(shares.begin(&limits, &one, start).unwrap_err().message.contains("run already"));
        assert!(shares.begin(&limits, &other, start).unwrap().is_some());
        drop(first);
        drop(shares.begin(&limits, &one, start).unwrap());
        assert!(shares.begin(&limits, &one, start).unwrap_err().message.contains("2 times a second"));
        let later = start + Duration::from_millis(500);
        assert!(shares.begin(&limits, &one, later).is_ok(), "half a second is one request");
        assert!(shares.begin(&Limits::default(), &one, later).unwrap().is_none(), "nothing is limited");
    }
}
