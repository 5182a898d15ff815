//! Values that are keys on both sides of a link between sources: each side stores them in a form of its own, and they meet in
//! the form in which the API writes their scalar.

use serde_json::{Number, Value as Json};

use super::{Datum, DatumRef, Scalar, StorageFormat, datum_from_json, write_scalar};

/// How a column writes its values: its scalar, and what that leaves open.
pub type KeyFormat = (Scalar, StorageFormat);

impl Scalar {
    /// Can a value of one scalar also be one of another: 12 of `Int` and "12" of `String`?
    pub fn converts_to(self, other: Scalar) -> bool {
        use Scalar::{
            BigInt, Boolean, Bytes, Date, DateTime, Decimal, Duration, Float, Int, Json, LocalDateTime, Time, Uuid,
        };
        match (self, other) {
            (Json, _) | (_, Json) => false,
            (own, other) if own == other => true,
            (Int | BigInt | Decimal | Float, Int | BigInt | Decimal | Float) => true,
            (Scalar::String, other) | (other, Scalar::String) => match other {
                Int | BigInt | Decimal | Date | Time | DateTime | LocalDateTime | Duration | Uuid => true,
                // A text of a floating-point number has more than one form, and bytes are text in base64 in the API alone.
                Boolean | Float | Bytes | Json | Scalar::String => false,
            },
            _ => false,
        }
    }
}

/// A key as another source stores it; none where it has no such value, so that nothing there equals it.
pub fn convert_key(key: DatumRef<'_>, from: KeyFormat, to: KeyFormat) -> Option<Datum> {
    if key.is_null() {
        return None;
    }
    if from == to {
        return Some(key.to_datum());
    }
    let mut text = Vec::new();
    write_scalar(&mut text, from.0, key).ok()?;
    let written: Json = serde_json::from_slice(&text).ok()?;
    datum_from_json(to.0, to.1, &as_scalar(written, to.0)).ok()
}

/// What another scalar would write of a value.
fn as_scalar(written: Json, to: Scalar) -> Json {
    match (&written, to) {
        (Json::Number(number), Scalar::String) => Json::String(number.to_string()),
        (Json::Number(number), Scalar::Int | Scalar::BigInt) => whole(&number.to_string()).unwrap_or(written),
        (Json::String(text), Scalar::Int | Scalar::BigInt) => whole(text).unwrap_or(written),
        (Json::String(text), Scalar::Float) => match text.parse::<f64>().ok().and_then(Number::from_f64) {
            Some(number) => Json::Number(number),
            None => written,
        },
        _ => written,
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
    #[case(Datum::Real(12.0), Scalar::Float, Scalar::Int, Some(Datum::Integer(12)))]
    #[case(Datum::Real(12.5), Scalar::Float, Scalar::Int, None)]
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
        ] {
            assert!(!own.converts_to(other) && !other.converts_to(own), "{} {}", own.name(), other.name());
        }
    }
}
