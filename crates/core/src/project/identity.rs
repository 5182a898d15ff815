//! `[identity]`: how it is known who is asking.

use super::Secret;
use super::address::is_stated;
use super::reader::{Reader, Section};

/// How it is known who is asking.
#[derive(Debug, Clone, Default, PartialEq, Eq)]
pub struct Identity {
    /// The role of who says nothing; absent, they are refused.
    pub anonymous: Option<String>,
    /// Whose tokens are believed.
    pub tokens: Option<Tokens>,
}

/// `[identity.tokens]`: JSON Web Tokens (RFC 7519) that are believed.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Tokens {
    /// The `iss` that a token must have.
    pub issuer: String,
    /// The `aud` that a token must be for.
    pub audience: String,
    /// What signatures are checked with.
    pub key: TokenKey,
    /// Seconds by which clocks may differ.
    pub leeway_seconds: u64,
    /// Where in the token its roles are: the names of members, from the outside in.
    pub roles: Vec<String>,
    /// Where in the token the role is that asks where none is chosen; absent, the first of the roles.
    pub main_role: Option<Vec<String>>,
    /// The role of a token that names none; absent, such a token is refused.
    pub fallback_role: Option<String>,
    /// May a token name `owner` among its roles?
    pub owner: bool,
}

/// What signatures are checked with.
#[derive(Debug, Clone, PartialEq, Eq)]
pub enum TokenKey {
    /// One key: of this algorithm (RFC 7518, section 3), a secret or a public key in PEM.
    Key {
        /// `HS256`, `RS256`, ….
        algorithm: String,
        /// The secret, or the PEM text.
        key: Secret,
    },
    /// A set of keys (RFC 7517) at an address.
    SetAt(String),
    /// One in a file, by its path in the project folder.
    SetIn(String),
}

/// The signature algorithms that tokens may have.
pub const ALGORITHMS: &[&str] =
    &["HS256", "HS384", "HS512", "RS256", "RS384", "RS512", "PS256", "PS384", "PS512", "ES256", "ES384", "EdDSA"];

/// The fewest bytes of a secret that signs tokens: those of the shortest digest.
const SHORTEST_SECRET: usize = 32;

pub(super) fn read_identity(reader: &mut Reader<'_>, section: &Section) -> Identity {
    reader.only(section, &["anonymous", "tokens"]);
    let tokens = reader.section(section, "tokens").and_then(|section| read_tokens(reader, &section));
    Identity { anonymous: reader.text(section, "anonymous"), tokens }
}

fn read_tokens(reader: &mut Reader<'_>, section: &Section) -> Option<Tokens> {
    let known = [
        "issuer",
        "audience",
        "algorithm",
        "key",
        "key_set",
        "leeway_seconds",
        "roles",
        "main_role",
        "fallback_role",
        "owner",
    ];
    reader.only(section, &known);
    for (key, remedy) in [("issuer", "the `iss` of tokens"), ("audience", "the `aud` of tokens")] {
        if !section.has(key) {
            reader.missing(section, key, remedy);
        }
    }
    let key = match (section.has("key"), section.has("key_set")) {
        (true, true) => {
            reader.mistake_at(section, "key_set", "`key` and `key_set` exclude each other; leave one out");
            None
        }
        (false, false) => {
            reader.missing(section, "key", "what signatures are checked with; or `key_set`, a file or an address");
            None
        }
        (true, false) => read_key(reader, section),
        (false, true) => {
            if section.has("algorithm") {
                reader.mistake_at(section, "algorithm", "each key of a key set names its own algorithm; leave it out");
            }
            let place = reader.text(section, "key_set")?;
            let loopback = ["http://localhost", "http://127.0.0.1", "http://[::1]"];
            let is_loopback = loopback.iter().any(|start| {
                place.strip_prefix(start).is_some_and(|rest| rest.is_empty() || rest.starts_with([':', '/']))
            });
            if place.starts_with("https://") || is_loopback {
                Some(TokenKey::SetAt(place))
            } else if place.starts_with("http://") {
                let text = "a key set is fetched over https; plain http is for this machine's own addresses";
                reader.mistake_at(section, "key_set", text);
                return None;
            } else {
                Some(TokenKey::SetIn(place))
            }
        }
    };
    let path = |reader: &mut Reader<'_>, key: &str| {
        section.has(key).then(|| {
            if section.is_text(key) {
                reader.text(section, key).into_iter().collect()
            } else {
                reader.texts(section, key)
            }
        })
    };
    let roles = path(reader, "roles").unwrap_or_else(|| vec!["roles".to_owned()]);
    if roles.is_empty() {
        reader.mistake_at(section, "roles", "`roles` expects the name of a claim, or a list of names that leads to it");
    }
    Some(Tokens {
        issuer: reader.text(section, "issuer")?,
        audience: reader.text(section, "audience")?,
        leeway_seconds: reader.number(section, "leeway_seconds", 0, 600).unwrap_or(30),
        roles,
        main_role: path(reader, "main_role"),
        fallback_role: reader.text(section, "fallback_role"),
        owner: reader.flag(section, "owner"),
        key: key?,
    })
}

