//! Rows of one select, kept compactly: numbers in place, text and bytes in one buffer or where the source has them.

use crate::error::{Code, Problem};
use crate::value::{DatumRef, ListRef};

/// Rows of one select. Cleared and filled again for each parent, so that memory is taken once. `'s` is how long the
/// source keeps the bytes that it lends.
#[derive(Debug, Default)]
pub struct Rows<'s> {
    width: usize,
    cells: Vec<Stored<'s>>,
    bytes: Vec<u8>,
}

#[derive(Debug, Clone, Copy)]
enum Stored<'s> {
    /// A value that needs no bytes, or whose bytes the source lends.
    Lent(DatumRef<'s>),
    Text(usize, usize),
    Blob(usize, usize),
    List(usize, usize),
}

/// How often a byte of a text counts.
const BYTES_OF_TEXT: usize = 3;

/// Holds memory in check while rows arrive: an answer of so many bytes is not made of many times as much.
///
/// # Errors
/// `TOO_COSTLY` where rows of this [weight](Rows::weight) are more than an answer of so many bytes can be made of.
#[inline]
pub fn check_held(weight: usize, most_bytes: usize) -> Result<(), Problem> {
    const TIMES: usize = 6;
    if weight <= most_bytes.saturating_mul(TIMES) { Ok(()) } else { Err(too_large(most_bytes)) }
}

/// The problem of an answer that would be too large.
pub fn too_large(most_bytes: usize) -> Problem {
    let text = format!("the answer is over {most_bytes} bytes; ask for smaller pages or fewer fields");
    Problem::new(Code::TooCostly, text)
}

/// One of the rows, or a part of it.
#[derive(Debug, Clone, Copy)]
pub struct Row<'r, 's> {
    rows: &'r Rows<'s>,
    start: usize,
    end: usize,
}

impl<'s> Rows<'s> {
    /// Empties it for rows of `width` cells.
    pub fn clear(&mut self, width: usize) {
        self.width = width;
        self.cells.clear();
        self.bytes.clear();
    }

    /// Appends the next cell of the current row; bytes are copied.
    #[inline]
    pub fn push(&mut self, cell: DatumRef<'_>) {
        let stored = match cell {
            DatumRef::Null => Stored::Lent(DatumRef::Null),
            DatumRef::Integer(value) => Stored::Lent(DatumRef::Integer(value)),
            DatumRef::Real(value) => Stored::Lent(DatumRef::Real(value)),
            DatumRef::Text(text) => {
                let (start, length) = self.keep(text);
                Stored::Text(start, length)
            }
            DatumRef::Blob(blob) => {
                let (start, length) = self.keep(blob);
                Stored::Blob(start, length)
            }
            DatumRef::List(list) => {
                let (start, length) = self.keep(list.bytes());
                Stored::List(start, length)
            }
        };
        self.cells.push(stored);
    }

    /// Appends the next cell of the current row; its bytes stay where they are.
    #[inline]
    pub fn lend(&mut self, cell: DatumRef<'s>) {
        self.cells.push(Stored::Lent(cell));
    }

    /// Appends a text that `write` appends to the buffer; nothing where it gives up, which it tells by none.
    #[inline]
    pub fn push_text(&mut self, write: impl FnOnce(&mut Vec<u8>) -> Option<()>) -> Option<()> {
        let start = self.bytes.len();
        let written = write(&mut self.bytes);
        match written {
            Some(()) => self.cells.push(Stored::Text(start, self.bytes.len() - start)),
            None => self.bytes.truncate(start),
        }
        written
    }

    #[inline]
    fn keep(&mut self, bytes: &[u8]) -> (usize, usize) {
        let start = self.bytes.len();
        self.bytes.extend_from_slice(bytes);
        (start, bytes.len())
    }

    /// Appends all rows of another select of the same width.
    pub fn append(&mut self, mut more: Rows<'s>) {
        let before = self.bytes.len();
        self.bytes.append(&mut more.bytes);
        self.cells.extend(more.cells.into_iter().map(|cell| match cell {
            Stored::Lent(cell) => Stored::Lent(cell),
            Stored::Text(start, length) => Stored::Text(before + start, length),
            Stored::Blob(start, length) => Stored::Blob(before + start, length),
            Stored::List(start, length) => Stored::List(before + start, length),
        }));
    }

