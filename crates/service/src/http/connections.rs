//! Connections as long as they are open: how many requests of one are under way, and whether their answers are being taken. The
//! library counts neither, and an answer that nobody takes is in memory.

use std::any::Any;
use std::pin::Pin;
use std::sync::atomic::{AtomicU64, AtomicUsize, Ordering};
use std::sync::{Arc, Mutex, Weak};
use std::task::{Context, Poll};
use std::time::{Duration, Instant};

use actix_web::body::{BodySize, EitherBody, MessageBody};
use actix_web::dev::{Extensions, ServiceRequest, ServiceResponse};
use actix_web::http::StatusCode;
use actix_web::http::header::{self, HeaderValue};
use actix_web::middleware::Next;
use actix_web::web::{Bytes, Data};
use actix_web::{Error, HttpResponse};
use pin_project_lite::pin_project;
use puente_core::error::{Code, Problem};

use crate::access_keys::lock;
use crate::api::AskResult;
use crate::metrics::{Metrics, RefusalLabels};
use crate::under_way::Held;

/// Requests of one connection that may be under way; HTTP/1 has one, HTTP/2 as many as a client opens streams.
const MOST_REQUESTS: usize = 100;
/// Of a connection that goes on opening them while refusals wait to be taken nothing good is expected.
const FAR_TOO_MANY: usize = 2 * MOST_REQUESTS;
/// For how long it is looked how much of its answers a connection takes, and the least that it has to take in that time.
const WINDOW: Duration = Duration::from_secs(10);
const LEAST_BYTES: u64 = 40_000;
/// For how long one answer may be under way while the connection takes others.
const LONGEST_ANSWER: Duration = Duration::from_secs(600);
/// How long a connection may be open without a request.
const IDLE: Duration = Duration::from_secs(120);
/// How old a connection may become: it is closed when it has nothing to do, and a while later in any case.
const OLD: Duration = Duration::from_secs(3_600);
const TOO_OLD: Duration = Duration::from_secs(4_200);
/// How often they are looked at.
const BETWEEN_LOOKS: Duration = Duration::from_secs(1);
/// Bytes of an answer that are given out at once.
const CHUNK: usize = 256 << 10;

/// All connections.
#[derive(Debug)]
pub(super) struct Connections {
    open: Mutex<Vec<Weak<Connection>>>,
    metrics: Arc<Metrics>,
}

/// One of them.
#[derive(Debug)]
pub(super) struct Connection {
    /// Closes it; none where it could not be had.
    socket: Option<socket2::Socket>,
    opened: Instant,
    /// Requests that are under way.
    requests: AtomicUsize,
    /// When the last of them ended, in milliseconds since it was opened.
    used: AtomicU64,
    /// Bytes of answers that it took.
    taken: AtomicU64,
    answers: Mutex<Answers>,
}

/// The answers that a connection is to take.
#[derive(Debug, Default)]
struct Answers {
    /// When each of them began, by a number.
    began: Vec<(u64, Instant)>,
    next: u64,
    /// Since when it is looked how much it takes, and what it had taken then.
    window: Option<(Instant, u64)>,
}

/// Why a connection is closed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Cut {
    Slow,
    Streams,
    Idle,
    Old,
}

impl Cut {
    fn word(self) -> &'static str {
        match self {
            Cut::Slow => "slow",
            Cut::Streams => "streams",
            Cut::Idle => "idle",
            Cut::Old => "old",
        }
    }
}

impl Connections {
    pub(super) fn new(metrics: Arc<Metrics>) -> Self {
        Connections { open: Mutex::default(), metrics }
    }

    /// Notes a connection that was accepted.
    pub(super) fn accepted(&self, io: &dyn Any, data: &mut Extensions) {
        let connection = Arc::new(Connection::new(socket_of(io)));
        lock(&self.open).push(Arc::downgrade(&connection));
        data.insert(connection);
    }

    /// Looks at all of them, again and again.
    pub(super) async fn watch(self: Arc<Self>) {
        loop {
            tokio::time::sleep(BETWEEN_LOOKS).await;
            self.look(Instant::now());
        }
    }

