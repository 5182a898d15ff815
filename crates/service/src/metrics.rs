//! What is counted, and how `/metrics` shows it: OpenMetrics text.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;

use crate::recent::RecentAsks;

/// Labels of a request.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct AskLabels {
    /// The role that asked.
    pub role: String,
    /// `ok`, or the first error's code.
    pub outcome: String,
}

/// Labels of what a source does.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct SourceLabels {
    /// Its name.
    pub source: String,
}

/// The counters of one source.
#[derive(Debug)]
pub struct SourceCounters {
    statements: Counter,
    executions: Counter,
    rows: Counter,
    /// Requests that found it away.
    pub away: Counter,
}

impl SourceCounters {
    /// Counts what one statement did.
    pub fn sent(&self, executions: u64, rows: u64) {
        self.statements.inc();
        self.executions.inc_by(executions);
        self.rows.inc_by(rows);
    }
}

/// The counters.
#[derive(Debug)]
pub struct Metrics {
    registry: Registry,
    /// Asks answered.
    pub asks: Family<AskLabels, Counter>,
    /// Documents parsed and validated: not counted where a parsed one was found in the cache.
    pub documents_parsed: Counter,
    /// Plans built: not counted where one was found in the cache.
    pub plans_built: Counter,
    /// Asks whose plan was found in the cache.
    pub plans_reused: Counter,
    /// Statements used by requests: at most one per select node and ask.
    pub statements: Family<SourceLabels, Counter>,
    /// Executions of statements: once per parent's row.
    pub executions: Family<SourceLabels, Counter>,
    /// Rows read.
    pub rows: Family<SourceLabels, Counter>,
    /// Requests that found a source away.
    pub source_away: Family<SourceLabels, Counter>,
    /// Seconds per ask.
    pub seconds: Histogram,
    /// Requests that are running now.
    pub running: Gauge,
    /// The last ones that were answered.
    pub recent: RecentAsks,
}

impl Default for Metrics {
    fn default() -> Self {
        const FASTEST: f64 = 0.000_1;
        let mut metrics = Metrics {
            registry: Registry::with_prefix("puente"),
            asks: Family::default(),
            documents_parsed: Counter::default(),
            plans_built: Counter::default(),
            plans_reused: Counter::default(),
            statements: Family::default(),
            executions: Family::default(),
            rows: Family::default(),
            source_away: Family::default(),
            seconds: Histogram::new(exponential_buckets(FASTEST, 2.5, 14)),
            running: Gauge::default(),
            recent: RecentAsks::default(),
        };
        let r = &mut metrics.registry;
        r.register("asks", "Asks answered, by role and outcome", metrics.asks.clone());
        r.register("documents_parsed", "Documents parsed and validated", metrics.documents_parsed.clone());
        r.register("plans_built", "Plans built", metrics.plans_built.clone());
        r.register("plans_reused", "Asks whose plan was cached", metrics.plans_reused.clone());
        r.register("statements", "Statements used by requests", metrics.statements.clone());
        r.register("executions", "Executions of statements", metrics.executions.clone());
        r.register("rows", "Rows read", metrics.rows.clone());
        r.register("source_away", "Requests that found a source away", metrics.source_away.clone());
        r.register("ask_seconds", "Time per ask", metrics.seconds.clone());
        r.register("asks_running", "Asks running now", metrics.running.clone());
        metrics
    }
}

impl Metrics {
    /// The counters of one source.
    pub fn of_source(&self, name: &str) -> SourceCounters {
        let labels = SourceLabels { source: name.to_owned() };
        let counter = |family: &Family<SourceLabels, Counter>| family.get_or_create(&labels).clone();
        SourceCounters {
            statements: counter(&self.statements),
            executions: counter(&self.executions),
            rows: counter(&self.rows),
            away: counter(&self.source_away),
        }
    }

    /// The counters as OpenMetrics text.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        encode(&mut text, &self.registry).expect("writing to memory does not fail");
        text
    }
}
