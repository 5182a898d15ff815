//! What is written into JSON: values, checked against their types, and changes of parts of what is there, the rest of which stays.

use std::sync::Arc;

use apollo_compiler::Node;
use apollo_compiler::executable::Field;
use serde_json::Value as Json;

use super::WrittenEnd;
use super::at_place;
use super::build::ChangePlanner;
use super::rows::{Members, items};
use crate::access::{Condition, Path, Test, View, Within, WriteGrant};
use crate::error::{Code, Problem};
use crate::model::{Cardinality, ColumnId, Element, FieldType, ITEM_COLUMN, TypeId};
use crate::plan::LeafType;
use crate::plan::input::{Given, Input};
use crate::value::{Datum, JsonType, Scalar, StorageFormat};

/// What becomes of a part of JSON.
#[derive(Debug, Clone, PartialEq)]
pub enum JsonChange {
    /// It is set to JSON, which is given as text.
    Set(Datum),
    /// It is taken away.
    Unset,
    /// A number is added to it. Where there is none, it stays as it is.
    Add(Datum, Scalar),
    /// The items of a list, which is given as text, come behind those that are there; where there is no list, one is made.
    Push(Datum),
    /// Its items that equal one of a list, which is given as text, are taken away.
    Pull(Datum),
    /// Its items, rows of a type, are taken away of which a condition is true.
    PullWhere(TypeId, Arc<Condition>),
    /// Members of an object are changed, in this order; where there is no object, one is made.
    Object(Vec<(String, JsonChange)>),
}

impl JsonChange {
    /// The values that are bound for it, in the order in which it says them.
    pub fn given<'c>(&'c self, found: &mut Vec<&'c Datum>) {
        match self {
            JsonChange::Set(value) | JsonChange::Add(value, _) | JsonChange::Push(value) | JsonChange::Pull(value) => {
                found.push(value);
            }
            JsonChange::Unset | JsonChange::PullWhere(..) => {}
            JsonChange::Object(members) => members.iter().for_each(|(_, change)| change.given(found)),
        }
    }
}

/// What can be done to the members of a row or of an object beside setting them.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum SetWord {
    /// Numbers are added to what is there.
    Add,
    /// Items are put behind those of a list.
    Push,
    /// Items of a list are taken away.
    Pull,
    /// Members are taken out of their object.
    Unset,
}

impl SetWord {
    /// All of them, in the order of the schema.
    pub const ALL: [SetWord; 4] = [SetWord::Add, SetWord::Push, SetWord::Pull, SetWord::Unset];

    /// As it is written in an input.
    pub fn word(self) -> &'static str {
        match self {
            SetWord::Add => "add",
            SetWord::Push => "push",
            SetWord::Pull => "pull",
            SetWord::Unset => "unset",
        }
    }

    /// What it means.
    pub fn meaning(self) -> &'static str {
        match self {
            SetWord::Add => "Numbers to be added to what is there.",
            SetWord::Push => "Items to be put behind those of lists.",
            SetWord::Pull => {
                "Items to be taken out of lists: those that equal one of these, or those that satisfy a filter."
            }
            SetWord::Unset => "Members to be taken away, where `true`.",
        }
    }

    /// Does what comes of it (a refusal, a count) tell what is there? A sum that the table refuses tells how large the number was, to
    /// whoever tries often enough; a list that grows too long, how long it was. What takes a member away succeeds whatever was there.
    fn tells_what_is_there(self) -> bool {
        match self {
            SetWord::Add | SetWord::Push | SetWord::Pull => true,
            SetWord::Unset => false,
        }
    }

    /// The columns that a grant lets the caller change by this word, in a row or in an object inside its JSON: where the word tells
    /// what is there, those alone that the role reads as they are.
    pub fn settable<'a>(
        self,
        view: &'a View,
        within: Within,
        grant: &'a WriteGrant,
    ) -> impl Iterator<Item = (ColumnId, &'a str)> {
        let settable = view.settable_within(within, grant);
        settable.filter(move |(column, _)| !self.tells_what_is_there() || view.reads_as_is((within.of, *column)))
    }

    /// What the helper types of a row, or of an object inside JSON, end with.
    pub fn helper(self) -> &'static str {
        match self {
            SetWord::Add => "Add",
            SetWord::Push => "Push",
            SetWord::Pull => "Pull",
            SetWord::Unset => "Unset",
        }
    }
}

/// What changes of JSON in rows that are there, and what has to be true of them.
#[derive(Debug)]
pub(super) struct Inside<'a> {
    /// The root field whose argument says it.
    field: &'a Node<Field>,
    /// Columns in which null is expected, or a value of their type: what is of another one would be lost.
    fitting: Vec<ColumnId>,
    /// Columns that are added to.
    pub(super) added: Vec<ColumnId>,
}

