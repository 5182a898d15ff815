//! Creating rows, batch by batch: first what they refer to, then the rows themselves, then what refers to them.

use std::collections::HashSet;
use std::future::Future;
use std::pin::Pin;

use indexmap::IndexMap;
use puente_core::answer::KeyValues;
use puente_core::error::{Code, Problem};
use puente_core::model::{Cardinality, ColumnId, Link, LinkId, TypeId};
use puente_core::plan::change::{EdgeRow, Existing, LookupId, NewRow, Target, Unruled, WrittenEnd, locator};
use puente_core::value::{Datum, push_item};

use super::Step;
use super::refused::Candidate;
use super::run::{Datums, Pending, Run};
use super::{Failure, Session};

/// A target that is there: its place among the targets, its key, and its place in the input.
type Wanted<'c> = (usize, &'c [Datum], &'c str);

impl<'c, S: Session> Run<'c, S> {
    /// Creates rows with everything that hangs on them; gives their locators.
    pub(super) fn create<'r>(
        &'r mut self,
        of: TypeId,
        rows: Vec<Pending<'c>>,
    ) -> Pin<Box<dyn Future<Output = Result<Vec<Datums>, Problem>> + Send + 'r>>
    where
        'c: 'r,
    {
        Box::pin(async move {
            if rows.is_empty() {
                return Ok(Vec::new());
            }
            self.touched.add(rows.len())?;
            let model = self.model;
            let links = &model.types[of].links;
            let mut values: Vec<Vec<(ColumnId, Datum)>> =
                rows.iter().map(|(row, given)| said_first(row.values.iter().chain(given).cloned())).collect();
            let said: Vec<_> = rows.iter().map(|(row, _)| except(&row.values, &row.fixed)).collect();
            if let Err(problem) = self.check_visible(of, &said).await {
                let rows: Vec<Candidate<'_>> = values.iter().map(|values| (None, values.as_slice())).collect();
                return Err(self.or_conflict(problem, of, &rows).await);
            }
            for (id, link) in links.iter().enumerate() {
                let wanted: Vec<(usize, &'c Target)> = rows
                    .iter()
                    .enumerate()
                    .filter_map(|(at, (row, _))| Some((at, &row.ones.iter().find(|(link, _)| *link == id)?.1)))
                    .collect();
                let columns: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
                let targets = wanted.iter().map(|(_, target)| *target).collect();
                let cells = self.targets(link.target, targets, &columns).await?;
                for ((at, _), cells) in wanted.iter().zip(cells) {
                    values[*at].extend(link.pairs.iter().map(|(own, _)| *own).zip(cells));
                }
            }
            self.fix_linked(of, &mut values).await?;
            let places: Vec<&str> = rows.iter().map(|(row, _)| row.place.as_str()).collect();
            let created = self.insert(of, values, &places).await?;
            for (id, link) in links.iter().enumerate() {
                self.create_along(of, (id, link), &rows, &created).await?;
            }
            self.check_rows(of, Some(&places), &created).await?;
            Ok(created)
        })
    }

    /// Creates what hangs on created rows over one link.
    pub(super) async fn create_along(
        &mut self,
        of: TypeId,
        (id, link): (LinkId, &'c Link),
        rows: &[Pending<'c>],
        created: &[Datums],
    ) -> Result<(), Problem> {
        if link.cardinality == Cardinality::One {
            return Ok(());
        }
        if let Some(through) = &link.through {
            let mut edges = Vec::new();
            for ((row, _), cells) in rows.iter().zip(created) {
                let near = self.pick(of, cells, through.near.iter().map(|(own, _)| *own))?;
                let wanted = row.edges.iter().filter(|(link, _)| *link == id).flat_map(|(_, edges)| edges);
                edges.extend(wanted.map(|edge| (edge, near.clone())));
            }
            return self.link_new(link, edges).await;
        }
        let mut children: Vec<Pending<'c>> = Vec::new();
        for ((row, _), cells) in rows.iter().zip(created) {
            let given = self.pick(of, cells, link.pairs.iter().map(|(own, _)| *own))?;
            let given: Vec<(ColumnId, Datum)> = link.pairs.iter().map(|(_, target)| *target).zip(given).collect();
            let wanted = row.many.iter().filter(|(link, _)| *link == id).flat_map(|(_, children)| children);
            children.extend(wanted.map(|child| (child, given.clone())));
        }
        self.create(link.target, children).await.map(|_| ())
    }

    /// The linked columns of targets: of those that are there, and of those that are created along.
    pub(super) async fn targets(
        &mut self,
        of: TypeId,
        targets: Vec<&'c Target>,
        columns: &[ColumnId],
    ) -> Result<Vec<Datums>, Problem> {
        let mut cells: Vec<Datums> = vec![Vec::new(); targets.len()];
        let mut by_key: IndexMap<LookupId, Vec<Wanted<'c>>> = IndexMap::new();
        let mut new: Vec<(usize, &'c NewRow)> = Vec::new();
        for (at, target) in targets.into_iter().enumerate() {
            match target {
                Target::Key { lookup, key, place } => by_key.entry(*lookup).or_default().push((at, key, place)),
                Target::New(row) => new.push((at, row)),
            }
        }
        for (lookup, wanted) in by_key {
            let found = self.find(lookup, wanted.iter().map(|(_, key, _)| key.to_vec()).collect()).await?;
            for ((at, _, place), found) in wanted.into_iter().zip(found) {
                cells[at] = found.ok_or_else(|| {
                    let name = &self.model.types[of].name;
                    let text = format!(
                        "{place}: there is no `{name}` with this key; link one that is there, or create it along"
                    );
                    Problem::new(Code::ReferenceBroken, text)
                })?;
            }
        }
        let created = self.create(of, new.iter().map(|(_, row)| (*row, Vec::new())).collect()).await?;
        for ((at, _), row_locator) in new.into_iter().zip(created) {
            cells[at] = self.pick(of, &row_locator, columns.iter().copied())?;
        }
        Ok(cells)
    }

    /// May the links be set to what their columns now say?
    pub(super) async fn check_visible(&mut self, of: TypeId, rows: &[Vec<(ColumnId, Datum)>]) -> Result<(), Problem> {
        let change = self.change;
        for (id, link) in self.model.types[of].links.iter().enumerate() {
            let Some(visible) = change.visible.get(&(of, id)) else { continue };
            let key = |values: &Vec<(ColumnId, Datum)>| -> Option<Datums> {
                let value =
                    |column: ColumnId| values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone());
                let cells: Option<Datums> = link.pairs.iter().map(|(own, _)| value(*own)).collect();
                cells.filter(|cells| !cells.contains(&Datum::Null))
            };
            let keys: Vec<Datums> = rows.iter().filter_map(key).collect();
            if self.first_hidden(*visible, keys).await?.is_some() {
                let columns: Vec<ColumnId> = link.pairs.iter().map(|(own, _)| *own).collect();
                return Err(self.missing_target(of, &columns));
            }
        }
        Ok(())
    }

    /// The same of what is written into JSON, at any depth.
    pub(super) async fn check_ends(&mut self) -> Result<(), Problem> {
        let change = self.change;
        let mut links: IndexMap<(TypeId, LinkId), Vec<&WrittenEnd>> = IndexMap::new();
        change.ends.iter().for_each(|end| links.entry((end.of, end.link)).or_default().push(end));
        for ((of, id), ends) in links {
            let Some(visible) = change.visible.get(&(of, id)) else { continue };
            let keys = ends.iter().map(|end| end.key.clone()).collect();
            if let Some(at) = self.first_hidden(*visible, keys).await? {
                let columns: Vec<ColumnId> = self.model.types[of].links[id].pairs.iter().map(|(own, _)| *own).collect();
                let problem = self.missing_target(of, &columns);
                let message = format!("{}: {}", ends[at].place, problem.message);
                return Err(Problem { message, ..problem });
            }
        }
        Ok(())
    }

    /// The same of links of which a part of the columns was set, as the rows are now.
    pub(super) async fn check_partly_set(
        &mut self,
        of: TypeId,
        set: &[ColumnId],
        rows: &[Datums],
    ) -> Result<(), Problem> {
        let change = self.change;
        for (id, link) in self.model.types[of].links.iter().enumerate() {
            let Some(visible) = change.visible.get(&(of, id)) else { continue };
            let own: Vec<ColumnId> = link.pairs.iter().map(|(own, _)| *own).collect();
            let said = own.iter().filter(|column| set.contains(column)).count();
            if said == 0 || said == own.len() {
                continue;
            }
            let keys: Result<Vec<Datums>, Problem> =
                rows.iter().map(|cells| self.pick(of, cells, own.iter().copied())).collect();
            let keys = keys?.into_iter().filter(|key| !key.contains(&Datum::Null)).collect();
            if self.first_hidden(*visible, keys).await?.is_some() {
                return Err(self.missing_target(of, &own));
            }
        }
        Ok(())
    }

    /// The first of some keys that leads to no row that the role can read.
    async fn first_hidden(&mut self, visible: Option<LookupId>, keys: Vec<Datums>) -> Result<Option<usize>, Problem> {
        match visible {
            Some(lookup) => Ok(self.find(lookup, keys).await?.iter().position(Option::is_none)),
            None => Ok((!keys.is_empty()).then_some(0)),
        }
    }

    /// Inserts rows in as few statements as the engine allows; gives their locators.
    pub(super) async fn insert(
        &mut self,
        of: TypeId,
        rows: Vec<Vec<(ColumnId, Datum)>>,
        places: &[&str],
    ) -> Result<Vec<Datums>, Problem> {
        // Rows with values for the same columns go together; where each has a statement of its own, in their order.
        let mut groups: IndexMap<(usize, Vec<ColumnId>), Vec<usize>> = IndexMap::new();
        for (at, row) in rows.iter().enumerate() {
            let mut columns: Vec<ColumnId> = row.iter().map(|(column, _)| *column).collect();
            columns.sort_unstable();
            let place = if self.rows_per_insert(of, &columns) == 1 { at } else { 0 };
            groups.entry((place, columns)).or_default().push(at);
        }
        let returning = locator(self.model, of);
        let mut prepared: Option<(usize, Vec<ColumnId>, S::Prepared)> = None;
        let mut locators: Vec<Datums> = vec![Vec::new(); rows.len()];
        for ((_, columns), members) in groups {
            let most = self.rows_per_insert(of, &columns);
            for chunk in members.chunks(most) {
                let value = |row: &[(ColumnId, Datum)], column: ColumnId| {
                    row.iter().find(|(known, _)| *known == column).map_or(Datum::Null, |(_, cell)| cell.clone())
                };
                let cells: Vec<Datums> =
                    chunk.iter().map(|at| columns.iter().map(|column| value(&rows[*at], *column)).collect()).collect();
                // Most chunks are like the one before.
                let known = prepared.take().filter(|(rows, known, _)| *rows == chunk.len() && *known == columns);
                let (_, _, insert) = prepared.insert(known.unwrap_or_else(|| {
                    let step = Step::Insert { of, columns: &columns, rows: chunk.len(), returning: &returning };
                    (chunk.len(), columns.clone(), self.prepare(step))
                }));
                let inserted = self.insert_chunk((of, &columns), insert, cells, &returning).await;
                let inserted = match inserted {
                    Ok(inserted) => inserted,
                    Err(failure) => {
                        let written: Vec<_> = chunk.iter().map(|at| rows[*at].as_slice()).collect();
                        let problem = self.refused(of, &written, failure).await;
                        let candidates: Vec<Candidate<'_>> = written.iter().map(|values| (None, *values)).collect();
                        let problem = self.or_conflict(problem, of, &candidates).await;
                        return Err(if let [only] = chunk { placed(problem, places, *only) } else { problem });
                    }
                };
                for (at, row_locator) in chunk.iter().zip(inserted) {
                    locators[*at] = row_locator;
                }
            }
        }
        Ok(locators)
    }

    pub(super) async fn insert_chunk(
        &mut self,
        (of, columns): (TypeId, &[ColumnId]),
        insert: &S::Prepared,
        cells: Vec<Datums>,
        returning: &[ColumnId],
    ) -> Result<Vec<Datums>, Failure> {
        let expected = cells.len();
        let given: Datums = cells.iter().flatten().cloned().collect();
        if !self.session.returns_inserted() {
            let keys = KeyValues::new(cells.clone());
            self.execute(insert, Some(&keys), &given, &[]).await?;
            return self.find_inserted(of, columns, &cells).await.map_err(Failure::Problem);
        }
        let scalars = self.scalars_of(of, returning);
        let keys = KeyValues::new(cells);
        let inserted = self.execute(insert, Some(&keys), &given, &scalars).await?;
        if inserted.len() != expected {
            let text =
                "the database took another number of rows than it was given; a trigger or a rule must be in the way";
            return Err(Problem::new(Code::ValueRefused, text).into());
        }
        let row = |at: usize| (0..returning.len()).map(|column| inserted.row(at).cell(column).to_datum()).collect();
        Ok((0..expected).map(row).collect())
    }

    /// How many rows with values for these columns one insert takes: one, where the engine numbers them and says the number of
    /// the last one only.
    fn rows_per_insert(&self, of: TypeId, columns: &[ColumnId]) -> usize {
        let is_keyed = || self.row_key(of).iter().all(|column| columns.contains(column));
        if columns.is_empty() || !(self.session.returns_inserted() || is_keyed()) {
            return 1;
        }
        self.session.rows_per_insert(columns.len())
    }

    fn row_key(&self, of: TypeId) -> &'c [ColumnId] {
        self.model.types[of].row_key().map_or(&[][..], |key| &key.columns)
    }

    /// The locators of rows that an insert made without telling: by the keys that they were given, or numbered with.
    async fn find_inserted(
        &mut self,
        of: TypeId,
        columns: &[ColumnId],
        rows: &[Datums],
    ) -> Result<Vec<Datums>, Problem> {
        let key = self.row_key(of);
        // The number is that of one row, and of one column of its key.
        let is_given = |row: &Datums, column: &ColumnId| {
            columns.iter().position(|known| known == column).is_some_and(|at| row[at] != Datum::Null)
        };
        let missing = rows.iter().map(|row| key.iter().filter(|column| !is_given(row, column)).count()).sum::<usize>();
        let number = self.session.last_number().filter(|_| missing == 1).map(|number| match i64::try_from(number) {
            Ok(number) => Datum::Integer(number),
            Err(_) => Datum::Text(number.to_string()),
        });
        let value = |row: &Datums, column: ColumnId| {
            let given = columns.iter().position(|known| *known == column).map(|at| row[at].clone());
            given.filter(|value| *value != Datum::Null).or_else(|| number.clone())
        };
        let keys: Option<Vec<Datums>> =
            rows.iter().map(|row| key.iter().map(|column| value(row, *column)).collect()).collect();
        let name = &self.model.types[of].name;
        let Some(keys) = keys else {
            let text =
                format!("the database does not say which key it gave the new `{name}`; give the key a value yourself");
            return Err(Problem::new(Code::ValueRefused, text));
        };
        let lookup = Unruled::Created.lookup(self.model, of, key);
        let found: Option<Vec<Datums>> = self.find_by(&lookup, keys).await?.into_iter().collect();
        found.ok_or_else(|| {
            let text = format!("the new `{name}` is not found by its key; does a trigger change the key? Give it the value that the trigger would");
            Problem::new(Code::ValueRefused, text)
        })
    }

    /// Creates rows of a join table between rows that are both there by now.
    pub(super) async fn link_new(&mut self, link: &'c Link, edges: Vec<(&'c EdgeRow, Datums)>) -> Result<(), Problem> {
        let Some(through) = link.through.as_ref().filter(|_| !edges.is_empty()) else { return Ok(()) };
        let columns: Vec<ColumnId> = through.far.iter().map(|(_, target)| *target).collect();
        let targets = edges.iter().map(|(edge, _)| &edge.target).collect();
        let far = self.targets(link.target, targets, &columns).await?;
        let places: Vec<&str> = edges.iter().map(|(edge, _)| edge.place.as_str()).collect();
        self.touched.add(edges.len())?;
        let said: Vec<_> = edges.iter().map(|(edge, _)| except(&edge.values, &edge.fixed)).collect();
        self.check_visible(through.join, &said).await?;
        let rows = edges.iter().zip(far).map(|((edge, near), far)| {
            let near = through.near.iter().map(|(_, join)| *join).zip(near.iter().cloned());
            let far = through.far.iter().map(|(join, _)| *join).zip(far);
            // What the grant fixes is among the edge's values, and wins.
            said_first(edge.values.iter().cloned().chain(near).chain(far))
        });
        let mut rows: Vec<_> = rows.collect();
        self.fix_linked(through.join, &mut rows).await?;
        let created = self.insert(through.join, rows, &places).await?;
        self.check_rows(through.join, Some(&places), &created).await
    }

    /// Creates the rows whose key is not there yet; keeps or changes the others.
    pub(super) async fn create_or_change(
        &mut self,
        of: TypeId,
        rows: &'c [NewRow],
        existing: &'c Existing,
    ) -> Result<Vec<Datums>, Problem> {
        let key = |row: &NewRow| -> Result<Datums, Problem> {
            let cell =
                |column: &ColumnId| row.values.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone());
            existing.key.iter().map(cell).collect::<Option<Datums>>().ok_or_else(|| {
                let fields = self.fields(of, &existing.key).join(" and ");
                let text = format!("{}: `ifExists` looks for a row by {fields}; give it a value", row.place);
                Problem::new(Code::InvalidArgument, text)
            })
        };
        let keys: Vec<Datums> = rows.iter().map(key).collect::<Result<_, _>>()?;
        let found = self.find(existing.find, keys.clone()).await?;
        let mut locators: Vec<Datums> = vec![Vec::new(); rows.len()];
        let (mut new, mut there): (Vec<usize>, Vec<usize>) = (Vec::new(), Vec::new());
        let mut met: HashSet<Vec<u8>> = HashSet::new();
        for (at, found) in found.into_iter().enumerate() {
            let mut bytes = Vec::new();
            keys[at].iter().for_each(|cell| push_item(&mut bytes, cell.as_ref()));
            if !met.insert(bytes) && !keys[at].contains(&Datum::Null) {
                let text =
                    format!("{}: an earlier row of the same mutation has the same key; say it once", rows[at].place);
                return Err(Problem::new(Code::Conflict, text));
            }
            match found {
                Some(row_locator) => {
                    locators[at] = row_locator;
                    there.push(at);
                }
                None => new.push(at),
            }
        }
        let created = self.create(of, new.iter().map(|at| (&rows[*at], Vec::new())).collect()).await?;
        for (at, row_locator) in new.into_iter().zip(created) {
            locators[at] = row_locator;
        }
        if existing.changes {
            self.change_existing(of, rows, &there, &mut locators).await?;
        }
        Ok(locators)
    }

    pub(super) async fn change_existing(
        &mut self,
        of: TypeId,
        rows: &'c [NewRow],
        there: &[usize],
        locators: &mut [Datums],
    ) -> Result<(), Problem> {
        let nested = |row: &&NewRow| !row.ones.is_empty() || !row.many.is_empty() || !row.edges.is_empty();
        if let Some(row) = there.iter().map(|at| &rows[*at]).find(nested) {
            let text = format!(
                "{}: a row that is there already is changed in its own fields only; link with `set`, by an update",
                row.place
            );
            return Err(Problem::new(Code::InvalidArgument, text));
        }
        self.touched.add(there.len())?;
        let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let mut groups: IndexMap<Vec<ColumnId>, Vec<usize>> = IndexMap::new();
        let mut said = Vec::new();
        let change = |at: &usize| {
            let missing = || Problem::new(Code::Internal, "a row that is there has no change");
            rows[*at].existing.as_ref().ok_or_else(missing)
        };
        for at in there {
            let change = change(at)?;
            if let Some(field) = &change.refused {
                return Err(self.not_to_be_changed(of, field, &rows[*at].place));
            }
            let mut set: Vec<ColumnId> = change.values.iter().map(|(column, _)| *column).collect();
            set.sort_unstable();
            groups.entry(set).or_default().push(*at);
            said.push(except(&change.values, &change.fixed));
        }
        if let Err(problem) = self.check_visible(of, &said).await {
            let changes = there.iter().map(|at| change(at).map(|change| (*at, change.values.as_slice())));
            let changes: Vec<(usize, &[(ColumnId, Datum)])> = changes.collect::<Result<_, Problem>>()?;
            let rows: Vec<Candidate<'_>> =
                changes.iter().map(|(at, values)| (Some(locators[*at].as_slice()), *values)).collect();
            return Err(self.or_conflict(problem, of, &rows).await);
        }
        for (set, members) in groups.into_iter().filter(|(set, _)| !set.is_empty()) {
            let mut given = Vec::new();
            for at in &members {
                let values = &change(at)?.values;
                let value =
                    |column: &ColumnId| values.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone());
                given.push(locators[*at][..key.len()].iter().cloned().chain(set.iter().filter_map(value)).collect());
            }
            let owned: Vec<Datums> = members.iter().map(|at| locators[*at].clone()).collect();
            self.update_each(of, &set, &key, given, &owned).await?;
            for at in &members {
                locators[*at] = self.replaced(of, &locators[*at], &change(at)?.values);
            }
            let now: Vec<Datums> = members.iter().map(|at| locators[*at].clone()).collect();
            let fixed = &change(&members[0])?.fixed;
            let said: Vec<ColumnId> = set.into_iter().filter(|column| !fixed.contains(column)).collect();
            self.check_partly_set(of, &said, &now).await?;
        }
        let changed: Vec<Datums> = there.iter().map(|at| locators[*at].clone()).collect();
        let changed = self.update_linked(of, changed).await?;
        for (at, row_locator) in there.iter().zip(&changed) {
            locators[*at].clone_from(row_locator);
        }
        self.check_rows(of, None, &changed).await
    }
}

/// Values of columns, each said once: where two are given, the first wins.
pub(super) fn said_first(values: impl IntoIterator<Item = (ColumnId, Datum)>) -> Vec<(ColumnId, Datum)> {
    let mut said: Vec<(ColumnId, Datum)> = Vec::new();
    for (column, cell) in values {
        if said.iter().all(|(known, _)| *known != column) {
            said.push((column, cell));
        }
    }
    said
}

/// What the caller said: the values without those that the grant fixes.
pub(super) fn except(values: &[(ColumnId, Datum)], fixed: &[ColumnId]) -> Vec<(ColumnId, Datum)> {
    values.iter().filter(|(column, _)| !fixed.contains(column)).cloned().collect()
}

/// The problem of a created row with the place of its input, but for that of the one input that there is.
pub(super) fn placed(problem: Problem, places: &[&str], at: usize) -> Problem {
    match places.get(at).filter(|place| places.len() > 1 || **place != "input") {
        Some(place) => Problem { message: format!("{place}: {}", problem.message), ..problem },
        None => problem,
    }
}
