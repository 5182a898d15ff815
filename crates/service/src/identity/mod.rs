//! Who is asking: an access key, a token, or nobody; and as which role.
//!
//! ```text
//! Authorization ─► Caller (what is proven: roles and claims) ─► extensions.as ─► Principal (one role)
//! ```

mod development;
mod key_set;
mod token;

use std::collections::HashMap;
use std::fmt;
use std::net::IpAddr;
use std::path::Path;
use std::sync::Arc;

use jiff::Timestamp;
use puente_core::access::{OWNER, claim_at};
use puente_core::error::{Code, Problem, shortened};
use puente_core::project::Project;
use puente_run::turns::Party;
use serde_json::{Map, Value as Json};

use crate::access_keys::{self, AccessKeys, KeyInForce};
use crate::principal::{AuthMethod, Principal};
pub use development::DevelopmentKey;
pub(crate) use key_set::key_set_at;
use token::Verifier;

/// Why identities cannot be set up: a sentence with the remedy.
#[derive(Debug)]
pub struct IdentityError(pub(crate) String);

impl fmt::Display for IdentityError {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.0)
    }
}

impl std::error::Error for IdentityError {}

/// How it is known who is asking.
#[derive(Debug)]
pub struct Identity {
    anonymous: Option<String>,
    tokens: Option<Verifier>,
    development: Option<DevelopmentKey>,
    /// Where in a token its roles are.
    roles: Vec<String>,
    /// The access keys of the project file, by their hashes.
    keys: HashMap<[u8; 32], ProjectKey>,
}

/// An access key of the project file.
#[derive(Debug)]
struct ProjectKey {
    key: Arc<KeyInForce>,
    ends: Option<Timestamp>,
}

/// What a request proves.
#[derive(Debug, Clone)]
pub(crate) struct Caller {
    /// The roles that it may ask as, the one that is taken where none is chosen first.
    roles: Vec<String>,
    /// The role that it may ask as where there is none of those here.
    fallback: Option<String>,
    claims: Arc<Map<String, Json>>,
    by: AuthMethod,
    party: Party,
}

/// Why nobody is known to ask.
#[derive(Debug)]
pub(crate) enum Unidentified {
    /// No `Authorization` header, and nobody may ask without.
    Missing,
    /// Not of the form `Bearer KEY`.
    Malformed,
    /// A key or a token that is not believed, and why.
    Refused(String),
    /// What is needed to check it could not be asked.
    Unchecked(String),
}

impl Unidentified {
    /// Why, in a word.
    pub(crate) fn reason(&self) -> &'static str {
        match self {
            Unidentified::Missing => "missing",
            Unidentified::Malformed => "malformed",
            Unidentified::Refused(_) => "refused",
            Unidentified::Unchecked(_) => "unchecked",
        }
    }
}

impl Identity {
    /// Sets identities up for a project in a folder. `development` is the key of development tokens, where they are
    /// believed.
    ///
    /// # Errors
    /// A key that is none of its algorithm, or a key set that cannot be read.
    pub fn new(project: &Project, folder: &Path, development: Option<DevelopmentKey>) -> Result<Self, IdentityError> {
        let settings = &project.identity;
        let tokens = settings.tokens.as_ref().map(|tokens| Verifier::new(tokens, folder)).transpose()?;
        let roles = settings.tokens.as_ref().map_or_else(|| vec!["roles".to_owned()], |tokens| tokens.roles.clone());
        let keys = project.keys.iter().map(|(name, key)| {
            let in_force =
                KeyInForce { name: name.as_str().into(), role: key.role.clone(), claims: Arc::new(key.claims.clone()) };
            (key.hash, ProjectKey { key: Arc::new(in_force), ends: key.ends })
        });
        Ok(Identity { anonymous: settings.anonymous.clone(), tokens, development, roles, keys: keys.collect() })
    }

