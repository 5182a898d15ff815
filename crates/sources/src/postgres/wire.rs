//! PostgreSQL's binary forms, decoded from the bytes of the wire without intermediate values.
//!
//! An array: dimensions, flags, element type; per dimension its length and lower bound; then per element its length and
//! bytes. A record: the number of fields; per field its type, length (-1 is null) and bytes.

use puente_core::error::{Code, Problem};
use puente_core::json::{Fetch, Row, Rows};
use puente_core::plan::{Page, Plan, SelectId};
use puente_core::value::{CellRef, ListRef, push_item};

use super::run::column;

/// Bytes being read from their beginning.
#[derive(Debug, Clone, Copy)]
struct Reader<'s>(&'s [u8]);

impl<'s> Reader<'s> {
    fn take(&mut self, length: usize) -> Option<&'s [u8]> {
        let (bytes, rest) = self.0.split_at_checked(length)?;
        self.0 = rest;
        Some(bytes)
    }

    fn i32(&mut self) -> Option<i32> {
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
    left: i32,
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
                let length = reader.i32()?;
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

/// The rows of a whole ask, read as the writer reaches them.
pub(super) struct Nested<'s> {
    plan: &'s Plan,
    answer: Answer<'s>,
    /// Where in its parent's record each select begins, and how many fields its own record has.
    places: Vec<(usize, usize)>,
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
    pub(super) fn new(plan: &'s Plan, answer: Answer<'s>) -> Self {
        let places = (0..plan.selects().len()).map(|id| (plan.place(id), plan.row_width(id))).collect();
        Nested { plan, answer, places, rows: 0 }
    }

    fn record(&mut self, bytes: &'s [u8], into: &mut Rows<'s>) -> Option<()> {
        let mut reader = Reader(bytes);
        let fields = reader.i32()?;
        if fields == 0 {
            // A row has at least one cell, so that it can be counted.
            into.lend(CellRef::Null);
        }
        for _ in 0..fields {
            let ty = reader.u32()?;
            match reader.value()? {
                None => into.lend(CellRef::Null),
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
            if matches!(node.page, Page::Whole) {
                node.nothing(into);
            }
            return Ok(());
        };
        let read = match node.page {
            Page::One | Page::Whole => self.record(bytes, into),
            Page::Many { .. } | Page::Groups { .. } => Elements::of(bytes).and_then(|elements| {
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
                            None => into.lend(CellRef::Null),
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
        let (place, width) = self.places[select];
        into.clear(width);
        let Some(parent) = parent else { return self.root(select, into) };
        if self.plan.is_joined(select) {
            self.rows += u64::from(self.plan.take_joined(select, parent, into));
            return Ok(());
        }
        let bytes = match parent.lent(place) {
            CellRef::Blob(bytes) => Some(bytes),
            _ => None,
        };
        self.records(select, bytes, into)
    }
}

// The types whose binary form is known here, by their object identifiers in `pg_type`; whatever else a statement
// delivers it has cast to text.
const BOOL: u32 = 16;
const BYTEA: u32 = 17;
const INT8: u32 = 20;
const INT2: u32 = 21;
const INT4: u32 = 23;
const FLOAT4: u32 = 700;
const FLOAT8: u32 = 701;
const DATE: u32 = 1082;
const TIME: u32 = 1083;
const TIMESTAMP: u32 = 1114;
const TIMESTAMPTZ: u32 = 1184;
const INTERVAL: u32 = 1186;
const NUMERIC: u32 = 1700;
const RECORD: u32 = 2249;
const RECORDS: u32 = 2287;
const UUID: u32 = 2950;
const JSONB: u32 = 3802;

/// Types of arrays whose items have a known form.
const ARRAYS: &[u32] =
    &[1000, 1001, 1005, 1007, 1009, 1014, 1015, 1016, 1021, 1022, 1115, 1182, 1183, 1185, 1187, 1231, 2951];

/// Appends one value, copied.
pub(super) fn copy(into: &mut Rows<'_>, ty: u32, bytes: &[u8]) {
    if ARRAYS.contains(&ty) {
        push_array(into, bytes);
        return;
    }
    let mut text = Vec::new();
    match decode(ty, bytes, &mut text) {
        Some(Decoded::Cell(cell)) => into.push(cell),
        Some(Decoded::Text) => into.push(CellRef::Text(&text)),
        None => into.push(CellRef::Blob(bytes)),
    }
}

/// Appends one value, whose bytes stay where they are. Records and arrays of records are kept for later.
fn push<'s>(into: &mut Rows<'s>, ty: u32, bytes: &'s [u8]) {
    if matches!(ty, RECORD | RECORDS) {
        into.lend(CellRef::Blob(bytes));
        return;
    }
    if ARRAYS.contains(&ty) {
        push_array(into, bytes);
        return;
    }
    let mut text = Vec::new();
    match decode(ty, bytes, &mut text) {
        Some(Decoded::Cell(cell)) => into.lend(cell),
        Some(Decoded::Text) => into.push_text(|out| out.extend_from_slice(&text)),
        // Not the form that the type has: bytes fit no scalar but their own, so it will be an error on the field.
        None => into.lend(CellRef::Blob(bytes)),
    }
}

fn push_array(into: &mut Rows<'_>, bytes: &[u8]) {
    let mut list = Vec::new();
    let Some(elements) = Elements::of(bytes) else {
        // Lists of lists have no type here.
        into.push(CellRef::Text(b"a list of several dimensions"));
        return;
    };
    let ty = elements.ty;
    for element in elements {
        let mut text = Vec::new();
        match element.map(|bytes| (bytes, decode(ty, bytes, &mut text))) {
            None => push_item(&mut list, CellRef::Null),
            Some((_, Some(Decoded::Cell(cell)))) => push_item(&mut list, cell),
            Some((_, Some(Decoded::Text))) => push_item(&mut list, CellRef::Text(&text)),
            Some((bytes, None)) => push_item(&mut list, CellRef::Blob(bytes)),
        }
    }
    into.push(CellRef::List(ListRef::new(&list)));
}

enum Decoded<'s> {
    /// A value as it is.
    Cell(CellRef<'s>),
    /// A text that was written out.
    Text,
}

fn decode<'s>(ty: u32, bytes: &'s [u8], text: &mut Vec<u8>) -> Option<Decoded<'s>> {
    let cell = |cell| Some(Decoded::Cell(cell));
    match ty {
        BOOL => cell(CellRef::Integer(i64::from(*bytes.first()?))),
        INT2 => cell(CellRef::Integer(i16::from_be_bytes(bytes.try_into().ok()?).into())),
        INT4 => cell(CellRef::Integer(i32::from_be_bytes(bytes.try_into().ok()?).into())),
        INT8 => cell(CellRef::Integer(i64(bytes)?)),
        FLOAT4 => {
            // The shortest digits of the single, not the longer ones of the double that equals it.
            let value = f32::from_be_bytes(bytes.try_into().ok()?);
            cell(CellRef::Real(value.to_string().parse().unwrap_or_else(|_| f64::from(value))))
        }
        FLOAT8 => cell(CellRef::Real(f64::from_be_bytes(bytes.try_into().ok()?))),
        BYTEA => cell(CellRef::Blob(bytes)),
        JSONB => cell(CellRef::Text(bytes.get(1..)?)),
        UUID => written(text, |out| uuid(out, bytes)),
        NUMERIC => written(text, |out| numeric(out, bytes)),
        DATE => written(text, |out| date(out, i32::from_be_bytes(bytes.try_into().ok()?))),
        TIME => written(text, |out| time(out, i64(bytes)?)),
        TIMESTAMP => written(text, |out| timestamp(out, i64(bytes)?, "")),
        TIMESTAMPTZ => written(text, |out| timestamp(out, i64(bytes)?, "Z")),
        INTERVAL => written(text, |out| interval(out, bytes)),
        _ => cell(CellRef::Text(bytes)),
    }
}

fn written<'s>(text: &mut Vec<u8>, write: impl FnOnce(&mut String) -> Option<()>) -> Option<Decoded<'s>> {
    let mut out = String::new();
    write(&mut out)?;
    *text = out.into_bytes();
    Some(Decoded::Text)
}

fn i64(bytes: &[u8]) -> Option<i64> {
    bytes.try_into().ok().map(i64::from_be_bytes)
}

fn uuid(out: &mut String, bytes: &[u8]) -> Option<()> {
    if bytes.len() != 16 {
        return None;
    }
    for (at, byte) in bytes.iter().enumerate() {
        if matches!(at, 4 | 6 | 8 | 10) {
            out.push('-');
        }
        push_format(out, format_args!("{byte:02x}"));
    }
    Some(())
}

fn push_format(out: &mut String, arguments: std::fmt::Arguments<'_>) {
    std::fmt::Write::write_fmt(out, arguments).expect("writing to memory does not fail");
}

/// Digits in groups of four, the weight of the first group, the sign, and how many digits follow the point.
fn numeric(out: &mut String, bytes: &[u8]) -> Option<()> {
    let mut reader = Reader(bytes);
    let mut i16 = || reader.take(2).and_then(|bytes| bytes.try_into().ok()).map(i16::from_be_bytes);
    let (count, weight, sign, scale) = (i16()?, i16()?, i16()?, i16()?);
    match sign.cast_unsigned() {
        0x0000 => {}
        0x4000 => out.push('-'),
        0xC000 => out.push_str("NaN"),
        0xD000 => out.push_str("Infinity"),
        0xF000 => out.push_str("-Infinity"),
        _ => return None,
    }
    if sign.cast_unsigned() >= 0xC000 {
        return Some(());
    }
    let groups: Vec<i16> = (0..count).map(|_| i16()).collect::<Option<_>>()?;
    let group = |at: i32| usize::try_from(at).ok().and_then(|at| groups.get(at)).copied().unwrap_or(0);
    if weight < 0 {
        out.push('0');
    }
    for at in 0..=i32::from(weight) {
        match at {
            0 => push_format(out, format_args!("{}", group(at))),
            _ => push_format(out, format_args!("{:04}", group(at))),
        }
    }
    let scale = usize::try_from(scale).ok()?;
    if scale > 0 {
        out.push('.');
        let start = out.len();
        let mut at = i32::from(weight) + 1;
        // A number below 0.0001 begins with groups that are not sent.
        for _ in 0..(-at).max(0) {
            out.push_str("0000");
        }
        at = at.max(0);
        while out.len() - start < scale {
            push_format(out, format_args!("{:04}", group(at)));
            at += 1;
        }
        out.truncate(start + scale);
    }
    Some(())
}

/// Days from 1970-01-01 to 2000-01-01, PostgreSQL's epoch.
const EPOCH_DAYS: i64 = 10_957;
const MICROS_PER_SECOND: i64 = 1_000_000;
const MICROS_PER_DAY: i64 = 86_400 * MICROS_PER_SECOND;

fn date(out: &mut String, days: i32) -> Option<()> {
    match days {
        i32::MAX => out.push_str("infinity"),
        i32::MIN => out.push_str("-infinity"),
        days => civil(out, i64::from(days)),
    }
    Some(())
}

/// `YYYY-MM-DD` of days since 2000-01-01, in the proleptic Gregorian calendar. The year zero and those before are
/// written with a sign: no date of RFC 3339, so they become errors on their fields.
fn civil(out: &mut String, days: i64) {
    // Counted from 0000-03-01, so that the leap day ends a year: 146,097 days are 400 years.
    let shifted = days + EPOCH_DAYS + 719_468;
    let era = shifted.div_euclid(146_097);
    let day_of_era = shifted.rem_euclid(146_097);
    let year_of_era = (day_of_era - day_of_era / 1_460 + day_of_era / 36_524 - day_of_era / 146_096) / 365;
    let day_of_year = day_of_era - (365 * year_of_era + year_of_era / 4 - year_of_era / 100);
    let shifted_month = (5 * day_of_year + 2) / 153;
    let day = day_of_year - (153 * shifted_month + 2) / 5 + 1;
    let month = if shifted_month < 10 { shifted_month + 3 } else { shifted_month - 9 };
    let year = year_of_era + era * 400 + i64::from(month <= 2);
    if (1..=9_999).contains(&year) {
        push_format(out, format_args!("{year:04}-{month:02}-{day:02}"));
    } else {
        push_format(out, format_args!("{year:+05}-{month:02}-{day:02}"));
    }
}

fn time(out: &mut String, micros: i64) -> Option<()> {
    let (seconds, fraction) = (micros.div_euclid(MICROS_PER_SECOND), micros.rem_euclid(MICROS_PER_SECOND));
    push_format(out, format_args!("{:02}:{:02}:{:02}", seconds / 3_600, seconds / 60 % 60, seconds % 60));
    push_fraction(out, fraction);
    Some(())
}

fn push_fraction(out: &mut String, micros: i64) {
    if micros > 0 {
        let digits = format!("{micros:06}");
        push_format(out, format_args!(".{}", digits.trim_end_matches('0')));
    }
}

fn timestamp(out: &mut String, micros: i64, zone: &str) -> Option<()> {
    match micros {
        i64::MAX => out.push_str("infinity"),
        i64::MIN => out.push_str("-infinity"),
        micros => {
            civil(out, micros.div_euclid(MICROS_PER_DAY));
            out.push(' ');
            time(out, micros.rem_euclid(MICROS_PER_DAY))?;
            out.push_str(zone);
        }
    }
    Some(())
}

/// ISO 8601: years and months, days, and a time whose parts share one sign.
fn interval(out: &mut String, bytes: &[u8]) -> Option<()> {
    let mut reader = Reader(bytes);
    let (micros, days, months) = (i64(reader.take(8)?)?, reader.i32()?, reader.i32()?);
    out.push('P');
    for (number, unit) in [(months / 12, 'Y'), (months % 12, 'M'), (days, 'D')] {
        if number != 0 {
            push_format(out, format_args!("{number}{unit}"));
        }
    }
    if micros != 0 || out.len() == 1 {
        out.push('T');
        let sign = if micros < 0 { "-" } else { "" };
        let (seconds, fraction) = (micros.unsigned_abs() / 1_000_000, micros.unsigned_abs() % 1_000_000);
        for (number, unit) in [(seconds / 3_600, 'H'), (seconds / 60 % 60, 'M')] {
            if number != 0 {
                push_format(out, format_args!("{sign}{number}{unit}"));
            }
        }
        if seconds % 60 != 0 || fraction != 0 || out.ends_with('T') {
            push_format(out, format_args!("{sign}{}", seconds % 60));
            push_fraction(out, i64::try_from(fraction).unwrap_or(0));
            out.push('S');
        }
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn text(write: impl FnOnce(&mut String) -> Option<()>) -> String {
        let mut out = String::new();
        write(&mut out).unwrap();
        out
    }

    fn numeric_bytes(weight: i16, sign: u16, scale: i16, groups: &[i16]) -> Vec<u8> {
        let head = [i16::try_from(groups.len()).unwrap(), weight, sign.cast_signed(), scale];
        head.iter().chain(groups).flat_map(|number| number.to_be_bytes()).collect()
    }

    #[test]
    fn numerics_keep_every_digit() {
        let cases = [
            (numeric_bytes(0, 0, 2, &[12, 5000]), "12.50"),
            (numeric_bytes(1, 0x4000, 0, &[1, 0]), "-10000"),
            (numeric_bytes(1, 0, 0, &[1]), "10000"),
            (numeric_bytes(0, 0, 0, &[]), "0"),
            (numeric_bytes(0, 0, 3, &[]), "0.000"),
            (numeric_bytes(-1, 0, 4, &[1]), "0.0001"),
            (numeric_bytes(-2, 0, 8, &[12]), "0.00000012"),
            (numeric_bytes(0, 0xC000, 0, &[]), "NaN"),
        ];
        for (bytes, expected) in cases {
            assert_eq!(text(|out| numeric(out, &bytes)), expected);
        }
    }

    #[test]
    fn days_and_instants_are_counted_from_2000() {
        for (days, expected) in [
            (0, "2000-01-01"),
            (-1, "1999-12-31"),
            (59, "2000-02-29"),
            (9_690, "2026-07-13"),
            (-730_119, "0001-01-01"),
            (i32::MAX, "infinity"),
        ] {
            assert_eq!(text(|out| date(out, days)), expected);
        }
        assert_eq!(text(|out| date(out, -730_120)), "+0000-12-31", "the year zero is no year of RFC 3339");
        assert_eq!(text(|out| timestamp(out, -1, "Z")), "1999-12-31 23:59:59.999999Z");
        assert_eq!(text(|out| timestamp(out, 1_500_000, "")), "2000-01-01 00:00:01.5");
        assert_eq!(text(|out| time(out, MICROS_PER_DAY)), "24:00:00");
    }

    #[test]
    fn intervals_are_iso_8601() {
        let bytes = |micros: i64, days: i32, months: i32| {
            [&micros.to_be_bytes()[..], &days.to_be_bytes(), &months.to_be_bytes()].concat()
        };
        for (value, expected) in [
            (bytes(0, 0, 0), "PT0S"),
            (bytes(0, 3, 14), "P1Y2M3D"),
            (bytes(3_661_500_000, 0, 0), "PT1H1M1.5S"),
            (bytes(-60_000_000, -1, 0), "P-1DT-1M"),
        ] {
            assert_eq!(text(|out| interval(out, &value)), expected);
        }
    }
}
