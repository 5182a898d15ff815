//! Changing and deleting rows that were found, by their keys.

use indexmap::IndexMap;
use puente_core::error::{Code, Problem};
use puente_core::model::{ColumnId, TypeId};
use puente_core::plan::change::{Assignment, EdgeChange, EdgeRow, LookupId, Set, locator};
use puente_core::value::Datum;

use super::Step;
use super::create::{except, said_first};
use super::refused::Candidate;
use super::run::{Datums, Run};
use super::{ConstraintKind, Failure, Session};

/// The columns that are set to values.
fn values_of(values: &[(ColumnId, Assignment)]) -> Vec<(ColumnId, Datum)> {
    values.iter().filter_map(|(column, assigned)| Some((*column, assigned.value()?.clone()))).collect()
}

/// Rows of one UPDATE or DELETE: engines limit parameters, and the depth of a condition.
const ROWS_PER_STATEMENT: usize = 200;

impl<'c, S: Session> Run<'c, S> {
    /// Updates rows that were addressed; gives their locators as they are now.
    pub(super) async fn update(
        &mut self,
        of: TypeId,
        found: Vec<Datums>,
        set: &'c Set,
    ) -> Result<Vec<Datums>, Problem> {
        if found.is_empty() {
            return Ok(found);
        }
        let plain = values_of(&set.values);
        if let Err(problem) = self.check_visible(of, &[except(&plain, &set.fixed)]).await {
            let rows: Vec<Candidate<'_>> = found.iter().map(|own| (Some(own.as_slice()), plain.as_slice())).collect();
            return Err(self.or_conflict(problem, of, &rows).await);
        }
        let mut values = set.values.clone();
        for (id, target) in &set.ones {
            let link = &self.model.types[of].links[*id];
            let columns: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
            let cells = self.targets(link.target, vec![target], &columns).await?.remove(0);
            values.extend(link.pairs.iter().zip(cells).map(|((own, _), cell)| (*own, Assignment::Value(cell))));
        }
        let plain = values_of(&values);
        if let Some((lookup, columns)) = &set.fitting {
            self.check_fitting(of, *lookup, columns, &found).await?;
        }
        if !values.is_empty() {
            let set_to: Datums = values.iter().flat_map(|(_, assigned)| assigned.given()).cloned().collect();
            let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
            for chunk in found.chunks(ROWS_PER_STATEMENT) {
                let update = self.prepare(Step::Update { of, set: &values, key: &key, keys: chunk.len() });
                let keys = chunk.iter().flat_map(|cells| cells[..key.len()].iter().cloned());
                let given: Datums = set_to.iter().cloned().chain(keys).collect();
                if let Err(failure) = self.execute(&update, None, &given, &[]).await {
                    let written: Vec<_> = values
                        .iter()
                        .flat_map(|(column, assigned)| assigned.given().into_iter().map(|cell| (*column, cell.clone())))
                        .collect();
                    let problem = self.refused(of, &[&written], failure).await;
                    let rows: Vec<Candidate<'_>> =
                        chunk.iter().map(|own| (Some(own.as_slice()), plain.as_slice())).collect();
                    return Err(self.or_conflict(problem, of, &rows).await);
                }
            }
        }
        let now: Vec<Datums> = found.iter().map(|cells| self.replaced(of, cells, &plain)).collect();
        let now = self.update_linked(of, now).await?;
        if let Some(in_range) = set.in_range {
            self.check_range(of, in_range, &now).await?;
        }
        let said: Vec<ColumnId> =
            set.values.iter().map(|(column, _)| *column).filter(|column| !set.fixed.contains(column)).collect();
        self.check_partly_set(of, &said, &now).await?;
        for change in &set.edges {
            self.change_edges(of, change, &now).await?;
        }
        self.check_rows(of, None, &now).await?;
        Ok(now)
    }

