//! From a caller's input to rows that are to be created, and to what is set in rows that are there.

use std::sync::Arc;

use apollo_compiler::Node;
use apollo_compiler::executable::Field;
use serde_json::{Map, Value as Json};

use super::build::ChangePlanner;
use super::json::{Inside, fits};
use super::{Assignment, EdgeChange, EdgeRow, LookupId, NewRow, RowChange, Set, SetWord, Target, at_place};
use crate::access::{Comparison, Condition, Operand, Path, Test, TextComparison, View, Within, WriteGrant};
use crate::error::{Code, Problem};
use crate::model::{Cardinality, Column, ColumnId, FieldType, GLOBAL_ID, Link, LinkId, Through, TypeId, VersionStep};
use crate::plan::{LeafType, edge_fields};
use crate::value::{Datum, Scalar, StorageFormat};

/// The members of a link's input that are not fields of its edge.
pub const LINK_WORDS: &[&str] = &["key", "create"];

/// The edge fields that can be written: their names in the input, and their columns in the join table.
pub fn edge_input_fields(view: &View, through: &Through, grant: &WriteGrant) -> Vec<(String, ColumnId)> {
    let settable: Vec<ColumnId> = view.settable(through.join, grant).map(|(column, _)| column).collect();
    edge_fields(view, through)
        .into_iter()
        .filter(|(_, _, column)| settable.contains(column))
        .map(|(field, _, column)| {
            let taken = LINK_WORDS.contains(&field);
            (if taken { format!("{field}Value") } else { field.to_owned() }, column)
        })
        .collect()
}

/// May rows be created, or linked, along with a row of this type over this link?
pub fn has_link_input(view: &View, link: &Link) -> bool {
    let creates = |of: TypeId| view.type_view(of).is_some_and(|view| view.create.is_some());
    match &link.through {
        None => !link.crosses && creates(link.target),
        Some(through) => !through.repeats && fills_edges(view, through) && view.keys(link.target).next().is_some(),
    }
}

/// May a row of a join table be created with all that it needs?
fn fills_edges(view: &View, through: &Through) -> bool {
    let Some(grant) = view.type_view(through.join).and_then(|view| view.create.as_ref()) else { return false };
    let join = &view.model().types[through.join];
    let (ends, said) = (ends(through), edge_input_fields(view, through, grant));
    (0..join.columns.len()).all(|column| {
        join.may_leave_out(column)
            || ends.contains(&column)
            || said.iter().any(|(_, known)| *known == column)
            || grant.fixed.iter().any(|(known, _)| *known == column)
    })
}

/// A whole input: an object whose members are columns and links.
pub(super) type Members = Map<String, Json>;

