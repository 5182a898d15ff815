//! Reading a request's body: once it is known who sends it, within its time, and never more of it than is allowed, neither
//! as it comes nor unpacked.

use std::io::Read as _;
use std::time::Instant;

use actix_web::http::StatusCode;
use actix_web::http::header::{CONTENT_ENCODING, CONTENT_LENGTH};
use actix_web::{HttpRequest, web};
use flate2::read::{MultiGzDecoder, ZlibDecoder};
use futures_util::StreamExt as _;

/// Why a body was not read: what is answered, and the sentence.
#[derive(Debug)]
pub(super) struct Unread(pub(super) StatusCode, pub(super) String);

/// How a body is packed.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
enum Packing {
    Plain,
    Gzip,
    Deflate,
}

/// How many bytes a request says that its body has, as it comes; none where it does not say.
pub(super) fn declared(request: &HttpRequest) -> Option<usize> {
    request.headers().get(CONTENT_LENGTH)?.to_str().ok()?.trim().parse().ok()
}

/// Reads a body of at most so many bytes, as it comes and unpacked, until the deadline.
///
/// # Errors
/// 413 for one that is larger, 415 for one that is packed in another way, 408 for one that takes too long, 400 for one that
/// ends in the middle.
pub(super) async fn read(
    request: &HttpRequest,
    mut payload: web::Payload,
    most: usize,
    deadline: Instant,
) -> Result<Vec<u8>, Unread> {
    let too_large = || Unread(StatusCode::PAYLOAD_TOO_LARGE, format!("the body is over {most} bytes; ask in parts"));
    let packing = packing(request)?;
    let declared = declared(request);
    if declared.is_some_and(|bytes| bytes > most) {
        return Err(too_large());
    }
    let reading = async {
        // What is declared need not come: room is made as it does.
        let mut body = Vec::new();
        while let Some(chunk) = payload.next().await {
            let wrong = |error| Unread(StatusCode::BAD_REQUEST, format!("the body could not be read: {error}"));
            let chunk = chunk.map_err(wrong)?;
            if body.len() + chunk.len() > most {
                return Err(too_large());
            }
            body.extend_from_slice(&chunk);
        }
        Ok(body)
    };
    let late = |_| {
        let text = "the body did not come in time; send it at once";
        Unread(StatusCode::REQUEST_TIMEOUT, text.to_owned())
    };
    let body = tokio::time::timeout_at(deadline.into(), reading).await.map_err(late)??;
    match packing {
        Packing::Plain => Ok(body),
        Packing::Gzip => unpack(MultiGzDecoder::new(&body[..]), most, too_large),
        Packing::Deflate => unpack(ZlibDecoder::new(&body[..]), most, too_large),
    }
}

fn packing(request: &HttpRequest) -> Result<Packing, Unread> {
    let Some(value) = request.headers().get(CONTENT_ENCODING) else { return Ok(Packing::Plain) };
    let known = [("identity", Packing::Plain), ("gzip", Packing::Gzip), ("deflate", Packing::Deflate)];
    let said = value.to_str().unwrap_or("?").trim();
    let found = known.iter().find(|(name, _)| name.eq_ignore_ascii_case(said)).map(|(_, packing)| *packing);
    found.ok_or_else(|| {
        let text = format!(
            "the body is packed as `{}`; send it as it is, or packed by gzip or deflate",
            said.escape_default()
        );
        Unread(StatusCode::UNSUPPORTED_MEDIA_TYPE, text)
    })
}

/// Unpacks a body; never more than one byte over what is allowed.
fn unpack(packed: impl std::io::Read, most: usize, too_large: impl Fn() -> Unread) -> Result<Vec<u8>, Unread> {
    let mut body = Vec::new();
    let one_more = most as u64 + 1;
    packed
        .take(one_more)
        .read_to_end(&mut body)
        .map_err(|error| Unread(StatusCode::BAD_REQUEST, format!("the body could not be unpacked: {error}")))?;
    if body.len() > most { Err(too_large()) } else { Ok(body) }
}
