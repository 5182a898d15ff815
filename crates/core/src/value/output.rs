//! From a source's cell to JSON: checked against the scalar, never guessed.

use std::io::Write as _;

use base64::Engine as _;
use base64::engine::general_purpose::STANDARD;

use super::{CoercionError, DatumRef, Scalar, temporal};

/// Appends `cell` to `out` as a JSON value of type `scalar`. Null is written as `null`.
///
/// # Errors
/// [`CoercionError`] where the stored value is not one of the scalar; then nothing was appended.
pub fn write_scalar(out: &mut Vec<u8>, scalar: Scalar, cell: DatumRef<'_>) -> Result<(), CoercionError> {
    match (scalar, cell) {
        (_, DatumRef::Null) => out.extend_from_slice(b"null"),
        (Scalar::Boolean, DatumRef::Integer(0)) => out.extend_from_slice(b"false"),
        (Scalar::Boolean, DatumRef::Integer(1)) => out.extend_from_slice(b"true"),
        (Scalar::Int, DatumRef::Integer(value)) if i32::try_from(value).is_ok() => write_integer(out, value),
        (Scalar::Float | Scalar::Json, DatumRef::Integer(value)) => write_integer(out, value),
        (Scalar::BigInt | Scalar::Decimal, DatumRef::Integer(value)) => {
            out.push(b'"');
            write_integer(out, value);
            out.push(b'"');
        }
        (Scalar::Float | Scalar::Json, DatumRef::Real(value)) if value.is_finite() => write_real(out, value),
        (Scalar::Decimal, DatumRef::Real(value)) if value.is_finite() => {
            out.push(b'"');
            write!(out, "{}", if value == 0.0 { 0.0 } else { value }).expect("writing to memory does not fail");
            out.push(b'"');
        }
        (Scalar::Uuid, DatumRef::Blob(bytes)) if bytes.len() == 16 => write_string(out, &uuid_text(bytes)),
        (Scalar::Bytes, DatumRef::Blob(bytes)) => write_string(out, &STANDARD.encode(bytes)),
        (Scalar::String, DatumRef::Text(bytes)) if is_plain(bytes) => write_quoted(out, bytes),
        (_, DatumRef::Text(bytes)) => {
            let text = std::str::from_utf8(bytes)
                .map_err(|_| CoercionError::new(expectation(scalar), "text that is not valid UTF-8"))?;
            write_text(out, scalar, text)?;
        }
        _ => return Err(unfit(scalar, cell)),
    }
    Ok(())
}

