//! What is inside a row's JSON: objects, whose members are values of the row, and lists of objects, which are delivered as they are
//! written and taken apart where the answer is written.

use std::collections::HashSet;
use std::sync::Arc;

use apollo_compiler::Node;
use apollo_compiler::executable::Field;

use super::build::{Planner, located};
use super::input::{Input, Leaf};
use super::shape::{
    FieldHead, FieldShape, ItemField, ItemRowsShape, ItemShape, ItemValue, ItemsShape, ListShape, ObjectShape, Value,
};
use super::{FilteredItems, Output, Parameter, ParentJoin, RowSet, Select, SelectId};
use crate::access::{Origin, Predicate, Within};
use crate::error::Problem;
use crate::model::{ColumnId, FieldType, ITEM_COLUMN, ObjectId, TypeId};
use crate::value::Datum;

/// Lists inside an item that come beside it: what is answered of each, and what is delivered for it.
#[derive(Default)]
struct Beside {
    shapes: Vec<ListShape>,
    delivered: Vec<(ColumnId, FilteredItems)>,
}

impl<'a> Planner<'a> {
    /// An object inside a row's JSON.
    pub(super) fn json_object(
        &mut self,
        id: ObjectId,
        select: SelectId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<Value, Problem> {
        self.check_depth(depth)?;
        let view = self.view;
        let object_type = &view.model().objects[id];
        let (of, column) = (object_type.of, object_type.column);
        let within = Within::object(of, column);
        let non_null = view.is_non_null(of, column);
        if self.is_whole(of, column, fields)? {
            let output = self.output(select, Output::Json(column));
            let item = self.item(within, &object_type.name, fields, depth, &mut Beside::default())?;
            return Ok(Value::WholeObject { output, non_null, name: self.json_name(of, column), item });
        }
        let output = self.output(select, Output::Column(column));
        let mut object = ObjectShape::default();
        for (key, fields) in self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))? {
            let location = self.locate(fields[0]);
            let member = view.fields(within).find(|(_, field)| *field == fields[0].name.as_str());
            let value = match member {
                Some((member, _)) => self
                    .column_field(of, member, select, &fields, depth)
                    .map_err(|problem| located(problem, location, key))?,
                None => Value::Typename(object_type.name.clone()),
            };
            object.fields.push(FieldShape::new(key, location, value));
        }
        Ok(Value::Object { output, non_null, name: self.json_name(of, column), object })
    }

    /// Is a column's JSON delivered as a whole? Not where the role sees parts of it in some rows only, or where items are filtered:
    /// that is the database's to say.
    fn is_whole(&self, of: TypeId, column: ColumnId, fields: &[&'a Node<Field>]) -> Result<bool, Problem> {
        let model = self.view.model();
        if !model.types[of].columns[column].small_json {
            return Ok(false);
        }
        let is_masked = || model.within((of, column)).iter().any(|(of, column)| self.view.is_masked(*of, *column));
        let parts = self.parts(Within::object(of, column), fields)?;
        Ok(parts.is_some_and(|parts| parts > self.capabilities(of).most_json_parts) && !is_masked())
    }

    /// How many parts of an object are asked for; none where the database has to say which items are delivered.
    fn parts(&self, within: Within, fields: &[&'a Node<Field>]) -> Result<Option<usize>, Problem> {
        let mut parts = 0;
        for (_, fields) in self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))? {
            if fields[0].specified_argument_by_name("filter").is_some() {
                return Ok(None);
            }
            let member = self.view.fields(within).find(|(_, field)| *field == fields[0].name.as_str());
            let Some((column, _)) = member else { continue };
            parts += 1;
            parts += match self.view.model().types[within.of].columns[column].kind {
                FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => 0,
                FieldType::Object(_) => match self.parts(Within::object(within.of, column), &fields)? {
                    Some(inside) => inside,
                    None => return Ok(None),
                },
                // A list is one part, whatever is asked of its items.
                FieldType::Items(items) => match self.parts(Within::row(items), &fields)? {
                    Some(_) => 0,
                    None => return Ok(None),
                },
            };
        }
        Ok(Some(parts))
    }

    /// A list of objects inside a row's JSON.
    pub(super) fn json_items(
        &mut self,
        (of, column): (TypeId, ColumnId),
        items: TypeId,
        select: SelectId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<Value, Problem> {
        if self.follows_links(items, fields)? {
            return self.item_rows((of, column), items, select, fields, depth).map(Value::ItemRows);
        }
        let (list, filtered) = self.item_list(items, fields, depth)?;
        let output = if filtered.is_whole() {
            Output::Column(column)
        } else {
            let known = &mut self.planned.select_mut(select).filtered_items;
            known.push(filtered);
            Output::Items(column, known.len() - 1)
        };
        let output = self.output(select, output);
        let non_null = self.view.is_non_null(of, column);
        Ok(Value::Items(ItemsShape { output, non_null, name: self.json_name(of, column), list }))
    }

    /// Is a link followed from the items of a list?
    fn follows_links(&self, items: TypeId, fields: &[&'a Node<Field>]) -> Result<bool, Problem> {
        if self.view.links(items).next().is_none() {
            return Ok(false);
        }
        let asked = self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))?;
        let is_link = |name: &str| self.view.links(items).any(|(_, link)| link.field == name);
        Ok(asked.iter().any(|(_, fields)| is_link(fields[0].name.as_str())))
    }

    /// A list of objects whose items are rows of a select of their own: links start from them.
    fn item_rows(
        &mut self,
        (of, column): (TypeId, ColumnId),
        items: TypeId,
        select: SelectId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<ItemRowsShape, Problem> {
        self.check_depth(depth)?;
        let model = self.view.model();
        let key = model.types[of].row_key().map(|key| key.columns.clone()).unwrap_or_default();
        let output = self.output(select, Output::Type(column));
        let filter = self.reads.open(self.argument(fields[0], "filter"))?;
        let mut predicates = Vec::new();
        if filter.is_given() {
            let condition = Arc::new(self.filter(items, filter, &[], false, 1)?);
            predicates.push(Predicate { origin: Origin::Caller, condition });
        }
        let (first, skip) = self.items_page(fields[0])?;
        // Where nothing is said all are wanted: more than a list may have is an error, and not cut off.
        let most = u32::try_from(self.limits.list).unwrap_or(u32::MAX);
        let peek = first.is_none();
        let size = first.unwrap_or_else(|| self.parameter(Parameter::Constant(Datum::Integer(most.into()))));
        let masks = self.view.masks(of).iter().filter(|(masked, _)| *masked == column).cloned().collect();
        let pairs = key.into_iter().map(|column| (column, column)).collect();
        let rows = Select {
            output: vec![Output::Type(ITEM_COLUMN)],
            join_masks: masks,
            row_set: RowSet::Page { size, backward: false, skip, after: None, before: None },
            peek,
            ..Select::one(items, Some(ParentJoin { select, pairs, through: None }), predicates)
        };
        let child = self.add(rows)?;
        let object = self.object(items, child, fields, depth)?;
        Ok(ItemRowsShape {
            output,
            non_null: self.view.is_non_null(of, column),
            name: self.json_name(of, column),
            select: child,
            object,
        })
    }

    /// What is answered of a list of objects, and which of its items are delivered for it.
    fn item_list(
        &mut self,
        items: TypeId,
        fields: &[&'a Node<Field>],
        depth: usize,
    ) -> Result<(ListShape, FilteredItems), Problem> {
        let filter = self.reads.open(self.argument(fields[0], "filter"))?;
        let condition = match filter.is_given() {
            true => Some(Arc::new(self.filter(items, filter, &[], false, 1)?)),
            false => None,
        };
        let (first, skip) = self.items_page(fields[0])?;
        let mut beside = Beside::default();
        let item = self.item(Within::row(items), &self.view.model().types[items].name, fields, depth, &mut beside)?;
        Ok((
            ListShape { first, skip, item, beside: beside.shapes },
            FilteredItems { condition, beside: beside.delivered },
        ))
    }

    /// The parameters that hold how many items there are at most, and how many are passed over.
    fn items_page(&mut self, field: &'a Node<Field>) -> Result<(Option<usize>, Option<usize>), Problem> {
        let open = |name: &str| self.reads.open(self.argument(field, name));
        let (first, skip) = (open("first")?, open("skip")?);
        let most = u32::try_from(self.limits.list).unwrap_or(u32::MAX);
        let first = match first {
            Input::Leaf(Leaf::Variable { path, location }) => {
                Some(Parameter::PageSize { source: path, argument: "first", most, location })
            }
            Input::Leaf(Leaf::Literal { value, location }) => {
                Some(Parameter::Constant(super::bind::page_size(&value, "first", most, location)?))
            }
            _ => None,
        };
        Ok((first.map(|first| self.parameter(first)), self.skip(skip)?))
    }

    /// What is answered of an object that is taken out of JSON where the answer is written.
    fn item(
        &mut self,
        within: Within,
        type_name: &str,
        fields: &[&'a Node<Field>],
        depth: usize,
        beside: &mut Beside,
    ) -> Result<ItemShape, Problem> {
        self.check_depth(depth)?;
        let (view, mut shape, mut members) = (self.view, ItemShape::default(), HashSet::new());
        for (key, fields) in self.collect(fields.iter().filter_map(|field| field.selection_set.as_ref()))? {
            let location = self.locate(fields[0]);
            let member = view.fields(within).find(|(_, field)| *field == fields[0].name.as_str());
            let field = match member {
                Some((column, _)) => self
                    .item_member((within.of, column), &fields, depth, beside)
                    .map_err(|problem| located(problem, location, key))?,
                None => ItemField::Typename(type_name.to_owned()),
            };
            shape.repeats |= member.is_some_and(|(column, _)| !members.insert(column));
            shape.fields.push((FieldHead::new(key, location), field));
        }
        Ok(shape)
    }

    fn item_member(
        &mut self,
        (of, column): (TypeId, ColumnId),
        fields: &[&'a Node<Field>],
        depth: usize,
        beside: &mut Beside,
    ) -> Result<ItemField, Problem> {
        let model = self.view.model();
        let c = &model.types[of].columns[column];
        let value = match c.kind {
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => ItemValue::Leaf(c.kind),
            FieldType::Object(id) => {
                let (within, name) = (Within::object(of, column), &model.objects[id].name);
                ItemValue::Object(self.item(within, name, fields, depth + 1, beside)?)
            }
            FieldType::Items(items) => {
                let (list, filtered) = self.item_list(items, fields, depth + 1)?;
                if filtered.is_whole() {
                    ItemValue::Items(list)
                } else {
                    beside.shapes.push(list);
                    beside.delivered.push((column, filtered));
                    ItemValue::Beside(beside.shapes.len() - 1)
                }
            }
        };
        let member = c.member.as_ref().and_then(|member| member.path.last()).cloned().unwrap_or_default();
        Ok(ItemField::Member { member, non_null: c.non_null, name: self.json_name(of, column), value })
    }

    fn json_name(&self, of: TypeId, column: ColumnId) -> Arc<str> {
        let t = &self.view.model().types[of];
        format!("{}.{}", t.name, t.columns[column].label()).into()
    }
}