impl<'a> Inside<'a> {
    pub(super) fn new(field: &'a Node<Field>) -> Self {
        Inside { field, fitting: Vec::new(), added: Vec::new() }
    }

    /// The columns that have to fit before a row is changed.
    pub(super) fn fitting(&self) -> Vec<ColumnId> {
        let mut columns = self.fitting.clone();
        columns.sort_unstable();
        columns.dedup();
        columns
    }
}

/// Is what is there null, or of the column's type?
pub(super) fn fits(column: ColumnId) -> Condition {
    Condition::Test { path: Path { hops: Vec::new(), column, masked: false }, test: Test::Fits }
}

impl<'a> ChangePlanner<'a> {
    /// JSON that is written to a column or a member, as text.
    pub(super) fn json_text(&mut self, to: (TypeId, ColumnId), value: &Json, place: &str) -> Result<Datum, Problem> {
        let json = self.json_value(to, value, place)?;
        let (of, column) = to;
        let member = self.planner.view.model().types[of].columns[column].member.as_ref();
        let levels = levels(&json) + member.map_or(0, |member| member.path.len());
        let most = self.planner.capabilities(of).most_json_levels;
        if levels > most {
            let what =
                format!("is nested {levels} levels deep, and the database goes {most} levels into JSON; nest it less");
            return Err(refused(place, &what));
        }
        Ok(Datum::Text(json.to_string()))
    }

    fn json_value(&mut self, (of, column): (TypeId, ColumnId), value: &Json, place: &str) -> Result<Json, Problem> {
        let c = &self.planner.view.model().types[of].columns[column];
        if value.is_null() {
            return if c.non_null { Err(refused(place, "is always there and cannot be null")) } else { Ok(Json::Null) };
        }
        match c.kind {
            FieldType::Object(_) => self.json_object(Within::object(of, column), value, place),
            FieldType::Items(items_type) => {
                let each = items(value)
                    .enumerate()
                    .map(|(at, item)| self.json_object(Within::row(items_type), item, &format!("{place}[{at}]")));
                Ok(Json::Array(each.collect::<Result<_, _>>()?))
            }
            FieldType::List(element) => self.json_list(element, value, place),
            FieldType::Scalar(_) | FieldType::Enum(_) => self.json_leaf(c.kind, value, place),
        }
    }

    fn json_list(&mut self, element: Element, value: &Json, place: &str) -> Result<Json, Problem> {
        let each = items(value).enumerate().map(|(at, item)| match item {
            Json::Null => Ok(Json::Null),
            item => self.json_leaf(element.kind(), item, &format!("{place}[{at}]")),
        });
        Ok(Json::Array(each.collect::<Result<_, _>>()?))
    }

    fn json_object(&mut self, within: Within, value: &Json, place: &str) -> Result<Json, Problem> {
        let Some(given) = value.as_object() else { return Err(refused(place, "is an object")) };
        self.count_values(1)?;
        let t = &self.planner.view.model().types[within.of];
        let mut object = Members::new();
        for (column, c) in t.members(within.object.unwrap_or(ITEM_COLUMN)) {
            let Some((field, member)) = c.field.as_deref().zip(c.member.as_ref()) else { continue };
            let name = member.path.last().cloned().unwrap_or_default();
            match given.get(field) {
                Some(value) => {
                    object.insert(name, self.json_value((within.of, column), value, &format!("{place}.{field}"))?);
                }
                None if c.non_null => {
                    return Err(refused(&format!("{place}.{field}"), "is always there; give it a value"));
                }
                None => {}
            }
        }
        let written = |column: ColumnId| {
            let member = t.columns[column].member.as_ref()?;
            let is_here = member.within == within.object.unwrap_or(ITEM_COLUMN);
            object.get(member.path.last()?).filter(|_| is_here).cloned()
        };
        self.link_ends(within.of, &written, place)?;
        Ok(Json::Object(object))
    }

