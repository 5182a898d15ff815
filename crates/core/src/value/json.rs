//! JSON that a caller sends: read into values with a limit on how deep it is nested, whatever it says.
//!
//! The library's own reading of values gives way to members of certain names where some of its features are on, which
//! another crate of the same build may ask for: texts inside are then read anew, with a limit of their own. Here an object is
//! an object.

use std::fmt;

use serde::de::{self, DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Number, Value};

/// Levels of arrays and objects that a caller may nest.
pub const MOST_LEVELS: usize = 100;

/// Reads one JSON value.
///
/// # Errors
/// What is no JSON, with its place; what is nested deeper than [`MOST_LEVELS`].
pub fn read_json(bytes: &[u8]) -> Result<Value, serde_json::Error> {
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    let value = Levels(MOST_LEVELS).deserialize(&mut reader)?;
    reader.end()?;
    Ok(value)
}

/// Reads one JSON object.
///
/// # Errors
/// As [`read_json`]; what is no object.
pub fn read_object(bytes: &[u8]) -> Result<Map<String, Value>, serde_json::Error> {
    match read_json(bytes)? {
        Value::Object(members) => Ok(members),
        other => Err(de::Error::custom(format!("expected an object, found {}", super::describe_json(&other)))),
    }
}

/// A JSON object that comes inside something else that is deserialised, such as the claims of a token.
#[derive(Debug, Clone)]
pub struct PlainObject(pub Map<String, Value>);

impl<'de> de::Deserialize<'de> for PlainObject {
    fn deserialize<D: Deserializer<'de>>(deserializer: D) -> Result<Self, D::Error> {
        match Levels(MOST_LEVELS).deserialize(deserializer)? {
            Value::Object(members) => Ok(PlainObject(members)),
            _ => Err(de::Error::custom("expected an object")),
        }
    }
}

/// A value of at most so many levels.
#[derive(Clone, Copy)]
struct Levels(usize);

impl Levels {
    fn below<E: de::Error>(self) -> Result<Self, E> {
        let deeper = || de::Error::custom(format!("nested deeper than {MOST_LEVELS} levels"));
        self.0.checked_sub(1).map(Levels).ok_or_else(deeper)
    }
}

impl<'de> DeserializeSeed<'de> for Levels {
    type Value = Value;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Value, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for Levels {
    type Value = Value;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str("a JSON value")
    }

    fn visit_bool<E>(self, value: bool) -> Result<Value, E> {
        Ok(Value::Bool(value))
    }

    fn visit_i64<E>(self, value: i64) -> Result<Value, E> {
        Ok(Value::Number(value.into()))
    }

    fn visit_u64<E>(self, value: u64) -> Result<Value, E> {
        Ok(Value::Number(value.into()))
    }

    fn visit_f64<E>(self, value: f64) -> Result<Value, E> {
        Ok(Number::from_f64(value).map_or(Value::Null, Value::Number))
    }

    fn visit_str<E>(self, value: &str) -> Result<Value, E> {
        Ok(Value::String(value.to_owned()))
    }

    fn visit_string<E>(self, value: String) -> Result<Value, E> {
        Ok(Value::String(value))
    }

    fn visit_unit<E>(self) -> Result<Value, E> {
        Ok(Value::Null)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, mut items: A) -> Result<Value, A::Error> {
        let below = self.below()?;
        let mut array = Vec::new();
        while let Some(item) = items.next_element_seed(below)? {
            array.push(item);
        }
        Ok(Value::Array(array))
    }

    fn visit_map<A: MapAccess<'de>>(self, mut members: A) -> Result<Value, A::Error> {
        let below = self.below()?;
        let mut object = Map::new();
        while let Some(name) = members.next_key::<String>()? {
            object.insert(name, members.next_value_seed(below)?);
        }
        Ok(Value::Object(object))
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn what_is_read_is_what_the_library_reads() {
        let text = r#" {"a": [1, -2, 2.5, 1e300, 18446744073709551615, true, null, "x\u00e9"], "b": {}, "a": 3} "#;
        assert_eq!(read_json(text.as_bytes()).unwrap(), serde_json::from_str::<Value>(text).unwrap());
        for wrong in ["", "{", "[1,]", "{\"a\"}", "nul", "1 2", "\u{feff}1", "[1e999]"] {
            assert!(read_json(wrong.as_bytes()).is_err(), "{wrong}");
        }
        assert!(read_object(b"[]").unwrap_err().to_string().contains("expected an object"));
    }

    #[test]
    fn no_member_name_opens_a_door_to_deeper_levels() {
        let deep = |levels: usize, inner: &str| format!("{}{inner}{}", "[".repeat(levels), "]".repeat(levels));
        assert!(read_json(deep(MOST_LEVELS, "").as_bytes()).is_ok());
        assert!(read_json(deep(MOST_LEVELS + 1, "").as_bytes()).unwrap_err().to_string().contains("deeper than 100"));
        let mut text = deep(90, "1");
        for _ in 0..10 {
            let quoted = serde_json::to_string(&text).unwrap();
            text = deep(90, &format!("{{\"$serde_json::private::RawValue\": {quoted}}}"));
        }
        let mut value = &read_json(text.as_bytes()).unwrap();
        while let Value::Array(items) = value {
            value = &items[0];
        }
        assert!(value["$serde_json::private::RawValue"].is_string(), "a text stays a text");
    }
}
