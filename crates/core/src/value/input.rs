//! From a caller's JSON or GraphQL literal to the cell that is bound to a statement: input coercion of leaf values.

use apollo_compiler::ast::Value;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::Value as Json;

use super::output::{excerpt, is_decimal, is_object_id, is_uuid};
use super::{CoercionError, Datum, Scalar, StorageFormat, temporal};
use crate::error::shortened;

/// Coerces a JSON value to the scalar, in the form in which the column stores it.
///
/// # Errors
/// [`CoercionError`] where the value is not one of the scalar; null never is.
pub fn datum_from_json(scalar: Scalar, form: StorageFormat, value: &Json) -> Result<Datum, CoercionError> {
    let refuse = || CoercionError::new(describe(scalar), describe_json(value));
    match (scalar, value) {
        (Scalar::Boolean, Json::Bool(value)) => Ok(Datum::Integer(i64::from(*value))),
        (Scalar::Int, Json::Number(number)) => {
            integral(number).filter(|value| i32::try_from(*value).is_ok()).map(Datum::Integer).ok_or_else(refuse)
        }
        (Scalar::BigInt, Json::Number(number)) => big_integer(&number.to_string(), form).ok_or_else(refuse),
        (Scalar::BigInt, Json::String(text)) => big_integer(text, form).ok_or_else(refuse),
        (Scalar::Float, Json::Number(number)) => {
            number.as_f64().filter(|value| value.is_finite()).map(Datum::Real).ok_or_else(refuse)
        }
        (Scalar::Decimal, Json::Number(number)) if is_decimal(&number.to_string()) => {
            Ok(Datum::Text(number.to_string()))
        }
        (Scalar::Bytes, Json::String(text)) => STANDARD.decode(text).map(Datum::Blob).map_err(|_| refuse()),
        (_, Json::String(text)) => datum_from_text(scalar, form, text).ok_or_else(refuse),
        _ => Err(refuse()),
    }
}

/// A literal without variables as JSON; an enum value becomes its name.
pub fn literal_to_json(value: &Value) -> Json {
    match value {
        Value::Null | Value::Variable(_) => Json::Null,
        Value::Enum(name) => Json::String(name.to_string()),
        Value::String(text) => Json::String(text.clone()),
        Value::Boolean(value) => Json::Bool(*value),
        Value::Int(number) => serde_json::from_str(number.as_str()).unwrap_or(Json::Null),
        Value::Float(number) => serde_json::from_str(number.as_str()).unwrap_or(Json::Null),
        Value::List(items) => Json::Array(items.iter().map(|item| literal_to_json(item)).collect()),
        Value::Object(members) => {
            Json::Object(members.iter().map(|(name, value)| (name.to_string(), literal_to_json(value))).collect())
        }
    }
}

/// A 64-bit integer; without a sign it may be too large for a signed one, and is then kept as its digits.
fn big_integer(text: &str, form: StorageFormat) -> Option<Datum> {
    if let Ok(value) = text.parse() {
        return Some(Datum::Integer(value));
    }
    let unsigned = matches!(form, StorageFormat::Unsigned | StorageFormat::Bits);
    (unsigned && text.parse::<u64>().is_ok()).then(|| Datum::Text(text.to_owned()))
}

fn datum_from_text(scalar: Scalar, form: StorageFormat, text: &str) -> Option<Datum> {
    let day_and_time = |date: &str, time: &str, zone: &str| {
        let separator = if matches!(form, StorageFormat::WithT | StorageFormat::JsonValue) { 'T' } else { ' ' };
        Datum::Text(format!("{date}{separator}{}{zone}", temporal::with_seconds(time)))
    };
    match scalar {
        Scalar::String => Some(Datum::Text(text.to_owned())),
        Scalar::Decimal => is_decimal(text).then(|| Datum::Text(text.to_owned())),
        Scalar::Date => temporal::is_date(text).then(|| Datum::Text(text.to_owned())),
        Scalar::Time => temporal::is_time(text).then(|| Datum::Text(temporal::with_seconds(text))),
        Scalar::LocalDateTime => temporal::split_local(text).map(|(date, time)| day_and_time(date, time, "")),
        Scalar::DateTime => temporal::split_instant(text).map(|(date, time)| day_and_time(&date, &time, "Z")),
        Scalar::Duration => temporal::is_duration(text).then(|| Datum::Text(text.to_owned())),
        Scalar::ObjectId => Some(text.to_ascii_lowercase()).filter(|text| is_object_id(text)).map(Datum::Text),
        Scalar::Uuid if is_uuid(text) => Some(match form {
            StorageFormat::Binary => Datum::Blob(uuid_bytes(text)),
            StorageFormat::UpperCase => Datum::Text(text.to_ascii_uppercase()),
            _ => Datum::Text(text.to_ascii_lowercase()),
        }),
        _ => None,
    }
}

