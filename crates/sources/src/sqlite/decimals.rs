//! Functions that count with times, and with decimals and big integers exactly: SQLite's own sums and arithmetic are those of doubles, and
//! give up where integers overflow.

use std::cmp::Ordering;
use std::str::FromStr as _;
use std::sync::LazyLock;

use bigdecimal::BigDecimal;
use bigdecimal::num_bigint::BigInt;
use jiff::Timestamp;
use jiff::tz::Offset;
use puente_core::access::MOST_DIGITS;
use puente_core::value::decimal_digits;
use puente_sql::{DECIMAL_CALCULATION, DECIMAL_ORDER, DECIMAL_SUM, MICROSECONDS};
use rusqlite::Connection;
use rusqlite::functions::{Aggregate, Context, FunctionFlags};
use rusqlite::types::ValueRef;

/// Adds the functions to a connection.
pub(super) fn add_to(connection: &Connection) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_DIRECTONLY;
    connection.create_aggregate_function(DECIMAL_SUM, 1, flags, DecimalSum)?;
    connection.create_scalar_function(DECIMAL_CALCULATION, 3, flags, |context| {
        let sign = context.get_raw(1).as_str().unwrap_or_default();
        let result = calculated(context.get_raw(0), sign, context.get_raw(2));
        Ok(result.map(|number| number.normalized().to_plain_string()))
    })?;
    connection.create_scalar_function(MICROSECONDS, 1, flags, |context| {
        let text = context.get_raw(0).as_str().unwrap_or_default();
        Ok(instant(text).map(Timestamp::as_microsecond))
    })?;
    connection.create_scalar_function(DECIMAL_ORDER, 2, flags, |context| {
        let sides = operand(context.get_raw(0)).zip(operand(context.get_raw(1)));
        Ok(sides.map(|(left, right)| match left.cmp(&right) {
            Ordering::Less => -1,
            Ordering::Equal => 0,
            Ordering::Greater => 1,
        }))
    })
}

/// The time that a text says; without a zone, as in UTC.
fn instant(text: &str) -> Option<Timestamp> {
    text.parse().ok().or_else(|| Offset::UTC.to_timestamp(text.parse().ok()?).ok())
}

/// The longest text that is read as a number.
const LONGEST: usize = 2_000;

/// A value as a number: none for what is none. Numbers with an exponent are no decimals, and could be of any length.
fn decimal(value: ValueRef<'_>) -> Option<BigDecimal> {
    match value {
        ValueRef::Integer(value) => Some(BigDecimal::from(value)),
        ValueRef::Real(value) if value.is_finite() => BigDecimal::from_str(&decimal_digits(value)).ok(),
        ValueRef::Text(text) if text.len() <= LONGEST && !text.contains(&b'e') && !text.contains(&b'E') => {
            std::str::from_utf8(text).ok().and_then(|text| BigDecimal::from_str(text).ok())
        }
        ValueRef::Null | ValueRef::Real(_) | ValueRef::Text(_) | ValueRef::Blob(_) => None,
    }
}

/// The same of what a rule calculates with: none with more digits than it does.
fn operand(value: ValueRef<'_>) -> Option<BigDecimal> {
    // What was calculated comes as text, and is as large as it may be.
    let is_stored = !matches!(value, ValueRef::Text(_));
    decimal(value).filter(|number| !is_stored || number.abs() < *MOST)
}

static MOST: LazyLock<BigDecimal> = LazyLock::new(|| BigDecimal::from(BigInt::from(10).pow(MOST_DIGITS)));

fn calculated(left: ValueRef<'_>, sign: &str, right: ValueRef<'_>) -> Option<BigDecimal> {
    let (left, right) = (operand(left)?, operand(right)?);
    let whole = |number: &BigDecimal| number.with_scale(0).into_bigint_and_exponent().0;
    match sign {
        "+" => Some(left + right),
        "-" => Some(left - right),
        "*" => Some(left * right),
        "/" | "%" => {
            let (left, right) = (whole(&left), whole(&right));
            let divided = |left, right| if sign == "/" { left / right } else { left % right };
            (right != BigInt::ZERO).then(|| BigDecimal::from(divided(left, right)))
        }
        _ => None,
    }
}

