//! Sets of public keys (RFC 7517) with which tokens are checked: from a file, or fetched and fetched again when their
//! issuer changes its keys.

use std::path::Path;
use std::sync::{Arc, Mutex, PoisonError, RwLock};
use std::time::{Duration, Instant};

use jsonwebtoken::jwk::{AlgorithmParameters, EllipticCurve, Jwk, JwkSet, KeyAlgorithm, PublicKeyUse};
use jsonwebtoken::{Algorithm, DecodingKey};

use super::{IdentityError, Unidentified};

/// How long a fetched set is used without asking whether it changed.
const FRESH: Duration = Duration::from_secs(600);
/// A token with an unknown key asks for the set again at most this often.
const SELDOM: Duration = Duration::from_secs(60);
/// How long fetching may take.
const PATIENCE: Duration = Duration::from_secs(5);
/// The most bytes of a set.
const MOST_BYTES: u64 = 256 << 10;

/// One key: its name, its one algorithm, and what checks signatures.
struct Key {
    id: Option<String>,
    algorithm: Algorithm,
    decoding: Arc<DecodingKey>,
}

/// A set of keys.
pub(super) struct KeySet {
    address: Option<String>,
    keys: Arc<RwLock<Fetched>>,
    /// Held while the set is fetched, so that many tokens do not fetch it at once.
    fetching: Arc<Mutex<()>>,
}

#[derive(Default)]
struct Fetched {
    keys: Vec<Key>,
    /// When it was last fetched.
    at: Option<Instant>,
    /// When fetching was last tried.
    tried: Option<Instant>,
}

impl KeySet {
    /// The set of a file, read once.
    pub(super) fn of_file(file: &Path) -> Result<Self, IdentityError> {
        let text = std::fs::read_to_string(file)
            .map_err(|error| IdentityError(format!("the key set {} cannot be read: {error}", file.display())))?;
        let keys = read(&text).map_err(|text| IdentityError(format!("the key set {}: {text}", file.display())))?;
        let fetched = Fetched { keys, at: Some(Instant::now()), tried: None };
        Ok(KeySet { address: None, keys: Arc::new(RwLock::new(fetched)), fetching: Arc::default() })
    }

    /// The set at an address, fetched when the first token comes.
    pub(super) fn at(address: &str) -> Self {
        KeySet { address: Some(address.to_owned()), keys: Arc::default(), fetching: Arc::default() }
    }

    /// The key that a token names; the only one where it names none.
    pub(super) async fn find(&self, id: Option<&str>) -> Result<(Algorithm, Arc<DecodingKey>), Unidentified> {
        let patience = if self.known(id).is_some() { FRESH } else { SELDOM };
        // Where it cannot be fetched, what is known serves on.
        let failed = if self.is_due(patience) { self.fetch().await.err() } else { None };
        self.known(id).ok_or_else(|| match failed {
            Some(text) => Unidentified::Unchecked(text),
            None => Unidentified::Refused("the token is signed with a key that is not known here".to_owned()),
        })
    }

    fn known(&self, id: Option<&str>) -> Option<(Algorithm, Arc<DecodingKey>)> {
        let fetched = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let key = match (id, fetched.keys.as_slice()) {
            (Some(id), keys) => keys.iter().find(|key| key.id.as_deref() == Some(id)),
            (None, [only]) => Some(only),
            (None, _) => None,
        };
        key.map(|key| (key.algorithm, Arc::clone(&key.decoding)))
    }

    /// Is the set so old, and was it not tried for a while?
    fn is_due(&self, after: Duration) -> bool {
        let fetched = self.keys.read().unwrap_or_else(PoisonError::into_inner);
        let old = |at: Option<Instant>, after: Duration| at.is_none_or(|at| at.elapsed() >= after);
        self.address.is_some() && old(fetched.at, after) && old(fetched.tried, SELDOM)
    }

    async fn fetch(&self) -> Result<(), String> {
        let Some(address) = self.address.clone() else { return Ok(()) };
        let (keys, fetching) = (Arc::clone(&self.keys), Arc::clone(&self.fetching));
        let fetched = tokio::task::spawn_blocking(move || {
            let _fetching = fetching.lock().unwrap_or_else(PoisonError::into_inner);
            let write = || keys.write().unwrap_or_else(PoisonError::into_inner);
            if write().tried.is_some_and(|tried| tried.elapsed() < SELDOM) {
                // Another token fetched it while this one waited.
                return Ok(());
            }
            write().tried = Some(Instant::now());
            let found = get(&address).and_then(|text| read(&text));
            match found {
                Ok(found) => {
                    tracing::info!(target: "puente::identity", keys = found.len(), "fetched the key set");
                    let mut fetched = write();
                    fetched.keys = found;
                    fetched.at = Some(Instant::now());
                    Ok(())
                }
                Err(error) => {
                    tracing::warn!(target: "puente::identity", %error, "the key set cannot be fetched");
                    Err(error)
                }
            }
        });
        fetched.await.unwrap_or_else(|error| Err(error.to_string()))
    }
}

