//! Running a bound plan on one connection: every select is prepared at most once and executed once per parent's row.

use std::path::Path;
use std::time::{Duration, Instant};

use puente_core::error::Problem;
use puente_core::json::{self, Fetch, Row, Rows};
use puente_core::plan::{BoundPlan, Page, SelectId};
use puente_core::sql::Slot;
use puente_core::value::{Cell, CellRef, decimal_digits};
use rusqlite::types::{ToSqlOutput, Value, ValueRef};
use rusqlite::{CachedStatement, Connection, ToSql};

use super::fault::problem;
use crate::{Outcome, StatementReport};

/// Runs a plan. Its reads see one snapshot.
///
/// # Errors
/// What the database reports, as the caller may know it.
pub(super) fn run(
    connection: &Connection,
    file: &Path,
    bound: &BoundPlan,
    most_bytes: usize,
    timed: bool,
) -> Result<Outcome, Problem> {
    let several = bound.plan().selects().len() > 1;
    let transaction =
        if several { Some(Snapshot::begin(connection).map_err(|error| problem(&error, file))?) } else { None };
    let mut run = Run {
        connection,
        file,
        bound,
        timed,
        statements: bound.plan().selects().iter().map(|_| None).collect(),
        tallies: vec![Tally::default(); bound.plan().selects().len()],
    };
    let answer = json::write(bound, &mut run, most_bytes);
    let tallies = std::mem::take(&mut run.tallies);
    drop(run);
    drop(transaction);
    let statements = bound
        .plan()
        .statements()
        .iter()
        .zip(tallies)
        .filter(|(_, tally)| tally.executions > 0)
        .map(|(statement, tally)| StatementReport {
            text: if timed { statement.text.clone() } else { String::new() },
            executions: tally.executions,
            rows: tally.rows,
            time: tally.time,
        })
        .collect();
    Ok(Outcome { answer: answer?, statements })
}

/// A read transaction; ended when dropped.
struct Snapshot<'c>(&'c Connection);

impl<'c> Snapshot<'c> {
    fn begin(connection: &'c Connection) -> rusqlite::Result<Self> {
        connection.prepare_cached("begin")?.raw_execute()?;
        Ok(Snapshot(connection))
    }
}

impl Drop for Snapshot<'_> {
    fn drop(&mut self) {
        let ended = self.0.prepare_cached("rollback").and_then(|mut statement| statement.raw_execute());
        if let Err(error) = ended {
            tracing::error!(target: "puente::source", %error, "a read transaction could not be ended");
        }
    }
}

#[derive(Debug, Clone, Copy, Default)]
struct Tally {
    executions: u64,
    rows: u64,
    time: Duration,
}

struct Run<'c> {
    connection: &'c Connection,
    file: &'c Path,
    bound: &'c BoundPlan,
    timed: bool,
    statements: Vec<Option<CachedStatement<'c>>>,
    tallies: Vec<Tally>,
}

impl Fetch for Run<'_> {
    fn fetch(&mut self, select: SelectId, parent: Option<Row<'_>>, into: &mut Rows) -> Result<(), Problem> {
        let slots = &self.bound.plan().statements()[select].slots;
        let is_null =
            |slot: &Slot| matches!((slot, parent), (Slot::Parent(output), Some(row)) if row.cell(*output).is_null());
        if slots.iter().any(is_null) {
            // Nothing equals null: there is nothing at the other end of the link.
            if matches!(self.bound.plan().selects()[select].page, Page::Count) {
                into.push(CellRef::Integer(0));
            }
            return Ok(());
        }
        let start = self.timed.then(Instant::now);
        let rows = self.execute(select, slots, parent, into).map_err(|error| problem(&error, self.file))?;
        let tally = &mut self.tallies[select];
        tally.executions += 1;
        tally.rows += rows;
        if let Some(start) = start {
            tally.time += start.elapsed();
        }
        Ok(())
    }
}

