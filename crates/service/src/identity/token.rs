//! JSON Web Tokens (RFC 7519): whose signature and whose claims are believed. The algorithm is the key's, never the
//! token's to choose.

use std::path::Path;
use std::str::FromStr as _;

use base64::Engine as _;
use base64::engine::general_purpose::URL_SAFE_NO_PAD;
use jsonwebtoken::errors::ErrorKind;
use jsonwebtoken::{Algorithm, DecodingKey, Validation};
use puente_core::project::{TokenKey, Tokens};
use puente_core::value::{PlainObject, read_object};
use serde_json::{Map, Value as Json};

use super::key_set::KeySet;
use super::{IdentityError, Unidentified};

/// The most bytes of a token: checking a signature takes time, and nobody is known yet.
const MOST_BYTES: usize = 8 << 10;

/// Whose tokens are believed.
#[derive(Debug)]
pub(super) struct Verifier {
    validation: Validation,
    keys: Keys,
    /// May a token name the owner among its roles?
    pub(super) owner: bool,
    pub(super) main_role: Option<Vec<String>>,
    /// The role of a token that names none.
    pub(super) fallback_role: Option<String>,
}

enum Keys {
    One(Algorithm, DecodingKey),
    Set(KeySet),
}

impl std::fmt::Debug for Keys {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("Keys")
    }
}

/// What the header of a token says (RFC 7515, section 4), as far as anything is believed of it.
#[derive(Debug, Clone)]
pub(super) struct Header {
    pub(super) algorithm: Algorithm,
    pub(super) key_id: Option<String>,
}

impl Header {
    /// Reads the header of a token.
    ///
    /// # Errors
    /// A sentence on what is not taken.
    pub(super) fn read(token: &str) -> Result<Self, String> {
        if token.len() > MOST_BYTES {
            return Err(format!("the token has {} bytes, and the limit is {MOST_BYTES}", token.len()));
        }
        let malformed = || "the token cannot be read: it is not a JSON Web Token".to_owned();
        let segment = token.split('.').next().unwrap_or_default();
        let bytes = URL_SAFE_NO_PAD.decode(segment).map_err(|_| malformed())?;
        let members = read_object(&bytes).map_err(|_| malformed())?;
        // A token must not bring its own key, nor demand what we do not know.
        if let Some(name) =
            ["jku", "x5u", "jwk", "x5c", "crit", "b64"].into_iter().find(|name| members.contains_key(*name))
        {
            return Err(format!("tokens with `{name}` in their header are not taken"));
        }
        let algorithm = members.get("alg").and_then(Json::as_str).unwrap_or_default();
        let algorithm = Algorithm::from_str(algorithm)
            .map_err(|_| "the token is signed with an algorithm that is not taken".to_owned())?;
        Ok(Header { algorithm, key_id: members.get("kid").and_then(Json::as_str).map(str::to_owned) })
    }
}

impl Verifier {
    pub(super) fn new(tokens: &Tokens, folder: &Path) -> Result<Self, IdentityError> {
        let keys = match &tokens.key {
            TokenKey::Key { algorithm, key } => {
                let algorithm = Algorithm::from_str(algorithm)
                    .map_err(|_| IdentityError(format!("`{algorithm}` is not an algorithm for tokens")))?;
                Keys::One(algorithm, decoding_key(algorithm, &key.0)?)
            }
            TokenKey::SetAt(address) => Keys::Set(KeySet::at(address)),
            TokenKey::SetIn(file) => Keys::Set(KeySet::of_file(&folder.join(file))?),
        };
        let mut validation = validation(&tokens.issuer, &tokens.audience);
        validation.leeway = tokens.leeway_seconds;
        Ok(Verifier {
            validation,
            keys,
            owner: tokens.owner,
            main_role: tokens.main_role.clone(),
            fallback_role: tokens.fallback_role.clone(),
        })
    }

    /// The claims of a token that is believed.
    pub(super) async fn verify(&self, token: &str, header: &Header) -> Result<Map<String, Json>, Unidentified> {
        match &self.keys {
            Keys::One(algorithm, key) => {
                decode(token, header, *algorithm, key, &self.validation).map_err(Unidentified::Refused)
            }
            Keys::Set(set) => {
                let (algorithm, key) = set.find(header.key_id.as_deref()).await?;
                decode(token, header, algorithm, &key, &self.validation).map_err(Unidentified::Refused)
            }
        }
    }
}

/// What is asked of every token: an issuer, an audience, and an end.
pub(super) fn validation(issuer: &str, audience: &str) -> Validation {
    let mut validation = Validation::default();
    validation.set_issuer(&[issuer]);
    validation.set_audience(&[audience]);
    validation.set_required_spec_claims(&["exp", "iss", "aud"]);
    validation.validate_nbf = true;
    validation
}

/// Checks a token with a key of one algorithm.
pub(super) fn decode(
    token: &str,
    header: &Header,
    algorithm: Algorithm,
    key: &DecodingKey,
    validation: &Validation,
) -> Result<Map<String, Json>, String> {
    if header.algorithm != algorithm {
        return Err("the token is signed with another algorithm than its key is for".to_owned());
    }
    let mut validation = validation.clone();
    validation.algorithms = vec![algorithm];
    let decoded = jsonwebtoken::decode::<PlainObject>(token, key, &validation);
    let PlainObject(claims) = decoded.map(|token| token.claims).map_err(|error| {
        match error.kind() {
            ErrorKind::ExpiredSignature => "the token has expired; get a new one",
            ErrorKind::ImmatureSignature => "the token is not valid yet",
            ErrorKind::InvalidIssuer => "the token comes from another issuer than the one that is believed here",
            ErrorKind::InvalidAudience => "the token is for another audience",
            ErrorKind::MissingRequiredClaim(_) => "the token lacks one of `exp`, `iss` and `aud`",
            ErrorKind::InvalidSignature => "the token's signature does not match",
            _ => "the token cannot be read",
        }
        .to_owned()
    })?;
    // RFC 7519, section 4.1.1: a text. The library takes a list that holds it, too.
    if !claims.get("iss").is_some_and(Json::is_string) {
        return Err("the token's `iss` is not a text".to_owned());
    }
    check_times(&claims)?;
    Ok(claims)
}

/// The times of a token are numbers, as RFC 7519 has them: one that is something else was passed over by the library.
fn check_times(claims: &Map<String, Json>) -> Result<(), String> {
    /// The year 9999: later ones are mistakes, and larger numbers do not count seconds exactly.
    const LATEST: f64 = 253_402_300_799.0;
    for name in ["exp", "nbf", "iat"] {
        let Some(value) = claims.get(name) else { continue };
        if !value.as_f64().is_some_and(|seconds| (0.0..=LATEST).contains(&seconds)) {
            return Err(format!("the token's `{name}` is not a time: it takes seconds since 1970, as a number"));
        }
    }
    Ok(())
}

fn decoding_key(algorithm: Algorithm, text: &str) -> Result<DecodingKey, IdentityError> {
    let key = match algorithm {
        Algorithm::HS256 | Algorithm::HS384 | Algorithm::HS512 => return Ok(DecodingKey::from_secret(text.as_bytes())),
        Algorithm::ES256 | Algorithm::ES384 => DecodingKey::from_ec_pem(text.as_bytes()),
        Algorithm::EdDSA => DecodingKey::from_ed_pem(text.as_bytes()),
        _ => DecodingKey::from_rsa_pem(text.as_bytes()),
    };
    key.map_err(|_| {
        IdentityError(format!("`[identity.tokens] key` is not a public key for {algorithm:?} in PEM; export it again"))
    })
}
