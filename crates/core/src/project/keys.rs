//! `[key.NAME]`: access keys that every instance of the service knows, since they are in the project file: their hashes.

use indexmap::IndexMap;
use jiff::Timestamp;
use serde_json::{Map, Value as Json};
use toml_edit::{Item, Value};

use super::Place;
use super::reader::{Reader, Section};

/// `[key.NAME]`.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct KeyEdit {
    /// The SHA-256 hash of the key.
    pub hash: [u8; 32],
    /// The role that it asks as; none where it reads counters alone.
    pub role: Option<String>,
    /// The claims that it asks with.
    pub claims: Map<String, Json>,
    /// When it ends; absent, it does not.
    pub ends: Option<Timestamp>,
    /// Where in the file.
    pub place: Place,
}

/// How a hash begins, before its 64 hexadecimal digits.
const SHA_256: &str = "sha256:";

/// A hash as the file says it.
pub fn key_hash_text(hash: &[u8; 32]) -> String {
    let digits: String = hash.iter().map(|byte| format!("{byte:02x}")).collect();
    format!("{SHA_256}{digits}")
}

/// The SHA-256 hash that 64 hexadecimal digits mean; none where they are something else.
pub fn hash_of_digits(digits: &str) -> Option<[u8; 32]> {
    let is_hash = digits.len() == 64 && digits.bytes().all(|digit| digit.is_ascii_hexdigit());
    let mut hash = [0; 32];
    for (at, place) in hash.iter_mut().enumerate().filter(|_| is_hash) {
        *place = u8::from_str_radix(&digits[2 * at..2 * at + 2], 16).ok()?;
    }
    is_hash.then_some(hash)
}

fn hash_of(text: &str) -> Option<[u8; 32]> {
    text.strip_prefix(SHA_256).and_then(hash_of_digits)
}

pub(super) fn read_keys(reader: &mut Reader<'_>, root: &Section) -> IndexMap<String, KeyEdit> {
    let Some(section) = reader.section(root, "key") else { return IndexMap::new() };
    let mut keys: IndexMap<String, KeyEdit> = IndexMap::new();
    for (name, section) in reader.named_sections(&section) {
        let Some(key) = read_key(reader, &section) else { continue };
        if let Some((other, _)) = keys.iter().find(|(_, other)| other.hash == key.hash) {
            let text = format!("`{name}` has the hash of `{other}`; each key has one of its own");
            reader.mistake_at(&section, "hash", text);
        }
        keys.insert(name, key);
    }
    keys
}

fn read_key(reader: &mut Reader<'_>, section: &Section) -> Option<KeyEdit> {
    reader.only(section, &["hash", "role", "claims", "ends", "metrics"]);
    if !section.has("hash") {
        reader.missing(section, "hash", "`puente key create NAME --print` makes a key and prints its hash");
    }
    let metrics = reader.flag(section, "metrics");
    let role = reader.text(section, "role");
    match (metrics, &role) {
        (false, None) => {
            reader.missing(section, "role", "the role that it asks as; or `metrics = true` for counters alone")
        }
        (true, Some(_)) => {
            reader.mistake_at(section, "metrics", "a key for counters has no role; leave one of them out")
        }
        (false, Some(_)) | (true, None) => {}
    }
    let hash = reader.text(section, "hash")?;
    let Some(hash) = hash_of(&hash) else {
        let text = format!(
            "`hash` expects `{SHA_256}` and 64 hexadecimal digits, as `puente key create NAME --print` prints it"
        );
        reader.mistake_at(section, "hash", text);
        return None;
    };
    Some(KeyEdit {
        hash,
        role,
        claims: read_claims(reader, section),
        ends: read_end(reader, section),
        place: section.place,
    })
}

fn read_claims(reader: &mut Reader<'_>, section: &Section) -> Map<String, Json> {
    let Some(claims) = reader.value(section, "claims") else { return Map::new() };
    match claims
        .as_table_like()
        .map(|table| table.iter().map(|(name, item)| Some((name.to_owned(), json(item)?))).collect())
    {
        Some(Some(claims)) => claims,
        _ => {
            reader.mistake_at(
                section,
                "claims",
                "`claims` expects a table of texts, numbers and lists, such as { sub = \"7\" }",
            );
            Map::new()
        }
    }
}

