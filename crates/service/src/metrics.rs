//! What is counted, and how `/metrics` shows it: OpenMetrics text.

use std::sync::{Arc, Mutex, OnceLock, PoisonError};
use std::time::{Duration, Instant};

use prometheus_client::encoding::EncodeLabelSet;
use prometheus_client::encoding::text::{encode_eof, encode_registry};
use prometheus_client::metrics::counter::Counter;
use prometheus_client::metrics::family::Family;
use prometheus_client::metrics::gauge::Gauge;
use prometheus_client::metrics::histogram::{Histogram, exponential_buckets};
use prometheus_client::metrics::info::Info;
use prometheus_client::registry::Registry;

use crate::process_stats::ProcessStats;
use crate::recent::RecentAsks;
use crate::under_way::UnderWay;

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

/// Labels of an answer over HTTP.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub(crate) struct ResponseLabels {
    /// Its status.
    pub status: u16,
}

/// Labels of a sign-in that was refused.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct RefusalLabels {
    /// Why, in a word.
    pub reason: String,
}

/// Labels of what is kept for a role.
#[derive(Debug, Clone, PartialEq, Eq, Hash, EncodeLabelSet)]
pub struct CacheLabels {
    /// The role.
    pub role: String,
    /// `documents`, `plans` or `persisted`.
    pub cache: String,
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
    /// What has names of its own.
    unprefixed: Registry,
    process: ProcessStats,
    responses: Family<ResponseLabels, Counter>,
    /// The counters of statuses that were met.
    statuses: Box<[OnceLock<Counter>]>,
    /// Requests of whoever was not let in, by why.
    pub sign_ins_refused: Family<RefusalLabels, Counter>,
    /// Connections that were closed by us, by why: `slow`, `streams`, `idle`, `old`.
    pub connections_cut: Family<RefusalLabels, Counter>,
    /// Bytes of answers that are being sent.
    pub answer_bytes: Gauge,
    /// What those are.
    pub(crate) under_way: Arc<UnderWay>,
    /// Requests that took too long and were looked into.
    pub(crate) diagnosed: Diagnosed,
    /// Requests as a role that the caller does not have.
    pub roles_refused: Counter,
    /// Does a source answer?
    pub source_up: Family<SourceLabels, Gauge>,
    /// How many tables of a source are not as they were surveyed, so that requests break.
    pub source_drifted: Family<SourceLabels, Gauge>,
    /// What a source works on.
    pub source_working: Family<SourceLabels, Gauge>,
    /// What waits for a source.
    pub source_waiting: Family<SourceLabels, Gauge>,
    /// How much a source may work on at once.
    pub source_places: Family<SourceLabels, Gauge>,
    /// Bytes that are kept for a role.
    pub cached_bytes: Family<CacheLabels, Gauge>,
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

/// When a request that took too long was last looked into for the log: that costs the database, too.
#[derive(Debug, Default)]
pub(crate) struct Diagnosed(Mutex<Option<Instant>>);

impl Diagnosed {
    /// How often that may be.
    const EVERY: Duration = Duration::from_secs(10);

    /// May another one be looked into now?
    pub(crate) fn may_begin(&self) -> bool {
        let mut last = self.0.lock().unwrap_or_else(PoisonError::into_inner);
        let may = last.is_none_or(|last| last.elapsed() >= Diagnosed::EVERY);
        if may {
            *last = Some(Instant::now());
        }
        may
    }
}

/// The lowest status of an answer, and how many there are.
const FIRST_STATUS: u16 = 100;
const STATUSES: usize = 500;

impl Default for Metrics {
    fn default() -> Self {
        const FASTEST: f64 = 0.000_1;
        let mut metrics = Metrics {
            registry: Registry::with_prefix("puente"),
            unprefixed: Registry::default(),
            process: ProcessStats::default(),
            responses: Family::default(),
            statuses: (0..STATUSES).map(|_| OnceLock::new()).collect(),
            sign_ins_refused: Family::default(),
            connections_cut: Family::default(),
            answer_bytes: Gauge::default(),
            under_way: Arc::default(),
            diagnosed: Diagnosed::default(),
            roles_refused: Counter::default(),
            source_up: Family::default(),
            source_drifted: Family::default(),
            source_working: Family::default(),
            source_waiting: Family::default(),
            source_places: Family::default(),
            cached_bytes: Family::default(),
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
        r.register("http_responses", "Answers over HTTP, by status", metrics.responses.clone());
        r.register("connections_cut", "Connections that were closed, by why", metrics.connections_cut.clone());
        r.register("answer_bytes", "Bytes of answers that are being sent", metrics.answer_bytes.clone());
        r.register("sign_ins_refused", "Requests of whoever was not let in", metrics.sign_ins_refused.clone());
        r.register("roles_refused", "Requests as a role that the caller does not have", metrics.roles_refused.clone());
        r.register("source_up", "Does the source answer? As of the last look", metrics.source_up.clone());
        let drifted = "Tables that are not as they were surveyed, so that requests break";
        r.register("source_drifted_tables", drifted, metrics.source_drifted.clone());
        r.register("source_working", "Requests that the source works on", metrics.source_working.clone());
        r.register("source_waiting", "Requests that wait for the source", metrics.source_waiting.clone());
        r.register("source_places", "Requests that the source may work on at once", metrics.source_places.clone());
        r.register(
            "cached_bytes",
            "Bytes of documents and plans that are kept for a role",
            metrics.cached_bytes.clone(),
        );
        let version = vec![("version", env!("CARGO_PKG_VERSION"))];
        r.register("build", "Which Puente this is", Info::new(version));
        metrics.process.register(&mut metrics.unprefixed);
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

    /// Counts an answer over HTTP.
    pub(crate) fn responded(&self, status: u16) {
        let at = usize::from(status.saturating_sub(FIRST_STATUS)).min(STATUSES - 1);
        let counter = || self.responses.get_or_create(&ResponseLabels { status }).clone();
        self.statuses[at].get_or_init(counter).inc();
    }

    /// The gauge of a source.
    pub(crate) fn of(family: &Family<SourceLabels, Gauge>, source: &str) -> Gauge {
        family.get_or_create(&SourceLabels { source: source.to_owned() }).clone()
    }

    /// The counters as OpenMetrics text.
    pub fn to_text(&self) -> String {
        self.process.look();
        let mut text = String::new();
        let written = encode_registry(&mut text, &self.unprefixed)
            .and_then(|()| encode_registry(&mut text, &self.registry))
            .and_then(|()| encode_eof(&mut text));
        written.expect("writing to memory does not fail");
        text
    }
}