    fn look(&self, now: Instant) {
        let open: Vec<Arc<Connection>> = {
            let mut open = lock(&self.open);
            open.retain(|connection| connection.strong_count() > 0);
            open.iter().filter_map(Weak::upgrade).collect()
        };
        for connection in open {
            if let Some(cut) = connection.judge(now) {
                self.cut(&connection, cut);
            }
        }
    }

    fn cut(&self, connection: &Connection, cut: Cut) {
        let labels = RefusalLabels { reason: cut.word().to_owned() };
        self.metrics.connections_cut.get_or_create(&labels).inc();
        if let Some(socket) = &connection.socket {
            // Whoever left already has closed it.
            let _ = socket.shutdown(std::net::Shutdown::Both);
        }
    }
}

/// The socket of a connection, once more.
fn socket_of(io: &dyn Any) -> Option<socket2::Socket> {
    use actix_web::rt::net::TcpStream;
    if let Some(stream) = io.downcast_ref::<TcpStream>() {
        return socket2::SockRef::from(stream).try_clone().ok();
    }
    if let Some(stream) = io.downcast_ref::<actix_tls::accept::rustls_0_23::TlsStream<TcpStream>>() {
        return socket2::SockRef::from(stream.get_ref().0).try_clone().ok();
    }
    #[cfg(unix)]
    if let Some(stream) = io.downcast_ref::<actix_web::rt::net::UnixStream>() {
        return socket2::SockRef::from(stream).try_clone().ok();
    }
    None
}

impl Connection {
    fn new(socket: Option<socket2::Socket>) -> Self {
        Connection {
            socket,
            opened: Instant::now(),
            requests: AtomicUsize::new(0),
            used: AtomicU64::new(0),
            taken: AtomicU64::new(0),
            answers: Mutex::default(),
        }
    }

    /// Is there a reason to close it?
    fn judge(&self, now: Instant) -> Option<Cut> {
        let requests = self.requests.load(Ordering::Relaxed);
        let age = now.saturating_duration_since(self.opened);
        if requests > FAR_TOO_MANY {
            return Some(Cut::Streams);
        }
        if requests == 0 {
            let used = self.opened + Duration::from_millis(self.used.load(Ordering::Relaxed));
            if now.saturating_duration_since(used) > IDLE {
                return Some(Cut::Idle);
            }
        }
        if age > TOO_OLD || requests == 0 && age > OLD {
            return Some(Cut::Old);
        }
        let taken = self.taken.load(Ordering::Relaxed);
        let mut answers = lock(&self.answers);
        let oldest = answers.began.iter().map(|(_, began)| now.saturating_duration_since(*began)).max();
        let Some(oldest) = oldest else {
            answers.window = None;
            return None;
        };
        if oldest > LONGEST_ANSWER {
            return Some(Cut::Slow);
        }
        match answers.window {
            Some((since, before)) if now.saturating_duration_since(since) >= WINDOW => {
                answers.window = Some((now, taken));
                (taken - before < LEAST_BYTES && oldest >= WINDOW).then_some(Cut::Slow)
            }
            Some(_) => None,
            None => {
                answers.window = Some((now, taken));
                None
            }
        }
    }

    fn begin(self: &Arc<Self>) -> UnderRequest {
        self.requests.fetch_add(1, Ordering::Relaxed);
        UnderRequest(Arc::clone(self))
    }
}

/// A request of a connection that is under way, until it is dropped.
#[derive(Debug)]
struct UnderRequest(Arc<Connection>);

impl Drop for UnderRequest {
    fn drop(&mut self) {
        let used = u64::try_from(self.0.opened.elapsed().as_millis()).unwrap_or(u64::MAX);
        self.0.used.store(used, Ordering::Relaxed);
        self.0.requests.fetch_sub(1, Ordering::Relaxed);
    }
}

/// What is counted while an answer is under way.
#[derive(Debug)]
struct Counted {
    request: UnderRequest,
    number: u64,
    _held: Option<Vec<Held>>,
}

impl Counted {
    fn new(request: UnderRequest, held: Option<Vec<Held>>) -> Self {
        let mut answers = lock(&request.0.answers);
        let number = answers.next;
        answers.next += 1;
        answers.began.push((number, Instant::now()));
        drop(answers);
        Counted { request, number, _held: held }
    }
}

impl Drop for Counted {
    fn drop(&mut self) {
        lock(&self.request.0.answers).began.retain(|(number, _)| *number != self.number);
    }
}