fn read_key(reader: &mut Reader<'_>, section: &Section) -> Option<TokenKey> {
    if !section.has("algorithm") {
        let text = format!("the one algorithm of the key, one of {}", ALGORITHMS.join(", "));
        reader.missing(section, "algorithm", &text);
        return None;
    }
    let algorithm = reader.text(section, "algorithm")?;
    if !ALGORITHMS.contains(&algorithm.as_str()) {
        let text = format!("`{algorithm}` is not an algorithm for tokens; expected one of {}", ALGORITHMS.join(", "));
        reader.mistake_at(section, "algorithm", text);
        return None;
    }
    let Secret(key) = if algorithm.starts_with("HS") {
        reader.secret(section, "key", is_stated)?
    } else {
        // A public key is not a secret.
        Secret(reader.text(section, "key")?)
    };
    if key.starts_with(super::UNSET) {
        // Whoever needs it has it.
    } else if algorithm.starts_with("HS") {
        if key.len() < SHORTEST_SECRET {
            let text = format!(
                "the secret has {} bytes and needs {SHORTEST_SECRET}; `openssl rand -hex 32` makes one",
                key.len()
            );
            reader.mistake_at(section, "key", text);
        } else if key.contains("-----BEGIN") {
            let text = format!("`{algorithm}` takes a secret, and this is a key in PEM: anybody could sign with it");
            reader.mistake_at(section, "key", text);
        }
    } else if !key.contains("-----BEGIN") {
        let text = format!("`{algorithm}` takes a public key in PEM, which begins with `-----BEGIN`");
        reader.mistake_at(section, "key", text);
    }
    Some(TokenKey::Key { algorithm, key: Secret(key) })
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use crate::project::read;

    #[rstest]
    #[case("key = \"short\"\nalgorithm = \"HS256\"", "needs 32")]
    #[case("key = \"0123456789abcdef0123456789abcdef\"", "lacks `algorithm`")]
    #[case("key = \"0123456789abcdef0123456789abcdef\"\nalgorithm = \"none\"", "not an algorithm for tokens")]
    #[case("key = \"0123456789abcdef0123456789abcdef\"\nalgorithm = \"RS256\"", "public key in PEM")]
    #[case("key = \"-----BEGIN PUBLIC KEY-----0123456789\"\nalgorithm = \"HS256\"", "anybody could sign")]
    #[case("key_set = \"http://keys.example/set\"", "over https")]
    #[case("key_set = \"http://localhost.evil.example/set\"", "over https")]
    #[case("key_set = \"keys.json\"\nalgorithm = \"RS256\"", "names its own algorithm")]
    #[case("", "lacks `key`")]
    fn what_could_not_be_trusted_is_refused_when_the_file_is_read(#[case] lines: &str, #[case] expected: &str) {
        let text = format!(
            "[source.main]\nurl = \"sqlite:h.db\"\n[identity.tokens]\nissuer = \"i\"\naudience = \"a\"\n{lines}\n"
        );
        let mistakes = read(&text, &|_| None).unwrap_err();
        assert!(mistakes.iter().any(|mistake| mistake.text.contains(expected)), "{mistakes:#?}");
    }
}
