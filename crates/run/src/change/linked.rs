//! Values that a grant fixes from linked rows: of rows to be inserted before they are, of rows that are changed afterwards, by
//! what they are linked with then.

use puente_core::error::Problem;
use puente_core::model::{ColumnId, TypeId};
use puente_core::plan::change::LookupId;
use puente_core::value::Datum;

use super::Session;
use super::run::{Datums, Run};

impl<S: Session> Run<'_, S> {
    /// Adds them to rows to be inserted, which say what their links start from.
    pub(super) async fn fix_linked(&mut self, of: TypeId, rows: &mut [Vec<(ColumnId, Datum)>]) -> Result<(), Problem> {
        let change = self.change;
        for linked in change.linked.get(&(of, true)).into_iter().flatten() {
            let value = |row: &[(ColumnId, Datum)], column: &ColumnId| {
                row.iter().find(|(known, _)| known == column).map(|(_, cell)| cell.clone())
            };
            let keys = rows.iter().map(|row| linked.from.iter().map(|column| value(row, column)).collect()).collect();
            let found = self.follow(&linked.way, keys).await?;
            for (row, cell) in rows.iter_mut().zip(found) {
                row.retain(|(column, _)| *column != linked.column);
                row.push((linked.column, cell));
            }
        }
        Ok(())
    }

    /// Sets them in rows that were changed; gives their locators as they are then.
    pub(super) async fn update_linked(&mut self, of: TypeId, rows: Vec<Datums>) -> Result<Vec<Datums>, Problem> {
        let change = self.change;
        let Some(values) = change.linked.get(&(of, false)).filter(|values| !values.is_empty() && !rows.is_empty())
        else {
            return Ok(rows);
        };
        let key = self.model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let mut now = rows.clone();
        let mut given: Vec<Datums> = rows.iter().map(|cells| cells[..key.len()].to_vec()).collect();
        let mut set = Vec::new();
        for linked in values {
            let picked = now.iter().map(|cells| self.pick(of, cells, linked.from.iter().copied()).map(Some));
            let keys = picked.collect::<Result<_, Problem>>()?;
            let found = self.follow(&linked.way, keys).await?;
            set.push(linked.column);
            for ((cells, given), cell) in now.iter_mut().zip(&mut given).zip(found) {
                *cells = self.replaced(of, cells, &[(linked.column, cell.clone())]);
                given.push(cell);
            }
        }
        self.update_each(of, &set, &key, given, &rows).await?;
        Ok(now)
    }

    /// The values at the end of a way that starts from keys: null where a key is null, or leads nowhere.
    async fn follow(&mut self, way: &[LookupId], keys: Vec<Option<Datums>>) -> Result<Vec<Datum>, Problem> {
        let whole = |key: Option<Datums>| key.filter(|cells| !cells.contains(&Datum::Null));
        let mut at: Vec<Option<Datums>> = keys.into_iter().map(whole).collect();
        for lookup in way {
            let mut found = self.find(*lookup, at.iter().flatten().cloned().collect()).await?.into_iter();
            at = at.into_iter().map(|key| whole(key.and_then(|_| found.next().flatten()))).collect();
        }
        Ok(at.into_iter().map(|row| row.and_then(|mut cells| cells.pop()).unwrap_or(Datum::Null)).collect())
    }
}