    /// What a request proves by its `Authorization` header. `from` is where it comes from: whose turn it is, if nothing else
    /// tells.
    pub(crate) async fn caller(
        &self,
        authorization: Option<&str>,
        from: Option<IpAddr>,
        access_keys: &AccessKeys,
        owner_key: Option<&[u8; 32]>,
    ) -> Result<Caller, Unidentified> {
        let Some(authorization) = authorization else {
            let anonymous = self.anonymous.clone().ok_or(Unidentified::Missing)?;
            return Ok(Caller {
                roles: vec![anonymous],
                fallback: None,
                claims: Arc::default(),
                by: AuthMethod::Nothing,
                party: neighbour(from),
            });
        };
        let (scheme, credential) = authorization.split_once(' ').ok_or(Unidentified::Malformed)?;
        let credential = credential.trim();
        if !scheme.eq_ignore_ascii_case("bearer") || credential.is_empty() {
            return Err(Unidentified::Malformed);
        }
        let hash = access_keys::hash(credential);
        if owner_key.is_some_and(|owner| same(owner, &hash)) {
            let party = Party::new("key of the owner");
            return Ok(Caller {
                roles: vec![OWNER.to_owned()],
                fallback: None,
                claims: Arc::default(),
                by: AuthMethod::OwnerKey,
                party,
            });
        }
        if credential.split('.').count() == 3 {
            return self.by_token(credential, from).await;
        }
        let of_project = self.keys.get(&hash);
        let of_project = of_project.filter(|known| known.ends.is_none_or(|end| end > Timestamp::now()));
        let known = match of_project {
            Some(known) => Some(Arc::clone(&known.key)),
            None => access_keys.key(&hash).await,
        };
        match known {
            Some(key) => {
                let by = match key.role.as_deref() {
                    Some(OWNER) => AuthMethod::OwnerKey,
                    Some(_) => AuthMethod::AccessKey(Arc::clone(&key.name)),
                    None => AuthMethod::MetricsKey(Arc::clone(&key.name)),
                };
                let party = Party::new(format!("key {}", key.name));
                let (roles, claims) = (key.role.iter().cloned().collect(), Arc::clone(&key.claims));
                Ok(Caller { roles, fallback: None, claims, by, party })
            }
            None => Err(Unidentified::Refused(
                "this access key is not known here, has expired or was revoked; `puente key list` shows which are in \
                 force"
                    .to_owned(),
            )),
        }
    }

    async fn by_token(&self, text: &str, from: Option<IpAddr>) -> Result<Caller, Unidentified> {
        let header = token::Header::read(text).map_err(Unidentified::Refused)?;
        let (claims, trusts_owner) = match &self.development {
            Some(key) if header.key_id.as_deref() == Some(DevelopmentKey::ID) => {
                (key.verify(text, &header).map_err(Unidentified::Refused)?, true)
            }
            _ => {
                let Some(verifier) = &self.tokens else {
                    let text = "tokens are not believed here; `[identity.tokens]` of the project file says whose are";
                    return Err(Unidentified::Refused(text.to_owned()));
                };
                (verifier.verify(text, &header).await?, verifier.owner)
            }
        };
        let mut roles = texts_at(&claims, &self.roles);
        roles.retain(|role| role != OWNER || trusts_owner);
        if let Some(path) = self.tokens.as_ref().and_then(|verifier| verifier.main_role.as_ref()) {
            let wanted = texts_at(&claims, path);
            if let Some(at) = wanted.first().and_then(|wanted| roles.iter().position(|role| role == wanted)) {
                roles.swap(0, at);
            }
        }
        let subject = claims.get("sub").and_then(Json::as_str).unwrap_or_default().to_owned();
        let party = if subject.is_empty() { neighbour(from) } else { Party::new(format!("token {subject}")) };
        let fallback = self.tokens.as_ref().and_then(|verifier| verifier.fallback_role.clone());
        Ok(Caller { roles, fallback, claims: Arc::new(claims), by: AuthMethod::Token(subject), party })
    }
}

/// Who comes from an address. Of the newer kind, somebody mostly has all that begin with the same 64 bits.
fn neighbour(from: Option<IpAddr>) -> Party {
    match from {
        None => Party::new("from nowhere"),
        Some(IpAddr::V4(address)) => Party::new(format!("from {address}")),
        Some(IpAddr::V6(address)) => {
            let [a, b, c, d, ..] = address.segments();
            Party::new(format!("from {a:x}:{b:x}:{c:x}:{d:x}"))
        }
    }
}

/// The texts at a path of claims: one, or a list of them.
fn texts_at(claims: &Map<String, Json>, path: &[String]) -> Vec<String> {
    match claim_at(claims, path) {
        Some(Json::String(text)) => vec![text.clone()],
        Some(Json::Array(items)) => items.iter().filter_map(Json::as_str).map(str::to_owned).collect(),
        _ => Vec::new(),
    }
}