impl<'a> ChangePlanner<'a> {
    /// A row to be created. `given` are columns that the row it hangs on sets.
    pub(super) fn new_row(
        &mut self,
        of: TypeId,
        input: &Json,
        place: String,
        given: &[ColumnId],
    ) -> Result<NewRow, Problem> {
        self.count_row()?;
        let view = self.planner.view;
        let grant = view.type_view(of).and_then(|view| view.create.as_ref()).ok_or_else(|| not_granted(view, of))?;
        let mut row = NewRow {
            place,
            values: Vec::new(),
            fixed: Vec::new(),
            ones: Vec::new(),
            many: Vec::new(),
            edges: Vec::new(),
            existing: None,
        };
        let empty = Members::new();
        for (name, value) in input.as_object().unwrap_or(&empty) {
            let member = format!("{}.{name}", row.place);
            if let Some((column, _)) = view.settable(of, grant).find(|(_, field)| field == name) {
                let cell = self.cell(of, column, value, &member).map_err(|problem| at_place(problem, &row.place))?;
                row.values.push((column, cell));
                continue;
            }
            let Some((id, link)) = view.links(of).find(|(_, link)| link.field == *name) else { continue };
            match (link.cardinality, &link.through) {
                (Cardinality::Many, _) if value.is_null() => {}
                (Cardinality::One, _) if value.is_null() => {
                    for (own, _) in &link.pairs {
                        let cell =
                            self.cell(of, *own, value, &member).map_err(|problem| at_place(problem, &row.place))?;
                        row.values.push((*own, cell));
                    }
                }
                (Cardinality::One, _) => {
                    let target = self.target(link, value, member)?;
                    row.ones.push((id, target));
                }
                (Cardinality::Many, None) => {
                    let given: Vec<ColumnId> = link.pairs.iter().map(|(_, target)| *target).collect();
                    let rows = items(value)
                        .enumerate()
                        .map(|(at, item)| self.new_row(link.target, item, format!("{member}[{at}]"), &given));
                    row.many.push((id, rows.collect::<Result<_, _>>()?));
                }
                (Cardinality::Many, Some(through)) => {
                    let rows = items(value)
                        .enumerate()
                        .map(|(at, item)| self.edge_row(link, through, item, format!("{member}[{at}]")));
                    row.edges.push((id, rows.collect::<Result<_, _>>()?));
                }
            }
        }
        let fixed = self.fixed(of, true, grant)?;
        row.fixed = fixed_columns(grant);
        row.values.retain(|(column, _)| !row.fixed.contains(column));
        row.values.extend(fixed);
        self.check_columns(of, &row, given).map_err(|problem| at_place(problem, &row.place))?;
        self.need_created(of);
        self.need_visible(of);
        self.written_elsewhere(of, |column| row.said().find(|(known, _)| *known == column).map(|(_, cell)| cell))
            .map_err(|problem| at_place(problem, &row.place))?;
        Ok(row)
    }

    /// Counts a row, or an edge, that is written.
    fn count_row(&mut self) -> Result<(), Problem> {
        self.rows += 1;
        let most = self.planner.limits.changes;
        if self.rows <= most {
            return Ok(());
        }
        let text = format!(
            "the operation writes over {most} rows and edges, the limit of `changes` in `[limits]`; write in parts"
        );
        Err(Problem::new(Code::TooCostly, text))
    }

    /// Counts values that are written: a variable may be written more than once, but not without end.
    pub(super) fn count_values(&mut self, values: usize) -> Result<(), Problem> {
        self.values += values;
        // Every value takes two bytes of a body at least.
        let most = self.planner.limits.body_bytes / 2;
        if self.values <= most {
            return Ok(());
        }
        let text = format!("the operation writes over {most} values; write in parts");
        Err(Problem::new(Code::TooCostly, text))
    }

    /// What is set in a row that is there already where the caller says these values: by the grant to update. None where there
    /// is no such grant.
    pub(super) fn change_of_existing(
        &mut self,
        of: TypeId,
        mut said: Vec<(ColumnId, Datum)>,
    ) -> Result<Option<RowChange>, Problem> {
        let view = self.planner.view;
        let Some(grant) = view.type_view(of).and_then(|view| view.update.as_ref()) else { return Ok(None) };
        let values = self.fixed(of, false, grant)?;
        let fixed = fixed_columns(grant);
        said.retain(|(column, _)| !fixed.contains(column));
        // A value takes the place of all that is there, also of what is inside its JSON.
        let settable: Vec<ColumnId> = view
            .settable(of, grant)
            .map(|(column, _)| column)
            .filter(|column| view.sets_all((of, *column), grant))
            .collect();
        let refused = said.iter().find(|(column, _)| !settable.contains(column));
        let refused = refused.map(|(column, _)| view.model().types[of].columns[*column].label().to_owned());
        said.extend(values);
        Ok(Some(RowChange { values: said, fixed, refused }))
    }