    /// How many cells a row has.
    pub fn width(&self) -> usize {
        self.width
    }

    /// How many rows there are.
    pub fn len(&self) -> usize {
        self.cells.len().checked_div(self.width).unwrap_or(0)
    }

    /// Are there none?
    pub fn is_empty(&self) -> bool {
        self.len() == 0
    }

    /// What it holds in memory, in bytes; those of texts count three times, for they are written as they are, while a number
    /// that is written in two bytes is held in many.
    #[inline]
    pub fn weight(&self) -> usize {
        self.bytes.len() * BYTES_OF_TEXT + std::mem::size_of_val(self.cells.as_slice())
    }

    /// One row.
    #[inline]
    pub fn row(&self, index: usize) -> Row<'_, 's> {
        let start = index * self.width;
        Row { rows: self, start, end: start + self.width }
    }
}

impl<'r, 's> Row<'r, 's> {
    /// How many cells it has.
    pub fn width(self) -> usize {
        self.end - self.start
    }

    /// Its cells from one on.
    #[inline]
    pub fn part(self, first: usize) -> Row<'r, 's> {
        Row { start: self.start + first, ..self }
    }

    /// One cell.
    #[inline]
    pub fn cell(self, output: usize) -> DatumRef<'r> {
        let bytes = |start: usize, length: usize| &self.rows.bytes[start..start + length];
        match self.rows.cells[self.start + output] {
            Stored::Lent(cell) => cell,
            Stored::Text(start, length) => DatumRef::Text(bytes(start, length)),
            Stored::Blob(start, length) => DatumRef::Blob(bytes(start, length)),
            Stored::List(start, length) => DatumRef::List(ListRef::new(bytes(start, length))),
        }
    }

    /// A cell whose bytes the source lends; null where they were copied.
    #[inline]
    pub fn lent(self, output: usize) -> DatumRef<'s> {
        match self.rows.cells[self.start + output] {
            Stored::Lent(cell) => cell,
            _ => DatumRef::Null,
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn rows_come_back_as_they_were_pushed() {
        let lent = b"lent".to_vec();
        let mut rows = Rows::default();
        rows.clear(2);
        for (number, text) in [(1, "one"), (2, "")] {
            rows.push(DatumRef::Integer(number));
            rows.push(DatumRef::Text(text.as_bytes()));
        }
        assert_eq!(
            rows.push_text(|out| {
                out.extend_from_slice(b"ma");
                None
            }),
            None
        );
        assert_eq!(
            rows.push_text(|out| {
                out.extend_from_slice(b"made");
                Some(())
            }),
            Some(())
        );
        rows.lend(DatumRef::Text(&lent));
        assert_eq!(rows.len(), 3);
        assert_eq!(rows.row(0).cell(1), DatumRef::Text(b"one"));
        assert_eq!(rows.row(1).cell(0), DatumRef::Integer(2));
        assert_eq!(rows.row(2).cell(0), DatumRef::Text(b"made"));
        assert_eq!(rows.row(2).cell(1), DatumRef::Text(b"lent"));
        assert_eq!((rows.row(2).part(1).width(), rows.row(2).part(1).cell(0)), (1, DatumRef::Text(b"lent")));
        assert_eq!((rows.row(2).lent(1), rows.row(2).lent(0)), (DatumRef::Text(b"lent"), DatumRef::Null));
        let mut more = Rows::default();
        more.clear(2);
        more.push(DatumRef::Integer(3));
        more.push(DatumRef::Text(b"three"));
        rows.append(more);
        assert_eq!((rows.len(), rows.row(3).cell(1)), (4, DatumRef::Text(b"three")));
        assert_eq!(rows.row(0).cell(1), DatumRef::Text(b"one"));
        rows.clear(1);
        assert!(rows.is_empty());
    }
}