    /// Notes the links that what is written to members leads over: each is checked as one that a column leads over.
    ///
    /// # Errors
    /// `REFERENCE_BROKEN` for those that lead to other sources, as [`ChangePlanner::written_elsewhere`] says.
    fn link_ends(
        &mut self,
        of: TypeId,
        written: &dyn Fn(ColumnId) -> Option<Json>,
        place: &str,
    ) -> Result<(), Problem> {
        let model = self.planner.view.model();
        for (id, link) in model.types[of].links.iter().enumerate() {
            if link.cardinality != Cardinality::One || link.through.is_some() || link.crosses {
                continue;
            }
            let cell = |(own, target): &(ColumnId, ColumnId)| {
                let value = written(*own).filter(|value| !value.is_null())?;
                let target = &model.types[link.target].columns[*target];
                let leaf = LeafType { kind: target.kind, form: target.form };
                // What is no key of the target's type leads to none of them.
                Some(leaf.cell(model, &value).unwrap_or(Datum::Null))
            };
            let Some(key) = link.pairs.iter().map(cell).collect::<Option<Vec<_>>>() else { continue };
            self.ends.push(WrittenEnd { of, link: id, key, place: place.to_owned() });
        }
        self.need_visible(of);
        let columns = model.types[of].links.iter().filter(|link| link.crosses).flat_map(|link| &link.pairs);
        let cell = |(own, _): &(ColumnId, ColumnId)| {
            let column = &model.types[of].columns[*own];
            let leaf = LeafType { kind: column.kind, form: column.form };
            Some((*own, leaf.cell(model, &written(*own)?).unwrap_or(Datum::Null)))
        };
        let cells: Vec<(ColumnId, Datum)> = columns.filter_map(cell).collect();
        self.written_elsewhere(of, |column| cells.iter().find(|(known, _)| *known == column).map(|(_, cell)| cell))
            .map_err(|problem| Problem { message: format!("{place}: {}", problem.message), ..problem })
    }

    fn json_leaf(&mut self, kind: FieldType, value: &Json, place: &str) -> Result<Json, Problem> {
        self.count_values(1)?;
        if kind == FieldType::Scalar(Scalar::Json) {
            return Ok(value.clone());
        }
        let leaf = LeafType { kind, form: StorageFormat::JsonValue };
        let cell = leaf
            .cell(self.planner.view.model(), value)
            .map_err(|unfit| refused(place, &format!("expects {}, found {}", unfit.expected, unfit.found)))?;
        let is_text = matches!(kind, FieldType::Scalar(scalar) if scalar.json_type() == JsonType::Text);
        Ok(match cell {
            Datum::Text(text) if is_text => Json::String(text),
            Datum::Integer(number) if kind != FieldType::Scalar(Scalar::Boolean) => number.into(),
            // The digits as they were given: `"12.50"` is a number in JSON.
            Datum::Text(digits) if kind == FieldType::Scalar(Scalar::Decimal) => {
                serde_json::from_str(&digits).map_err(|_| refused(place, "expects a number"))?
            }
            _ => value.clone(),
        })
    }

    /// What is set, added, put in and taken out of the members of an object inside a row's JSON.
    pub(super) fn json_changes(
        &mut self,
        within: Within,
        grant: &WriteGrant,
        given: &Members,
        place: &str,
        inside: &mut Inside<'a>,
    ) -> Result<JsonChange, Problem> {
        inside.fitting.extend(within.object);
        let mut changes: Vec<(String, JsonChange)> = Vec::new();
        let mut written: Vec<(ColumnId, &Json)> = Vec::new();
        for (name, value) in given {
            let member = format!("{place}.{name}");
            if let Some(column) = self.settable_field(within, grant, name) {
                written.push((column, value));
                let change = self.json_change((within.of, column), grant, value, &member, inside)?;
                changes.push((self.json_name_of((within.of, column)), change));
                continue;
            }
            let Some(word) = SetWord::ALL.into_iter().find(|word| word.word() == name) else { continue };
            for (name, value) in value.as_object().into_iter().flatten() {
                let mut settable = word.settable(self.planner.view, within, grant);
                let Some((column, _)) = settable.find(|(_, field)| *field == name) else { continue };
                let member = format!("{member}.{name}");
                if let Some(change) = self.json_word(word, (within.of, column), value, &member, inside)? {
                    changes.push((self.json_name_of((within.of, column)), change));
                }
            }
        }
        for (at, (name, _)) in changes.iter().enumerate() {
            if changes[..at].iter().any(|(known, _)| known == name) {
                let text = format!("`{place}` says twice what becomes of `{name}`; leave one of them out");
                return Err(Problem::new(Code::InvalidArgument, text));
            }
        }
        let of_column =
            |column: ColumnId| written.iter().find(|(known, _)| *known == column).map(|(_, value)| (*value).clone());
        self.link_ends(within.of, &of_column, place)?;
        if changes.is_empty() {
            let text = format!("`{place}` is empty: nothing would change; name the members to be set");
            return Err(Problem::new(Code::InvalidArgument, text));
        }
        Ok(JsonChange::Object(changes))
    }

    /// What becomes of a member, or of a column with JSON, that is set.
    fn json_change(
        &mut self,
        (of, column): (TypeId, ColumnId),
        grant: &WriteGrant,
        value: &Json,
        place: &str,
        inside: &mut Inside<'a>,
    ) -> Result<JsonChange, Problem> {
        match self.object_given((of, column), grant, value, place)? {
            Some(members) => self.json_changes(Within::object(of, column), grant, members, place, inside),
            None => self.json_text((of, column), value, place).map(JsonChange::Set),
        }
    }

