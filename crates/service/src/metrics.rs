//! What is counted, and how `/metrics` shows it: OpenMetrics text.

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::encode;
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::registry::Registry;

/// Labels of a request.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct AskLabels {
    /// The role that asked.
    pub role: String,
    /// `ok`, or the first error's code.
    pub outcome: String,
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
    pub statements: Counter,
    /// Executions of statements: once per parent's row.
    pub executions: Counter,
    /// Rows read.
    pub rows: Counter,
    /// Seconds per ask.
    pub seconds: Histogram,
    /// Requests that are running now.
    pub running: Gauge,
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
            statements: Counter::default(),
            executions: Counter::default(),
            rows: Counter::default(),
            seconds: Histogram::new(exponential_buckets(FASTEST, 2.5, 14)),
            running: Gauge::default(),
        };
        let r = &mut metrics.registry;
        r.register("asks", "Asks answered, by role and outcome", metrics.asks.clone());
        r.register("documents_parsed", "Documents parsed and validated", metrics.documents_parsed.clone());
        r.register("plans_built", "Plans built", metrics.plans_built.clone());
        r.register("plans_reused", "Asks whose plan was cached", metrics.plans_reused.clone());
        r.register("statements", "Statements used by requests", metrics.statements.clone());
        r.register("executions", "Executions of statements", metrics.executions.clone());
        r.register("rows", "Rows read", metrics.rows.clone());
        r.register("ask_seconds", "Time per ask", metrics.seconds.clone());
        r.register("asks_running", "Asks running now", metrics.running.clone());
        metrics
    }
}

impl Metrics {
    /// The counters as OpenMetrics text.
    pub fn to_text(&self) -> String {
        let mut text = String::new();
        encode(&mut text, &self.registry).expect("writing to memory does not fail");
        text
    }
}
