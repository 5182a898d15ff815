//! What was seen, and what of it is over its bounds.

use std::collections::BTreeMap;
use std::time::Duration;

/// The 99th percentile of a bystander's requests may be so long.
const MOST_LATENCY: Duration = Duration::from_millis(250);
/// The service may hold so many megabytes.
const MOST_MEGABYTES: u64 = 400;

pub(crate) fn line(text: &str) {
    #[expect(clippy::print_stdout, reason = "the report")]
    {
        println!("{text}");
    }
}

/// How long asks took.
#[derive(Debug, Default)]
pub(crate) struct Latency(Vec<Duration>);

impl Latency {
    fn percentile(&self, percent: usize) -> Duration {
        let mut sorted = self.0.clone();
        sorted.sort_unstable();
        let at = (sorted.len() * percent / 100).min(sorted.len().saturating_sub(1));
        sorted.get(at).copied().unwrap_or_default()
    }

    pub(crate) fn describe(&self) -> String {
        let ms = |percent| self.percentile(percent).as_secs_f64() * 1_000.0;
        let most = self.0.iter().max().copied().unwrap_or_default().as_secs_f64() * 1_000.0;
        format!("{} asks, p50 {:.1} ms, p99 {:.1} ms, the longest {most:.1} ms", self.0.len(), ms(50), ms(99))
    }
}

/// What a bystander saw.
#[derive(Debug, Default)]
pub(crate) struct Watched {
    pub(crate) latency: Latency,
    pub(crate) most_megabytes: u64,
    refused: BTreeMap<u16, usize>,
}

impl Watched {
    pub(crate) fn see(&mut self, status: u16, took: Duration, megabytes: u64) {
        self.latency.0.push(took);
        self.most_megabytes = self.most_megabytes.max(megabytes);
        if status != 200 {
            *self.refused.entry(status).or_default() += 1;
        }
    }

    pub(crate) fn failures(&self) -> Vec<String> {
        let mut failures = Vec::new();
        if self.latency.percentile(99) > MOST_LATENCY {
            failures.push(format!("FAILED: the bystander's p99 is over {} ms", MOST_LATENCY.as_millis()));
        }
        if self.most_megabytes > MOST_MEGABYTES {
            failures.push(format!("FAILED: the service held over {MOST_MEGABYTES} MB"));
        }
        if !self.refused.is_empty() {
            failures.push(format!("FAILED: the bystander was refused, by status: {:?}", self.refused));
        }
        failures
    }
}

/// How attacks were answered.
#[derive(Debug, Default)]
pub(crate) struct Figures(BTreeMap<u16, u64>);

impl Figures {
    pub(crate) fn count(&mut self, status: u16) {
        *self.0.entry(status).or_default() += 1;
    }

    pub(crate) fn describe(&self) -> String {
        let parts: Vec<String> = self.0.iter().map(|(status, number)| format!("{status}: {number}")).collect();
        format!("answers by status (0: the connection was closed): {}", parts.join(", "))
    }
}
