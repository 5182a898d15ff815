//! An aggregate that sums up decimals and big integers exactly: SQLite's own `sum` computes with doubles, and gives up
//! where integers overflow.

use std::str::FromStr as _;

use bigdecimal::BigDecimal;
use puente_core::value::decimal_digits;
use puente_sql::DECIMAL_SUM;
use rusqlite::Connection;
use rusqlite::functions::{Aggregate, Context, FunctionFlags};
use rusqlite::types::ValueRef;

/// Adds the aggregate to a connection.
pub(super) fn add_to(connection: &Connection) -> rusqlite::Result<()> {
    let flags = FunctionFlags::SQLITE_UTF8 | FunctionFlags::SQLITE_DETERMINISTIC | FunctionFlags::SQLITE_DIRECTONLY;
    connection.create_aggregate_function(DECIMAL_SUM, 1, flags, DecimalSum)
}

struct DecimalSum;

impl Aggregate<Option<BigDecimal>, Option<String>> for DecimalSum {
    fn init(&self, _: &mut Context<'_>) -> rusqlite::Result<Option<BigDecimal>> {
        Ok(None)
    }

    fn step(&self, context: &mut Context<'_>, sum: &mut Option<BigDecimal>) -> rusqlite::Result<()> {
        let value = match context.get_raw(0) {
            ValueRef::Integer(value) => Some(BigDecimal::from(value)),
            ValueRef::Real(value) if value.is_finite() => BigDecimal::from_str(&decimal_digits(value)).ok(),
            ValueRef::Text(text) => std::str::from_utf8(text).ok().and_then(|text| BigDecimal::from_str(text).ok()),
            _ => None,
        };
        // What is not a number does not count, as nulls do not.
        if let Some(value) = value {
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
        assert_eq!(sum("(null)"), None);
    }
}
