//! What is written into JSON: random inputs and changes of parts, and what becomes of the JSON by them, one obvious step at a time.

use apollo_compiler::ast::{Definition, Document, Selection, Value};
use puente_core::access::{Within, WriteGrant};
use puente_core::model::{FieldType, TypeId};
use puente_core::value::{Scalar, literal_to_json};
use rand::RngExt as _;
use serde_json::{Map, Value as Json, json};

use super::ask::Filter;
use super::change::Writer;
use super::interpret::Interpreter;
use super::json::item_row;

/// What becomes of a part of JSON.
#[derive(Debug)]
pub(super) enum JsonEdit {
    Set(Json),
    Unset,
    Add(i64),
    Push(Vec<Json>),
    Pull(Vec<Json>),
    PullWhere(TypeId, Filter),
    Object(Vec<(String, JsonEdit)>),
}

impl JsonEdit {
    /// What a part is afterwards; none where it is refused. The inner one is none where there is nothing.
    pub(super) fn apply(&self, interpreter: &Interpreter<'_>, before: Option<Json>) -> Option<Option<Json>> {
        let is_nothing = before.as_ref().is_none_or(Json::is_null);
        match self {
            JsonEdit::Set(value) => Some(Some(value.clone())),
            JsonEdit::Unset => Some(None),
            JsonEdit::Add(_) | JsonEdit::Pull(_) | JsonEdit::PullWhere(..) if is_nothing => Some(before),
            JsonEdit::Add(more) => {
                let text = before?.as_number()?.to_string();
                let number: i64 = text.strip_suffix(".0").unwrap_or(&text).parse().ok()?;
                Some(Some(i32::try_from(number + more).ok()?.into()))
            }
            JsonEdit::Push(items) => {
                let mut list = if is_nothing { Vec::new() } else { before?.as_array()?.clone() };
                list.extend(items.iter().cloned());
                Some(Some(Json::Array(list)))
            }
            JsonEdit::Pull(items) => {
                let mut list = before?.as_array()?.clone();
                list.retain(|item| !items.contains(item));
                Some(Some(Json::Array(list)))
            }
            JsonEdit::PullWhere(of, filter) => {
                let mut list = before?.as_array()?.clone();
                let model = &interpreter.world.model;
                list.retain(|item| interpreter.passes(*of, &item_row(model, *of, item), filter) != Some(true));
                Some(Some(Json::Array(list)))
            }
            JsonEdit::Object(members) => {
                let mut object = if is_nothing { Map::new() } else { before?.as_object()?.clone() };
                for (name, edit) in members {
                    match edit.apply(interpreter, object.get(name).cloned())? {
                        Some(value) => object.insert(name.clone(), value),
                        None => object.remove(name),
                    };
                }
                Some(Some(Json::Object(object)))
            }
        }
    }
}

impl Writer<'_, '_> {
    /// A value of a column or a member, as it is written in an input, and as it is stored. Items are written whoever may write the
    /// list.
    pub(super) fn json_input(&mut self, (of, column): (TypeId, usize), grant: Option<&WriteGrant>) -> (Json, Json) {
        match self.world.model.types[of].columns[column].kind {
            FieldType::Object(_) => self.json_object(Within::object(of, column), grant),
            FieldType::Items(items) => {
                let count = self.drawing.random.random_range(0..=2);
                let each = (0..count).map(|_| self.json_object(Within::row(items), None));
                let (input, stored): (Vec<Json>, Vec<Json>) = each.unzip();
                (input.into(), stored.into())
            }
            FieldType::List(element) => {
                let count = self.drawing.random.random_range(0..=3);
                let each = (0..count).map(|_| self.json_leaf(element.scalar()));
                let (input, stored): (Vec<Json>, Vec<Json>) = each.unzip();
                (input.into(), stored.into())
            }
            FieldType::Scalar(scalar) => self.json_leaf(scalar),
            FieldType::Enum(_) => (Json::Null, Json::Null),
        }
    }

    fn json_object(&mut self, within: Within, grant: Option<&WriteGrant>) -> (Json, Json) {
        let (mut input, mut stored) = (Map::new(), Map::new());
        for (column, field, name) in self.json_members(within, grant) {
            if self.chance(0.4) {
                continue;
            }
            let (given, kept) = match self.chance(0.15) {
                true => (Json::Null, Json::Null),
                false => self.json_input((within.of, column), grant),
            };
            input.insert(field, given);
            stored.insert(name, kept);
        }
        (input.into(), stored.into())
    }

    fn json_leaf(&mut self, scalar: Scalar) -> (Json, Json) {
        let values: Vec<Json> = match scalar {
            Scalar::Int | Scalar::BigInt => vec![json!(1), json!(2), json!(-5), json!(7)],
            Scalar::Float => vec![json!(0.5), json!(-1.25), json!(3.0), json!(2)],
            Scalar::Boolean => vec![json!(true), json!(false)],
            Scalar::Date => vec![json!("2026-01-31"), json!("2026-02-01")],
            Scalar::String => {
                ["a", "b", "A", "ab", "", "x", "b%", "\u{dc}mlaut", "\"q\" \\\\ '"].map(Json::from).to_vec()
            }
            Scalar::Json => vec![json!(1), json!("x"), json!([1, null]), json!({ "n": 1 })],
            other => panic!("no JSON of the worlds is of {other:?}"),
        };
        let value = self.drawing.pick(&values).expect("some value");
        (value.clone(), value)
    }