pin_project! {
    /// A body on its way out: given in parts, so that no second copy of the whole waits to be sent.
    pub(super) struct Outgoing<B> {
        #[pin]
        body: B,
        rest: Bytes,
        counted: Option<Counted>,
    }
}

impl<B: MessageBody> MessageBody for Outgoing<B> {
    type Error = B::Error;

    fn size(&self) -> BodySize {
        self.body.size()
    }

    fn poll_next(self: Pin<&mut Self>, context: &mut Context<'_>) -> Poll<Option<Result<Bytes, Self::Error>>> {
        let this = self.project();
        if this.rest.is_empty() {
            match this.body.poll_next(context) {
                Poll::Ready(Some(Ok(bytes))) => *this.rest = bytes,
                other => return other,
            }
        }
        let part = this.rest.split_to(this.rest.len().min(CHUNK));
        if let Some(counted) = this.counted {
            // What was given before is on its way: only then is more asked for.
            counted.request.0.taken.fetch_add(u64::try_from(part.len()).unwrap_or_default(), Ordering::Relaxed);
        }
        Poll::Ready(Some(Ok(part)))
    }
}

/// The middleware: counts a request until its answer is taken.
pub(super) async fn count<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<Outgoing<B>>>, Error> {
    let Some(connection) = request.conn_data::<Arc<Connection>>().cloned() else {
        let response = next.call(request).await?;
        return Ok(response.map_body(|_, body| EitherBody::left(Outgoing { body, rest: Bytes::new(), counted: None })));
    };
    let begun = connection.begin();
    let under_way = connection.requests.load(Ordering::Relaxed);
    if under_way > MOST_REQUESTS {
        let connections = request.app_data::<Data<Connections>>().cloned();
        if let Some(connections) = connections.filter(|_| under_way > FAR_TOO_MANY) {
            connections.cut(&connection, Cut::Streams);
        }
        let text = format!("over {MOST_REQUESTS} requests of this connection are under way; wait for their answers");
        let body = AskResult::refused(&[Problem::new(Code::TooBusy, text)]).body;
        let response = HttpResponse::build(StatusCode::TOO_MANY_REQUESTS)
            .content_type("application/graphql-response+json")
            .insert_header((header::RETRY_AFTER, HeaderValue::from_static("1")))
            .body(body);
        // Counted as long as it is not taken, too.
        let counted = Counted::new(begun, None);
        return Ok(request.into_response(response).map_body(move |_, body| {
            let body = Outgoing { body, rest: Bytes::new(), counted: Some(counted) };
            EitherBody::right(actix_web::body::BoxBody::new(body))
        }));
    }
    let mut response = next.call(request).await?;
    let held = response.response_mut().extensions_mut().remove::<Vec<Held>>();
    let counted = Some(Counted::new(begun, held));
    Ok(response.map_body(|_, body| EitherBody::left(Outgoing { body, rest: Bytes::new(), counted })))
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn a_connection_that_takes_too_little_is_closed_and_one_that_waits_for_us_is_not() {
        let connection = Arc::new(Connection::new(None));
        let begin = connection.opened;
        let at = |seconds| begin + Duration::from_secs(seconds);
        let request = connection.begin();
        assert_eq!((0..=60).filter_map(|second| connection.judge(at(second))).next(), None, "it waits for an answer");
        let counted = Counted::new(request, None);
        lock(&connection.answers).began[0].1 = at(60);
        let judged = (61..=90).map(|second| {
            // It takes 5 kB a second, then nothing.
            if second <= 75 {
                connection.taken.fetch_add(5_000, Ordering::Relaxed);
            }
            connection.judge(at(second))
        });
        let cut: Vec<u64> =
            judged.zip(61..).filter(|(cut, _)| *cut == Some(Cut::Slow)).map(|(_, second)| second).collect();
        assert!(cut.first().is_some_and(|second| (76..=91).contains(second)), "{cut:?}");
        drop(counted);
        let used = Duration::from_millis(connection.used.load(Ordering::Relaxed));
        assert_eq!(connection.judge(begin + used + IDLE), None);
        assert_eq!(connection.judge(begin + used + IDLE + Duration::from_secs(1)), Some(Cut::Idle));
    }
}