fn get(address: &str) -> Result<String, String> {
    let agent: ureq::Agent = ureq::Agent::config_builder()
        .timeout_global(Some(PATIENCE))
        // A redirection could lead away from what the project file names.
        .max_redirects(0)
        .build()
        .into();
    let mut answer = agent.get(address).call().map_err(|error| error.to_string())?;
    // Of a redirection, or of any other answer, the body is not what the address names.
    if answer.status() != 200 {
        return Err(format!("it answers {}, and only a set that comes with 200 is taken", answer.status().as_u16()));
    }
    answer.body_mut().with_config().limit(MOST_BYTES).read_to_string().map_err(|error| error.to_string())
}

/// How many keys the set at an address has that tokens can be checked with.
///
/// # Errors
/// Why it cannot be fetched, or used.
pub(crate) fn key_set_at(address: &str) -> Result<usize, String> {
    get(address).and_then(|text| read(&text)).map(|keys| keys.len())
}

/// The keys of a set that tokens can be checked with; the others are left out, with a word in the log.
fn read(text: &str) -> Result<Vec<Key>, String> {
    let set: JwkSet = serde_json::from_str(text).map_err(|error| format!("it is not a JSON Web Key Set: {error}"))?;
    let keys: Vec<Key> = set.keys.iter().filter_map(usable).collect();
    if keys.is_empty() {
        return Err("it has no public key that signatures of tokens are checked with".to_owned());
    }
    Ok(keys)
}

fn usable(jwk: &Jwk) -> Option<Key> {
    let id = jwk.common.key_id.clone();
    let left_out = |why: &str| {
        tracing::info!(target: "puente::identity", key = id.as_deref().unwrap_or_default(), why, "a key is left out");
    };
    if jwk.common.public_key_use.as_ref().is_some_and(|purpose| *purpose != PublicKeyUse::Signature) {
        left_out("it is not for signatures");
        return None;
    }
    let Some(algorithm) = algorithm_of(jwk) else {
        left_out("its algorithm is not taken");
        return None;
    };
    match DecodingKey::from_jwk(jwk) {
        Ok(decoding) => Some(Key { id, algorithm, decoding: Arc::new(decoding) }),
        Err(error) => {
            left_out(&error.to_string());
            None
        }
    }
}

/// The one algorithm of a key: the one that it names, where that fits its kind, else the usual one of its kind.
fn algorithm_of(jwk: &Jwk) -> Option<Algorithm> {
    let named = jwk.common.key_algorithm;
    match &jwk.algorithm {
        AlgorithmParameters::RSA(_) => match named {
            None | Some(KeyAlgorithm::RS256) => Some(Algorithm::RS256),
            Some(KeyAlgorithm::RS384) => Some(Algorithm::RS384),
            Some(KeyAlgorithm::RS512) => Some(Algorithm::RS512),
            Some(KeyAlgorithm::PS256) => Some(Algorithm::PS256),
            Some(KeyAlgorithm::PS384) => Some(Algorithm::PS384),
            Some(KeyAlgorithm::PS512) => Some(Algorithm::PS512),
            _ => None,
        },
        AlgorithmParameters::EllipticCurve(parameters) => match (&parameters.curve, named) {
            (EllipticCurve::P256, None | Some(KeyAlgorithm::ES256)) => Some(Algorithm::ES256),
            (EllipticCurve::P384, None | Some(KeyAlgorithm::ES384)) => Some(Algorithm::ES384),
            _ => None,
        },
        AlgorithmParameters::OctetKeyPair(_) => {
            matches!(named, None | Some(KeyAlgorithm::EdDSA)).then_some(Algorithm::EdDSA)
        }
        // A set that is published holds no secrets: whoever reads it could sign with them.
        AlgorithmParameters::OctetKey(_) => None,
    }
}

impl std::fmt::Debug for KeySet {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        write!(f, "KeySet({})", self.address.as_deref().unwrap_or("file"))
    }
}
