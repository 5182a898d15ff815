//! MariaDB's values as cells: what the driver made of the binary protocol, in the forms that the core knows.

use mysql_async::consts::ColumnType;
use mysql_async::{Column, Value};
use puente_core::value::{DatumRef, Scalar};

/// The character set of bytes that are no text.
const BINARY: u16 = 63;

/// Hands one value to `push`, as a cell.
pub(super) fn with_datum<T>(
    value: &Value,
    column: &Column,
    scalar: Option<Scalar>,
    push: impl FnOnce(DatumRef<'_>) -> T,
) -> T {
    match value {
        Value::NULL => push(DatumRef::Null),
        Value::Int(value) => push(DatumRef::Integer(*value)),
        Value::UInt(value) => match i64::try_from(*value) {
            Ok(value) => push(DatumRef::Integer(value)),
            // Too large for a signed integer: kept as its digits.
            Err(_) => push(DatumRef::Text(value.to_string().as_bytes())),
        },
        // The shortest digits of the single, not the longer ones of the double that equals it.
        Value::Float(value) => push(DatumRef::Real(value.to_string().parse().unwrap_or_else(|_| f64::from(*value)))),
        Value::Double(value) => push(DatumRef::Real(*value)),
        Value::Bytes(bytes) if is_text(column) => push(DatumRef::Text(bytes)),
        Value::Bytes(bytes) => push(DatumRef::Blob(bytes)),
        Value::Date(year, month, day, hour, minute, second, micros) => {
            let mut text = format!("{year:04}-{month:02}-{day:02}");
            if column.column_type() != ColumnType::MYSQL_TYPE_DATE {
                text.push_str(&format!(" {hour:02}:{minute:02}:{second:02}{}", fraction(*micros)));
                if scalar == Some(Scalar::DateTime) {
                    // The session's zone is UTC.
                    text.push('Z');
                }
            }
            push(DatumRef::Text(text.as_bytes()))
        }
        Value::Time(negative, days, hours, minutes, seconds, micros) => {
            let sign = if *negative { "-" } else { "" };
            let hours = days * 24 + u32::from(*hours);
            let text = format!("{sign}{hours:02}:{minutes:02}:{seconds:02}{}", fraction(*micros));
            push(DatumRef::Text(text.as_bytes()))
        }
    }
}

fn fraction(micros: u32) -> String {
    if micros == 0 { String::new() } else { format!(".{micros:06}").trim_end_matches('0').to_owned() }
}

fn is_text(column: &Column) -> bool {
    use ColumnType::{MYSQL_TYPE_DECIMAL, MYSQL_TYPE_JSON, MYSQL_TYPE_NEWDECIMAL};
    column.character_set() != BINARY
        || matches!(column.column_type(), MYSQL_TYPE_DECIMAL | MYSQL_TYPE_NEWDECIMAL | MYSQL_TYPE_JSON)
}

#[cfg(test)]
mod tests {
    use super::*;

    fn written(value: &Value, ty: ColumnType, scalar: Scalar) -> String {
        let column = Column::new(ty);
        with_datum(value, &column, Some(scalar), |cell| match cell {
            DatumRef::Text(text) => String::from_utf8(text.to_vec()).unwrap(),
            other => format!("{other:?}"),
        })
    }

    #[test]
    fn dates_and_times_have_the_forms_that_the_core_knows() {
        let at = Value::Date(2026, 7, 14, 8, 30, 0, 500_000);
        let (date, timestamp) = (ColumnType::MYSQL_TYPE_DATE, ColumnType::MYSQL_TYPE_TIMESTAMP);
        assert_eq!(written(&at, date, Scalar::Date), "2026-07-14");
        assert_eq!(written(&at, timestamp, Scalar::DateTime), "2026-07-14 08:30:00.5Z");
        assert_eq!(written(&at, timestamp, Scalar::LocalDateTime), "2026-07-14 08:30:00.5");
        assert_eq!(written(&Value::Date(0, 0, 0, 0, 0, 0, 0), date, Scalar::Date), "0000-00-00");
        let long = Value::Time(true, 1, 2, 3, 4, 0);
        assert_eq!(written(&long, ColumnType::MYSQL_TYPE_TIME, Scalar::Time), "-26:03:04");
    }

    #[test]
    fn integers_beyond_the_signed_keep_their_digits() {
        let big = Value::UInt(u64::MAX);
        assert_eq!(written(&big, ColumnType::MYSQL_TYPE_LONGLONG, Scalar::BigInt), "18446744073709551615");
    }
}