    /// The values that a grant sets whatever the caller says.
    fn fixed(&mut self, of: TypeId, created: bool, grant: &WriteGrant) -> Result<Vec<(ColumnId, Datum)>, Problem> {
        self.need_linked(of, created, grant);
        let claims = self.planner.reads.variables_of_one_request().claims();
        let value = |(column, operand): &(ColumnId, Operand)| {
            let cell = match operand {
                // Known once the row is linked.
                Operand::Value(_) => return None,
                Operand::Constant(cell) => Some(cell.clone()),
                Operand::Parameter(claim) => claims.get(*claim).filter(|cell| **cell != Datum::Null).cloned(),
            };
            Some(cell.map(|cell| (*column, cell)).ok_or_else(|| {
                let text = format!(
                    "what is written to `{}` takes a value from who is asking, and there is none, or none of its type; \
                     ask with claims that have it",
                    self.planner.view.model().types[of].name
                );
                Problem::new(Code::NotPermitted, text)
            }))
        };
        grant.fixed.iter().filter_map(value).collect()
    }

    /// Is every column said once, and every one that is needed?
    fn check_columns(&self, of: TypeId, row: &NewRow, given: &[ColumnId]) -> Result<(), Problem> {
        let t = &self.planner.view.model().types[of];
        let linked = |column: ColumnId| row.ones.iter().find(|(link, _)| links(&t.links[*link], column));
        for (column, c) in t.columns.iter().enumerate() {
            let is_value = row.values.iter().any(|(known, _)| *known == column) || row.fixed.contains(&column);
            let by_link = linked(column).map(|(link, _)| t.links[*link].field.as_str());
            let field = c.label();
            if let Some(link) = by_link.filter(|_| is_value) {
                return Err(said_twice(field, link));
            }
            let is_said = (is_value && !row.fixed.contains(&column)) || by_link.is_some();
            if given.contains(&column) && is_said {
                let text = format!(
                    "`{}` is set by the row that this one is created with; leave it out",
                    by_link.unwrap_or(field)
                );
                return Err(Problem::new(Code::InvalidArgument, text));
            }
            if is_value || by_link.is_some() || given.contains(&column) || t.may_leave_out(column) {
                continue;
            }
            return Err(self.needed(of, column));
        }
        Ok(())
    }

    /// The problem of a column that a new row needs: named only to whoever may write it.
    fn needed(&self, of: TypeId, column: ColumnId) -> Problem {
        let view = self.planner.view;
        let name = &view.model().types[of].name;
        let grant = view.type_view(of).and_then(|view| view.create.as_ref());
        let field = grant.and_then(|grant| view.settable(of, grant).find(|(settable, _)| *settable == column));
        let link = grant.and_then(|grant| view.settable_links(of, grant).find(|(_, link)| links(link, column)));
        let text = match (field, link) {
            (Some((_, field)), Some((_, link))) => {
                format!("a `{name}` needs `{field}`, or `{}`; give it a value", link.field)
            }
            (Some((_, field)), None) => format!("a `{name}` needs `{field}`; give it a value"),
            (None, _) => format!(
                "a `{name}` needs a value that role `{}` may not give; whoever grants has to grant it, or to fix it",
                view.role()
            ),
        };
        Problem::new(Code::ValueRefused, text)
    }

    /// The other end of a to-one link, or of an edge.
    fn target(&mut self, link: &Link, value: &Json, place: String) -> Result<Target, Problem> {
        let view = self.planner.view;
        let outputs: Vec<ColumnId> = match &link.through {
            None => link.pairs.iter().map(|(_, target)| *target).collect(),
            Some(through) => through.far.iter().map(|(_, target)| *target).collect(),
        };
        let wrong = || {
            let text = format!("{place} takes exactly one of `key` and `create`");
            Problem::new(Code::InvalidArgument, text)
        };
        let given = |word: &str| value.get(word).filter(|value| !value.is_null());
        match (given("key"), given("create")) {
            (Some(key), None) => {
                let (by, cells) = self.key(link.target, key)?;
                let lookup = self.find(link.target, &by, &outputs, view.rows(link.target).cloned().as_slice(), false);
                Ok(Target::Key { lookup, key: cells, place })
            }
            (None, Some(row)) => {
                self.new_row(link.target, row, format!("{place}.create"), &[]).map(Box::new).map(Target::New)
            }
            _ => Err(wrong()),
        }
    }

