//! Values that are keys on both sides of a link between sources: each side stores them in a form of its own, and they meet in
//! the form in which the API writes their scalar.

use serde_json::Value as Json;

use super::{Datum, DatumRef, Scalar, StorageFormat, datum_from_json, write_scalar};

/// How a column writes its values: its scalar, and what that leaves open.
pub type KeyFormat = (Scalar, StorageFormat);

impl Scalar {
    /// Can a value of one scalar also be one of another, and be told so from either side: 12 of `Int` and "12" of `String`?
    pub fn converts_to(self, other: Scalar) -> bool {
        use Scalar::{
            BigInt, Boolean, Bytes, Date, DateTime, Decimal, Duration, Float, Int, Json, LocalDateTime, ObjectId, Time,
            Uuid,
        };
        match (self, other) {
            // What is rounded on one side and not on the other equals nothing, or too much.
            (Json | Float, _) | (_, Json | Float) => false,
            (own, other) if own == other => true,
            (Int | BigInt | Decimal, Int | BigInt | Decimal) => true,
            (Scalar::String, other) | (other, Scalar::String) => match other {
                Int | BigInt | Date | Time | DateTime | LocalDateTime | Duration | Uuid | ObjectId => true,
                // A decimal number is written in more than one way, and bytes are text in the API alone.
                Boolean | Decimal | Float | Bytes | Json | Scalar::String => false,
            },
            _ => false,
        }
    }
}

/// A key as another source stores it; none where it has no such value, so that nothing there equals it. A text is a value of
/// something else only where it is written as the API writes that: then either side finds the other.
pub fn convert_key(key: DatumRef<'_>, from: KeyFormat, to: KeyFormat) -> Option<Datum> {
    match (from.0, to.0, key) {
        (_, _, DatumRef::Null) => return None,
        // What most keys are, without a detour.
        (Scalar::String, Scalar::String, DatumRef::Text(text)) => {
            return std::str::from_utf8(text).ok().map(|text| Datum::Text(text.to_owned()));
        }
        (Scalar::Int | Scalar::BigInt, Scalar::BigInt, DatumRef::Integer(value)) => return Some(Datum::Integer(value)),
        (Scalar::Int | Scalar::BigInt, Scalar::Int, DatumRef::Integer(value)) => {
            return i32::try_from(value).is_ok().then_some(Datum::Integer(value));
        }
        _ => {}
    }
    let written = written(from.0, key)?;
    let converted = datum_from_json(to.0, to.1, &as_scalar(&written, to.0)?).ok()?;
    if from.0 == Scalar::String {
        let text = match self::written(to.0, converted.as_ref())? {
            Json::String(text) => text,
            other => other.to_string(),
        };
        return (written.as_str() == Some(&text)).then_some(converted);
    }
    Some(converted)
}

/// A value as the API writes it; none where it is not one of the scalar.
fn written(scalar: Scalar, value: DatumRef<'_>) -> Option<Json> {
    let mut text = Vec::new();
    write_scalar(&mut text, scalar, value).ok()?;
    serde_json::from_slice(&text).ok()
}

/// What another scalar would write of a value.
fn as_scalar(written: &Json, to: Scalar) -> Option<Json> {
    match (written, to) {
        (Json::Number(number), Scalar::String) => Some(Json::String(number.to_string())),
        (Json::Number(number), Scalar::Int | Scalar::BigInt) => whole(&number.to_string()),
        (Json::String(text), Scalar::Int | Scalar::BigInt) => whole(text),
        _ => Some(written.clone()),
    }
}

/// A text of digits as the one number that is written so, a fraction of zeros left out.
fn whole(text: &str) -> Option<Json> {
    let digits = match text.split_once('.') {
        Some((digits, fraction)) if fraction.bytes().all(|byte| byte == b'0') => digits,
        Some(_) => return None,
        None => text,
    };
    let number: i128 = digits.parse().ok()?;
    if number.to_string() != digits {
        return None;
    }
    // 64 bits with or without a sign: more is refused as what it is.
    match (i64::try_from(number), u64::try_from(number)) {
        (Ok(number), _) => Some(Json::from(number)),
        (_, Ok(number)) => Some(Json::from(number)),
        _ => None,
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    const USUAL: StorageFormat = StorageFormat::Usual;

    fn text(text: &str) -> Datum {
        Datum::Text(text.to_owned())
    }

    #[rstest]
    #[case(Datum::Integer(12), Scalar::Int, Scalar::String, Some(text("12")))]
    #[case(text("12"), Scalar::String, Scalar::Int, Some(Datum::Integer(12)))]
    #[case(text("012"), Scalar::String, Scalar::Int, None)]
    #[case(text("twelve"), Scalar::String, Scalar::BigInt, None)]
    #[case(text("12.00"), Scalar::Decimal, Scalar::Int, Some(Datum::Integer(12)))]
    #[case(text("12.50"), Scalar::Decimal, Scalar::Int, None)]
    #[case(Datum::Integer(1 << 40), Scalar::BigInt, Scalar::Int, None)]
    #[case(Datum::Integer(12), Scalar::Int, Scalar::BigInt, Some(Datum::Integer(12)))]
    #[case(text("12"), Scalar::Int, Scalar::Int, None)]
    #[case(text("A0000000-0000-4000-8000-a0000000000b"), Scalar::String, Scalar::Uuid, None)]
    #[case(text("08:30"), Scalar::String, Scalar::Time, None)]
    #[case(text("08:30:00"), Scalar::String, Scalar::Time, Some(text("08:30:00")))]
    #[case(Datum::Integer(12), Scalar::Int, Scalar::Decimal, Some(text("12")))]
    #[case(text("2026-07-14"), Scalar::String, Scalar::Date, Some(text("2026-07-14")))]
    #[case(text("July"), Scalar::String, Scalar::Date, None)]
    #[case(Datum::Null, Scalar::Int, Scalar::Int, None)]
    fn keys_meet_in_the_form_that_the_api_writes(
        #[case] key: Datum,
        #[case] from: Scalar,
        #[case] to: Scalar,
        #[case] expected: Option<Datum>,
    ) {
        assert_eq!(convert_key(key.as_ref(), (from, USUAL), (to, USUAL)), expected);
    }

    #[test]
    fn a_uuid_is_one_whether_it_is_text_or_bytes() {
        let stored = Datum::Blob((0xa0..0xb0).collect());
        let from = (Scalar::Uuid, StorageFormat::Binary);
        let as_text = convert_key(stored.as_ref(), from, (Scalar::Uuid, StorageFormat::UpperCase)).unwrap();
        assert_eq!(as_text, text("A0A1A2A3-A4A5-A6A7-A8A9-AAABACADAEAF"));
        assert_eq!(convert_key(as_text.as_ref(), (Scalar::Uuid, StorageFormat::UpperCase), from), Some(stored));
    }

    #[test]
    fn what_never_matches_is_told_beforehand() {
        assert!(Scalar::Int.converts_to(Scalar::Decimal) && Scalar::String.converts_to(Scalar::Uuid));
        for (own, other) in [
            (Scalar::Int, Scalar::Date),
            (Scalar::Boolean, Scalar::Int),
            (Scalar::Json, Scalar::Json),
            (Scalar::Date, Scalar::DateTime),
            (Scalar::Bytes, Scalar::String),
            (Scalar::Decimal, Scalar::String),
            (Scalar::Float, Scalar::Float),
        ] {
            assert!(!own.converts_to(other) && !other.converts_to(own), "{} {}", own.name(), other.name());
        }
    }
}
