//! Tokens for development: signed with a key of this machine, and believed by no service in production.

use std::path::Path;
use std::time::Duration;

use jsonwebtoken::{Algorithm, DecodingKey, EncodingKey};
use serde_json::{Map, Value as Json};

use super::token::{self, Header};
use super::{Identity, IdentityError};

/// The file of the key, in `.puente`.
const FILE: &str = "development-key";
/// Who issues these tokens, and for whom.
const NAME: &str = "puente-development";

/// The key that signs and checks development tokens.
#[derive(Clone)]
pub struct DevelopmentKey(Vec<u8>);

impl std::fmt::Debug for DevelopmentKey {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str("DevelopmentKey(…)")
    }
}

impl DevelopmentKey {
    /// The `kid` by which tokens name it.
    pub(super) const ID: &str = NAME;

    /// The key of a project's private folder, made where it is not there.
    ///
    /// # Errors
    /// Where the file cannot be read or written.
    pub fn of(private_folder: &Path) -> Result<Self, IdentityError> {
        let file = private_folder.join(FILE);
        crate::folder::private_bytes(&file)
            .map(DevelopmentKey)
            .map_err(|error| IdentityError(format!("{} cannot be read or written: {error}", file.display())))
    }

    /// A token for a role with claims, which ends after some time.
    ///
    /// # Errors
    /// Where it cannot be signed.
    pub fn mint(
        &self,
        identity: &Identity,
        role: &str,
        claims: &Map<String, Json>,
        lifetime: Duration,
    ) -> Result<String, IdentityError> {
        let now = jiff::Timestamp::now().as_second();
        let ends = now.saturating_add(i64::try_from(lifetime.as_secs()).unwrap_or(i64::MAX));
        let mut whole = claims.clone();
        place(&mut whole, &identity.roles, Json::from(vec![role]));
        for (name, value) in
            [("iss", Json::from(NAME)), ("aud", Json::from(NAME)), ("iat", now.into()), ("exp", ends.into())]
        {
            whole.insert(name.to_owned(), value);
        }
        let mut header = jsonwebtoken::Header::new(Algorithm::HS256);
        header.kid = Some(NAME.to_owned());
        jsonwebtoken::encode(&header, &whole, &EncodingKey::from_secret(&self.0))
            .map_err(|error| IdentityError(format!("the token cannot be signed: {error}")))
    }

    pub(super) fn verify(&self, text: &str, header: &Header) -> Result<Map<String, Json>, String> {
        let key = DecodingKey::from_secret(&self.0);
        token::decode(text, header, Algorithm::HS256, &key, &token::validation(NAME, NAME))
    }
}

/// Puts a value where a path of claims leads.
fn place(claims: &mut Map<String, Json>, path: &[String], value: Json) {
    match path {
        [] => {}
        [last] => {
            claims.insert(last.clone(), value);
        }
        [first, rest @ ..] => {
            let inner = claims.entry(first.clone()).or_insert_with(|| Json::Object(Map::new()));
            if let Json::Object(inner) = inner {
                place(inner, rest, value);
            }
        }
    }
}
