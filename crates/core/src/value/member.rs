//! Parts of JSON that a source stores, written as values of the API: checked against the scalar, never guessed.
//!
//! A source delivers such a part as it is written in JSON. Numbers are numbers there, and texts texts: what is of another type
//! does not fit, also where its characters would.

use std::borrow::Cow;

use super::json_text::{STORED_LEVELS, past_list, past_value};
use super::output::{decimal_digits, excerpt, write_scalar};
use super::{CoercionError, DatumRef, Scalar};

/// Digits of a number in an error.
const MOST_DIGITS: usize = 40;

/// What a scalar is written as in JSON that a source stores.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum JsonType {
    /// `true` or `false`
    Boolean,
    /// A number without a fraction, of 64 bits at most.
    Integer,
    /// A number.
    Number,
    /// A text.
    Text,
    /// Whatever there is.
    Any,
}

impl Scalar {
    /// How stored JSON has it.
    pub fn json_type(self) -> JsonType {
        match self {
            Scalar::Boolean => JsonType::Boolean,
            Scalar::Int | Scalar::BigInt => JsonType::Integer,
            Scalar::Float | Scalar::Decimal => JsonType::Number,
            Scalar::String
            | Scalar::Date
            | Scalar::Time
            | Scalar::DateTime
            | Scalar::LocalDateTime
            | Scalar::Duration
            | Scalar::Uuid
            | Scalar::ObjectId
            | Scalar::Bytes => JsonType::Text,
            Scalar::Json => JsonType::Any,
        }
    }
}

/// Appends a part of stored JSON as a value of `scalar`. Null, and what is not there, is written as `null`.
///
/// # Errors
/// [`CoercionError`] where it is not one of the scalar; then nothing was appended.
pub fn write_json_scalar(out: &mut Vec<u8>, scalar: Scalar, json: &[u8]) -> Result<(), CoercionError> {
    let json = json.trim_ascii();
    let unfit = || CoercionError::new(expected(scalar), describe_stored(json));
    match (scalar.json_type(), json.first()) {
        (_, None) => return Err(unfit()),
        (_, Some(b'n')) if json == b"null" => out.extend_from_slice(json),
        (JsonType::Any, _) => out.extend_from_slice(json),
        (JsonType::Boolean, Some(b't' | b'f')) => out.extend_from_slice(json),
        (JsonType::Text, Some(b'"')) if scalar == Scalar::String && is_plain_string(json) => {
            out.extend_from_slice(json)
        }
        (JsonType::Text, Some(b'"')) => {
            let text: Cow<'_, str> = serde_json::from_slice::<String>(json).map(Cow::Owned).map_err(|_| unfit())?;
            write_scalar(out, scalar, DatumRef::Text(text.as_bytes())).map_err(|_| unfit())?;
        }
        // As it is: what so few digits say fits.
        (JsonType::Integer, _) if scalar == Scalar::Int && is_short_whole(json) => out.extend_from_slice(json),
        (JsonType::Integer, Some(b'-' | b'0'..=b'9')) => {
            let value = integer(json).ok_or_else(unfit)?;
            write_scalar(out, scalar, DatumRef::Integer(value)).map_err(|_| unfit())?;
        }
        (JsonType::Number, Some(b'-' | b'0'..=b'9')) => {
            let text = std::str::from_utf8(json).map_err(|_| unfit())?;
            let value: f64 = text.parse().map_err(|_| unfit())?;
            match scalar {
                _ if !value.is_finite() => return Err(unfit()),
                Scalar::Float => out.extend_from_slice(json),
                _ if write_scalar(out, scalar, DatumRef::Text(json)).is_ok() => {}
                _ => write_scalar(out, scalar, DatumRef::Text(decimal_digits(value).as_bytes()))?,
            }
        }
        _ => return Err(unfit()),
    }
    Ok(())
}

/// Is it a whole number of so few digits that any integer type holds it?
fn is_short_whole(json: &[u8]) -> bool {
    const DIGITS: usize = 9;
    json.len() <= DIGITS && json.iter().all(u8::is_ascii_digit)
}

/// Appends a list in stored JSON as a list of values of `scalar`.
///
/// # Errors
/// [`CoercionError`] where it is not a list, or where one of its items is not one of the scalar; then nothing was appended.
pub fn write_json_list(out: &mut Vec<u8>, scalar: Scalar, json: &[u8]) -> Result<(), CoercionError> {
    let json = json.trim_ascii();
    if json == b"null" {
        out.extend_from_slice(json);
        return Ok(());
    }
    let (mark, mut unfit) = (out.len(), None);
    let end = past_list(json, 0, STORED_LEVELS, |at, levels| {
        out.push(if out.len() == mark { b'[' } else { b',' });
        let end = past_value(json, at, levels)?;
        match write_json_scalar(out, scalar, &json[at..end]) {
            Ok(()) => Some(end),
            Err(error) => {
                unfit = Some(error);
                None
            }
        }
    });
    if end != Some(json.len()) {
        out.truncate(mark);
        let found = if json.first() == Some(&b'[') { "what is not JSON".to_owned() } else { describe_stored(json) };
        return Err(unfit.unwrap_or_else(|| CoercionError::new(format!("a list of {}", scalar.name()), found)));
    }
    if out.len() == mark {
        out.push(b'[');
    }
    out.push(b']');
    Ok(())
}

