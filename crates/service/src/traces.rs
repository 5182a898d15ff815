//! Spans for whoever follows a request through several services ([OTLP](https://opentelemetry.io/docs/specs/otlp/) over HTTP): one for
//! each request, and one for each statement in it. They are made once it is answered, and sent by a thread of their own.

use std::time::{Duration, SystemTime};

use opentelemetry::trace::{
    Span as _, SpanContext, SpanId, SpanKind, Status, TraceContextExt as _, TraceFlags, TraceId, TraceState,
    Tracer as _, TracerProvider as _,
};
use opentelemetry::{Context, KeyValue};
use opentelemetry_http::{Bytes, HttpClient, HttpError, Request, Response};
use opentelemetry_otlp::{Protocol, SpanExporter, WithExportConfig as _, WithHttpConfig as _};
use opentelemetry_sdk::Resource;
use opentelemetry_sdk::trace::{SdkTracer, SdkTracerProvider};
use puente_core::error::shortened;
use puente_run::StatementReport;

/// How long the collector may take to take spans.
const PATIENCE: Duration = Duration::from_secs(5);
/// The most bytes of its answer.
const MOST_BYTES: u64 = 64 << 10;

/// Bytes of a statement that are sent: a caller decides how long it is, and many spans wait to be sent.
const MOST_STATEMENT_BYTES: usize = 4 << 10;

/// Where spans are sent.
#[derive(Debug)]
pub struct Traces {
    provider: SdkTracerProvider,
    tracer: SdkTracer,
}

/// A request that was answered.
#[derive(Debug)]
pub(crate) struct AskSpan<'a> {
    /// What it came with: `traceparent`.
    pub(crate) parent: Option<&'a str>,
    pub(crate) operation: Option<&'a str>,
    pub(crate) role: &'a str,
    /// `ok`, or the first error's code.
    pub(crate) outcome: &'a str,
    pub(crate) request_id: &'a str,
    pub(crate) elapsed: Duration,
    pub(crate) statements: &'a [StatementReport],
    /// The names of the sources.
    pub(crate) sources: &'a [String],
}

impl Traces {
    /// Begins to send spans to a collector's address, such as `http://localhost:4318`.
    ///
    /// # Errors
    /// A sentence where the address cannot be used.
    pub fn to(address: &str) -> Result<Self, String> {
        let client = Client(
            ureq::Agent::config_builder().timeout_global(Some(PATIENCE)).http_status_as_error(false).build().into(),
        );
        let exporter = SpanExporter::builder()
            .with_http()
            .with_http_client(client)
            .with_protocol(Protocol::HttpBinary)
            .with_endpoint(format!("{}/v1/traces", address.trim_end_matches('/')))
            .with_timeout(PATIENCE)
            .build()
            .map_err(|error| format!("spans cannot be sent to {address}: {error}"))?;
        let version = KeyValue::new("service.version", env!("CARGO_PKG_VERSION"));
        let resource = Resource::builder().with_service_name("puente").with_attribute(version).build();
        let provider = SdkTracerProvider::builder().with_resource(resource).with_batch_exporter(exporter).build();
        let tracer = provider.tracer("puente");
        Ok(Traces { provider, tracer })
    }

    /// Tells of a request that was answered just now.
    pub(crate) fn tell(&self, ask: &AskSpan<'_>) {
        let ended = SystemTime::now();
        let began = ended.checked_sub(ask.elapsed).unwrap_or(ended);
        let parent = ask
            .parent
            .and_then(remote)
            .map_or_else(Context::new, |parent| Context::new().with_remote_span_context(parent));
        let name = ask.operation.map_or_else(|| "GraphQL".to_owned(), |operation| format!("GraphQL {operation}"));
        let mut attributes = vec![
            KeyValue::new("puente.role", ask.role.to_owned()),
            KeyValue::new("puente.outcome", ask.outcome.to_owned()),
            KeyValue::new("puente.request_id", ask.request_id.to_owned()),
        ];
        attributes.extend(ask.operation.map(|name| KeyValue::new("graphql.operation.name", name.to_owned())));
        let builder = self.tracer.span_builder(name).with_kind(SpanKind::Server).with_start_time(began);
        let mut span = builder.with_attributes(attributes).start_with_context(&self.tracer, &parent);
        if ask.outcome != "ok" {
            span.set_status(Status::error(ask.outcome.to_owned()));
        }
        let within = Context::new().with_remote_span_context(span.span_context().clone());
        for report in ask.statements {
            self.tell_statement(report, ask.sources, began, &within);
        }
        span.end_with_timestamp(ended);
    }

    /// Of a statement it is known how long its executions took together, not when each began.
    fn tell_statement(&self, report: &StatementReport, sources: &[String], began: SystemTime, within: &Context) {
        let source = sources.get(report.source).cloned().unwrap_or_default();
        let count = |number: u64| i64::try_from(number).unwrap_or(i64::MAX);
        let attributes = vec![
            KeyValue::new("db.query.text", shortened(&report.text, MOST_STATEMENT_BYTES).into_owned()),
            KeyValue::new("db.response.returned_rows", count(report.rows)),
            KeyValue::new("puente.source", source.clone()),
            KeyValue::new("puente.executions", count(report.executions)),
        ];
        let builder = self.tracer.span_builder(format!("statement {source}")).with_kind(SpanKind::Client);
        let builder = builder.with_start_time(began).with_attributes(attributes);
        let mut span = builder.start_with_context(&self.tracer, within);
        span.end_with_timestamp(began.checked_add(report.time).unwrap_or(began));
    }

    /// Sends what was not sent yet.
    pub(crate) fn flush(&self) {
        if let Err(error) = self.provider.force_flush() {
            tracing::warn!(target: "puente::service", %error, "the last spans could not be sent");
        }
    }
}

/// The span that a `traceparent` names, which is well-formed.
fn remote(parent: &str) -> Option<SpanContext> {
    let mut parts = parent.split('-').skip(1);
    let trace = TraceId::from_hex(parts.next()?).ok()?;
    let span = SpanId::from_hex(parts.next()?).ok()?;
    let flags = TraceFlags::new(u8::from_str_radix(parts.next()?, 16).ok()?);
    Some(SpanContext::new(trace, span, flags, true, TraceState::default()))
}

/// What sends spans: on the thread that gathers them, which waits for nobody else.
#[derive(Debug)]
struct Client(ureq::Agent);

#[async_trait::async_trait]
impl HttpClient for Client {
    async fn send_bytes(&self, request: Request<Bytes>) -> Result<Response<Bytes>, HttpError> {
        let (head, body) = request.into_parts();
        let request = Request::from_parts(head, body.to_vec());
        let answer = self.0.run(request)?;
        let (head, mut body) = answer.into_parts();
        let body = body.with_config().limit(MOST_BYTES).read_to_vec()?;
        Ok(Response::from_parts(head, body.into()))
    }
}
