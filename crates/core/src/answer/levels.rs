//! Rows that were fetched level by level: each select once, for all of its parents' rows.
//!
//! A source walks the selects in their order, asks for the [`Levels::keys`] of each, runs its statement with them, and
//! hands the rows in with the ordinal of the key that each belongs to. Parents with the same key share their children;
//! values of keys are told apart by their bytes only, and compared by the database alone.

use super::writer::{joined_row, nothing};
use std::collections::HashMap;
use std::ops::Range;

use super::writer::Fetch;
use crate::error::{Code, Problem};
use crate::model::{Column, ColumnId};
use crate::plan::change::{COUNT, GIVEN};
use crate::plan::{ParentJoin, Plan, RowSet, SelectId};
use crate::rows::{Row, Rows, check_held};
use crate::value::{Datum, DatumRef, push_item};

/// The rows of every select of one request.
#[derive(Debug)]
pub struct Levels<'s> {
    levels: Vec<Level<'s>>,
}

#[derive(Debug, Default)]
struct Level<'s> {
    rows: Rows<'s>,
    /// The rows that belong to each key.
    groups: Vec<Range<usize>>,
    /// Which key each row of the parent has; none where a part of it is null, or nothing that the other source could hold.
    key_of_parent: Vec<Option<usize>>,
    /// Why its rows could not be read.
    failed: Option<Problem>,
}

/// The rows of one select as they were read somewhere else.
#[derive(Debug)]
pub struct LevelRows {
    rows: Rows<'static>,
    groups: Vec<Range<usize>>,
}

impl LevelRows {
    /// The rows.
    pub fn rows(&self) -> &Rows<'static> {
        &self.rows
    }
}

/// The distinct linking values of all rows of a parent, in the order of their ordinals.
#[derive(Debug, Default)]
pub struct KeyValues {
    rows: Vec<Vec<Datum>>,
}

impl KeyValues {
    /// Keys that were found elsewhere.
    pub fn new(rows: Vec<Vec<Datum>>) -> Self {
        KeyValues { rows }
    }

    /// The same in parts of so many at most.
    pub fn chunks(self, most: usize) -> Vec<KeyValues> {
        if self.rows.len() <= most {
            return vec![self];
        }
        let (mut chunks, mut rows) = (Vec::new(), self.rows);
        while !rows.is_empty() {
            let rest = rows.split_off(most.min(rows.len()));
            chunks.push(KeyValues { rows: std::mem::replace(&mut rows, rest) });
        }
        chunks
    }

    /// Are there none? Then nothing needs to be asked.
    pub fn is_empty(&self) -> bool {
        self.rows.is_empty()
    }

    /// Every key: one value per pair of the link.
    pub fn rows(&self) -> &[Vec<Datum>] {
        &self.rows
    }

    /// The values of one pair of the link.
    pub fn column(&self, pair: usize) -> impl Iterator<Item = &Datum> {
        self.rows.iter().map(move |row| &row[pair])
    }
}

impl<'s> Levels<'s> {
    /// Nothing fetched yet.
    pub fn new(plan: &Plan) -> Self {
        let level = |id: SelectId| {
            let mut level = Level::default();
            level.rows.clear(plan.row_width(id));
            level
        };
        Levels { levels: (0..plan.selects().len()).map(level).collect() }
    }

    /// For the rows of one select, for so many keys, which will be taken to where the others are.
    pub fn for_one(plan: &Plan, select: SelectId, keys: usize) -> Self {
        let mut levels = Levels::new(plan);
        levels.levels[select].groups = vec![0..0; keys];
        levels
    }

    /// The keys of a select's parents, whose rows must be there, as the select's source stores them. Remembers which parent has
    /// which.
    pub fn keys(&mut self, plan: &Plan, select: SelectId) -> KeyValues {
        let Some(parent) = &plan.selects()[select].parent else { return KeyValues::default() };
        // The rows of a parent that is joined are part of its own parent's.
        let (mut base, mut way) = (parent.select, Vec::new());
        while plan.is_joined(base) {
            let Some(above) = &plan.selects()[base].parent else { break };
            way.push(base);
            base = above.select;
        }
        let outputs: Vec<usize> =
            parent.pairs.iter().filter_map(|(own, _)| plan.selects()[parent.select].output_of(*own)).collect();
        let rows = &self.levels[base].rows;
        let ends = plan.crosses(select).then(|| ends(plan, select, parent));
        let mut ordinals: HashMap<Vec<u8>, Option<usize>> = HashMap::new();
        let mut keys = KeyValues::default();
        let key_of_parent = (0..rows.len())
            .map(|at| {
                let row = way.iter().rev().try_fold(rows.row(at), |row, joined| joined_row(plan, *joined, row))?;
                let cells = || outputs.iter().map(|output| row.cell(*output));
                if cells().any(DatumRef::is_null) {
                    return None;
                }
                let mut bytes = Vec::new();
                cells().for_each(|cell| push_item(&mut bytes, cell));
                *ordinals.entry(bytes).or_insert_with(|| {
                    let key: Vec<Datum> = match &ends {
                        None => cells().map(DatumRef::to_datum).collect(),
                        Some(ends) => cells()
                            .zip(ends)
                            .map(|(cell, (own, other))| other.key_of(plan.model(), own, cell))
                            .collect::<Option<_>>()?,
                    };
                    keys.rows.push(key);
                    Some(keys.rows.len() - 1)
                })
            })
            .collect();
        let level = &mut self.levels[select];
        level.key_of_parent = key_of_parent;
        level.groups = vec![0..0; keys.rows.len()];
        keys
    }

