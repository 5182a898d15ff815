//! Summaries: `totalCount` and `summary` over all rows of a connection, `groups` over its groups.
//!
//! Both range over the rows that the connection's filter and the role's rule leave, on all pages.

use std::sync::Arc;

use apollo_compiler::Node;
use apollo_compiler::executable::Field;

use super::build::{Connection, Planner};
use super::input::Input;
use super::order::MOST_TERMS;
use super::shape::{FieldShape, ObjectShape, Value};
use super::{Function, GroupOrder, GroupTerm, GroupUnit, Output, RowSet, Select, SelectId};
use crate::access::Within;
use crate::error::{Code, Problem};
use crate::model::{ColumnId, FieldType, TypeId};
use crate::value::Scalar;

/// The words that say how much of a value makes a group; all but the first are for dates.
pub const GROUP_WORDS: &[(&str, GroupUnit, &str)] = &[
    ("VALUE", GroupUnit::Value, "A group per value."),
    ("DAY", GroupUnit::Day, "A group per day, in UTC."),
    ("MONTH", GroupUnit::Month, "A group per month, in UTC; its key is the month's first day."),
    ("YEAR", GroupUnit::Year, "A group per year, in UTC; its key is the year's first day."),
];

/// What the one member of an object in `by` or `orderBy` names.
struct SummaryMember<'a> {
    name: Arc<str>,
    /// The column, where it is one.
    column: Option<ColumnId>,
    /// What is said of it.
    value: Input<'a>,
}

/// The functions that sum up values of a scalar: name, function, the result's scalar.
pub fn summary_functions(scalar: Scalar) -> Vec<(&'static str, Function, Scalar)> {
    let mut functions = Vec::new();
    let sum = match scalar {
        // A sum may be longer than what it sums up.
        Scalar::Int => Some(Scalar::BigInt),
        Scalar::BigInt | Scalar::Decimal => Some(Scalar::Decimal),
        Scalar::Float => Some(Scalar::Float),
        _ => None,
    };
    if let Some(sum) = sum {
        functions.push(("sum", Function::Sum, sum));
        functions.push(("avg", Function::Avg, Scalar::Float));
    }
    let is_ordered =
        !matches!(scalar, Scalar::Boolean | Scalar::Json | Scalar::Bytes | Scalar::Uuid | Scalar::Duration);
    if is_ordered {
        functions.push(("min", Function::Min, scalar));
        functions.push(("max", Function::Max, scalar));
    }
    functions
}

impl<'a> Planner<'a> {
    /// `totalCount`.
    pub(super) fn total_count(&mut self, connection: &mut Connection<'_>) -> Result<(SelectId, usize), Problem> {
        let select = self.whole(connection)?;
        Ok((select, self.output(select, Output::Count)))
    }

