//! From a caller's JSON or GraphQL literal to the cell that is bound to a statement: input coercion of leaf values.

use apollo_compiler::ast::Value;
use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;
use serde_json::Value as Json;

use super::output::{excerpt, is_decimal, is_uuid};
use super::{Cell, Form, Scalar, Unfit, temporal};
use crate::error::shortened;

/// Coerces a JSON value to the scalar, in the form in which the column stores it.
///
/// # Errors
/// [`Unfit`] where the value is not one of the scalar; null never is.
pub fn cell_from_json(scalar: Scalar, form: Form, value: &Json) -> Result<Cell, Unfit> {
    let refuse = || Unfit::new(describe(scalar), describe_json(value));
    match (scalar, value) {
        (Scalar::Boolean, Json::Bool(value)) => Ok(Cell::Integer(i64::from(*value))),
        (Scalar::Int, Json::Number(number)) => {
            integral(number).filter(|value| i32::try_from(*value).is_ok()).map(Cell::Integer).ok_or_else(refuse)
        }
        (Scalar::BigInt, Json::Number(number)) => big_integer(&number.to_string(), form).ok_or_else(refuse),
        (Scalar::BigInt, Json::String(text)) => big_integer(text, form).ok_or_else(refuse),
        (Scalar::Float, Json::Number(number)) => {
            number.as_f64().filter(|value| value.is_finite()).map(Cell::Real).ok_or_else(refuse)
        }
        (Scalar::Decimal, Json::Number(number)) if is_decimal(&number.to_string()) => {
            Ok(Cell::Text(number.to_string()))
        }
        (Scalar::Bytes, Json::String(text)) => STANDARD.decode(text).map(Cell::Blob).map_err(|_| refuse()),
        (_, Json::String(text)) => cell_from_text(scalar, form, text).ok_or_else(refuse),
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
fn big_integer(text: &str, form: Form) -> Option<Cell> {
    if let Ok(value) = text.parse() {
        return Some(Cell::Integer(value));
    }
    (form == Form::Unsigned && text.parse::<u64>().is_ok()).then(|| Cell::Text(text.to_owned()))
}

fn cell_from_text(scalar: Scalar, form: Form, text: &str) -> Option<Cell> {
    let day_and_time = |date: &str, time: &str, zone: &str| {
        let separator = if form == Form::WithT { 'T' } else { ' ' };
        Cell::Text(format!("{date}{separator}{}{zone}", temporal::with_seconds(time)))
    };
    match scalar {
        Scalar::String => Some(Cell::Text(text.to_owned())),
        Scalar::Decimal => is_decimal(text).then(|| Cell::Text(text.to_owned())),
        Scalar::Date => temporal::is_date(text).then(|| Cell::Text(text.to_owned())),
        Scalar::Time => temporal::is_time(text).then(|| Cell::Text(temporal::with_seconds(text))),
        Scalar::LocalDateTime => temporal::split_local(text).map(|(date, time)| day_and_time(date, time, "")),
        Scalar::DateTime => temporal::split_instant(text).map(|(date, time)| day_and_time(&date, &time, "Z")),
        Scalar::Duration => temporal::is_duration(text).then(|| Cell::Text(text.to_owned())),
        Scalar::Uuid if is_uuid(text) => Some(match form {
            Form::Binary => Cell::Blob(uuid_bytes(text)),
            Form::UpperCase => Cell::Text(text.to_ascii_uppercase()),
            _ => Cell::Text(text.to_ascii_lowercase()),
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

    fn cell(scalar: Scalar, value: Json) -> Option<Cell> {
        cell_from_json(scalar, Form::Usual, &value).ok()
    }

    #[test]
    fn leaf_values_are_coerced_by_their_type() {
        assert_eq!(cell(Scalar::Int, json!(7)), Some(Cell::Integer(7)));
        assert_eq!(cell(Scalar::Int, json!(7.0)), Some(Cell::Integer(7)));
        assert_eq!(cell(Scalar::Int, json!("7")), None);
        assert_eq!(cell(Scalar::Int, json!(2_147_483_648_i64)), None);
        assert_eq!(cell(Scalar::BigInt, json!("9223372036854775807")), Some(Cell::Integer(i64::MAX)));
        assert_eq!(cell(Scalar::BigInt, json!(1.5)), None);
        assert_eq!(cell(Scalar::Decimal, json!(12.5)), Some(Cell::Text("12.5".into())));
        assert_eq!(cell(Scalar::Decimal, json!("1e3")), None);
        assert_eq!(cell(Scalar::Boolean, json!(true)), Some(Cell::Integer(1)));
        assert_eq!(cell(Scalar::Boolean, json!(1)), None);
        assert_eq!(cell(Scalar::Date, json!("2026-02-30")), None);
        assert_eq!(cell(Scalar::Bytes, json!("AP8=")), Some(Cell::Blob(vec![0, 255])));
        assert_eq!(cell(Scalar::String, json!(null)), None);
    }

    #[test]
    fn values_take_the_form_in_which_the_column_stores_them() {
        let local = json!("2026-07-14T08:30");
        let usual = cell_from_json(Scalar::LocalDateTime, Form::Usual, &local).unwrap();
        assert_eq!(usual, Cell::Text("2026-07-14 08:30:00".into()));
        let with_t = cell_from_json(Scalar::LocalDateTime, Form::WithT, &local).unwrap();
        assert_eq!(with_t, Cell::Text("2026-07-14T08:30:00".into()));
        let uuid = json!("AAAAAAAA-0000-0000-0000-000000000001");
        let binary = cell_from_json(Scalar::Uuid, Form::Binary, &uuid).unwrap();
        assert!(matches!(binary, Cell::Blob(bytes) if bytes.len() == 16 && bytes[0] == 0xaa));
    }
}