    /// Sets columns of rows to values of their own; each row's key comes before its values. Their locators are in the same order.
    pub(super) async fn update_each(
        &mut self,
        of: TypeId,
        set: &[ColumnId],
        key: &[ColumnId],
        rows: Vec<Datums>,
        locators: &[Datums],
    ) -> Result<(), Problem> {
        let columns: Vec<_> = set.iter().map(|column| &self.model.types[of].columns[*column]).collect();
        let together = if self.session.sets_rows_together(&columns) { ROWS_PER_STATEMENT } else { 1 };
        for (chunk, owned) in rows.chunks(together).zip(locators.chunks(together)) {
            let update = self.prepare(Step::UpdateEach { of, set, key, rows: chunk.len() });
            let given: Datums = chunk.concat();
            if let Err(failure) = self.execute(&update, None, &given, &[]).await {
                let values = |row: &Datums| set.iter().copied().zip(row[key.len()..].iter().cloned()).collect();
                let written: Vec<Vec<(ColumnId, Datum)>> = chunk.iter().map(values).collect();
                let problem = self.refused(of, &written.iter().map(Vec::as_slice).collect::<Vec<_>>(), failure).await;
                let candidates: Vec<Candidate<'_>> =
                    owned.iter().zip(&written).map(|(own, values)| (Some(own.as_slice()), values.as_slice())).collect();
                return Err(self.or_conflict(problem, of, &candidates).await);
            }
        }
        Ok(())
    }