    /// `summary { … }`.
    pub(super) fn summary(
        &mut self,
        connection: &mut Connection<'_>,
        fields: &[&'a Node<Field>],
    ) -> Result<(SelectId, ObjectShape), Problem> {
        let select = self.whole(connection)?;
        let object = self.summary_object(Within::row(connection.of), select, fields)?;
        Ok((select, object))
    }

    /// The select that sums up all rows of a connection; one serves all of its summaries.
    fn whole(&mut self, connection: &mut Connection<'_>) -> Result<SelectId, Problem> {
        if let Some(id) = connection.whole {
            return Ok(id);
        }
        let id = self.add(Select { row_set: RowSet::Aggregate, ..connection.rows() })?;
        connection.whole = Some(id);
        Ok(id)
    }

    fn summary_object(
        &mut self,
        within: Within,
        select: SelectId,
        fields: &[&'a Node<Field>],
    ) -> Result<ObjectShape, Problem> {
        let of = within.of;
        let helpers = self.helpers(within).to_owned();
        self.each(fields, |planner, name, fields| {
            if name == "__typename" {
                return Ok(Value::Typename(format!("{helpers}Summary")));
            }
            let Some(column) = planner.summary_column(within, name) else {
                return Ok(planner.counted(select, &helpers));
            };
            match planner.view.model().types[of].columns[column].kind {
                FieldType::Scalar(scalar) => {
                    planner.functions(of, column, scalar, select, fields).map(Value::NestedObject)
                }
                FieldType::Object(_) => {
                    planner.summary_object(Within::object(of, column), select, fields).map(Value::NestedObject)
                }
                FieldType::Enum(_) | FieldType::List(_) | FieldType::Items(_) => Ok(Value::Null),
            }
        })
    }

    /// What the names of the helper types of a row, or of an object inside its JSON, begin with.
    fn helpers(&self, within: Within) -> &'a str {
        let model = self.view.model();
        let t = &model.types[within.of];
        match within.object.map(|object| t.columns[object].kind) {
            Some(FieldType::Object(id)) => &model.objects[id].helpers,
            _ => &t.helpers,
        }
    }

    fn counted(&mut self, select: SelectId, type_name: &str) -> Value {
        let output = self.output(select, Output::Count);
        let name = format!("{type_name}Summary.count").into();
        Value::Column { output, kind: FieldType::Scalar(Scalar::Int), is_json: false, non_null: true, name }
    }

    /// The column that summaries and groups call so.
    fn summary_column(&self, within: Within, name: &str) -> Option<ColumnId> {
        let t = &self.view.model().types[within.of];
        self.view.fields(within).find(|(_, field)| t.summary_field(field) == name).map(|(column, _)| column)
    }

    fn functions(
        &mut self,
        of: TypeId,
        column: ColumnId,
        scalar: Scalar,
        select: SelectId,
        fields: &[&'a Node<Field>],
    ) -> Result<ObjectShape, Problem> {
        let t = &self.view.model().types[of];
        let field = t.columns[column].label();
        self.each(fields, |planner, name, _| {
            let found = summary_functions(scalar).into_iter().find(|(word, _, _)| *word == name);
            Ok(match found {
                Some((word, function, result)) => {
                    let output = planner.output(select, Output::Summary(function, column));
                    let name = format!("{}.{field}.{word}", t.name).into();
                    Value::Column { output, kind: FieldType::Scalar(result), is_json: false, non_null: false, name }
                }
                None => Value::Typename(format!("{}Summary", scalar.name())),
            })
        })
    }

    /// `groups(by: […]) { key { … } summary { … } }`.
    pub(super) fn groups(
        &mut self,
        connection: &mut Connection<'_>,
        fields: &[&'a Node<Field>],
    ) -> Result<(SelectId, ObjectShape), Problem> {
        let of = connection.of;
        let by = self.group_terms(of, fields[0])?;
        let order = self.group_order(of, fields[0], &by)?;
        let (size, skip) = self.groups_page(of, fields[0])?;
        let keys: Vec<ColumnId> = by.iter().map(|term| term.column).collect();
        let select = self.add(Select { row_set: RowSet::Groups { by, order, size, skip }, ..connection.rows() })?;
        let t = &self.view.model().types[of];
        let object = self.each(fields, |planner, name, fields| match name {
            "key" => planner.group_key(Within::row(of), select, &keys, fields).map(Value::NestedObject),
            "summary" => planner.summary_object(Within::row(of), select, fields).map(Value::NestedObject),
            _ => Ok(Value::Typename(format!("{}SummaryGroup", t.helpers))),
        })?;
        Ok((select, object))
    }

    fn group_key(
        &mut self,
        within: Within,
        select: SelectId,
        keys: &[ColumnId],
        fields: &[&'a Node<Field>],
    ) -> Result<ObjectShape, Problem> {
        let (t, helpers) = (&self.view.model().types[within.of], self.helpers(within).to_owned());
        self.each(fields, |planner, name, fields| {
            let Some(column) = planner.summary_column(within, name) else {
                return Ok(Value::Typename(format!("{helpers}SummaryKey")));
            };
            if let FieldType::Object(_) = t.columns[column].kind {
                let within = Within::object(within.of, column);
                return planner.group_key(within, select, keys, fields).map(Value::NestedObject);
            }
            let Some(term) = keys.iter().position(|key| *key == column) else {
                let text = format!("`{name}` is not among the fields that `by` groups by; add it there");
                return Err(Problem::new(Code::InvalidArgument, text).at(planner.locate(fields[0])));
            };
            let output = planner.output(select, Output::Group(term));
            let name = format!("{helpers}SummaryKey.{name}").into();
            Ok(Value::Column { output, kind: t.columns[column].kind, is_json: false, non_null: false, name })
        })
    }

    fn group_terms(&self, of: TypeId, field: &'a Node<Field>) -> Result<Vec<GroupTerm>, Problem> {
        let wrong = |text: String| Problem::new(Code::InvalidArgument, text).at(self.locate(field));
        let mut terms: Vec<GroupTerm> = Vec::new();
        for item in self.reads.opened_items(self.reads.open(self.argument(field, "by"))?)? {
            let Some(SummaryMember { name, column, value: Input::Leaf(leaf) }) =
                self.summary_member(Within::row(of), item)?
            else {
                return Err(wrong("`by` takes objects of one member, such as `{ startsOn: MONTH }`".to_owned()));
            };
            let written = self.reads.word(&leaf);
            let unit = GROUP_WORDS.iter().find(|(word, _, _)| written == *word).map(|(_, unit, _)| *unit);
            let (Some(column), Some(unit)) = (column, unit) else { continue };
            if terms.iter().any(|term| term.column == column) {
                return Err(wrong(format!("`by` names `{name}` twice; a field makes groups in one way")));
            }
            terms.push(GroupTerm { column, unit });
        }
        if terms.is_empty() {
            return Err(wrong("`by` is empty; name a field to group by, or ask for `summary`".to_owned()));
        }
        Ok(terms)
    }

    /// The asked order, then the groups' own values, so that it is total.
    fn group_order(&self, of: TypeId, field: &'a Node<Field>, by: &[GroupTerm]) -> Result<Vec<GroupOrder>, Problem> {
        let wrong = |text: String| Problem::new(Code::InvalidArgument, text).at(self.locate(field));
        let mut order: Vec<GroupOrder> = Vec::new();
        for item in self.reads.opened_items(self.reads.open(self.argument(field, "orderBy"))?)? {
            let expected = "an order of groups takes one member, such as `{ count: DESC }`";
            let Some(SummaryMember { name, column, value }) = self.summary_member(Within::row(of), item)? else {
                return Err(wrong(expected.to_owned()));
            };
            let (value, leaf) = match value {
                Input::Leaf(leaf) => (Output::Count, leaf),
                nested => {
                    let Some((word, Input::Leaf(leaf))) = self.first_member(nested, Input::is_given)? else {
                        return Err(wrong(expected.to_owned()));
                    };
                    (self.group_value(of, (&name, column), &word, by).map_err(wrong)?, leaf)
                }
            };
            let (descending, nulls_first) = self.direction(of, &leaf);
            order.push(GroupOrder { value, descending, nulls_first });
            if order.len() > MOST_TERMS {
                let text = format!("the order has over {MOST_TERMS} terms; order by fewer");
                return Err(Problem::new(Code::TooCostly, text).at(self.locate(field)));
            }
        }
        for term in 0..by.len() {
            if !order.iter().any(|known| known.value == Output::Group(term)) {
                let nulls_first = self.capabilities(of).nulls_are_smallest;
                order.push(GroupOrder { value: Output::Group(term), descending: false, nulls_first });
            }
        }
        Ok(order)
    }

    /// The column that the one member of an object names, through members of objects inside JSON, and what is said of it.
    fn summary_member(&self, within: Within, item: Input<'a>) -> Result<Option<SummaryMember<'a>>, Problem> {
        let Some((name, value)) = self.first_member(item, Input::is_given)? else { return Ok(None) };
        let column = self.summary_column(within, &name);
        match column.map(|column| (column, self.view.model().types[within.of].columns[column].kind)) {
            Some((column, FieldType::Object(_))) => self.summary_member(Within::object(within.of, column), value),
            _ => Ok(Some(SummaryMember { name, column, value })),
        }
    }

    fn group_value(
        &self,
        of: TypeId,
        (name, column): (&str, Option<ColumnId>),
        word: &str,
        by: &[GroupTerm],
    ) -> Result<Output, String> {
        let column = column.ok_or_else(|| format!("`{name}` is not a field that groups can be ordered by"))?;
        if word == "key" {
            let term = by.iter().position(|term| term.column == column);
            return term
                .map(Output::Group)
                .ok_or_else(|| format!("`{name}` is not among the fields that `by` groups by; add it there"));
        }
        let FieldType::Scalar(scalar) = self.view.model().types[of].columns[column].kind else {
            return Err(format!("`{name}` has no `{word}`"));
        };
        let function = summary_functions(scalar).into_iter().find(|(known, _, _)| *known == word);
        function.map(|(_, function, _)| Output::Summary(function, column)).ok_or(format!("`{name}` has no `{word}`"))
    }

    fn groups_page(&mut self, of: TypeId, field: &'a Node<Field>) -> Result<(usize, Option<usize>), Problem> {
        let open = |name: &str| self.reads.open(self.argument(field, name));
        let (first, skip) = (open("first")?, open("skip")?);
        Ok((self.page_size(of, "first", first)?, self.skip(skip)?))
    }

    /// The fields of an object that is not a row: collected, merged, each shaped by its name.
    fn each(
        &mut self,
        fields: &[&'a Node<Field>],
        mut shape: impl FnMut(&mut Self, &str, &[&'a Node<Field>]) -> Result<Value, Problem>,
    ) -> Result<ObjectShape, Problem> {
        let collected = self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let mut object = ObjectShape::default();
        for (key, fields) in collected {
            let value = shape(self, fields[0].name.as_str(), &fields)?;
            object.fields.push(FieldShape::new(key, self.locate(fields[0]), value));
        }
        Ok(object)
    }
}
