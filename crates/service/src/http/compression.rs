//! Packing what is sent, in the way that the client takes and that packs best; little answers go as they are.

use actix_http::encoding::Encoder;
use actix_web::Error;
use actix_web::body::{BodySize, EitherBody, MessageBody};
use actix_web::dev::{ServiceRequest, ServiceResponse};
use actix_web::http::header::{
    self, AcceptEncoding, ContentEncoding, Encoding, Header as _, HeaderValue, Preference, Quality,
};
use actix_web::middleware::Next;

/// Bytes under which packing costs more than it spares.
const LEAST: u64 = 1_024;

/// The way that a client likes best; of those that it likes equally, the one that packs best.
fn chosen(accepted: &AcceptEncoding) -> ContentEncoding {
    let quality = |encoding: ContentEncoding| {
        let is_said =
            |preference: &Preference<Encoding>| *preference == Preference::Specific(Encoding::Known(encoding));
        let said = accepted.iter().find(|item| is_said(&item.item));
        let any = accepted.iter().find(|item| item.item == Preference::Any);
        said.or(any.filter(|_| encoding != ContentEncoding::Identity)).map_or(Quality::ZERO, |item| item.quality)
    };
    // The last of the best is taken.
    let offered = [ContentEncoding::Identity, ContentEncoding::Gzip, ContentEncoding::Brotli, ContentEncoding::Zstd];
    offered
        .into_iter()
        .max_by_key(|encoding| quality(*encoding))
        .filter(|best| quality(*best) > Quality::ZERO)
        .unwrap_or(ContentEncoding::Identity)
}

/// The middleware.
pub(super) async fn pack<B: MessageBody + 'static>(
    request: ServiceRequest,
    next: Next<B>,
) -> Result<ServiceResponse<EitherBody<B, Encoder<B>>>, Error> {
    let response = next.call(request).await?;
    let is_little = match response.response().body().size() {
        BodySize::None => true,
        BodySize::Sized(bytes) => bytes < LEAST,
        BodySize::Stream => false,
    };
    let accepted = if is_little { None } else { AcceptEncoding::parse(response.request()).ok() };
    Ok(match accepted.map(|accepted| chosen(&accepted)) {
        Some(encoding) if encoding != ContentEncoding::Identity => {
            response.map_body(|head, body| EitherBody::right(Encoder::response(encoding, head, body)))
        }
        _ => {
            let mut response = response.map_into_left_body();
            if !is_little {
                response.headers_mut().append(header::VARY, HeaderValue::from_static("accept-encoding"));
            }
            response
        }
    })
}