/// Appends a list of values of the type `name`, each by `write`. Null is written as `null`.
///
/// # Errors
/// [`CoercionError`] where it is not a list, or where one of its items is not of the type; then nothing was appended.
pub fn write_list(
    out: &mut Vec<u8>,
    name: &str,
    cell: DatumRef<'_>,
    write: impl Fn(&mut Vec<u8>, DatumRef<'_>) -> Result<(), CoercionError>,
) -> Result<(), CoercionError> {
    let list = match cell {
        DatumRef::Null => {
            out.extend_from_slice(b"null");
            return Ok(());
        }
        DatumRef::List(list) => list,
        other => return Err(CoercionError::new(format!("a list of {name}"), other.describe())),
    };
    let mark = out.len();
    out.push(b'[');
    for (at, item) in list.items().enumerate() {
        if at > 0 {
            out.push(b',');
        }
        let written = match item {
            DatumRef::List(_) => Err(CoercionError::new(format!("a list of {name}"), "a list of lists")),
            item => write(out, item),
        };
        if let Err(unfit) = written {
            out.truncate(mark);
            return Err(unfit);
        }
    }
    out.push(b']');
    Ok(())
}

fn write_text(out: &mut Vec<u8>, scalar: Scalar, text: &str) -> Result<(), CoercionError> {
    let refuse = || Err(CoercionError::new(expectation(scalar), format!("the text {}", excerpt(text))));
    match scalar {
        Scalar::String => write_string(out, text),
        Scalar::Decimal if is_decimal(text) => write_plain(out, text),
        Scalar::BigInt if is_integer(text) => write_plain(out, text),
        Scalar::Duration if temporal::is_duration(text) => write_plain(out, text),
        Scalar::Date if temporal::is_date(text) => write_plain(out, text),
        Scalar::Time if temporal::is_time(text) => write_parts(out, &[text, missing_seconds(text)]),
        Scalar::LocalDateTime => match temporal::split_local(text) {
            Some((date, time)) => write_parts(out, &[date, "T", time, missing_seconds(time)]),
            None => return refuse(),
        },
        Scalar::DateTime => match temporal::split_instant(text) {
            Some((date, time)) => write_parts(out, &[&date, "T", &time, missing_seconds(&time), "Z"]),
            None => return refuse(),
        },
        Scalar::ObjectId if is_object_id(text) => write_plain(out, text),
        Scalar::Uuid if is_uuid(text) => write_string(out, &text.to_ascii_lowercase()),
        // What is stored is delivered as it is written there, once it is known to be JSON.
        Scalar::Json => match serde_json::from_str::<serde::de::IgnoredAny>(text) {
            Ok(_) => out.extend_from_slice(text.trim_ascii().as_bytes()),
            Err(_) => return refuse(),
        },
        _ => return refuse(),
    }
    Ok(())
}

fn unfit(scalar: Scalar, cell: DatumRef<'_>) -> CoercionError {
    let found = match cell {
        DatumRef::Integer(value) => format!("the integer {value}"),
        DatumRef::Real(value) => format!("the number {value}"),
        other => other.describe().to_owned(),
    };
    CoercionError::new(expectation(scalar), found)
}

/// What a well-formed value of the scalar looks like.
fn expectation(scalar: Scalar) -> String {
    match scalar {
        Scalar::Boolean => "0 or 1".to_owned(),
        Scalar::Int => "an integer of 32 bits".to_owned(),
        other => format!("a {}", other.name()),
    }
}

fn write_integer(out: &mut Vec<u8>, value: i64) {
    out.extend_from_slice(itoa::Buffer::new().format(value).as_bytes());
}

fn write_real(out: &mut Vec<u8>, value: f64) {
    serde_json::to_writer(out, &value).expect("a finite double is a JSON number");
}

/// A text without characters that JSON escapes.
pub(crate) fn write_plain(out: &mut Vec<u8>, text: &str) {
    write_quoted(out, text.as_bytes());
}

fn write_quoted(out: &mut Vec<u8>, plain: &[u8]) {
    out.reserve(plain.len() + 2);
    out.push(b'"');
    out.extend_from_slice(plain);
    out.push(b'"');
}

/// Is it ASCII without characters that JSON escapes? Most texts are, and to look that up is quicker than to decode.
fn is_plain(bytes: &[u8]) -> bool {
    const PLAIN: [bool; 256] = {
        let mut plain = [false; 256];
        let mut byte = 0x20;
        while byte < 0x80 {
            plain[byte] = byte != b'"' as usize && byte != b'\\' as usize;
            byte += 1;
        }
        plain
    };
    bytes.iter().all(|byte| PLAIN[usize::from(*byte)])
}

fn write_parts(out: &mut Vec<u8>, parts: &[&str]) {
    out.push(b'"');
    parts.iter().for_each(|part| out.extend_from_slice(part.as_bytes()));
    out.push(b'"');
}

/// The seconds that RFC 3339 requires and databases leave out.
fn missing_seconds(time: &str) -> &'static str {
    if time.len() == 5 { ":00" } else { "" }
}

pub(crate) fn write_string(out: &mut Vec<u8>, text: &str) {
    if is_plain(text.as_bytes()) {
        write_plain(out, text);
    } else {
        serde_json::to_writer(out, text).expect("text is a JSON string");
    }
}

/// The shortest digits that read back as the same double, without an exponent.
pub fn decimal_digits(value: f64) -> String {
    // `Display` of f64 is exactly that, except for the sign of zero.
    if value == 0.0 { "0".to_owned() } else { format!("{value}") }
}

pub(super) fn is_decimal(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, "0"));
    let all_digits = |part: &str| !part.is_empty() && part.bytes().all(|byte| byte.is_ascii_digit());
    all_digits(whole) && all_digits(fraction)
}

/// Digits, with a sign before them or not: a 64-bit integer too large for the signed form.
fn is_integer(text: &str) -> bool {
    let digits = text.strip_prefix('-').unwrap_or(text);
    (1..=20).contains(&digits.len()) && digits.bytes().all(|byte| byte.is_ascii_digit())
}

pub(super) fn is_uuid(text: &str) -> bool {
    text.len() == 36
        && text.bytes().enumerate().all(|(at, byte)| match at {
            8 | 13 | 18 | 23 => byte == b'-',
            _ => byte.is_ascii_hexdigit(),
        })
}

/// Are these the digits of twelve bytes, written as the API writes them?
pub(super) fn is_object_id(text: &str) -> bool {
    text.len() == 24 && text.bytes().all(|byte| matches!(byte, b'0'..=b'9' | b'a'..=b'f'))
}

fn uuid_text(bytes: &[u8]) -> String {
    let mut text = String::with_capacity(36);
    for (at, byte) in bytes.iter().enumerate() {
        if matches!(at, 4 | 6 | 8 | 10) {
            text.push('-');
        }
        text.push_str(&format!("{byte:02x}"));
    }
    text
}