fn uuid_bytes(text: &str) -> Vec<u8> {
    let digits: Vec<u8> = text.bytes().filter(u8::is_ascii_hexdigit).collect();
    let nibble = |byte: u8| (byte as char).to_digit(16).and_then(|n| u8::try_from(n).ok()).unwrap_or(0);
    digits.chunks(2).map(|pair| nibble(pair[0]) << 4 | nibble(pair[1])).collect()
}

/// An `Int` may be written with a zero fraction (`1.0`), as the specification allows for variables.
fn integral(number: &serde_json::Number) -> Option<i64> {
    #[expect(clippy::cast_possible_truncation, reason = "the bounds are checked first")]
    let from_float =
        || number.as_f64().filter(|v| v.fract() == 0.0 && v.abs() <= f64::from(i32::MAX) + 1.0).map(|v| v as i64);
    number.as_i64().or_else(from_float)
}

fn describe(scalar: Scalar) -> String {
    let example = match scalar {
        Scalar::BigInt => " such as \"9007199254740993\"",
        Scalar::Decimal => " such as \"12.50\"",
        Scalar::Date => " such as \"2026-07-14\"",
        Scalar::Time => " such as \"08:30:00\"",
        Scalar::DateTime => " such as \"2026-07-14T08:30:00Z\"",
        Scalar::LocalDateTime => " such as \"2026-07-14T08:30:00\"",
        Scalar::Duration => " such as \"P1DT2H30M\"",
        Scalar::ObjectId => " such as \"64b7f9c2e13d5a0012ab34cd\"",
        Scalar::Bytes => " in base64",
        _ => "",
    };
    format!("a value of type `{}`{example}", scalar.name())
}

/// A JSON value as an error message quotes it.
pub(crate) fn describe_json(value: &Json) -> String {
    match value {
        Json::Null => "null".to_owned(),
        Json::Bool(value) => format!("`{value}`"),
        Json::Number(number) => format!("`{}`", shortened(&number.to_string(), 40)),
        Json::String(text) => excerpt(text),
        Json::Array(_) => "a list".to_owned(),
        Json::Object(_) => "an object".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use serde_json::json;

    use super::*;

    fn cell(scalar: Scalar, value: Json) -> Option<Datum> {
        datum_from_json(scalar, StorageFormat::Usual, &value).ok()
    }

    #[test]
    fn leaf_values_are_coerced_by_their_type() {
        assert_eq!(cell(Scalar::Int, json!(7)), Some(Datum::Integer(7)));
        assert_eq!(cell(Scalar::Int, json!(7.0)), Some(Datum::Integer(7)));
        assert_eq!(cell(Scalar::Int, json!("7")), None);
        assert_eq!(cell(Scalar::Int, json!(2_147_483_648_i64)), None);
        assert_eq!(cell(Scalar::BigInt, json!("9223372036854775807")), Some(Datum::Integer(i64::MAX)));
        assert_eq!(cell(Scalar::BigInt, json!(1.5)), None);
        assert_eq!(cell(Scalar::Decimal, json!(12.5)), Some(Datum::Text("12.5".into())));
        assert_eq!(cell(Scalar::Decimal, json!("1e3")), None);
        assert_eq!(cell(Scalar::Boolean, json!(true)), Some(Datum::Integer(1)));
        assert_eq!(cell(Scalar::Boolean, json!(1)), None);
        assert_eq!(cell(Scalar::Date, json!("2026-02-30")), None);
        assert_eq!(cell(Scalar::Bytes, json!("AP8=")), Some(Datum::Blob(vec![0, 255])));
        assert_eq!(cell(Scalar::String, json!(null)), None);
    }

    #[test]
    fn values_take_the_form_in_which_the_column_stores_them() {
        let local = json!("2026-07-14T08:30");
        let usual = datum_from_json(Scalar::LocalDateTime, StorageFormat::Usual, &local).unwrap();
        assert_eq!(usual, Datum::Text("2026-07-14 08:30:00".into()));
        let with_t = datum_from_json(Scalar::LocalDateTime, StorageFormat::WithT, &local).unwrap();
        assert_eq!(with_t, Datum::Text("2026-07-14T08:30:00".into()));
        let uuid = json!("AAAAAAAA-0000-0000-0000-000000000001");
        let binary = datum_from_json(Scalar::Uuid, StorageFormat::Binary, &uuid).unwrap();
        assert!(matches!(binary, Datum::Blob(bytes) if bytes.len() == 16 && bytes[0] == 0xaa));
    }
}