    /// The rows that a change gives, and how many it addressed.
    pub fn give(&mut self, rows: &[Vec<Datum>], count: usize) {
        for cell in rows.iter().flatten() {
            self.levels[GIVEN].rows.push(cell.as_ref());
        }
        self.levels[COUNT].rows.push(DatumRef::Integer(i64::try_from(count).unwrap_or(i64::MAX)));
    }

    /// The rows of a select, for appending the next row's cells.
    pub fn rows(&mut self, select: SelectId) -> &mut Rows<'s> {
        &mut self.levels[select].rows
    }

    /// Says that the row just appended belongs to the key of this ordinal, from 1; rows come ordered by it.
    ///
    /// # Errors
    /// `INTERNAL` where the ordinal is none that was asked for.
    pub fn row_belongs_to(&mut self, select: SelectId, ordinal: i64) -> Result<(), Problem> {
        let level = &mut self.levels[select];
        let end = level.rows.len();
        let number = usize::try_from(ordinal).ok().and_then(|ordinal| ordinal.checked_sub(1));
        match number.and_then(|number| level.groups.get_mut(number)) {
            Some(group) => {
                *group = if group.end == 0 { end - 1..end } else { group.start..end };
                Ok(())
            }
            None => Err(Problem::new(Code::Internal, "a row came for a parent that was not asked about")),
        }
    }

    /// Takes out the rows of a select.
    pub fn take(self, select: SelectId) -> Option<LevelRows>
    where
        's: 'static,
    {
        let level = self.levels.into_iter().nth(select)?;
        Some(LevelRows { rows: level.rows, groups: level.groups })
    }

    /// Puts in rows of a select that were read for its keys from this one on, in their order.
    pub fn put(&mut self, select: SelectId, more: LevelRows, first_key: usize)
    where
        's: 'static,
    {
        let level = &mut self.levels[select];
        let before = level.rows.len();
        for (group, more) in level.groups.iter_mut().skip(first_key).zip(&more.groups) {
            *group = before + more.start..before + more.end;
        }
        level.rows.append(more.rows);
    }

    /// Forgets what could not be read: it is tried now.
    pub fn forget_failures(&mut self) {
        self.levels.iter_mut().for_each(|level| level.failed = None);
    }

    /// The rows of a select could not be read: whatever is asked of them is this error.
    pub fn fail(&mut self, select: SelectId, problem: Problem) {
        self.levels[select].failed = Some(problem);
    }

    /// Holds memory in check, as [`check_held`].
    ///
    /// # Errors
    /// `TOO_COSTLY`.
    pub fn check_size(&self, most_bytes: usize) -> Result<(), Problem> {
        check_held(self.levels.iter().map(|level| level.rows.weight()).sum(), most_bytes)
    }

    /// Gives the rows to the writer.
    pub fn fetch<'l>(&'l self, plan: &'l Plan) -> impl Fetch<'l> + use<'l, 's> {
        LevelFetch { levels: &self.levels, plan }
    }
}

/// The columns that link a select to its parent: the parent's, and its own.
fn ends<'p>(plan: &'p Plan, select: SelectId, parent: &ParentJoin) -> Vec<(&'p Column, &'p Column)> {
    let column = |select: SelectId, column: ColumnId| &plan.model().types[plan.selects()[select].of].columns[column];
    parent.pairs.iter().map(|(own, other)| (column(parent.select, *own), column(select, *other))).collect()
}

struct LevelFetch<'l, 's> {
    levels: &'l [Level<'s>],
    plan: &'l Plan,
}

impl<'l> Fetch<'l> for LevelFetch<'l, '_> {
    fn fetch(&mut self, select: SelectId, parent: Option<Row<'_, 'l>>, into: &mut Rows<'l>) -> Result<(), Problem> {
        let node = &self.plan.selects()[select];
        let level = &self.levels[select];
        let failed = || level.failed.clone().map_or(Ok(()), Err);
        let range = match parent {
            None => {
                failed()?;
                0..level.rows.len()
            }
            Some(row) => {
                // The last cell of a row is its number in its level.
                let number = match row.cell(row.width() - 1) {
                    DatumRef::Integer(number) => usize::try_from(number).unwrap_or(usize::MAX),
                    _ => usize::MAX,
                };
                let key = level.key_of_parent.get(number).copied().flatten();
                // Where there is no key there is nothing at the other end, whether or not that could be read.
                if key.is_some() {
                    failed()?;
                }
                key.map_or(0..0, |key| level.groups[key].clone())
            }
        };
        if range.is_empty() {
            nothing(node, into);
            return Ok(());
        }
        let width = self.plan.row_width(select);
        into.clear(width + 1);
        let range = if matches!(node.row_set, RowSet::Single) { range.start..range.start + 1 } else { range };
        for at in range {
            let row = level.rows.row(at);
            for output in 0..width {
                into.lend(row.cell(output));
            }
            into.lend(DatumRef::Integer(i64::try_from(at).unwrap_or(i64::MAX)));
        }
        Ok(())
    }
}