    /// The members that are said of an object; none of anything else, nor of what becomes null.
    ///
    /// # Errors
    /// `NOT_PERMITTED` where an object becomes null of which the role may set a part only.
    pub(super) fn object_given<'j>(
        &self,
        (of, column): (TypeId, ColumnId),
        grant: &WriteGrant,
        value: &'j Json,
        place: &str,
    ) -> Result<Option<&'j Members>, Problem> {
        let (view, c) = (self.planner.view, &self.planner.view.model().types[of].columns[column]);
        if !matches!(c.kind, FieldType::Object(_)) {
            return Ok(None);
        }
        if value.is_null() && !view.sets_all((of, column), grant) {
            let text = format!(
                "`{place}`: the role `{}` may set a part of it only, and not make it null; name the members",
                view.role()
            );
            return Err(Problem::new(Code::NotPermitted, text));
        }
        Ok(value.as_object())
    }

    /// What a word does to a member, or to a column with JSON; nothing where it says nothing.
    pub(super) fn json_word(
        &mut self,
        word: SetWord,
        (of, column): (TypeId, ColumnId),
        value: &Json,
        place: &str,
        inside: &mut Inside<'a>,
    ) -> Result<Option<JsonChange>, Problem> {
        let c = &self.planner.view.model().types[of].columns[column];
        if value.is_null() {
            let text = format!("`{place}` is null: it says nothing; leave it out");
            return Err(Problem::new(Code::InvalidArgument, text));
        }
        if word != SetWord::Unset {
            inside.fitting.push(column);
        }
        Ok(match (word, c.kind) {
            (SetWord::Unset, _) => (value == &Json::Bool(true)).then_some(JsonChange::Unset),
            (SetWord::Add, FieldType::Scalar(scalar)) => {
                inside.added.push(column);
                let leaf = LeafType { kind: c.kind, form: c.form };
                let number = leaf
                    .cell(self.planner.view.model(), value)
                    .map_err(|unfit| refused(place, &format!("expects {}, found {}", unfit.expected, unfit.found)))?;
                self.count_values(1)?;
                Some(JsonChange::Add(number, scalar))
            }
            (SetWord::Push, _) => Some(JsonChange::Push(self.json_text((of, column), value, place)?)),
            (SetWord::Pull, FieldType::Items(items)) => {
                let condition = self.pulled(items, inside.field, place);
                Some(JsonChange::PullWhere(items, condition.map_err(|problem| at_place(problem, place))?))
            }
            (SetWord::Pull, _) => Some(JsonChange::Pull(self.json_text((of, column), value, place)?)),
            (SetWord::Add, _) => None,
        })
    }

    /// The filter at a place in a field's arguments, such as `set.report.pull.people`.
    fn pulled(&mut self, items: TypeId, field: &'a Node<Field>, place: &str) -> Result<Arc<Condition>, Problem> {
        let mut steps = place.split('.');
        let mut given = self.planner.argument(field, steps.next().unwrap_or_default());
        for step in steps {
            given = match self.planner.reads.open(given)? {
                Input::Object(members) => members
                    .into_iter()
                    .find_map(|(name, value)| (*name == *step).then_some(value))
                    .unwrap_or(Given::Absent),
                _ => Given::Absent,
            };
        }
        self.check_says_something(given.clone(), None)?;
        let filter = self.planner.reads.open(given)?;
        self.planner.filter(items, filter, &[], false, 1).map(Arc::new)
    }

    /// The column of a field that a grant lets the caller set.
    fn settable_field(&self, within: Within, grant: &WriteGrant, name: &str) -> Option<ColumnId> {
        let view = self.planner.view;
        view.settable_within(within, grant).find(|(_, field)| *field == name).map(|(column, _)| column)
    }

    /// What a member is called in JSON.
    fn json_name_of(&self, (of, column): (TypeId, ColumnId)) -> String {
        let member = self.planner.view.model().types[of].columns[column].member.as_ref();
        member.and_then(|member| member.path.last()).cloned().unwrap_or_default()
    }
}

/// How many levels of objects and lists a value has.
fn levels(value: &Json) -> usize {
    match value {
        Json::Array(items) => 1 + items.iter().map(levels).max().unwrap_or(0),
        Json::Object(members) => 1 + members.values().map(levels).max().unwrap_or(0),
        Json::Null | Json::Bool(_) | Json::Number(_) | Json::String(_) => 0,
    }
}

fn refused(place: &str, what: &str) -> Problem {
    Problem::new(Code::ValueRefused, format!("`{place}` {what}"))
}
