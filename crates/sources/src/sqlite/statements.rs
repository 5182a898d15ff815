//! Prepared statements that a connection keeps: so many, and of so many bytes. The text of a request decides how large they are.

use std::cell::Cell;

use rusqlite::{CachedStatement, Connection, StatementStatus};

/// Statements that each connection keeps.
const MOST: usize = 256;
/// Bytes that they may hold before all of them are dropped.
const MOST_BYTES: usize = 8 << 20;

/// A connection with the statements that it keeps.
#[derive(Debug)]
pub(super) struct Kept {
    pub(super) connection: Connection,
    /// What was prepared since the last time that all were dropped.
    bytes: Cell<usize>,
}

impl Kept {
    pub(super) fn new(connection: Connection) -> Self {
        connection.set_prepared_statement_cache_capacity(MOST);
        Kept { connection, bytes: Cell::new(0) }
    }

    /// A statement that was prepared before, or is now.
    pub(super) fn prepare(&self, text: &str) -> rusqlite::Result<CachedStatement<'_>> {
        let statement = self.connection.prepare_cached(text)?;
        if statement.get_status(StatementStatus::Run) == 0 {
            let bytes = usize::try_from(statement.get_status(StatementStatus::MemUsed)).unwrap_or(0);
            self.bytes.set(self.bytes.get() + bytes + text.len());
        }
        Ok(statement)
    }

    /// Begins a transaction whose reads see one state of the data.
    pub(super) fn begin_reading(&self) -> rusqlite::Result<()> {
        self.connection.prepare_cached("begin")?.raw_execute().map(|_| ())
    }

    /// Ends it, if there is one.
    pub(super) fn end_reading(&self) -> rusqlite::Result<()> {
        if self.connection.is_autocommit() {
            return Ok(());
        }
        self.connection.prepare_cached("rollback")?.raw_execute().map(|_| ())
    }

    /// Drops the statements where they hold too much. Between asks: none of them is in use.
    pub(super) fn tidy(&self) {
        if self.bytes.get() > MOST_BYTES {
            self.connection.flush_prepared_statement_cache();
            self.bytes.set(0);
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn statements_are_weighed_once_and_dropped_when_they_are_too_large() {
        let kept = Kept::new(Connection::open_in_memory().unwrap());
        let ask = |number: usize| {
            let text = format!("select {}", vec![number.to_string(); 1_500].join(", "));
            kept.prepare(&text).unwrap().query_row([], |row| row.get::<_, i64>(0)).unwrap();
        };
        ask(1);
        let one = kept.bytes.get();
        ask(1);
        assert!(one > 10_000 && kept.bytes.get() == one, "{one} bytes, then {}", kept.bytes.get());
        let mut dropped = false;
        for number in 2..2_000 {
            ask(number);
            let before = kept.bytes.get();
            kept.tidy();
            assert!(kept.bytes.get() <= MOST_BYTES);
            dropped |= kept.bytes.get() < before;
        }
        assert!(dropped);
    }
}
