//! Asking a service over HTTP, with the key that `PUENTE_OWNER_KEY` holds.

use std::time::Duration;

use puente_service::environment;
use serde_json::Value as Json;

use crate::exit::Failure;

/// How long an answer may take.
const LONGEST: Duration = Duration::from_secs(60);
/// Bytes of one answer.
const MOST_BYTES: u64 = 1 << 30;

/// What a service answers at a path: the status and the body. Without a body it is got, with one it is posted.
///
/// # Errors
/// Where there is no key, or the service does not answer.
pub(crate) fn answer(url: &str, path: &str, body: Option<&Json>) -> Result<(u16, Vec<u8>), Failure> {
    let Some(key) = environment::read(environment::OWNER_KEY) else {
        return Err(Failure::wrong(format!("`--url` needs an access key in {}", environment::OWNER_KEY)));
    };
    let base = url.trim_end_matches('/');
    let address = if base.ends_with(path) { url.to_owned() } else { format!("{base}{path}") };
    let agent: ureq::Agent =
        ureq::Agent::config_builder().timeout_global(Some(LONGEST)).http_status_as_error(false).build().into();
    let authorization = format!("Bearer {key}");
    let sent = match body {
        None => agent.get(&address).header("Authorization", authorization).call(),
        Some(body) => agent
            .post(&address)
            .header("Authorization", authorization)
            .header("Content-Type", "application/json")
            .header("Accept", "application/graphql-response+json")
            .send(body.to_string()),
    };
    let mut answer = sent.map_err(|error| Failure::unreachable(format!("{address} cannot be asked: {error}")))?;
    let status = answer.status().as_u16();
    let body = answer.body_mut().with_config().limit(MOST_BYTES).read_to_vec();
    let body = body.map_err(|error| Failure::unreachable(format!("{address} did not finish its answer: {error}")))?;
    Ok((status, body))
}

/// The same of `/project/…`, whose answers are JSON and whose refusals have a sentence.
///
/// # Errors
/// As above, and where it is refused.
pub(crate) fn project(url: &str, path: &str, body: Option<&Json>) -> Result<Json, Failure> {
    let (status, bytes) = answer(url, path, body)?;
    let told: Json = serde_json::from_slice(&bytes).unwrap_or_default();
    match status {
        200 => Ok(told),
        _ => {
            let answered = || format!("{url}{path} answered with {status}");
            let text = told["message"].as_str().map_or_else(answered, crate::output::foreign);
            Err(Failure { code: 1, text })
        }
    }
}
