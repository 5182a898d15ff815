//! The address of a database, taken apart: what a file, a log or an answer may say of it, and what it may not.

/// A part of an address that is secret, with what it is called: `password`, or the name of a parameter.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct SecretPart {
    /// `password`, or the parameter's name in small letters, such as `sslpassword`.
    pub name: String,
    /// Where it is in the address: from one byte to another.
    pub at: std::ops::Range<usize>,
}

/// What is wrong with an address, whatever database it is of.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub struct Ambiguous;

impl std::fmt::Display for Ambiguous {
    fn fmt(&self, f: &mut std::fmt::Formatter<'_>) -> std::fmt::Result {
        f.write_str(
            "the address cannot be taken apart: in a password write `/` as `%2F`, `?` as `%3F`, `#` as `%23` and `@` as `%40`; \
             behind the host, `@` as `%40`",
        )
    }
}

/// Words in the names of parameters whose values are secret.
const SECRET_WORDS: [&str; 6] = ["pass", "pwd", "secret", "token", "credential", "authmechanismproperties"];

/// The secret parts of an address, in their order.
///
/// # Errors
/// Where it is not clear what of it is the password: then nothing of it may be said.
pub fn secret_parts(address: &str) -> Result<Vec<SecretPart>, Ambiguous> {
    let Some(start) = address.find("://").map(|at| at + 3) else {
        return Ok(parameters(address, 0).collect());
    };
    let rest = &address[start..];
    let end = rest.find(['/', '?', '#']).unwrap_or(rest.len());
    let (authority, behind) = rest.split_at(end);
    let mut parts = Vec::new();
    match authority.rsplit_once('@') {
        Some((login, _)) => {
            if let Some(colon) = login.find(':').filter(|colon| colon + 1 < login.len()) {
                parts.push(SecretPart { name: "password".to_owned(), at: start + colon + 1..start + login.len() });
            }
        }
        // `u:pa/ss@h`: the password goes on behind what looks like the end of the host.
        None if authority.contains(':') && behind.contains('@') => return Err(Ambiguous),
        None => {}
    }
    parts.extend(parameters(behind, start + end));
    Ok(parts)
}

/// The secret parameters of the part of an address that begins at a byte.
fn parameters(behind: &str, start: usize) -> impl Iterator<Item = SecretPart> {
    let query = behind.find('?').map_or(behind.len(), |at| at + 1);
    let mut at = start + query;
    behind[query..].split('&').filter_map(move |pair| {
        let begins = at;
        at += pair.len() + 1;
        let (name, value) = pair.split_once('=')?;
        let name = decoded(name).to_ascii_lowercase();
        let is_secret = SECRET_WORDS.iter().any(|word| name.contains(word)) && !value.is_empty();
        is_secret.then(|| SecretPart { name, at: begins + pair.len() - value.len()..begins + pair.len() })
    })
}

/// A name of a parameter without `%70` and its like.
fn decoded(name: &str) -> String {
    let bytes = name.as_bytes();
    let (mut plain, mut at) = (Vec::new(), 0);
    while at < bytes.len() {
        let digits = bytes.get(at + 1..at + 3).and_then(|digits| std::str::from_utf8(digits).ok());
        let byte = digits.filter(|_| bytes[at] == b'%').and_then(|digits| u8::from_str_radix(digits, 16).ok());
        plain.push(byte.unwrap_or(bytes[at]));
        at += if byte.is_some() { 3 } else { 1 };
    }
    String::from_utf8_lossy(&plain).into_owned()
}

/// An address as it may be shown: with `…` for what is secret in it, and for all of it behind the scheme where that is not clear.
pub fn shown(address: &str) -> String {
    let Ok(parts) = secret_parts(address) else {
        return format!("{}://…", address.split("://").next().unwrap_or_default());
    };
    let mut shown = address.to_owned();
    for part in parts.iter().rev().filter(|part| is_stated(&address[part.at.clone()])) {
        shown.replace_range(part.at.clone(), "…");
    }
    shown
}

/// Is a text more than a variable of the environment?
pub(super) fn is_stated(text: &str) -> bool {
    let text = text.trim();
    !(text.starts_with("${") && text.ends_with('}') && text.matches("${").count() == 1)
}

/// Is something secret in an address that is more than a variable of the environment?
pub fn states_secret(address: &str) -> bool {
    match secret_parts(address) {
        Ok(parts) => parts.iter().any(|part| is_stated(&address[part.at.clone()])),
        Err(Ambiguous) => true,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[rstest::rstest]
    #[case("postgres://u:hush@h/d", "postgres://u:…@h/d")]
    #[case("postgres://u:${PW}@h/d", "postgres://u:${PW}@h/d")]
    #[case("postgres://u@h/d?password=hush&x=1", "postgres://u@h/d?password=…&x=1")]
    #[case("postgres://u@h/d?sslPassword=hush", "postgres://u@h/d?sslPassword=…")]
    #[case("postgres://u@h/d?pass%77ord=hush", "postgres://u@h/d?pass%77ord=…")]
    #[case("mongodb://u:pa/ss@h", "mongodb://…")]
    #[case("mongodb://u:pa?ss@h", "mongodb://…")]
    #[case(
        "mongodb://u:a@b:c@h1,h2/d?authMechanismProperties=AWS_SESSION_TOKEN:x",
        "mongodb://u:…@h1,h2/d?authMechanismProperties=…"
    )]
    #[case("mariadb://u@h:3306/d", "mariadb://u@h:3306/d")]
    #[case("sqlite:huts.db", "sqlite:huts.db")]
    #[case("sqlite:huts.db?key=1&passphrase=hush", "sqlite:huts.db?key=1&passphrase=…")]
    fn nothing_secret_is_shown(#[case] address: &str, #[case] expected: &str) {
        assert_eq!(shown(address), expected);
        assert_eq!(states_secret(address), expected.contains('…'));
    }
}
