//! What surveys of all engines agree on: how much is sampled, and what it proves.

use puente_core::catalog::{Column, Table};
use puente_core::model::{KeyProposal, Proposal, Speaks};
use puente_core::value::{Scalar, StorageFormat};
use puente_sql::Dialect;

/// Rows at the beginning of a table whose values are looked at.
pub(crate) const SAMPLED_ROWS: u32 = 10_000;
/// Rows up to which a table is counted: more are estimated. One more tells that there are more.
pub(crate) const COUNTED_EXACTLY: u64 = 10_000;
/// Tables that one statement counts.
pub(crate) const COUNTED_TOGETHER: usize = 50;

/// Asks how many rows some tables have, up to the bound. They come as a statement names them.
pub(crate) fn counting<'t>(tables: impl Iterator<Item = &'t str>) -> String {
    let most = COUNTED_EXACTLY + 1;
    let counts: Vec<String> =
        tables.map(|table| format!("(select count(*) from (select 1 from {table} limit {most}) as c)")).collect();
    format!("select {}", counts.join(", "))
}

/// Distinct values sampled for a proposal.
const SAMPLED_VALUES: u32 = 500;

/// Keys on the other side up to which they are counted.
const COUNTED_KEYS: u32 = 10_000;

/// The question that samples a proposal: distinct values of a column, how many of them a key has, and how many there are of that, up to
/// some bound. Names come quoted.
pub(crate) fn question(column: &str, table: &str, key: &str, target: &str) -> String {
    format!(
        "select count(*), count(o.k), (select count(*) from (select 1 from {target} limit {COUNTED_KEYS}) as e) from
         (select distinct r.v from (select {column} as v from {table} limit {SAMPLED_ROWS}) as r where r.v is not null
          limit {SAMPLED_VALUES}) as s
         left join (select {key} as k from {target}) as o on o.k = s.v"
    )
}

/// A proposal with its sampled evidence: distinct values, and how many exist on the other side. None where the values
/// speak against it; where there are none on either side, nothing does.
pub(crate) fn convincing(candidate: Proposal, (values, found, keys): (i64, i64, i64)) -> Option<Proposal> {
    let values = if keys == 0 { 0 } else { values };
    let [values, found, keys] = [values, found, keys].map(|count| u64::try_from(count).unwrap_or(0));
    let convincing = match candidate.speaks {
        // Half of the values on the other side: a reference with some dangling values is still one.
        Speaks::Key | Speaks::Table => found * 2 >= values,
        Speaks::Part | Speaks::Role => values > 0 && found * 10 >= values * 9,
        Speaks::Telling | Speaks::Values => values > 0 && found == values,
    };
    convincing.then_some(Proposal { sampled: Some((values, found)), keys, ..candidate })
}

/// Columns that are asked about at once, the likely ones: engines have limits for what one statement counts.
const COUNTED: usize = 100;
/// Columns of which pairs are tried: with so many there are 15 pairs.
const PAIRED: usize = 6;

/// The search for a key of a table that has none: one column, else two, that tell all sampled rows apart.
pub(crate) struct KeySearch<'c> {
    table: &'c Table,
    columns: Vec<&'c Column>,
    names: Vec<String>,
    from: String,
}

impl<'c> KeySearch<'c> {
    /// `from` is the table as a statement names it.
    pub(crate) fn new(table: &'c Table, mut columns: Vec<&'c Column>, from: String, dialect: &dyn Dialect) -> Self {
        columns.truncate(COUNTED);
        let names = columns.iter().map(|column| dialect.quote(&column.name)).collect();
        KeySearch { table, columns, names, from }
    }

    /// Asks how many rows are sampled, and for two numbers per column: those with a value, and different values.
    pub(crate) fn first_question(&self) -> String {
        let counts: Vec<String> =
            self.names.iter().map(|name| format!(", count({name}), count(distinct {name})")).collect();
        format!("select count(*){} from (select * from {} limit {SAMPLED_ROWS}) as s", counts.concat(), self.from)
    }

