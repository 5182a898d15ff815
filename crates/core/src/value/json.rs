//! JSON that a caller sends: read into values with a limit on how deep it is nested, whatever it says.
//!
//! The library's own reading of values gives way to members of certain names where some of its features are on, which
//! another crate of the same build may ask for: texts inside are then read again, with a limit of their own. Here an object is
//! an object.
//!
//! A number stays the digits that were sent: what is not a 64-bit integer the library hands over as an object of one member,
//! [`NUMBER`], whose value it owns. What a caller sends under that name is lent, and so told apart.

use std::fmt;

use serde::de::{self, DeserializeSeed, Deserializer, MapAccess, SeqAccess, Visitor};
use serde_json::{Map, Number, Value};

/// Levels of arrays and objects that a caller may nest.
pub const MOST_LEVELS: usize = 100;

/// Reads one JSON value.
///
/// # Errors
/// What is not JSON, with its place; what is nested deeper than [`MOST_LEVELS`].
pub fn read_json(bytes: &[u8]) -> Result<Value, serde_json::Error> {
    let mut reader = serde_json::Deserializer::from_slice(bytes);
    let value = Levels(MOST_LEVELS).deserialize(&mut reader)?;
    reader.end()?;
    Ok(value)
}

/// Reads one JSON object.
///
/// # Errors
/// As [`read_json`]; what is not an object.
pub fn read_object(bytes: &[u8]) -> Result<Map<String, Value>, serde_json::Error> {
    match read_json(bytes)? {
        Value::Object(members) => Ok(members),
        other => Err(de::Error::custom(format!("expected an object, found {}", super::describe_json(&other)))),
    }
}

/// Reads one JSON list.
///
/// # Errors
/// As [`read_json`]; what is not a list.
pub fn read_list(bytes: &[u8]) -> Result<Vec<Value>, serde_json::Error> {
    match read_json(bytes)? {
        Value::Array(items) => Ok(items),
        other => Err(de::Error::custom(format!("expected a list, found {}", super::describe_json(&other)))),
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

/// The one member of the object as which the library hands over a number.
const NUMBER: &str = "$serde_json::private::Number";

/// What stands under a member called [`NUMBER`].
enum Digits {
    Number(Number),
    Value(Value),
}

/// Reads it, inside an object of so many levels.
struct DigitsOrValue(Levels);

impl<'de> DeserializeSeed<'de> for DigitsOrValue {
    type Value = Digits;

    fn deserialize<D: Deserializer<'de>>(self, deserializer: D) -> Result<Digits, D::Error> {
        deserializer.deserialize_any(self)
    }
}

impl<'de> Visitor<'de> for DigitsOrValue {
    type Value = Digits;

    fn expecting(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        self.0.expecting(f)
    }

    fn visit_string<E: de::Error>(self, digits: String) -> Result<Digits, E> {
        digits.parse().map(Digits::Number).map_err(de::Error::custom)
    }

    fn visit_bool<E: de::Error>(self, value: bool) -> Result<Digits, E> {
        self.0.below::<E>()?.visit_bool(value).map(Digits::Value)
    }

    fn visit_i64<E: de::Error>(self, value: i64) -> Result<Digits, E> {
        self.0.below::<E>()?.visit_i64(value).map(Digits::Value)
    }

    fn visit_u64<E: de::Error>(self, value: u64) -> Result<Digits, E> {
        self.0.below::<E>()?.visit_u64(value).map(Digits::Value)
    }

    fn visit_str<E: de::Error>(self, value: &str) -> Result<Digits, E> {
        self.0.below::<E>()?.visit_str(value).map(Digits::Value)
    }

    fn visit_unit<E: de::Error>(self) -> Result<Digits, E> {
        self.0.below::<E>()?.visit_unit().map(Digits::Value)
    }

    fn visit_seq<A: SeqAccess<'de>>(self, items: A) -> Result<Digits, A::Error> {
        self.0.below::<A::Error>()?.visit_seq(items).map(Digits::Value)
    }

    fn visit_map<A: MapAccess<'de>>(self, members: A) -> Result<Digits, A::Error> {
        self.0.below::<A::Error>()?.visit_map(members).map(Digits::Value)
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
        let mut object = Map::new();
        let mut next = members.next_key::<String>()?;
        if next.is_none() {
            // An object without members is a level, too.
            self.below::<A::Error>()?;
        }
        while let Some(name) = next {
            if name == NUMBER {
                match members.next_value_seed(DigitsOrValue(self))? {
                    Digits::Number(number) => return Ok(Value::Number(number)),
                    Digits::Value(value) => drop(object.insert(name, value)),
                }
            } else {
                object.insert(name, members.next_value_seed(self.below()?)?);
            }
            next = members.next_key()?;
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
        for wrong in ["", "{", "[1,]", "{\"a\"}", "nul", "1 2", "\u{feff}1"] {
            assert!(read_json(wrong.as_bytes()).is_err(), "{wrong}");
        }
        assert!(read_object(b"[]").unwrap_err().to_string().contains("expected an object"));
    }

    #[test]
    fn numbers_stay_the_digits_that_were_sent() {
        let digits =
            ["0.30000000000000004", "9007199254740993", "-123456789012345678901234567890.5", "1e+999", "-0", "1.0"];
        for digits in digits {
            for text in [format!("[{digits}]"), format!("{{\"a\": {digits}}}")] {
                let value = read_json(text.as_bytes()).unwrap();
                assert!(value.to_string().contains(digits), "{value}");
            }
        }
        for sent in ["\"12\"", "\"\\u0031\"", "12", "{}", "[1]", "null"] {
            let value = read_json(format!("{{\"{NUMBER}\": {sent}, \"b\": 1}}").as_bytes()).unwrap();
            assert!(value.is_object() && value["b"] == 1, "a member of that name is a member like others: {value}");
        }
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
        assert!(read_json(deep(MOST_LEVELS - 1, "{}").as_bytes()).is_ok());
        assert!(read_json(deep(MOST_LEVELS, "{}").as_bytes()).unwrap_err().to_string().contains("deeper than 100"));
        let nested = |levels: usize| format!("{}1{}", format!("{{\"{NUMBER}\":").repeat(levels), "}".repeat(levels));
        assert!(read_json(nested(MOST_LEVELS).as_bytes()).is_ok());
        assert!(read_json(nested(MOST_LEVELS + 1).as_bytes()).unwrap_err().to_string().contains("deeper than 100"));
    }
}
