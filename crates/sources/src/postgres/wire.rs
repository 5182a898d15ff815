//! PostgreSQL's binary forms, decoded from the bytes of the wire without intermediate values.
//!
//! An array: dimensions, flags, element type; per dimension its length and lower bound; then per element its length and
//! bytes. A record: the number of fields; per field its type, length (-1 is null) and bytes.

use puente_core::answer::Fetch;
use puente_core::error::{Code, Problem};
use puente_core::plan::{Plan, RowSet, SelectId};
use puente_core::rows::{Row, Rows};
use puente_core::value::{DatumRef, ListRef, push_item};
use puente_sql::NestedFields;

use super::run::column;
use super::spell::{is_spelled, spell};

/// Bytes being read from their beginning.
#[derive(Debug, Clone, Copy)]
pub(super) struct Reader<'s>(pub(super) &'s [u8]);

impl<'s> Reader<'s> {
    pub(super) fn take(&mut self, length: usize) -> Option<&'s [u8]> {
        let (bytes, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(bytes)
    }

    pub(super) fn i32(&mut self) -> Option<i32> {
        self.take(4).and_then(|bytes| bytes.try_into().ok()).map(i32::from_be_bytes)
    }

    fn u32(&mut self) -> Option<u32> {
        self.take(4).and_then(|bytes| bytes.try_into().ok()).map(u32::from_be_bytes)
    }

    /// A length and that many bytes; `Some(None)` is null.
    fn value(&mut self) -> Option<Option<&'s [u8]>> {
        match self.i32()? {
            -1 => Some(None),
            length => self.take(usize::try_from(length).ok()?).map(Some),
        }
    }
}

/// The elements of a one-dimensional array, and their type.
struct Elements<'s> {
    reader: Reader<'s>,
    left: u32,
    ty: u32,
}

impl<'s> Elements<'s> {
    /// None where the bytes are no array of at most one dimension.
    fn of(bytes: &'s [u8]) -> Option<Self> {
        let mut reader = Reader(bytes);
        let (dimensions, _flags, ty) = (reader.i32()?, reader.i32()?, reader.u32()?);
        let left = match dimensions {
            0 => 0,
            1 => {
                let length = u32::try_from(reader.i32()?).ok()?;
                reader.i32()?;
                length
            }
            _ => return None,
        };
        Some(Elements { reader, left, ty })
    }
}

impl<'s> Iterator for Elements<'s> {
    type Item = Option<&'s [u8]>;

    fn next(&mut self) -> Option<Self::Item> {
        if self.left == 0 {
            return None;
        }
        self.left -= 1;
        self.reader.value()
    }
}

/// The rows of a whole request, read as the writer reaches them.
pub(super) struct Nested<'s> {
    plan: &'s Plan,
    fields: &'s NestedFields,
    answer: Answer<'s>,
    /// How many rows were read.
    pub(super) rows: u64,
}