fn read_end(reader: &mut Reader<'_>, section: &Section) -> Option<Timestamp> {
    let item = reader.value(section, "ends")?;
    let written = match &item {
        Item::Value(Value::Datetime(time)) => time.value().to_string(),
        Item::Value(Value::String(text)) => text.value().clone(),
        _ => String::new(),
    };
    // A day ends it where it begins, in UTC.
    let time = written.parse::<Timestamp>().or_else(|_| format!("{written}T00:00:00Z").parse());
    if time.is_err() {
        reader.mistake_at(
            section,
            "ends",
            "`ends` expects a day or a time with its zone, such as 2027-01-01 or 2027-01-01T08:00:00Z",
        );
    }
    time.ok()
}

/// A value of the file as JSON; none for dates, which claims do not have.
fn json(item: &Item) -> Option<Json> {
    fn of_value(value: &Value) -> Option<Json> {
        Some(match value {
            Value::String(text) => text.value().as_str().into(),
            Value::Integer(number) => (*number.value()).into(),
            Value::Float(number) => serde_json::Number::from_f64(*number.value())?.into(),
            Value::Boolean(flag) => (*flag.value()).into(),
            Value::Array(items) => Json::Array(items.iter().map(of_value).collect::<Option<_>>()?),
            Value::InlineTable(table) => {
                let members = table.iter().map(|(name, value)| Some((name.to_owned(), of_value(value)?)));
                Json::Object(members.collect::<Option<_>>()?)
            }
            Value::Datetime(_) => return None,
        })
    }
    match item {
        Item::Value(value) => of_value(value),
        Item::Table(table) => {
            let members = table.iter().map(|(name, item)| Some((name.to_owned(), json(item)?)));
            Some(Json::Object(members.collect::<Option<_>>()?))
        }
        Item::None | Item::ArrayOfTables(_) => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;
    use serde_json::json;

    use super::*;
    use crate::project::read;

    const HASH: &str = "sha256:0123456789abcdef0123456789abcdef0123456789abcdef0123456789abcdef";

    fn with(lines: &str) -> String {
        format!("[source.main]\nurl = \"sqlite:h.db\"\n[role.hiker.Hut.read]\nfields = [\"id\"]\n[key.app]\n{lines}\n")
    }

    #[test]
    fn a_key_has_a_role_claims_and_an_end() {
        let text = with(&format!(
            "hash = \"{HASH}\"\nrole = \"hiker\"\nclaims = {{ sub = \"7\", huts = [1, 2] }}\nends = 2027-01-01"
        ));
        let key = read(&text, &|_| None).unwrap().keys["app"].clone();
        assert_eq!(key_hash_text(&key.hash), HASH);
        assert_eq!(Json::Object(key.claims), json!({ "sub": "7", "huts": [1, 2] }));
        assert_eq!((key.role.as_deref(), key.ends), (Some("hiker"), Some("2027-01-01T00:00:00Z".parse().unwrap())));
    }

    #[rstest]
    #[case("role = \"hiker\"".to_owned(), "lacks `hash`")]
    #[case("hash = \"secret\"\nrole = \"hiker\"".to_owned(), "64 hexadecimal digits")]
    #[case(format!("hash = \"{HASH}\""), "lacks `role`")]
    #[case(format!("hash = \"{HASH}\"\nrole = \"hikr\""), "did you mean `hiker`?")]
    #[case(format!("hash = \"{HASH}\"\nrole = \"hiker\"\nmetrics = true"), "leave one of them out")]
    #[case(format!("hash = \"{HASH}\"\nrole = \"hiker\"\nends = \"soon\""), "expects a day or a time")]
    #[case(format!("hash = \"{HASH}\"\nrole = \"hiker\"\nclaims = {{ at = 2027-01-01 }}"), "expects a table of texts")]
    #[case(format!("hash = \"{HASH}\"\nrole = \"hiker\"\n[key.other]\nhash = \"{HASH}\"\nrole = \"owner\""), "has the hash of `app`")]
    fn what_no_key_is_told(#[case] lines: String, #[case] expected: &str) {
        let mistakes = read(&with(&lines), &|_| None).unwrap_err();
        assert!(mistakes.iter().any(|mistake| mistake.text.contains(expected)), "{mistakes:#?}");
    }
}