impl Run<'_> {
    fn execute(
        &mut self,
        select: SelectId,
        slots: &[Slot],
        parent: Option<Row<'_>>,
        into: &mut Rows,
    ) -> rusqlite::Result<u64> {
        let is_new = self.statements[select].is_none();
        if is_new {
            let text = &self.bound.plan().statements()[select].text;
            self.statements[select] = Some(self.connection.prepare_cached(text)?);
        }
        let statement = self.statements[select].as_mut().expect("just prepared");
        for (at, slot) in slots.iter().enumerate() {
            let at = at + 1;
            match slot {
                Slot::Parent(output) => {
                    if let Some(row) = parent {
                        statement.raw_bind_parameter(at, Borrowed(row.cell(*output)))?;
                    }
                }
                // What is not the parent's stays bound for every parent.
                _ if !is_new => {}
                Slot::Parameter(parameter) => bind(statement, at, self.bound.value(*parameter))?,
                Slot::PageSize(parameter) => statement.raw_bind_parameter(at, self.bound.integer(*parameter) + 1)?,
                Slot::Constant(cell) => bind(statement, at, cell)?,
            }
        }
        let width = statement.column_count();
        let mut rows = statement.raw_query();
        let mut count = 0;
        while let Some(row) = rows.next()? {
            for column in 0..width {
                into.push(match row.get_ref(column)? {
                    ValueRef::Null => CellRef::Null,
                    ValueRef::Integer(value) => CellRef::Integer(value),
                    ValueRef::Real(value) => CellRef::Real(value),
                    ValueRef::Text(text) => CellRef::Text(text),
                    ValueRef::Blob(bytes) => CellRef::Blob(bytes),
                });
            }
            count += 1;
        }
        Ok(count)
    }
}

/// A parent's value, bound as it was stored.
struct Borrowed<'a>(CellRef<'a>);

impl ToSql for Borrowed<'_> {
    fn to_sql(&self) -> rusqlite::Result<ToSqlOutput<'_>> {
        Ok(ToSqlOutput::Borrowed(match self.0 {
            CellRef::Null => ValueRef::Null,
            CellRef::Integer(value) => ValueRef::Integer(value),
            CellRef::Real(value) => ValueRef::Real(value),
            CellRef::Text(text) => ValueRef::Text(text),
            CellRef::Blob(bytes) => ValueRef::Blob(bytes),
        }))
    }
}

fn bind(statement: &mut CachedStatement<'_>, at: usize, cell: &Cell) -> rusqlite::Result<()> {
    match cell {
        Cell::List(cells) => statement.raw_bind_parameter(at, Value::Text(list_json(cells))),
        single => statement.raw_bind_parameter(at, Borrowed(single.as_ref())),
    }
}

/// A list as the JSON that `json_each` takes apart. Bytes travel as hexadecimal digits, integers as they are.
fn list_json(cells: &[Cell]) -> String {
    let mut json = String::from("[");
    for (at, cell) in cells.iter().enumerate() {
        if at > 0 {
            json.push(',');
        }
        match cell {
            Cell::Null | Cell::List(_) => json.push_str("null"),
            Cell::Integer(value) => json.push_str(&value.to_string()),
            Cell::Real(value) => json.push_str(&real_json(*value)),
            Cell::Text(text) => json.push_str(&serde_json::Value::from(text.as_str()).to_string()),
            Cell::Blob(bytes) => {
                json.push('"');
                bytes.iter().for_each(|byte| json.push_str(&format!("{byte:02x}")));
                json.push('"');
            }
        }
    }
    json.push(']');
    json
}

/// A double that JSON readers take for a double: with a point.
fn real_json(value: f64) -> String {
    let digits = decimal_digits(value);
    if digits.contains('.') { digits } else { format!("{digits}.0") }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn lists_keep_integers_whole_and_doubles_double() {
        let cells = [Cell::Integer(i64::MAX), Cell::Real(1.0), Cell::Text("a\"b".into()), Cell::Blob(vec![0, 255])];
        assert_eq!(list_json(&cells), r#"[9223372036854775807,1.0,"a\"b","00ff"]"#);
        let connection = Connection::open_in_memory().unwrap();
        let classes: String = connection
            .query_row("select group_concat(typeof(value)) from json_each(?)", [list_json(&cells)], |row| row.get(0))
            .unwrap();
        assert_eq!(classes, "integer,real,text,text");
    }
}