/// What the database answered.
pub(super) enum Answer<'s> {
    /// The rows of the one root select.
    Rows(&'s [tokio_postgres::Row]),
    /// The columns of one row, by root select.
    Columns(Vec<(SelectId, Option<&'s [u8]>)>),
}

impl<'s> Nested<'s> {
    pub(super) fn new(plan: &'s Plan, fields: &'s NestedFields, answer: Answer<'s>) -> Self {
        Nested { plan, fields, answer, rows: 0 }
    }

    fn record(&mut self, bytes: &'s [u8], into: &mut Rows<'s>) -> Option<()> {
        let mut reader = Reader(bytes);
        let fields = reader.i32()?;
        if fields == 0 {
            // A row has at least one cell, so that it can be counted.
            into.lend(DatumRef::Null);
        }
        for _ in 0..fields {
            let ty = reader.u32()?;
            match reader.value()? {
                None => into.lend(DatumRef::Null),
                Some(bytes) => push(into, ty, bytes),
            }
        }
        self.rows += 1;
        Some(())
    }

    /// A record, or an array of records.
    fn records(&mut self, select: SelectId, bytes: Option<&'s [u8]>, into: &mut Rows<'s>) -> Result<(), Problem> {
        let node = &self.plan.selects()[select];
        let Some(bytes) = bytes else {
            if matches!(node.row_set, RowSet::Aggregate) {
                puente_core::answer::nothing(node, into);
            }
            return Ok(());
        };
        let read = match node.row_set {
            RowSet::Single | RowSet::Supplied | RowSet::Aggregate => self.record(bytes, into),
            RowSet::Page { .. } | RowSet::Groups { .. } => Elements::of(bytes).and_then(|elements| {
                for element in elements {
                    self.record(element?, into)?;
                }
                Some(())
            }),
        };
        read.ok_or_else(|| Problem::new(Code::Internal, "the database's answer has not the form that was asked for"))
    }

    /// The rows of a root select.
    fn root(&mut self, select: SelectId, into: &mut Rows<'s>) -> Result<(), Problem> {
        let bytes = match &self.answer {
            Answer::Columns(columns) => columns.iter().find(|(id, _)| *id == select).and_then(|(_, bytes)| *bytes),
            Answer::Rows(rows) => {
                let rows: &'s [tokio_postgres::Row] = rows;
                for row in rows {
                    for (at, told) in row.columns().iter().enumerate() {
                        match column(row, at)? {
                            None => into.lend(DatumRef::Null),
                            Some(bytes) => push(into, told.type_().oid(), bytes),
                        }
                    }
                }
                self.rows += rows.len() as u64;
                return Ok(());
            }
        };
        self.records(select, bytes, into)
    }
}

impl<'s> Fetch<'s> for Nested<'s> {
    fn fetch(&mut self, select: SelectId, parent: Option<Row<'_, 's>>, into: &mut Rows<'s>) -> Result<(), Problem> {
        into.clear(self.fields.row_width(select));
        let Some(parent) = parent else { return self.root(select, into) };
        let bytes = match parent.lent(self.fields.place(select)) {
            DatumRef::Blob(bytes) => Some(bytes),
            _ => None,
        };
        self.records(select, bytes, into)
    }
}

// The types whose binary form is known here and in `spell`, by their object identifiers in `pg_type`; whatever else a
// statement delivers it has cast to text.
const BOOL: u32 = 16;
const BYTEA: u32 = 17;
const INT8: u32 = 20;
const INT2: u32 = 21;
const INT4: u32 = 23;
const FLOAT4: u32 = 700;
const FLOAT8: u32 = 701;
const RECORD: u32 = 2249;
const RECORDS: u32 = 2287;
const JSONB: u32 = 3802;

/// Types of arrays whose items have a known form.
const ARRAYS: &[u32] =
    &[1000, 1001, 1005, 1007, 1009, 1014, 1015, 1016, 1021, 1022, 1115, 1182, 1183, 1185, 1187, 1231, 2951];

/// Appends one value, copied.
pub(super) fn copy(into: &mut Rows<'_>, ty: u32, bytes: &[u8]) {
    put(into, ty, bytes, Rows::push);
}

/// Appends one value, whose bytes stay where they are. Records and arrays of records are kept for later.
fn push<'s>(into: &mut Rows<'s>, ty: u32, bytes: &'s [u8]) {
    put(into, ty, bytes, Rows::lend);
}

fn put<'s, 'b>(into: &mut Rows<'s>, ty: u32, bytes: &'b [u8], keep: fn(&mut Rows<'s>, DatumRef<'b>)) {
    if let Some(cell) = as_it_is(ty, bytes) {
        keep(into, cell);
    } else if ARRAYS.contains(&ty) {
        push_array(into, bytes);
    } else if into.push_text(|out| spell(out, ty, bytes)).is_none() {
        // Not the form that the type has: bytes fit no scalar but their own, so it will be an error on the field.
        keep(into, DatumRef::Blob(bytes));
    }
}

fn push_array(into: &mut Rows<'_>, bytes: &[u8]) {
    let mut list = Vec::new();
    let Some(elements) = Elements::of(bytes) else {
        // Lists of lists have no type here.
        into.push(DatumRef::Text(b"a list of several dimensions"));
        return;
    };
    let ty = elements.ty;
    let mut text = Vec::new();
    for element in elements {
        text.clear();
        let cell = match element.map(|bytes| (bytes, as_it_is(ty, bytes))) {
            None => DatumRef::Null,
            Some((_, Some(cell))) => cell,
            Some((bytes, None)) if spell(&mut text, ty, bytes).is_some() => DatumRef::Text(&text),
            Some((bytes, None)) => DatumRef::Blob(bytes),
        };
        push_item(&mut list, cell);
    }
    into.push(DatumRef::List(ListRef::new(&list)));
}