    /// A row of a join table: its other end, and the edge's own fields.
    fn edge_row(&mut self, link: &Link, through: &Through, value: &Json, place: String) -> Result<EdgeRow, Problem> {
        self.count_row()?;
        let view = self.planner.view;
        let target = self.target(link, value, place.clone())?;
        let grant = view.type_view(through.join).and_then(|view| view.create.as_ref());
        let grant = grant.ok_or_else(|| not_granted(view, through.join))?;
        let mut values = Vec::new();
        for (name, column) in edge_input_fields(view, through, grant) {
            if let Some(value) = value.get(&name) {
                let cell = self
                    .cell(through.join, column, value, &format!("{place}.{name}"))
                    .map_err(|problem| at_place(problem, &place))?;
                values.push((column, cell));
            }
        }
        // A row that is there keeps its key.
        let key = view.model().types[through.join].row_key().map(|key| key.columns.as_slice()).unwrap_or_default();
        let said: Vec<_> = values.iter().filter(|(column, _)| !key.contains(column)).cloned().collect();
        let existing = if said.is_empty() { None } else { self.change_of_existing(through.join, said)? };
        self.written_elsewhere(through.join, |column| {
            values.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell)
        })
        .map_err(|problem| at_place(problem, &place))?;
        values.extend(self.fixed(through.join, true, grant)?);
        self.need_created(through.join);
        self.need_visible(through.join);
        Ok(EdgeRow { target, values, fixed: fixed_columns(grant), place, existing })
    }

    /// What is set in rows that are there.
    pub(super) fn set(&mut self, of: TypeId, field: &'a Node<Field>) -> Result<Set, Problem> {
        let view = self.planner.view;
        let grant = view.type_view(of).and_then(|view| view.update.as_ref()).ok_or_else(|| not_granted(view, of))?;
        let t = &view.model().types[of];
        let (mut set, mut inside) = (Set::default(), Inside::new(field));
        let empty = Members::new();
        let input = self.json(field, "set")?.unwrap_or_default();
        for (name, value) in input.as_object().unwrap_or(&empty) {
            if let Some((column, _)) = view.settable(of, grant).find(|(_, field)| field == name) {
                let place = format!("set.{name}");
                let assignment = match self.object_given((of, column), grant, value, &place)? {
                    Some(members) => {
                        let within = Within::object(of, column);
                        Assignment::Json(self.json_changes(within, grant, members, &place, &mut inside)?)
                    }
                    None => {
                        let cell = self.cell(of, column, value, &place);
                        Assignment::Value(cell.map_err(|problem| at_place(problem, "set"))?)
                    }
                };
                set.values.push((column, assignment));
            } else if let Some((id, link)) = view.links(of).find(|(_, link)| link.field == *name) {
                self.set_link(of, (id, link), value, &mut set)?;
            } else if let Some(word) = SetWord::ALL.into_iter().find(|word| word.word() == name) {
                for (name, value) in value.as_object().unwrap_or(&empty) {
                    let mut settable = word.settable(view, Within::row(of), grant);
                    let Some((column, _)) = settable.find(|(_, field)| field == name) else { continue };
                    let place = format!("set.{}.{name}", word.word());
                    if let Some(assignment) = self.assigned_by(word, (of, column), value, &place, &mut inside)? {
                        set.values.push((column, assignment));
                    }
                }
            }
        }
        let fixed = self.fixed(of, false, grant)?;
        set.fixed = fixed_columns(grant);
        set.values.retain(|(column, _)| !set.fixed.contains(column));
        set.values.extend(fixed.into_iter().map(|(column, cell)| (column, Assignment::Value(cell))));
        // A row that changes has another version; what the caller says of that goes.
        if let Some((column, VersionStep::Increment)) = t.version_step()
            && !(set.values.is_empty() && set.ones.is_empty())
            && !set.values.iter().any(|(known, _)| *known == column)
        {
            set.values.push((column, Assignment::Add(Datum::Integer(1))));
        }
        let key = t.row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let fitting = inside.fitting();
        if !fitting.is_empty() {
            let all_fit = Condition::And(fitting.iter().copied().map(fits).collect());
            set.fitting = Some((self.find(of, &key, &[], &[Arc::new(all_fit)], false), fitting));
        }
        set.in_range = self.in_range(of, &set, &inside);
        for (at, (column, _)) in set.values.iter().enumerate() {
            let field = t.columns[*column].field.as_deref().unwrap_or_default();
            if set.values[..at].iter().any(|(known, _)| known == column) {
                let text = format!("set says twice what becomes of `{field}`; leave one of them out");
                return Err(Problem::new(Code::InvalidArgument, text));
            }
            if let Some((link, _)) = set.ones.iter().find(|(link, _)| links(&t.links[*link], *column)) {
                return Err(said_twice(field, &t.links[*link].field));
            }
        }
        if set.values.is_empty() && set.ones.is_empty() && set.edges.is_empty() {
            let text = "`set` is empty: nothing would change; name the fields to be set";
            return Err(Problem::new(Code::InvalidArgument, text));
        }
        self.need_updated(of);
        self.need_visible(of);
        let said = |column: ColumnId| {
            let said = set.values.iter().find(|(known, _)| *known == column && !set.fixed.contains(known));
            said.and_then(|(_, assignment)| assignment.value())
        };
        self.written_elsewhere(of, said).map_err(|problem| at_place(problem, "set"))?;
        Ok(set)
    }

    /// What becomes of a column that a word names: of what it holds in JSON, or of its number.
    fn assigned_by(
        &mut self,
        word: SetWord,
        (of, column): (TypeId, ColumnId),
        value: &Json,
        place: &str,
        inside: &mut Inside<'a>,
    ) -> Result<Option<Assignment>, Problem> {
        if self.planner.view.model().types[of].columns[column].form == StorageFormat::JsonValue {
            return Ok(self.json_word(word, (of, column), value, place, inside)?.map(Assignment::Json));
        }
        let (outer, name) = place.rsplit_once('.').unwrap_or_default();
        match self.cell(of, column, value, place).map_err(|problem| at_place(problem, outer))? {
            Datum::Null => {
                let text = format!("{outer}: `{name}` expects a number to add, found null");
                Err(Problem::new(Code::InvalidArgument, text))
            }
            cell => Ok(Some(Assignment::Add(cell))),
        }
    }

    /// Finds rows in which what was added to is still a number of its type, where the engine itself has no such limit.
    fn in_range(&mut self, of: TypeId, set: &Set, inside: &Inside<'_>) -> Option<LookupId> {
        let t = &self.planner.view.model().types[of];
        let is_unlimited = |column: &ColumnId| {
            let c = &t.columns[*column];
            c.kind == FieldType::Scalar(Scalar::Int) && c.input.range.is_none()
        };
        let added = set.values.iter().filter(|(_, assigned)| matches!(assigned, Assignment::Add(_)));
        let added = added.map(|(column, _)| *column).chain(inside.added.iter().copied());
        let mut conditions: Vec<Condition> = added.filter(is_unlimited).map(fits_an_int).collect();
        conditions.extend(inside.added.iter().copied().map(fits));
        if conditions.is_empty() {
            return None;
        }
        let key = t.row_key().map(|key| key.columns.clone()).unwrap_or_default();
        Some(self.find(of, &key, &[], &[Arc::new(Condition::And(conditions))], false))
    }

    fn set_link(
        &mut self,
        of: TypeId,
        (id, link): (LinkId, &Link),
        value: &Json,
        set: &mut Set,
    ) -> Result<(), Problem> {
        let place = format!("set.{}", link.field);
        let Some(through) = &link.through else {
            if value.is_null() {
                for (own, _) in &link.pairs {
                    let cell = self.cell(of, *own, &Json::Null, &place).map_err(|problem| at_place(problem, &place))?;
                    set.values.push((*own, Assignment::Value(cell)));
                }
            } else {
                set.ones.push((id, self.target(link, value, place)?));
            }
            return Ok(());
        };
        let view = self.planner.view;
        let list = |word: &str| value.get(word).unwrap_or(&Json::Null);
        let add = items(list("link"))
            .enumerate()
            .map(|(at, item)| self.edge_row(link, through, item, format!("{place}.link[{at}]")))
            .collect::<Result<Vec<_>, _>>()?;
        let outputs: Vec<ColumnId> = through.far.iter().map(|(_, target)| *target).collect();
        let mut remove = Vec::new();
        for (at, key) in items(list("unlink")).enumerate() {
            self.count_row()?;
            let (by, cells) = self.key(link.target, key)?;
            let lookup = self.find(link.target, &by, &outputs, view.rows(link.target).cloned().as_slice(), false);
            remove.push(Target::Key { lookup, key: cells, place: format!("{place}.unlink[{at}]") });
        }
        let ends = ends(through);
        let row_locator = super::locator(view.model(), through.join);
        let rules = |grant: &WriteGrant| -> Vec<_> {
            view.rows(through.join).cloned().into_iter().chain(grant.rows.clone()).collect()
        };
        let join = view.type_view(through.join);
        let delete = join.and_then(|view| view.delete.as_ref()).map(rules);
        let update = join.and_then(|view| view.update.as_ref()).map(rules);
        let removable = delete.map(|rules| self.find(through.join, &ends, &row_locator, &rules, true));
        let updatable = update.map(|rules| self.find(through.join, &ends, &row_locator, &rules, true));
        self.need_updated(through.join);
        set.edges.push(EdgeChange { link: id, add, remove, removable, updatable });
        Ok(())
    }

    /// A key's columns and values.
    pub(super) fn key(&mut self, of: TypeId, key: &Json) -> Result<(Vec<ColumnId>, Vec<Datum>), Problem> {
        let view = self.planner.view;
        let mut given = key.as_object().into_iter().flatten().filter(|(_, value)| !value.is_null());
        let wrong = || Problem::new(Code::InvalidArgument, "`key` takes exactly one member that is not null");
        let (Some((member, value)), None) = (given.next(), given.next()) else { return Err(wrong()) };
        let t = &view.model().types[of];
        if let Some(key) = t.global_key(view.model()).filter(|_| member == GLOBAL_ID) {
            let opened = value.as_str().and_then(|id| self.planner.sealer.open_id(id));
            let found = opened.filter(|row| row.binding == t.identity && row.cells.len() == key.columns.len());
            let found = found.ok_or_else(|| crate::plan::bind::invalid_id("`key.id`"))?;
            return Ok((key.columns.clone(), found.cells));
        }
        let key = view.keys(of).find(|key| key.member == *member).ok_or_else(wrong)?;
        let cells = key.columns.iter().map(|column| {
            let field = t.columns[*column].field.as_deref().unwrap_or_default();
            let value = if key.columns.len() == 1 { value } else { value.get(field).unwrap_or(&Json::Null) };
            self.leaf(&t.columns[*column], value)
        });
        Ok((key.columns.clone(), cells.collect::<Result<_, _>>()?))
    }

    /// A value that is to be written to a column.
    fn cell(&mut self, of: TypeId, column: ColumnId, value: &Json, place: &str) -> Result<Datum, Problem> {
        let t = &self.planner.view.model().types[of];
        let c = &t.columns[column];
        let field = c.label();
        if value.is_null() {
            if !c.nullable {
                let text = format!("`{}.{field}` cannot be null; give it a value, or leave it out", t.name);
                return Err(Problem::new(Code::ValueRefused, text));
            }
            return Ok(Datum::Null);
        }
        if c.form == StorageFormat::JsonValue {
            return self.json_text((of, column), value, place);
        }
        self.count_values(value.as_array().map_or(1, Vec::len))?;
        let cell = match c.kind {
            FieldType::Scalar(Scalar::Json) => Datum::Text(value.to_string()),
            FieldType::List(_) => Datum::List(items(value).map(|item| self.leaf(c, item)).collect::<Result<_, _>>()?),
            _ => self.leaf(c, value)?,
        };
        if let (Datum::Text(text), Some(most)) = (&cell, c.input.second_digits)
            && second_digits(text) > most
        {
            let came = second_digits(text);
            let text = format!(
                "`{}.{field}` keeps {most} digits of a second's fraction, found {came}; leave the others out",
                t.name
            );
            return Err(Problem::new(Code::ValueRefused, text));
        }
        match (&cell, c.input.length, c.input.range) {
            (Datum::Text(text), Some(most), _) if text.chars().count() > most as usize => {
                let came = text.chars().count();
                let text = format!("`{}.{field}` takes at most {most} characters, found {came}; shorten it", t.name);
                Err(Problem::new(Code::ValueRefused, text))
            }
            (Datum::Integer(value), _, Some((least, most))) if !(least..=most).contains(value) => {
                let text = format!("`{}.{field}` takes integers from {least} to {most}, found {value}", t.name);
                Err(Problem::new(Code::ValueRefused, text))
            }
            _ => Ok(cell),
        }
    }

    fn leaf(&self, column: &Column, value: &Json) -> Result<Datum, Problem> {
        let leaf = LeafType { kind: column.kind, form: column.form };
        leaf.cell(self.planner.view.model(), value).map_err(|unfit| {
            let field = column.label();
            let text = format!("`{field}` expects {}, found {}", unfit.expected, unfit.found);
            Problem::new(Code::InvalidArgument, text)
        })
    }
}