    /// What the first answer tells: the key, or which pairs of columns to ask about.
    pub(crate) fn first_answer(&self, counts: &[i64]) -> Result<Option<KeyProposal>, Vec<(usize, usize)>> {
        let Some((rows, counts)) = counts.split_first().filter(|(rows, _)| **rows > 1) else { return Ok(None) };
        let full: Vec<usize> = (0..self.columns.len()).filter(|at| counts[at * 2] == *rows).collect();
        if let Some(at) = full.iter().find(|at| counts[*at * 2 + 1] == *rows) {
            return Ok(Some(self.proposal(&[*at], *rows)));
        }
        let some = &full[..full.len().min(PAIRED)];
        Err(some.iter().enumerate().flat_map(|(at, a)| some[at + 1..].iter().map(|b| (*a, *b))).collect())
    }

    /// Asks for two numbers per pair: sampled rows, and different pairs.
    pub(crate) fn second_question(&self, pairs: &[(usize, usize)]) -> String {
        let counts: Vec<String> = pairs
            .iter()
            .enumerate()
            .map(|(at, (a, b))| {
                let (a, b) = (&self.names[*a], &self.names[*b]);
                let some = format!("(select {a}, {b} from {} limit {SAMPLED_ROWS}) as s{at}", self.from);
                format!(
                    "(select count(*) from {some}), (select count(*) from (select distinct {a}, {b} from {some}) as d{at})"
                )
            })
            .collect();
        format!("select {}", counts.join(", "))
    }

    /// What the second answer tells.
    pub(crate) fn second_answer(&self, pairs: &[(usize, usize)], counts: &[i64]) -> Option<KeyProposal> {
        let at = (0..pairs.len()).find(|at| counts[at * 2] == counts[at * 2 + 1])?;
        Some(self.proposal(&[pairs[at].0, pairs[at].1], counts[at * 2]))
    }

    fn proposal(&self, columns: &[usize], rows: i64) -> KeyProposal {
        KeyProposal {
            table: self.table.name.clone(),
            source: None,
            columns: columns.iter().map(|at| self.columns[*at].name.clone()).collect(),
            rows: u64::try_from(rows).unwrap_or(0),
        }
    }
}

/// Places over a table's key at which values are looked at, beside its beginning.
const PLACES: u32 = 20;

/// Values of one column that are looked at: the first, and some at places that are spread evenly over the table's key. The
/// places are the same each time, so that a survey of what did not change finds the same.
pub(crate) struct ValueSample {
    /// The table, as a statement names it.
    pub(crate) from: String,
    /// The value, as a statement says it.
    pub(crate) value: String,
    /// A key of whole numbers, as a statement names it; none where there is none, or where all rows are looked at anyway.
    pub(crate) key: Option<String>,
    /// How many values.
    pub(crate) samples: u32,
}

impl ValueSample {
    /// Asks for the first of them.
    pub(crate) fn first(&self) -> String {
        let ValueSample { from, value, key, samples } = self;
        // In the order of the key, where there is one: without it, where a scan begins may depend on what others do.
        let (count, order) = match key {
            Some(key) => (samples.div_ceil(2), format!(" order by {key}")),
            None => (*samples, String::new()),
        };
        format!("select {value} as v from {from} where {value} is not null{order} limit {count}")
    }

    /// Asks for the least and the largest key.
    pub(crate) fn range(&self) -> Option<String> {
        self.key.as_ref().map(|key| format!("select min({key}), max({key}) from {}", self.from))
    }

    /// Asks for those at the places between the two.
    pub(crate) fn places(&self, least: i64, largest: i64) -> Vec<String> {
        let ValueSample { from, value, key: Some(key), samples } = self else { return Vec::new() };
        let count = (samples / 2).div_ceil(PLACES);
        let step = largest.saturating_sub(least) / i64::from(PLACES + 1);
        let place = |number: u32| {
            let place = least.saturating_add(step.saturating_mul(i64::from(number)));
            format!(
                "select {value} as v from {from} where {key} >= {place} and {value} is not null order by {key} limit {count}"
            )
        };
        (1..=PLACES).map(place).collect()
    }
}

/// A key of whole numbers that a sample can be spread over: that of one column, where there are more rows than are looked at.
pub(crate) fn spread_key(table: &Table, samples: u32) -> Option<&str> {
    let [key] = table.primary_key.as_slice() else { return None };
    let is_whole = |column: &Column| matches!(column.scalar, Scalar::Int | Scalar::BigInt) && !column.list;
    let found = table.column(key).filter(|column| is_whole(column) && column.form != StorageFormat::Unsigned);
    found.filter(|_| table.about_rows.is_none_or(|rows| rows > u64::from(samples))).map(|_| key.as_str())
}
