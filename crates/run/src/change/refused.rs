//! From what a table does not take to a problem in the names of the API.

use puente_core::error::{Code, Problem};
use puente_core::model::{Cardinality, ColumnId, TypeId};
use puente_core::plan::change::{Unruled, locator};
use puente_core::value::Datum;

use super::run::{Datums, Run};
use super::{ConstraintKind, Failure, Session};

/// A row that is written: its locator, if it is there already, and what is written to it.
pub(super) type Candidate<'w> = (Option<&'w [Datum]>, &'w [(ColumnId, Datum)]);

impl<'c, S: Session> Run<'c, S> {
    /// The problem of a write that the table does not take.
    pub(super) async fn refused(&mut self, of: TypeId, written: &[&[(ColumnId, Datum)]], failure: Failure) -> Problem {
        let mut refusal = match failure {
            Failure::Problem(problem) => return problem,
            Failure::Refused(refusal) => refusal,
        };
        let t = &self.model.types[of];
        if let Some(constraint) = refusal.constraint.as_ref().filter(|_| refusal.columns.is_empty()) {
            refusal.columns = self.session.columns_of(&t.relation, constraint).await;
            if refusal.columns.is_empty() {
                // A check's name or text mostly names its columns.
                let is_named = |name: &str| words(constraint).any(|word| word.eq_ignore_ascii_case(name));
                refusal.columns = t.columns.iter().map(|c| c.name.clone()).filter(|name| is_named(name)).collect();
            }
        }
        let columns: Vec<ColumnId> = refusal.columns.iter().filter_map(|name| t.column_named(name)).collect();
        let fields = self.fields(of, &columns);
        let named = if fields.is_empty() { "a value".to_owned() } else { fields.join(" and ") };
        let name = &t.name;
        let (code, text) = match refusal.rule {
            ConstraintKind::Unique => return self.conflict(of, &columns).with_detail(refusal.detail),
            ConstraintKind::Reference if !columns.is_empty() => {
                return self.missing_target(of, &columns).with_detail(refusal.detail);
            }
            ConstraintKind::Reference => {
                if let Some(columns) = self.dangling(of, written).await {
                    return self.missing_target(of, &columns).with_detail(refusal.detail);
                }
                let text = "a value refers to a row that is not there, or the row is still referred to by its old key";
                (Code::ReferenceBroken, format!("{text}; look at the links of `{name}`"))
            }
            ConstraintKind::NotNull => {
                (Code::ValueRefused, format!("{named} of `{name}` cannot be null; give it a value"))
            }
            ConstraintKind::Check => (
                Code::ValueRefused,
                format!("{named} of `{name}` is refused by a check of the table; look at what it allows"),
            ),
            ConstraintKind::Length => (Code::ValueRefused, format!("{named} of `{name}` is too long; shorten it")),
            ConstraintKind::Range => {
                (Code::ValueRefused, format!("{named} of `{name}` is out of its range; give a smaller or larger one"))
            }
            ConstraintKind::Form => {
                (Code::ValueRefused, format!("{named} of `{name}` has not the form that its column takes"))
            }
        };
        Problem::new(code, text).with_detail(refusal.detail)
    }