/// How many digits a second's fraction has, but for zeros at its end.
fn second_digits(time: &str) -> usize {
    let fraction = time.split_once('.').map_or("", |(_, fraction)| fraction);
    // Behind the digits there may be a zone.
    fraction.split(|letter: char| !letter.is_ascii_digit()).next().unwrap_or_default().trim_end_matches('0').len()
}

/// The columns of a join table that are its two ends: near, then far.
pub(super) fn ends(through: &Through) -> Vec<ColumnId> {
    through.near.iter().map(|(_, join)| *join).chain(through.far.iter().map(|(join, _)| *join)).collect()
}

/// Does a to-one link start from this column?
fn links(link: &Link, column: ColumnId) -> bool {
    link.through.is_none() && !link.crosses && link.pairs.iter().any(|(own, _)| *own == column)
}

/// The items of a list; a single value is a list of one.
pub(super) fn items(value: &Json) -> impl Iterator<Item = &Json> {
    let (list, single) = match value {
        Json::Array(items) => (items.as_slice(), None),
        Json::Null => (&[][..], None),
        single => (&[][..], Some(single)),
    };
    list.iter().chain(single)
}

/// The columns that a grant sets, whatever the caller says.
fn fixed_columns(grant: &WriteGrant) -> Vec<ColumnId> {
    grant.fixed.iter().map(|(column, _)| *column).collect()
}

/// `column is null or column between -2^31 and 2^31 - 1`
fn fits_an_int(column: ColumnId) -> Condition {
    let test = |test: Test| Condition::Test { path: Path { hops: Vec::new(), column, masked: false }, test };
    let compare = |comparison, value: i32| {
        let operand = Operand::Constant(Datum::Integer(value.into()));
        test(Test::Compare { comparison, operand, by: TextComparison::Collation })
    };
    let within = vec![compare(Comparison::Gte, i32::MIN), compare(Comparison::Lte, i32::MAX)];
    Condition::Or(vec![test(Test::IsNull(true)), Condition::And(within)])
}

fn said_twice(field: &str, other: &str) -> Problem {
    let text = format!("`{field}` and `{other}` set the same column; leave one of them out");
    Problem::new(Code::InvalidArgument, text)
}

fn not_granted(view: &View, of: TypeId) -> Problem {
    let text = format!("the role `{}` may not write `{}` like this", view.role(), view.model().types[of].name);
    Problem::new(Code::NotPermitted, text)
}
