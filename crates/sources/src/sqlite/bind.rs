//! Values bound to SQLite's statements. Lists travel as the JSON that `json_each` takes apart.

use puente_core::answer::KeyValues;
use puente_core::plan::BoundPlan;
use puente_core::value::{Datum, DatumRef, decimal_digits};
use puente_sql::Slot;
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{Statement, ToSql};

/// Binds what is the same for every parent.
pub(super) fn bind_slot(
    statement: &mut Statement<'_>,
    at: usize,
    slot: &Slot,
    bound: &BoundPlan,
) -> rusqlite::Result<()> {
    match slot {
        Slot::Parameter(parameter) => bind(statement, at, bound.value(*parameter)),
        Slot::PageSize(parameter) => statement.raw_bind_parameter(at, bound.integer(*parameter) + 1),
        Slot::Constant(cell) => bind(statement, at, cell),
        Slot::Parent(_) | Slot::Ordinal | Slot::KeyColumn(_) | Slot::Keys | Slot::Given(_) => Ok(()),
    }
}

/// A value of a row, bound as it was stored.
pub(super) struct Borrowed<'a>(pub(super) DatumRef<'a>);

impl ToSql for Borrowed<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self.0 {
            DatumRef::Null | DatumRef::List(_) => ValueRef::Null,
            DatumRef::Integer(value) => ValueRef::Integer(value),
            DatumRef::Real(value) => ValueRef::Real(value),
            DatumRef::Text(text) => ValueRef::Text(text),
            DatumRef::Blob(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

pub(super) fn bind(statement: &mut Statement<'_>, at: usize, cell: &Datum) -> rusqlite::Result<()> {
    match cell {
        Datum::List(cells) => statement.raw_bind_parameter(at, Value::Text(list_json(cells))),
        single => statement.raw_bind_parameter(at, Borrowed(single.as_ref())),
    }
}

/// The linking values of all parents: an array of arrays, or of the values where a key is one; bytes as objects of their own.
pub(super) fn keys_json(keys: &KeyValues) -> String {
    let mut json = String::from("[");
    for (at, row) in keys.rows().iter().enumerate() {
        if at > 0 {
            json.push(',');
        }
        let is_list = row.len() != 1;
        json.push_str(if is_list { "[" } else { "" });
        for (at, cell) in row.iter().enumerate() {
            if at > 0 {
                json.push(',');
            }
            match cell {
                Datum::Blob(bytes) => json.push_str(&format!("{{\"bytes\":\"{}\"}}", hexadecimal(bytes))),
                other => push_json(&mut json, other),
            }
        }
        json.push_str(if is_list { "]" } else { "" });
    }
    json.push(']');
    json
}

/// A list of values: integers as they are, bytes as hexadecimal digits.
fn list_json(cells: &[Datum]) -> String {
    let mut json = String::from("[");
    for (at, cell) in cells.iter().enumerate() {
        if at > 0 {
            json.push(',');
        }
        push_json(&mut json, cell);
    }
    json.push(']');
    json
}

fn push_json(json: &mut String, cell: &Datum) {
    match cell {
        Datum::Null | Datum::List(_) => json.push_str("null"),
        Datum::Integer(value) => json.push_str(&value.to_string()),
        Datum::Real(value) => json.push_str(&real_json(*value)),
        Datum::Text(text) => json.push_str(&serde_json::Value::from(text.as_str()).to_string()),
        Datum::Blob(bytes) => json.push_str(&format!("\"{}\"", hexadecimal(bytes))),
    }
}

fn hexadecimal(bytes: &[u8]) -> String {
    bytes.iter().map(|byte| format!("{byte:02x}")).collect()
}

/// A double that JSON readers take for a double: with a point.
fn real_json(value: f64) -> String {
    let digits = decimal_digits(value);
    if digits.contains('.') { digits } else { format!("{digits}.0") }
}

#[cfg(test)]
mod tests {
    use rusqlite::Connection;

    use super::*;

    #[test]
    fn lists_keep_integers_whole_and_doubles_double() {
        let cells = [Datum::Integer(i64::MAX), Datum::Real(1.0), Datum::Text("a\"b".into()), Datum::Blob(vec![0, 255])];
        assert_eq!(list_json(&cells), r#"[9223372036854775807,1.0,"a\"b","00ff"]"#);
        let connection = Connection::open_in_memory().unwrap();
        let classes: String = connection
            .query_row("select group_concat(typeof(value)) from json_each(?)", [list_json(&cells)], |row| row.get(0))
            .unwrap();
        assert_eq!(classes, "integer,real,text,text");
    }

    #[test]
    fn doubles_in_lists_come_back_bit_for_bit() {
        let connection = rusqlite::Connection::open_in_memory().unwrap();
        let mut statement = connection.prepare("select value from json_each(?)").unwrap();
        // A Weyl sequence, mixed: doubles of every size.
        let mut state = 7_u64;
        let doubles = std::iter::repeat_with(|| {
            state = state.wrapping_add(0x9e37_79b9_7f4a_7c15);
            let mixed = (state ^ state >> 30).wrapping_mul(0xbf58_476d_1ce4_e5b9);
            f64::from_bits(mixed ^ mixed >> 27)
        });
        let doubles: Vec<f64> = doubles.filter(|double| double.is_finite()).take(20_000).collect();
        let cells: Vec<Datum> = doubles.iter().map(|double| Datum::Real(*double)).collect();
        let read: Vec<f64> =
            statement.query_map([list_json(&cells)], |row| row.get(0)).unwrap().collect::<Result<_, _>>().unwrap();
        let wrong: Vec<_> = doubles.iter().zip(&read).filter(|(sent, read)| sent.to_bits() != read.to_bits()).collect();
        assert!(wrong.is_empty(), "{} of {}: {:?}", wrong.len(), doubles.len(), &wrong[..wrong.len().min(3)]);
    }
}