    /// What can be set of an object, or of an item: columns, fields, and names in JSON.
    fn json_members(&self, within: Within, grant: Option<&WriteGrant>) -> Vec<(usize, String, String)> {
        let nothing = WriteGrant::default();
        let settable = self.view.settable_within(within, grant.unwrap_or(&nothing));
        let columns = &self.world.model.types[within.of].columns;
        let name = |column: usize| columns[column].member.as_ref().and_then(|member| member.path.last()).cloned();
        settable.filter_map(|(column, field)| Some((column, field.to_owned(), name(column)?))).collect()
    }

    /// What is set, added, put in and taken out of what is in a column; none where nothing is.
    pub(super) fn json_edit(&mut self, (of, column): (TypeId, usize), grant: &WriteGrant) -> Option<(Json, JsonEdit)> {
        let FieldType::Object(_) = self.world.model.types[of].columns[column].kind else {
            let (input, stored) = self.json_input((of, column), Some(grant));
            return Some((input, JsonEdit::Set(stored)));
        };
        let within = Within::object(of, column);
        let (mut input, mut edits) = (Map::new(), Vec::new());
        let mut words: Map<String, Json> = Map::new();
        for (member, field, name) in self.json_members(within, Some(grant)) {
            if self.chance(0.5) {
                continue;
            }
            let is_object = matches!(self.world.model.types[of].columns[member].kind, FieldType::Object(_));
            let is_whole = self.view.sets_all((of, member), grant);
            if self.chance(0.5)
                && let Some((word, given, edit)) = self.json_word((of, member), is_whole)
            {
                let said = words.entry(word).or_insert_with(|| json!({}));
                said.as_object_mut().expect("an object").insert(field, given);
                edits.push((name, edit));
            } else if is_whole && self.chance(0.15) {
                input.insert(field, Json::Null);
                edits.push((name, JsonEdit::Set(Json::Null)));
            } else if is_object {
                let Some((given, edit)) = self.json_edit((of, member), grant) else { continue };
                input.insert(field, given);
                edits.push((name, edit));
            } else {
                let (given, stored) = self.json_input((of, member), Some(grant));
                input.insert(field, given);
                edits.push((name, JsonEdit::Set(stored)));
            }
        }
        input.extend(words);
        (!edits.is_empty()).then_some((Json::Object(input), JsonEdit::Object(edits)))
    }

    /// Something else than setting it that can be done to a member: the word, what is written for it, and what becomes of it.
    fn json_word(&mut self, (of, member): (TypeId, usize), is_whole: bool) -> Option<(String, Json, JsonEdit)> {
        let (view, c) = (self.view, &self.world.model.types[of].columns[member]);
        if is_whole && self.chance(0.3) {
            return Some(("unset".to_owned(), json!(true), JsonEdit::Unset));
        }
        if !view.reads_as_is((of, member)) {
            // What comes of the other words tells what is there.
            return None;
        }
        match c.kind {
            FieldType::Scalar(Scalar::Int) => {
                let more = self.drawing.random.random_range(-3..=3);
                Some(("add".to_owned(), more.into(), JsonEdit::Add(more)))
            }
            FieldType::List(_) | FieldType::Items(_) if self.chance(0.5) => {
                let (input, stored) = self.json_input((of, member), None);
                Some(("push".to_owned(), input, JsonEdit::Push(stored.as_array()?.clone())))
            }
            FieldType::List(_) => {
                let (input, stored) = self.json_input((of, member), None);
                Some(("pull".to_owned(), input, JsonEdit::Pull(stored.as_array()?.clone())))
            }
            FieldType::Items(items) => {
                let readable = view.type_view(items).is_some() && view.columns(items).next().is_some();
                if !readable {
                    return None;
                }
                let (filter, given) = self.json_filter(items)?;
                Some(("pull".to_owned(), given, JsonEdit::PullWhere(items, filter)))
            }
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::Object(_) => None,
        }
    }

    /// A filter of items as a tree and as JSON.
    fn json_filter(&mut self, items: TypeId) -> Option<(Filter, Json)> {
        (0..10).find_map(|_| {
            let mark = self.drawing.mark();
            let (filter, text) = self.drawing.filter(items, 1);
            let variables = self.drawing.given();
            self.drawing.forget(mark);
            let document = Document::parse(format!("{{ f(x: {text}) }}"), "filter").ok()?;
            let Definition::OperationDefinition(operation) = &document.definitions[0] else { return None };
            let Selection::Field(field) = &operation.selection_set[0] else { return None };
            let given = put_in(&field.arguments[0].value, &variables)?;
            let words = given.to_string();
            (!words.contains("[]") && !words.contains("{}")).then_some((filter, given))
        })
    }
}

/// A literal with the variables put in; none where one is not set.
fn put_in(value: &Value, variables: &Map<String, Json>) -> Option<Json> {
    match value {
        Value::Variable(name) => variables.get(name.as_str()).cloned(),
        Value::List(items) => {
            items.iter().map(|item| put_in(item, variables)).collect::<Option<Vec<_>>>().map(Json::Array)
        }
        Value::Object(members) => {
            let members = members.iter().map(|(name, value)| Some((name.to_string(), put_in(value, variables)?)));
            members.collect::<Option<Map<_, _>>>().map(Json::Object)
        }
        leaf => Some(literal_to_json(leaf)),
    }
}

/// JSON as one text, however an engine writes it: members in order, numbers without a fraction of zeros.
pub fn canonical(json: &Json) -> String {
    match json {
        Json::Object(members) => {
            let mut members: Vec<_> =
                members.iter().map(|(name, value)| format!("{name:?}:{}", canonical(value))).collect();
            members.sort();
            format!("{{{}}}", members.join(","))
        }
        Json::Array(items) => format!("[{}]", items.iter().map(canonical).collect::<Vec<_>>().join(",")),
        Json::Number(number) => {
            let text = number.to_string();
            text.strip_suffix(".0").unwrap_or(&text).to_owned()
        }
        other => other.to_string(),
    }
}
