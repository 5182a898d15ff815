//! Which media type an answer has, and with which status ([GraphQL over HTTP](https://graphql.github.io/graphql-over-http/draft/)).

use actix_web::HttpRequest;
use actix_web::http::StatusCode;
use actix_web::http::header::{ACCEPT, CONTENT_TYPE};

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
    pub(super) fn content_type(self) -> &'static str {
        match self {
            MediaType::GraphqlResponse => "application/graphql-response+json; charset=utf-8",
            MediaType::Json => "application/json; charset=utf-8",
        }
    }

    /// The media type that the request accepts; none where it accepts neither.
    pub(super) fn accepted(request: &HttpRequest) -> Option<MediaType> {
        let Some(accept) = request.headers().get(ACCEPT) else { return Some(MediaType::GraphqlResponse) };
        let accept = accept.to_str().ok()?;
        let mut best: Option<(f32, MediaType)> = None;
        for part in accept.split(',') {
            let mut pieces = part.split(';').map(str::trim);
            let offered = match pieces.next()?.to_ascii_lowercase().as_str() {
                "application/graphql-response+json" | "*/*" | "application/*" => MediaType::GraphqlResponse,
                "application/json" => MediaType::Json,
                _ => continue,
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
    let mut pieces = value.split(';').map(|piece| piece.trim().to_ascii_lowercase());
    let is_json = matches!(pieces.next().as_deref(), Some("application/json" | "application/graphql+json"));
    let charset =
        pieces.find_map(|piece| piece.strip_prefix("charset=").map(|charset| charset.trim_matches('"').to_owned()));
    is_json && charset.is_none_or(|charset| charset == "utf-8")
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
        assert_eq!(accepted("*/*"), Some(MediaType::GraphqlResponse));
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