    /// A row's identity after columns were set.
    pub(super) fn replaced(&self, of: TypeId, cells: &[Datum], set: &[(ColumnId, Datum)]) -> Datums {
        let set_to = |column: &ColumnId| set.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone());
        locator(self.model, of)
            .iter()
            .zip(cells)
            .map(|(column, cell)| set_to(column).unwrap_or_else(|| cell.clone()))
            .collect()
    }

    /// Asks whether what was added to is still a number of its type.
    async fn check_range(&mut self, of: TypeId, in_range: LookupId, rows: &[Datums]) -> Result<(), Problem> {
        if self.all_are_in(in_range, rows).await? {
            return Ok(());
        }
        let name = &self.model.types[of].name;
        let text = format!("a number of `{name}` would be larger than its type can be; add less");
        Err(Problem::new(Code::ValueRefused, text))
    }

    /// Asks whether nothing is lost where JSON is changed in part.
    async fn check_fitting(
        &mut self,
        of: TypeId,
        lookup: LookupId,
        columns: &[ColumnId],
        rows: &[Datums],
    ) -> Result<(), Problem> {
        if self.all_are_in(lookup, rows).await? {
            return Ok(());
        }
        let t = &self.model.types[of];
        let labels: Vec<String> = columns.iter().map(|column| format!("`{}`", t.columns[*column].label())).collect();
        let text = format!(
            "what a `{}` has stored at {} is of another type than expected, and would be lost; set it as a whole, or to \
             null first",
            t.name,
            labels.join(" or ")
        );
        Err(Problem::new(Code::ValueRefused, text))
    }

    /// Does a lookup find all of these rows?
    async fn all_are_in(&mut self, lookup: LookupId, rows: &[Datums]) -> Result<bool, Problem> {
        let width = self.change.lookups[lookup].by.len();
        let keys = rows.iter().map(|cells| cells[..width].to_vec()).collect();
        Ok(!self.find(lookup, keys).await?.contains(&None))
    }

    /// Links and unlinks over a join table, for every row of a change.
    pub(super) async fn change_edges(
        &mut self,
        of: TypeId,
        change: &'c EdgeChange,
        rows: &[Datums],
    ) -> Result<(), Problem> {
        let link = &self.model.types[of].links[change.link];
        let Some(through) = &link.through else { return Ok(()) };
        let far_columns: Vec<ColumnId> = through.far.iter().map(|(_, target)| *target).collect();
        let near: Vec<Datums> = rows
            .iter()
            .map(|cells| self.pick(of, cells, through.near.iter().map(|(own, _)| *own)))
            .collect::<Result<_, _>>()?;
        let join_key = self.model.types[through.join].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        // Every row of the change meets every key: that is what grows, and what is counted before it does.
        self.touched.add(near.len().saturating_mul(change.remove.len() + change.add.len()))?;
        if let Some(removable) = change.removable.filter(|_| !change.remove.is_empty()) {
            let far = self.targets(link.target, change.remove.iter().collect(), &far_columns).await?;
            let ends = near.iter().flat_map(|near| far.iter().map(|far| [near.as_slice(), far].concat()));
            let found = self.find(removable, ends.collect()).await?;
            self.delete(through.join, &found.into_iter().flatten().collect::<Vec<_>>()).await?;
        }
        if change.add.is_empty() {
            return Ok(());
        }
        let far = self.targets(link.target, change.add.iter().map(|edge| &edge.target).collect(), &far_columns).await?;
        let mut wanted: Vec<(&EdgeRow, Datums)> = Vec::new();
        for near in &near {
            wanted.extend(change.add.iter().zip(&far).map(|(edge, far)| (edge, [near.as_slice(), far].concat())));
        }
        let found = match change.updatable {
            Some(updatable) => self.find(updatable, wanted.iter().map(|(_, ends)| ends.clone()).collect()).await?,
            None => vec![None; wanted.len()],
        };
        let (mut new, mut places, mut there) =
            (Vec::new(), Vec::new(), IndexMap::<Vec<ColumnId>, (Vec<Datums>, Vec<Datums>)>::new());
        let mut said = Vec::new();
        let ends: Vec<ColumnId> =
            through.near.iter().map(|(_, join)| *join).chain(through.far.iter().map(|(join, _)| *join)).collect();
        for ((edge, cells), found) in wanted.into_iter().zip(found) {
            match (found, &edge.existing) {
                (None, _) => {
                    said.push(except(&edge.values, &edge.fixed));
                    new.push(said_first(edge.values.iter().cloned().chain(ends.iter().copied().zip(cells))));
                    places.push(edge.place.as_str());
                }
                (Some(row_locator), Some(change)) => {
                    if let Some(field) = &change.refused {
                        return Err(self.not_to_be_changed(through.join, field, &edge.place));
                    }
                    said.push(except(&change.values, &change.fixed));
                    let set = change.values.iter().map(|(column, _)| *column).collect();
                    let values = change.values.iter().map(|(_, cell)| cell.clone());
                    let row = row_locator[..join_key.len()].iter().cloned().chain(values).collect();
                    let (rows, owned) = there.entry(set).or_default();
                    rows.push(row);
                    owned.push(row_locator);
                }
                (Some(_), None) => {}
            }
        }
        self.check_visible(through.join, &said).await?;
        for (set, (rows, owned)) in there.into_iter().filter(|(set, _)| !set.is_empty()) {
            let now = rows.iter().zip(&owned).map(|(row, owned)| {
                let values = set.iter().copied().zip(row[join_key.len()..].iter().cloned());
                self.replaced(through.join, owned, &values.collect::<Vec<_>>())
            });
            let now = now.collect();
            self.update_each(through.join, &set, &join_key, rows, &owned).await?;
            let now = self.update_linked(through.join, now).await?;
            self.check_rows(through.join, None, &now).await?;
        }
        self.fix_linked(through.join, &mut new).await?;
        let created = self.insert(through.join, new, &places).await?;
        self.check_rows(through.join, Some(&places), &created).await
    }

    pub(super) async fn delete(&mut self, of: TypeId, found: &[Datums]) -> Result<(), Problem> {
        let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        for chunk in found.chunks(ROWS_PER_STATEMENT) {
            let delete = self.prepare(Step::Delete { of, key: &key, keys: chunk.len() });
            let given: Datums = chunk.iter().flat_map(|cells| cells[..key.len()].iter().cloned()).collect();
            match self.execute(&delete, None, &given, &[]).await {
                Ok(_) => {}
                Err(Failure::Refused(refusal)) if refusal.rule == ConstraintKind::Reference => {
                    return Err(self.still_referred_to(of).with_detail(refusal.detail));
                }
                Err(failure) => return Err(self.refused(of, &[], failure).await),
            }
        }
        Ok(())
    }
}