struct DecimalSum;

impl Aggregate<Option<BigDecimal>, Option<String>> for DecimalSum {
    fn init(&self, _: &mut Context<'_>) -> rusqlite::Result<Option<BigDecimal>> {
        Ok(None)
    }

    fn step(&self, context: &mut Context<'_>, sum: &mut Option<BigDecimal>) -> rusqlite::Result<()> {
        // What is not a number does not count, as nulls do not.
        if let Some(value) = decimal(context.get_raw(0)) {
            *sum = Some(sum.take().unwrap_or_default() + value);
        }
        Ok(())
    }

    fn finalize(&self, _: &mut Context<'_>, sum: Option<Option<BigDecimal>>) -> rusqlite::Result<Option<String>> {
        Ok(sum.flatten().map(|sum| sum.normalized().to_plain_string()))
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[test]
    fn sums_are_exact_and_of_nothing_null() {
        let connection = Connection::open_in_memory().unwrap();
        add_to(&connection).unwrap();
        let sum = |values: &str| -> Option<String> {
            let text = format!("select {DECIMAL_SUM}(column1) from (values {values})");
            connection.query_row(&text, [], |row| row.get(0)).unwrap()
        };
        assert_eq!(sum("(0.1), (0.2), (null)").as_deref(), Some("0.3"));
        assert_eq!(sum("(9223372036854775807), (1)").as_deref(), Some("9223372036854775808"));
        assert_eq!(sum("('12.50'), ('misfit')").as_deref(), Some("12.5"));
        assert_eq!(sum("('1e999999999'), (1)").as_deref(), Some("1"), "a number that no memory holds");
        assert_eq!(sum("(null)"), None);
    }

    #[rstest]
    #[case("1970-01-02", Some(86_400_000_000))]
    #[case("1970-01-01 00:00:01", Some(1_000_000))]
    #[case("1970-01-01T00:00:01.5", Some(1_500_000))]
    #[case("1970-01-01 00:00:01Z", Some(1_000_000))]
    #[case("1970-01-01T02:00:00+02:00", Some(0))]
    #[case("1969-12-31 23:59:59.999999", Some(-1))]
    #[case("soon", None)]
    #[case("", None)]
    fn times_are_counted_whatever_their_form(#[case] text: &str, #[case] expected: Option<i64>) {
        let connection = Connection::open_in_memory().unwrap();
        add_to(&connection).unwrap();
        let found: Option<i64> =
            connection.query_row(&format!("select {MICROSECONDS}(?)"), [text], |row| row.get(0)).unwrap();
        assert_eq!(found, expected);
    }

    #[rstest]
    #[case("0.1", "+", "0.2", Some("0.3"))]
    #[case("9223372036854775807", "*", "9223372036854775807", Some("85070591730234615847396907784232501249"))]
    #[case("-7", "/", "2", Some("-3"))]
    #[case("-7", "%", "2", Some("-1"))]
    #[case("7", "/", "0", None)]
    #[case("7", "%", "0", None)]
    #[case("1e20", "-", "1", None)]
    #[case("null", "+", "1", None)]
    #[case("'1e9'", "+", "1", None)]
    #[case("x'31'", "+", "1", None)]
    fn calculations_are_exact_and_unknown_where_there_is_none(
        #[case] left: &str,
        #[case] sign: &str,
        #[case] right: &str,
        #[case] expected: Option<&str>,
    ) {
        let connection = Connection::open_in_memory().unwrap();
        add_to(&connection).unwrap();
        let text = format!("select {DECIMAL_CALCULATION}({left}, '{sign}', {right})");
        let found: Option<String> = connection.query_row(&text, [], |row| row.get(0)).unwrap();
        assert_eq!(found.as_deref(), expected);
        let text = format!("select {DECIMAL_ORDER}({DECIMAL_CALCULATION}({left}, '{sign}', {right}), 0.3) = 0");
        let equal: Option<bool> = connection.query_row(&text, [], |row| row.get(0)).unwrap();
        assert_eq!(equal, expected.map(|expected| expected == "0.3"));
    }
}