/// The first characters of a value, quoted: enough to recognise it in an error.
pub(super) fn excerpt(text: &str) -> String {
    const LONGEST: usize = 40;
    let short: String = text.chars().take(LONGEST).collect();
    let dots = if short.len() < text.len() { "…" } else { "" };
    format!("{short:?}{dots}")
}

/// Bytes from which on an answer's memory grows with care.
const LARGE: usize = 1 << 20;

/// Room for more in a large answer, by a quarter of it: twofold, as memory grows by itself, many large answers at once would hold
/// twice what they say.
pub(crate) fn make_room(out: &mut Vec<u8>) {
    if out.len() > LARGE && out.capacity() - out.len() < out.len() / 16 {
        out.reserve_exact(out.len() / 4);
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(scalar: Scalar, cell: DatumRef<'_>) -> Result<String, String> {
        let mut out = Vec::new();
        match write_scalar(&mut out, scalar, cell) {
            Ok(()) => Ok(String::from_utf8(out).unwrap()),
            Err(unfit) => {
                assert!(out.is_empty(), "nothing is appended on failure");
                Err(unfit.found)
            }
        }
    }

    #[test]
    fn values_that_fit_are_written_lossless() {
        let cases: &[(Scalar, DatumRef<'_>, &str)] = &[
            (Scalar::Boolean, DatumRef::Integer(1), "true"),
            (Scalar::Int, DatumRef::Integer(-2_147_483_648), "-2147483648"),
            (Scalar::BigInt, DatumRef::Integer(i64::MAX), "\"9223372036854775807\""),
            (Scalar::Float, DatumRef::Real(0.1), "0.1"),
            (Scalar::Float, DatumRef::Integer(i64::MAX), "9223372036854775807"),
            (Scalar::Decimal, DatumRef::Real(1e21), "\"1000000000000000000000\""),
            (Scalar::Decimal, DatumRef::Text(b"12.50"), "\"12.50\""),
            (Scalar::Decimal, DatumRef::Real(-0.0), "\"0\""),
            (Scalar::Time, DatumRef::Text(b"08:30"), "\"08:30:00\""),
            (Scalar::LocalDateTime, DatumRef::Text(b"2026-07-14 08:30:00"), "\"2026-07-14T08:30:00\""),
            (Scalar::DateTime, DatumRef::Text(b"2026-07-14 08:30Z"), "\"2026-07-14T08:30:00Z\""),
            (Scalar::Bytes, DatumRef::Blob(&[0, 255]), "\"AP8=\""),
            (Scalar::Json, DatumRef::Text(b"{\"a\": [1.10]}"), "{\"a\": [1.10]}"),
            (Scalar::String, DatumRef::Text("a\"\u{1}é".as_bytes()), "\"a\\\"\\u0001é\""),
            (Scalar::String, DatumRef::Text(b"plain, and over eight bytes"), "\"plain, and over eight bytes\""),
            (Scalar::String, DatumRef::Text(b"twelve \"and\"!"), "\"twelve \\\"and\\\"!\""),
            (Scalar::String, DatumRef::Text(b"at the end\n"), "\"at the end\\n\""),
            (Scalar::Uuid, DatumRef::Blob(&[0x11; 16]), "\"11111111-1111-1111-1111-111111111111\""),
        ];
        for (scalar, cell, expected) in cases {
            assert_eq!(written(*scalar, *cell).as_deref(), Ok(*expected), "{scalar:?} {cell:?}");
        }
    }

    #[test]
    fn values_that_do_not_fit_are_refused() {
        let cases: &[(Scalar, DatumRef<'_>)] = &[
            (Scalar::Boolean, DatumRef::Integer(2)),
            (Scalar::Int, DatumRef::Integer(2_147_483_648)),
            (Scalar::Int, DatumRef::Text(b"7")),
            (Scalar::Float, DatumRef::Real(f64::INFINITY)),
            (Scalar::Decimal, DatumRef::Text(b"1e5")),
            (Scalar::Date, DatumRef::Text(b"0000-00-00")),
            (Scalar::Time, DatumRef::Text(b"24:00")),
            (Scalar::String, DatumRef::Text(b"\xff")),
            (Scalar::String, DatumRef::Blob(b"abc")),
            (Scalar::Bytes, DatumRef::Text(b"abc")),
            (Scalar::Json, DatumRef::Text(b"{")),
            (Scalar::Json, DatumRef::Real(f64::NAN)),
            (Scalar::Uuid, DatumRef::Text(b"not-a-uuid")),
        ];
        for (scalar, cell) in cases {
            assert!(written(*scalar, *cell).is_err(), "{scalar:?} {cell:?}");
        }
    }
}