    /// The problem of a reference, or of a key that is taken where one is, too: that is told first, on every engine. Each row comes
    /// with its locator, if it is there already, and with what is written to it.
    pub(super) async fn or_conflict(&mut self, problem: Problem, of: TypeId, rows: &[Candidate<'_>]) -> Problem {
        if problem.code != Code::ReferenceBroken {
            return problem;
        }
        match self.taken(of, rows).await {
            Ok(Some(columns)) => Problem { detail: problem.detail, ..self.conflict(of, &columns) },
            // Where the database does not answer any more, it had looked at keys before.
            Ok(None) | Err(_) => problem,
        }
    }

    /// A key that rows would have and others have already.
    async fn taken(&mut self, of: TypeId, rows: &[Candidate<'_>]) -> Result<Option<Vec<ColumnId>>, Problem> {
        let t = &self.model.types[of];
        let row_key = t.row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let row_locator = locator(self.model, of);
        for key in &t.keys {
            let is_written = |(_, written): &&Candidate<'_>| {
                written.iter().any(|(column, cell)| key.columns.contains(column) && *cell != Datum::Null)
            };
            let cell = |(own, written): &Candidate<'_>, column: ColumnId| {
                let said = written.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone());
                let at = || row_locator.iter().position(|known| *known == column);
                said.or_else(|| own.and_then(|own| own.get(at()?).cloned())).filter(|cell| *cell != Datum::Null)
            };
            let of_key =
                |row: &Candidate<'_>| key.columns.iter().map(|column| cell(row, *column)).collect::<Option<Datums>>();
            let keyed: Vec<(Option<&[Datum]>, Datums)> =
                rows.iter().filter(is_written).filter_map(|row| Some((row.0, of_key(row)?))).collect();
            let lookup = Unruled::TakenKey.lookup(self.model, of, &key.columns);
            let keys = keyed.iter().map(|(_, cells)| cells.clone()).collect();
            let found = self.find_by(&lookup, keys).await?;
            let is_other = |(own, found): (Option<&[Datum]>, &Option<Datums>)| {
                found.as_ref().is_some_and(|found| own.is_none_or(|own| own[..row_key.len()] != found[..]))
            };
            if keyed.iter().map(|(own, _)| *own).zip(&found).any(is_other) {
                return Ok(Some(key.columns.clone()));
            }
        }
        Ok(None)
    }

    fn conflict(&self, of: TypeId, columns: &[ColumnId]) -> Problem {
        let name = &self.model.types[of].name;
        let text = match self.fields(of, columns).as_slice() {
            [] => format!("there is a `{name}` with the same key already; choose another value, or say `ifExists`"),
            fields => {
                let named = fields.join(" and ");
                format!("there is a `{name}` with this {named} already; choose another value, or say `ifExists`")
            }
        };
        Problem::new(Code::Conflict, text)
    }

    /// The fields of columns, in backticks: those that the caller may write.
    pub(super) fn fields(&self, of: TypeId, columns: &[ColumnId]) -> Vec<String> {
        let known = self.change.fields.get(&of);
        let field = |column: &ColumnId| known.and_then(|fields| fields[*column].clone());
        columns.iter().filter_map(field).map(|field| format!("`{field}`")).collect()
    }

    pub(super) fn missing_target(&self, of: TypeId, columns: &[ColumnId]) -> Problem {
        let t = &self.model.types[of];
        let link = t.links.iter().find(|link| {
            link.cardinality == Cardinality::One
                && link.through.is_none()
                && link.pairs.len() == columns.len()
                && link.pairs.iter().all(|(own, _)| columns.contains(own))
        });
        let target = link.filter(|link| self.change.readable[link.target]);
        let target = target.map_or("row", |link| self.model.types[link.target].name.as_str());
        let fields = self.fields(of, columns);
        let text = match fields.as_slice() {
            [] => format!("a value refers to no `{target}` that is there; give the key of one that is"),
            fields => {
                format!("{} refers to no `{target}` that is there; give the key of one that is", fields.join(" and "))
            }
        };
        Problem::new(Code::ReferenceBroken, text)
    }

    /// The problem of a row that is there already, and that the grant to update does not let be changed like this.
    pub(super) fn not_to_be_changed(&self, of: TypeId, field: &str, place: &str) -> Problem {
        let name = &self.model.types[of].name;
        let text = format!(
            "{place}: this `{name}` is there already, and `{field}` of one that is there may not be set; leave it out"
        );
        Problem::new(Code::NotPermitted, text)
    }

    pub(super) fn still_referred_to(&self, of: TypeId) -> Problem {
        let name = &self.model.types[of].name;
        // Which of them do is not asked any more: some engines end the transaction with the mistake.
        let refers = |(at, t): &(usize, &puente_core::model::Type)| {
            self.change.readable[*at]
                && t.links.iter().any(|link| link.target == of && link.cardinality == Cardinality::One)
        };
        let types: Vec<String> =
            self.model.types.iter().enumerate().filter(refers).map(|(_, t)| format!("`{}`", t.name)).collect();
        let who = if types.is_empty() { String::new() } else { format!(", of {},", types.join(" or ")) };
        let text = format!("other rows{who} still refer to this `{name}`; change or delete them first");
        Problem::new(Code::ReferenceBroken, text)
    }

    /// Which columns refer to a row that is not there, where the engine does not say it.
    pub(super) async fn dangling(&mut self, of: TypeId, written: &[&[(ColumnId, Datum)]]) -> Option<Vec<ColumnId>> {
        let links = &self.model.types[of].links;
        for link in links.iter().filter(|link| link.cardinality == Cardinality::One && link.through.is_none()) {
            let own: Vec<ColumnId> = link.pairs.iter().map(|(own, _)| *own).collect();
            let by: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
            let value = |row: &[(ColumnId, Datum)], column| {
                row.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell.clone())
            };
            let key =
                |row: &&[(ColumnId, Datum)]| own.iter().map(|column| value(row, *column)).collect::<Option<Datums>>();
            let keys: Vec<Datums> = written.iter().filter_map(key).filter(|key| !key.contains(&Datum::Null)).collect();
            let lookup = Unruled::WhichReference.lookup(self.model, link.target, &by);
            if self.find_by(&lookup, keys).await.is_ok_and(|found| found.contains(&None)) {
                return Some(own);
            }
        }
        None
    }
}

/// The words of a constraint's name or text; those of a name are parted by underscores, too, in every way.
fn words(text: &str) -> impl Iterator<Item = String> {
    let mut found: Vec<String> = Vec::new();
    for word in text.split(|c: char| !c.is_alphanumeric() && c != '_') {
        let parts: Vec<&str> = word.split('_').collect();
        for from in 0..parts.len() {
            for to in from + 1..=parts.len() {
                found.push(parts[from..to].join("_"));
            }
        }
    }
    found.into_iter()
}
