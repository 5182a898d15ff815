//! Rows of one select, kept compactly: numbers in place, text and bytes in one buffer.

use crate::value::CellRef;

/// Rows of one select. Cleared and filled again for each parent, so that memory is taken once.
#[derive(Debug, Default)]
pub struct Rows {
    width: usize,
    cells: Vec<Stored>,
    bytes: Vec<u8>,
}

#[derive(Debug, Clone, Copy)]
enum Stored {
    Null,
    Integer(i64),
    Real(f64),
    Text(usize, usize),
    Blob(usize, usize),
}

/// One of the rows.
#[derive(Debug, Clone, Copy)]
pub struct Row<'a> {
    rows: &'a Rows,
    start: usize,
}

impl Rows {
    /// Empties it for rows of `width` cells.
    pub fn clear(&mut self, width: usize) {
        self.width = width;
        self.cells.clear();
        self.bytes.clear();
    }

    /// Appends the next cell of the current row.
    pub fn push(&mut self, cell: CellRef<'_>) {
        let stored = match cell {
            CellRef::Null => Stored::Null,
            CellRef::Integer(value) => Stored::Integer(value),
            CellRef::Real(value) => Stored::Real(value),
            CellRef::Text(text) => {
                let (start, length) = self.keep(text);
                Stored::Text(start, length)
            }
            CellRef::Blob(blob) => {
                let (start, length) = self.keep(blob);
                Stored::Blob(start, length)
            }
        };
        self.cells.push(stored);
    }

    fn keep(&mut self, bytes: &[u8]) -> (usize, usize) {
        let start = self.bytes.len();
        self.bytes.extend_from_slice(bytes);
        (start, bytes.len())
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.cells.len().checked_div(self.width).unwrap_or(0)
    }

    /// Are there none?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// How many bytes of text and blobs it holds.
    pub fn byte_len(&self) -> usize {
        self.bytes.len()
    }

    /// One row.
    pub fn row(&self, index: usize) -> Row<'_> {
        Row { rows: self, start: index * self.width }
    }
}

impl<'a> Row<'a> {
    /// One cell.
    pub fn cell(self, output: usize) -> CellRef<'a> {
        match self.rows.cells[self.start + output] {
            Stored::Null => CellRef::Null,
            Stored::Integer(value) => CellRef::Integer(value),
            Stored::Real(value) => CellRef::Real(value),
            Stored::Text(start, length) => CellRef::Text(&self.rows.bytes[start..start + length]),
            Stored::Blob(start, length) => CellRef::Blob(&self.rows.bytes[start..start + length]),
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_come_back_as_they_were_pushed() {
        let mut rows = Rows::default();
        rows.clear(2);
        for (number, text) in [(1, "one"), (2, "")] {
            rows.push(CellRef::Integer(number));
            rows.push(CellRef::Text(text.as_bytes()));
        }
        assert_eq!(rows.len(), 2);
        assert_eq!(rows.row(0).cell(1), CellRef::Text(b"one"));
        assert_eq!(rows.row(1).cell(0), CellRef::Integer(2));
        rows.clear(1);
        assert!(rows.is_empty());
    }
}