/// A number without a fraction, also where it is written with one of zeros or with an exponent.
fn integer(json: &[u8]) -> Option<i64> {
    let text = std::str::from_utf8(json).ok()?;
    if let Ok(value) = text.parse() {
        return Some(value);
    }
    let value: f64 = text.parse().ok()?;
    // Beyond that a double is not exact.
    const MOST: f64 = 9_007_199_254_740_992.0;
    #[expect(clippy::cast_possible_truncation, reason = "it is a whole number that fits")]
    (value.fract() == 0.0 && value.abs() <= MOST).then_some(value as i64)
}

/// Is it a string that is written as the API writes it: without escapes, of ASCII?
fn is_plain_string(json: &[u8]) -> bool {
    let inner = json.len().checked_sub(1).and_then(|end| json.get(1..end));
    inner.is_some_and(|inner| inner.iter().all(|byte| (0x20..0x80).contains(byte) && !matches!(byte, b'"' | b'\\')))
}

fn expected(scalar: Scalar) -> String {
    match scalar {
        Scalar::Boolean => "true or false".to_owned(),
        Scalar::Int => "an integer of 32 bits".to_owned(),
        other => format!("a {}", other.name()),
    }
}

/// The type of stored JSON, for an error: of what nobody was granted no more is told.
pub(crate) fn type_of_stored(json: &[u8]) -> &'static str {
    match json.first() {
        Some(b'{') => "an object",
        Some(b'[') => "a list",
        Some(b'"') => "a text",
        Some(b'-' | b'0'..=b'9') => "a number",
        Some(b't' | b'f') => "true or false",
        _ => "what is not JSON",
    }
}

/// What stored JSON is, for an error: its type, and what identifies it where it is a single value.
pub(crate) fn describe_stored(json: &[u8]) -> String {
    let text = String::from_utf8_lossy(json);
    match json.first() {
        Some(b'{') => "an object".to_owned(),
        Some(b'[') => "a list".to_owned(),
        Some(b'"') => {
            let inner = serde_json::from_slice::<String>(json).unwrap_or_default();
            format!("the text {}", excerpt(&inner))
        }
        Some(b'-' | b'0'..=b'9') => format!("the number {}", crate::error::shortened(&text, MOST_DIGITS)),
        Some(b't' | b'f') => text.into_owned(),
        _ => "what is not JSON".to_owned(),
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case(Scalar::Int, "5", Ok("5"))]
    #[case(Scalar::Int, "5.0", Ok("5"))]
    #[case(Scalar::Int, "5e2", Ok("500"))]
    #[case(Scalar::Int, "5.5", Err("the number 5.5"))]
    #[case(Scalar::Int, "5000000000", Err("the number 5000000000"))]
    #[case(Scalar::Int, "\"5\"", Err("the text \"5\""))]
    #[case(Scalar::BigInt, "9223372036854775807", Ok("\"9223372036854775807\""))]
    #[case(Scalar::BigInt, "9223372036854775808", Err("the number 9223372036854775808"))]
    #[case(Scalar::Float, "0.10", Ok("0.10"))]
    #[case(Scalar::Float, "1e400", Err("the number 1e400"))]
    #[case(Scalar::Decimal, "12.50", Ok("\"12.50\""))]
    #[case(Scalar::Decimal, "1.5e3", Ok("\"1500\""))]
    #[case(Scalar::Boolean, "true", Ok("true"))]
    #[case(Scalar::Boolean, "1", Err("the number 1"))]
    #[case(Scalar::String, "\"plain\"", Ok("\"plain\""))]
    #[case(Scalar::String, "\"a\\u00e9\\n\"", Ok("\"aé\\n\""))]
    #[case(Scalar::String, "12", Err("the number 12"))]
    #[case(Scalar::String, "{\"a\": 1}", Err("an object"))]
    #[case(Scalar::Date, "\"2026-07-14\"", Ok("\"2026-07-14\""))]
    #[case(Scalar::Date, "\"soon\"", Err("the text \"soon\""))]
    #[case(Scalar::Date, "[1]", Err("a list"))]
    #[case(Scalar::DateTime, "\"2026-07-14T08:30:00Z\"", Ok("\"2026-07-14T08:30:00Z\""))]
    #[case(Scalar::Json, " {\"a\": [1.10]} ", Ok("{\"a\": [1.10]}"))]
    #[case(Scalar::String, "null", Ok("null"))]
    #[case(Scalar::Int, "", Err("what is not JSON"))]
    fn stored_json_is_written_where_it_fits(
        #[case] scalar: Scalar,
        #[case] json: &str,
        #[case] expected: Result<&str, &str>,
    ) {
        let mut out = Vec::new();
        let written = write_json_scalar(&mut out, scalar, json.as_bytes());
        let told = written.map(|()| String::from_utf8(out.clone()).unwrap()).map_err(|unfit| unfit.found);
        assert_eq!(told.as_deref().map_err(String::as_str), expected);
        assert!(expected.is_ok() || out.is_empty(), "nothing is appended on failure");
    }
}