impl Caller {
    /// Whose turn it is.
    pub(crate) fn party(&self) -> &Party {
        &self.party
    }

    /// The roles that it may ask as.
    pub(crate) fn roles(&self) -> &[String] {
        &self.roles
    }

    /// The claims that are believed.
    pub(crate) fn claims(&self) -> &Map<String, Json> {
        &self.claims
    }

    /// How it is known.
    pub(crate) fn by(&self) -> &AuthMethod {
        &self.by
    }

    /// Is it the owner, by an access key of its own?
    pub(crate) fn is_owner(&self) -> bool {
        self.by == AuthMethod::OwnerKey
    }

    /// May it read counters?
    pub(crate) fn reads_counters(&self) -> bool {
        matches!(self.by, AuthMethod::OwnerKey | AuthMethod::MetricsKey(_))
    }

    /// The caller as one of its roles, or as whom `extensions.as` says. `exists` tells whether there is such a role here:
    /// tokens name roles of other services, too.
    ///
    /// # Errors
    /// `ROLE_REFUSED` for what it may not be, `INVALID_REQUEST` for what cannot be understood.
    pub(crate) fn asking_as(&self, wanted: Option<&Json>, exists: &dyn Fn(&str) -> bool) -> Result<Principal, Problem> {
        let refused = |text: String| Err(Problem::new(Code::RoleRefused, text));
        let with = |role: &str| Principal {
            role: role.to_owned(),
            claims: Arc::clone(&self.claims),
            by: self.by.clone(),
            party: self.party.clone(),
        };
        let is_owner = self.is_owner();
        let first = self.roles.iter().find(|role| exists(role)).or(self.fallback.as_ref());
        match wanted {
            None | Some(Json::Null) => match first {
                Some(role) => Ok(with(role)),
                None => refused("there is no role here among those of this token or key".to_owned()),
            },
            Some(Json::String(role)) if self.roles.contains(role) || first == Some(role) => Ok(with(role)),
            Some(Json::String(role)) if is_owner => Ok(as_another(role, Map::new(), self.party.clone())),
            Some(Json::String(role)) => Err(not_among(role, &self.roles)),
            Some(Json::Object(_)) if !is_owner => {
                refused("to ask with claims of one's own takes the owner's access key".to_owned())
            }
            Some(Json::Object(members)) => {
                let unknown = members.keys().find(|name| !matches!(name.as_str(), "role" | "claims"));
                let role = members.get("role").and_then(Json::as_str);
                let claims = match members.get("claims") {
                    None | Some(Json::Null) => Some(Map::new()),
                    Some(claims) => claims.as_object().cloned(),
                };
                match (unknown, role, claims) {
                    (None, Some(role), Some(claims)) => Ok(as_another(role, claims, self.party.clone())),
                    _ => Err(not_understood()),
                }
            }
            Some(_) => Err(not_understood()),
        }
    }
}

/// The problem of a role that is none of a token's, or a key's.
fn not_among(role: &str, own: &[String]) -> Problem {
    const MOST_TOLD: usize = 10;
    let role = shortened(role, 100);
    let own: Vec<String> = own.iter().take(MOST_TOLD).map(|name| format!("`{}`", shortened(name, 100))).collect();
    let text = match own.as_slice() {
        [] => format!("`{role}` is not a role that you can ask as: this token or key has none"),
        own => format!(
            "`{role}` is not among the roles of this token or key, which are {}; ask as one of them",
            own.join(", ")
        ),
    };
    Problem::new(Code::RoleRefused, text)
}

/// The owner as another.
fn as_another(role: &str, claims: Map<String, Json>, party: Party) -> Principal {
    Principal { role: role.to_owned(), claims: Arc::new(claims), by: AuthMethod::OwnerKeyAs, party }
}

fn not_understood() -> Problem {
    let text = "`extensions.as` takes a role, such as \"warden\", or for the owner's access key an object such as \
                {\"role\": \"warden\", \"claims\": {\"sub\": \"7\"}}";
    Problem::new(Code::InvalidRequest, text)
}

/// Are two hashes the same? Takes the same time wherever they differ.
fn same(one: &[u8; 32], other: &[u8; 32]) -> bool {
    one.iter().zip(other).fold(0, |difference, (a, b)| difference | (a ^ b)) == 0
}