/// A value that needs no spelling; none where it does, and where the bytes have not the form that the type has.
fn as_it_is(ty: u32, bytes: &[u8]) -> Option<DatumRef<'_>> {
    Some(match ty {
        BOOL => DatumRef::Integer(i64::from(*bytes.first()?)),
        INT2 => DatumRef::Integer(i16::from_be_bytes(bytes.try_into().ok()?).into()),
        INT4 => DatumRef::Integer(i32::from_be_bytes(bytes.try_into().ok()?).into()),
        INT8 => DatumRef::Integer(i64::from_be_bytes(bytes.try_into().ok()?)),
        FLOAT4 => {
            // The shortest digits of the single, not the longer ones of the double that equals it.
            let value = f32::from_be_bytes(bytes.try_into().ok()?);
            DatumRef::Real(value.to_string().parse().unwrap_or_else(|_| f64::from(value)))
        }
        FLOAT8 => DatumRef::Real(f64::from_be_bytes(bytes.try_into().ok()?)),
        BYTEA | RECORD | RECORDS => DatumRef::Blob(bytes),
        JSONB => DatumRef::Text(bytes.get(1..)?),
        _ if is_spelled(ty) || ARRAYS.contains(&ty) => return None,
        _ => DatumRef::Text(bytes),
    })
}

#[cfg(test)]
mod tests {
    use puente_testkit::fuzz::fuzz;

    use super::*;

    /// An array of one record of an integer, a null and a text.
    fn records() -> Vec<u8> {
        let record = [
            &3_i32.to_be_bytes()[..],
            &[&INT4.to_be_bytes()[..], &4_i32.to_be_bytes(), &7_i32.to_be_bytes()].concat(),
            &[&25_u32.to_be_bytes()[..], &(-1_i32).to_be_bytes()].concat(),
            &[&25_u32.to_be_bytes()[..], &2_i32.to_be_bytes(), b"ab"].concat(),
        ]
        .concat();
        let length = i32::try_from(record.len()).unwrap().to_be_bytes();
        let head = [1_i32, 0].map(i32::to_be_bytes).concat();
        [&head[..], &RECORD.to_be_bytes(), &1_i32.to_be_bytes(), &1_i32.to_be_bytes(), &length, &record].concat()
    }

    #[test]
    fn an_array_has_no_fewer_than_no_elements() {
        let array = |length: i32| {
            [&[1, 0].map(i32::to_be_bytes).concat()[..], &INT4.to_be_bytes(), &length.to_be_bytes(), &[0, 0, 0, 1]]
                .concat()
        };
        assert_eq!(Elements::of(&array(0)).map(Iterator::count), Some(0));
        for length in [-1, i32::MIN] {
            assert!(Elements::of(&array(length)).is_none(), "{length}");
        }
    }

    #[test]
    fn bytes_of_any_form_are_read_or_refused() {
        let integers = [
            &[1_i32, 0].map(i32::to_be_bytes).concat()[..],
            &INT4.to_be_bytes(),
            &[2_i32, 1, 4, 5, -1].map(i32::to_be_bytes).concat(),
        ]
        .concat();
        let numeric = [0_i16, 2, 1, 0, 2, 1234, 5600].map(i16::to_be_bytes).concat();
        let seeds = [records(), integers, numeric, 8_i64.to_be_bytes().to_vec(), vec![0; 16]];
        let types: Vec<u32> = ARRAYS
            .iter()
            .copied()
            .chain([BOOL, BYTEA, INT8, INT2, INT4, FLOAT4, FLOAT8, RECORD, RECORDS, JSONB, 25])
            .chain([1082, 1083, 1114, 1184, 1186, 1700, 2950])
            .collect();
        fuzz("wire", &seeds, |input| {
            for ty in &types {
                let mut rows = Rows::default();
                rows.clear(1);
                copy(&mut rows, *ty, input);
                push(&mut rows, *ty, input);
                assert_eq!(rows.len(), 2, "whatever the bytes are, a value is one cell");
            }
            if let Some(elements) = Elements::of(input) {
                // As many as are said, or as there are bytes for.
                let read = elements.map_while(|element| element).count();
                assert!(read <= input.len());
            }
        });
    }
}
