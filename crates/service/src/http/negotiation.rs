//! Which media type an answer has, and with which status ([GraphQL over HTTP](https://graphql.github.io/graphql-over-http/draft/)).

use actix_web::HttpRequest;
use actix_web::http::StatusCode;
use actix_web::http::header::{ACCEPT, CONTENT_TYPE, HeaderValue};

use puente_core::error::Code;

use crate::api::AskResult;

/// The media types that answers have.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub(super) enum MediaType {
    /// `application/graphql-response+json`: the status says how it went.
    GraphqlResponse,
    /// `application/json`: a well-formed request is always answered with 200.
    Json,
}

impl MediaType {
    /// The header's value.
    pub(super) fn content_type(self) -> HeaderValue {
        HeaderValue::from_static(match self {
            MediaType::GraphqlResponse => "application/graphql-response+json; charset=utf-8",
            MediaType::Json => "application/json; charset=utf-8",
        })
    }

    /// The media type that the request accepts; none where it accepts neither. Whoever takes anything is one that looks at the body
    /// for what went wrong: many clients show only the number of another status than 200.
    pub(super) fn accepted(request: &HttpRequest) -> Option<MediaType> {
        let Some(accept) = request.headers().get(ACCEPT) else { return Some(MediaType::Json) };
        let accept = accept.to_str().ok()?;
        let mut best: Option<(f32, MediaType)> = None;
        for part in accept.split(',') {
            let mut pieces = part.split(';').map(str::trim);
            let range = pieces.next()?;
            let is = |names: &[&str]| names.iter().any(|name| name.eq_ignore_ascii_case(range));
            let offered = match () {
                () if is(&["application/graphql-response+json"]) => MediaType::GraphqlResponse,
                () if is(&["application/json", "*/*", "application/*"]) => MediaType::Json,
                () => continue,
            };
            let quality = pieces.find_map(|piece| piece.strip_prefix("q=")).map_or(Some(1.0), |q| q.parse().ok());
            let Some(quality) = quality.filter(|quality| *quality > 0.0) else { continue };
            if best.is_none_or(|(known, _)| quality > known) {
                best = Some((quality, offered));
            }
        }
        best.map(|(_, media)| media)
    }

    /// The status of an answer.
    pub(super) fn status(self, result: &AskResult) -> StatusCode {
        match (self, result.has_data, result.code) {
            // Whoever comes too often must see it without reading, whatever is accepted.
            (_, false, Some(Code::TooBusy)) => StatusCode::TOO_MANY_REQUESTS,
            (_, false, Some(Code::MethodNotAllowed)) => StatusCode::METHOD_NOT_ALLOWED,
            (_, true, _) | (MediaType::Json, ..) | (_, _, None) => StatusCode::OK,
            (MediaType::GraphqlResponse, false, Some(code)) => {
                StatusCode::from_u16(code.status()).unwrap_or(StatusCode::INTERNAL_SERVER_ERROR)
            }
        }
    }
}

/// Is the body JSON, in UTF-8?
pub(super) fn is_json(request: &HttpRequest) -> bool {
    let Some(value) = request.headers().get(CONTENT_TYPE).and_then(|value| value.to_str().ok()) else { return false };
    let mut pieces = value.split(';').map(str::trim);
    let media = pieces.next().unwrap_or_default();
    let is_json = ["application/json", "application/graphql+json"].iter().any(|name| name.eq_ignore_ascii_case(media));
    let charset = pieces.find_map(|piece| {
        piece.split_once('=').filter(|(name, _)| name.eq_ignore_ascii_case("charset")).map(|(_, charset)| charset)
    });
    is_json && charset.is_none_or(|charset| charset.trim_matches('"').eq_ignore_ascii_case("utf-8"))
}

#[cfg(test)]
mod tests {
    use actix_web::test::TestRequest;

    use super::*;

    fn accepted(accept: &str) -> Option<MediaType> {
        MediaType::accepted(&TestRequest::default().insert_header((ACCEPT, accept)).to_http_request())
    }

    #[test]
    fn the_best_accepted_type_wins() {
        assert_eq!(accepted("*/*"), Some(MediaType::Json));
        assert_eq!(accepted("application/json"), Some(MediaType::Json));
        assert_eq!(
            accepted("application/json;q=0.5, application/graphql-response+json"),
            Some(MediaType::GraphqlResponse)
        );
        assert_eq!(accepted("application/graphql-response+json;q=0.2, application/json;q=0.9"), Some(MediaType::Json));
        assert_eq!(accepted("text/html"), None);
        assert_eq!(accepted("application/json;q=0"), None);
    }

    #[test]
    fn only_json_in_utf8_is_read() {
        let with =
            |value: &str| is_json(&TestRequest::default().insert_header((CONTENT_TYPE, value)).to_http_request());
        assert!(with("application/json") && with("Application/JSON; charset=UTF-8"));
        assert!(!with("text/plain") && !with("application/json; charset=latin1"));
        assert!(!with("application/x-www-form-urlencoded"));
    }
}
