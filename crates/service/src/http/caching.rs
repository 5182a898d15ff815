//! Answers that need not be sent twice ([RFC 9110, section 8.8.3](https://www.rfc-editor.org/rfc/rfc9110#section-8.8.3)): a tag tells
//! whether the one that a client has is still right. The request is answered in any case; nothing is kept here.

use actix_web::http::header::{
    CACHE_CONTROL, CONTENT_TYPE, ETAG, EntityTag, HeaderValue, IF_NONE_MATCH, IfNoneMatch, VARY,
};
use actix_web::{HttpRequest, HttpResponse, HttpResponseBuilder, http::header::Header as _};
use base64::Engine as _;
use base64::prelude::BASE64_URL_SAFE_NO_PAD;
use ring::digest;

use crate::principal::Principal;

/// Bytes of a digest that a tag has.
const TAG_BYTES: usize = 16;

/// The tag of an answer: of who is told it, as what, and of what it says. It is weak, since the answer may be packed in several ways.
fn tag(principal: &Principal, media: &HeaderValue, body: &[u8]) -> EntityTag {
    let claims = serde_json::to_vec(principal.claims.as_ref()).unwrap_or_default();
    let mut context = digest::Context::new(&digest::SHA256);
    for part in [principal.role.as_bytes(), &claims, media.as_bytes(), body] {
        context.update(&(part.len() as u64).to_be_bytes());
        context.update(part);
    }
    EntityTag::new_weak(BASE64_URL_SAFE_NO_PAD.encode(&context.finish().as_ref()[..TAG_BYTES]))
}

/// The answer with its tag; without its body for who has it already.
pub(super) fn respond(
    request: &HttpRequest,
    principal: &Principal,
    media: &HeaderValue,
    body: Vec<u8>,
) -> HttpResponse {
    let tag = tag(principal, media, &body);
    let with = |mut response: HttpResponseBuilder| {
        response
            .insert_header((ETAG, tag.to_string()))
            // Each answer is asked for anew, and belongs to who asked.
            .insert_header((CACHE_CONTROL, HeaderValue::from_static("private, no-cache")))
            .insert_header((VARY, HeaderValue::from_static("Authorization, Accept")));
        response
    };
    if has_it(request, &tag) {
        return with(HttpResponse::NotModified()).finish();
    }
    with(HttpResponse::Ok()).insert_header((CONTENT_TYPE, media.clone())).body(body)
}

fn has_it(request: &HttpRequest, tag: &EntityTag) -> bool {
    if !request.headers().contains_key(IF_NONE_MATCH) {
        return false;
    }
    match IfNoneMatch::parse(request) {
        Ok(IfNoneMatch::Any) => true,
        Ok(IfNoneMatch::Items(known)) => known.iter().any(|known| known.weak_eq(tag)),
        Err(_) => false,
    }
}
