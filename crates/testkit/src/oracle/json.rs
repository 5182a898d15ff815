//! What is inside JSON: values of rows and of items of lists, one obvious step at a time. A whole JSON value is kept beside each row;
//! what is compared of it is a cell like those of columns, null where it is of another type.

use puente_core::access::Quantifier;
use puente_core::model::{FieldType, ITEM_COLUMN, Model, TypeId};
use puente_core::value::{Datum, JsonType, Scalar, StorageFormat};
use rand::RngExt as _;
use serde_json::Value as Json;

use super::ask::{Drawing, Field, Fields, Filter};
use super::interpret::{Interpreter, leaf};
use super::rule::quantify;

/// Values of JSON columns of random worlds: those that the survey sees.
pub(super) const DOCUMENTS: &[&str] = &[
    r#"{"n": 1, "t": "a", "b": true, "d": "2026-01-31", "f": 0.5, "l": ["a", "b"], "o": {"n": 7, "t": "ab", "p": {"n": 3}},
        "i": [{"n": 1, "t": "a", "l": ["x"], "k": [{"n": 1, "t": "a"}, {"n": 2}]}, {"n": 5, "o": {"n": 2, "k": [{"n": 3, "t": "b"}]}, "k": []}]}"#,
    r#"{"n": 2, "t": "A", "b": false, "d": "2026-02-01", "f": -1.25, "l": [], "o": {"n": null, "t": "b%"}, "i": []}"#,
    r#"{"n": null, "t": null, "d": null, "f": null, "l": null, "o": null, "i": null}"#,
    r#"{"n": -5, "t": "Ümlaut", "b": true, "d": "2025-12-31", "f": 3.0, "l": ["b", "b"], "o": {}, "i": [{"n": null, "t": "b", "k": null}]}"#,
    r#"{"n": 2, "t": "", "f": 0.5, "o": {"n": 2, "t": "ab", "p": {"n": 3}}, "i": [{"t": "a", "k": [{"n": 2, "t": "a"}, {}, {"n": 1}]}, {"n": 2, "t": "A", "o": {"k": [{"t": "b"}, {"n": 1}]}}, {"n": 7}]}"#,
    "{}",
    "null",
];

/// Those that are written after the survey: members of other types, of no known name, and what is no object at all.
pub(super) const MISFITS: &[&str] = &[
    r#"{"n": "two", "t": 7, "b": 1, "d": "soon", "f": "much", "l": "a", "o": [1], "i": {"n": 1}}"#,
    r#"{"n": 2.5, "t": ["a"], "b": "true", "d": 20260131, "f": true, "l": ["a", 7], "o": {"n": {}, "t": "a"}, "i": [7, {"n": "x", "k": {"n": 1}}, null, {"k": [1, {"n": "x", "t": "a"}, null, {"n": 1}]}]}"#,
    r#"{"n": 2.0, "t": "a", "unknown": {"n": 1}, "o": {"n": true, "p": 3}, "i": [{"n": 1, "l": [1], "o": 7, "k": "a"}, {"o": {"k": [[1], {"n": 2}]}}]}"#,
    "[1, 2]",
    "\"a\"",
    "7",
];

/// A value of JSON as a cell of this type; null where it is of another one.
fn cell(kind: FieldType, value: Option<&Json>) -> Datum {
    let value = value.unwrap_or(&Json::Null);
    match (kind, value) {
        (FieldType::Object(_), Json::Object(_)) => Datum::Text(value.to_string()),
        (FieldType::Items(_), Json::Array(items)) => {
            Datum::List(items.iter().map(|item| Datum::Text(item.to_string())).collect())
        }
        (FieldType::List(element), Json::Array(items)) => {
            Datum::List(items.iter().map(|item| cell(element.kind(), Some(item))).collect())
        }
        (FieldType::Scalar(scalar), value) => match (scalar.json_type(), value) {
            (JsonType::Boolean, Json::Bool(value)) => Datum::Integer(i64::from(*value)),
            (JsonType::Integer, Json::Number(number)) => whole(number).map_or(Datum::Null, Datum::Integer),
            (JsonType::Number, Json::Number(number)) => number.as_f64().map_or(Datum::Null, Datum::Real),
            (JsonType::Text, Json::String(text)) => Datum::Text(text.clone()),
            (JsonType::Any, value) if !value.is_null() => Datum::Text(value.to_string()),
            _ => Datum::Null,
        },
        _ => Datum::Null,
    }
}

fn whole(number: &serde_json::Number) -> Option<i64> {
    let text = number.to_string();
    text.strip_suffix(".0").unwrap_or(&text).parse().ok()
}

/// The part of a JSON value that these members lead to.
fn part<'j>(whole: &'j Json, path: &[String]) -> Option<&'j Json> {
    path.iter().try_fold(whole, |value, name| value.as_object()?.get(name))
}

/// The columns of a type that hold JSON with types.
fn roots(model: &Model, of: TypeId) -> impl Iterator<Item = usize> {
    let columns = &model.types[of].columns;
    let is_json =
        |column: &usize| columns[*column].form == StorageFormat::JsonValue && columns[*column].member.is_none();
    (0..columns.len()).filter(is_json)
}

/// The JSON that a row has in a column, whatever its type.
pub(super) fn document(model: &Model, of: TypeId, row: &[Datum], column: usize) -> Option<Json> {
    let at = roots(model, of).position(|root| root == column)?;
    match row.get(model.types[of].columns.len() + at)? {
        Datum::Text(text) => serde_json::from_str(text).ok(),
        _ => None,
    }
}

/// The cells of a row of which those of columns with JSON are the whole JSON as text, as they are compared. Behind them comes that JSON
/// itself, a cell for each such column.
pub(super) fn typed(model: &Model, of: TypeId, mut row: Vec<Datum>) -> Vec<Datum> {
    let columns = &model.types[of].columns;
    row.resize(columns.len(), Datum::Null);
    let is_json = |column: usize| roots(model, of).any(|root| root == column);
    let documents: Vec<Option<Json>> = (0..columns.len())
        .map(|column| match &row[column] {
            Datum::Text(text) if is_json(column) => {
                Some(serde_json::from_str(text).unwrap_or_else(|_| Json::String(text.clone())))
            }
            // SQLite makes numbers of texts that are some.
            Datum::Integer(number) if is_json(column) => Some(Json::from(*number)),
            Datum::Real(number) if is_json(column) => Some(Json::from(*number)),
            _ => None,
        })
        .collect();
    for (at, column) in columns.iter().enumerate() {
        if let Some(member) = &column.member {
            row[at] = cell(column.kind, documents[member.of].as_ref().and_then(|whole| part(whole, &member.path)));
        } else if is_json(at) {
            row[at] = cell(column.kind, documents[at].as_ref());
        } else if column.kind == FieldType::Scalar(Scalar::Json) && row[at] == Datum::Text("null".to_owned()) {
            // JSON without types that says null is null.
            row[at] = Datum::Null;
        }
    }
    row.extend(roots(model, of).map(|root| raw(documents[root].as_ref())));
    row
}

fn raw(document: Option<&Json>) -> Datum {
    document.map_or(Datum::Null, |document| Datum::Text(document.to_string()))
}

/// The cells of a row as the database has them: JSON as text.
pub(super) fn untyped(model: &Model, of: TypeId, row: &[Datum]) -> Vec<Datum> {
    let columns = model.types[of].columns.len();
    let mut cells = row[..columns].to_vec();
    for (at, root) in roots(model, of).enumerate() {
        cells[root] = row[columns + at].clone();
    }
    cells
}

/// The cells of an item of a list.
pub(super) fn item_row(model: &Model, items: TypeId, item: &Json) -> Vec<Datum> {
    let mut row = vec![Datum::Null; model.types[items].columns.len()];
    if item.is_object() {
        row[ITEM_COLUMN] = Datum::Text(item.to_string());
    }
    typed(model, items, row)
}

/// The items of a list that is a cell.
pub(super) fn items_of(cell: &Datum) -> Vec<Json> {
    let Datum::List(items) = cell else { return Vec::new() };
    let text = |item: &Datum| if let Datum::Text(text) = item { text.clone() } else { "null".to_owned() };
    items.iter().map(|item| serde_json::from_str(&text(item)).expect("JSON")).collect()
}

/// A quantifier over the items of a list that is a cell.
pub(super) fn over_items(
    model: &Model,
    kind: FieldType,
    cell: &Datum,
    quantifier: Quantifier,
    mut judge: impl FnMut(TypeId, &[Datum]) -> Option<bool>,
) -> Option<bool> {
    let FieldType::Items(items) = kind else { return None };
    let judged: Vec<Option<bool>> =
        items_of(cell).iter().map(|item| judge(items, &item_row(model, items, item))).collect();
    quantify(quantifier, judged.into_iter())
}

/// What is asked of a list of objects.
#[derive(Debug)]
pub(super) struct ItemList {
    filter: Option<Filter>,
    skip: usize,
    first: Option<usize>,
    fields: Fields,
}

impl Drawing<'_> {
    /// A column's field as a tree and as text, with what is asked of the inside of its JSON.
    pub(super) fn column_field(&mut self, of: TypeId, column: usize, field: &str, key: &str) -> (Field, String) {
        let model = &self.world.model;
        match model.types[of].columns[column].kind {
            FieldType::Object(_) => {
                let (fields, text) = self.inside(of, Some(column));
                (Field::Object { column, fields }, format!("{key}: {field} {{ {text} }} "))
            }
            FieldType::Items(items) => {
                let mut arguments = Vec::new();
                let has_filter = self.view.columns(items).next().is_some();
                let filter = if has_filter && self.random.random_bool(0.5) {
                    let (filter, text) = self.filter(items, 1);
                    arguments.push(format!("filter: {text}"));
                    Some(filter)
                } else {
                    None
                };
                let (mut first, mut skip) = (None, 0);
                if self.random.random_bool(0.4) {
                    let (number, written) = self.number(0, 3);
                    arguments.push(format!("first: {written}"));
                    first = Some(number);
                }
                if self.random.random_bool(0.2) {
                    let (number, written) = self.number(0, 2);
                    arguments.push(format!("skip: {written}"));
                    skip = number;
                }
                let arguments =
                    if arguments.is_empty() { String::new() } else { format!("({})", arguments.join(", ")) };
                let (fields, text) = self.inside(items, None);
                let list = ItemList { filter, skip, first, fields };
                (Field::Items { column, list }, format!("{key}: {field}{arguments} {{ {text} }} "))
            }
            FieldType::Scalar(_) | FieldType::Enum(_) | FieldType::List(_) => {
                (Field::Column(column), format!("{key}: {field} "))
            }
        }
    }

    /// Some members of an object, or of an item.
    fn inside(&mut self, of: TypeId, object: Option<usize>) -> (Fields, String) {
        let members = self.members(of, object);
        let (mut fields, mut text) = (Fields::new(), String::new());
        for _ in 0..self.random.random_range(1..=3) {
            let key = self.key();
            let (field, written) = match self.pick(&members) {
                Some((column, name)) => self.column_field(of, column, &name, &key),
                None => (Field::Column(ITEM_COLUMN), format!("{key}: __typename ")),
            };
            text.push_str(&written);
            fields.push((key, field));
        }
        (fields, text)
    }

    /// Every value that rows can be compared by, with what its field is written between: those inside JSON, too.
    pub(super) fn values(&self, of: TypeId) -> Vec<(usize, String, (String, String))> {
        let mut found = Vec::new();
        self.add_values(of, None, &(String::new(), String::new()), &mut found);
        found
    }

    fn add_values(
        &self,
        of: TypeId,
        object: Option<usize>,
        around: &(String, String),
        found: &mut Vec<(usize, String, (String, String))>,
    ) {
        for (column, name) in self.members(of, object) {
            if let FieldType::Object(_) = self.world.model.types[of].columns[column].kind {
                let around = (format!("{}{name}: {{ ", around.0), format!(" }}{}", around.1));
                self.add_values(of, Some(column), &around, found);
            }
            found.push((column, name, around.clone()));
        }
    }
}

impl Interpreter<'_> {
    /// A column's value, or what is asked of the inside of its JSON.
    pub(super) fn json_field(&mut self, of: TypeId, (row, column): (usize, usize), field: &Field) -> String {
        let (world, model) = (self.world, &self.world.model);
        let c = &model.types[of].columns[column];
        if self.hides(of, row, column) {
            return "null".to_owned();
        }
        let root = c.member.as_ref().map_or(column, |member| member.of);
        let whole = document(model, of, &world.rows[of][row], root);
        let found = match &c.member {
            Some(member) => whole.as_ref().and_then(|whole| part(whole, &member.path)).cloned(),
            None => whole,
        };
        let Field::Object { fields, .. } = field else {
            return self.json_value(c.kind, found.as_ref(), field);
        };
        match found {
            None | Some(Json::Null) => "null".to_owned(),
            Some(Json::Object(_)) => {
                let mut members = Vec::new();
                for (key, field) in fields {
                    self.path.push(key.clone());
                    let value = match field {
                        Field::Column(column) | Field::Object { column, .. } | Field::Items { column, .. } => {
                            self.json_field(of, (row, *column), field)
                        }
                        Field::Typename | Field::One { .. } | Field::Many { .. } => "null".to_owned(),
                    };
                    self.path.pop();
                    members.push(format!("\"{key}\":{value}"));
                }
                format!("{{{}}}", members.join(","))
            }
            Some(_) => self.misfit(),
        }
    }

    fn misfit(&mut self) -> String {
        self.problems.push(self.path.join("."));
        "null".to_owned()
    }

    /// A value as it is written.
    fn json_value(&mut self, kind: FieldType, value: Option<&Json>, field: &Field) -> String {
        let model = &self.world.model;
        let Some(value) = value.filter(|value| !value.is_null()) else { return "null".to_owned() };
        match (field, kind, value) {
            (Field::Items { list, .. }, FieldType::Items(items), Json::Array(all)) => {
                let passes = |interpreter: &Self, item: &&Json| {
                    list.filter.as_ref().is_none_or(|filter| {
                        interpreter.passes(items, &item_row(&interpreter.world.model, items, item), filter)
                            == Some(true)
                    })
                };
                let kept: Vec<Json> = all.iter().filter(|item| passes(self, item)).cloned().collect();
                let page = kept.iter().skip(list.skip).take(list.first.unwrap_or(usize::MAX));
                let mut written = Vec::new();
                for (at, item) in page.enumerate() {
                    self.path.push(at.to_string());
                    written.push(self.json_members(items, item, &list.fields));
                    self.path.pop();
                }
                format!("[{}]", written.join(","))
            }
            (Field::Object { fields, .. }, FieldType::Object(id), value) => {
                let of = model.objects[id].of;
                self.json_members(of, value, fields)
            }
            (Field::Column(_), FieldType::Scalar(Scalar::Json), value) => value.to_string(),
            // Numbers are written as they are stored.
            (Field::Column(_), FieldType::Scalar(Scalar::Float), Json::Number(number)) => number.to_string(),
            (Field::Column(_), kind, value) => {
                let cell = cell(kind, Some(value));
                let fits = cell != Datum::Null && !matches!(&cell, Datum::List(items) if has_misfit(items, value));
                let written = if fits { leaf(model, kind, &cell) } else { None };
                written.unwrap_or_else(|| self.misfit())
            }
            _ => self.misfit(),
        }
    }

    /// The members of an object that is not a row's own value: one inside an item.
    fn json_members(&mut self, of: TypeId, object: &Json, fields: &Fields) -> String {
        let Some(found) = object.as_object() else {
            return if object.is_null() { "null".to_owned() } else { self.misfit() };
        };
        let mut members = Vec::new();
        for (key, field) in fields {
            self.path.push(key.clone());
            let value = match field {
                Field::Column(ITEM_COLUMN) => format!("{:?}", self.world.model.types[of].name),
                Field::Column(column) | Field::Object { column, .. } | Field::Items { column, .. } => {
                    let c = &self.world.model.types[of].columns[*column];
                    let name = c.member.as_ref().and_then(|member| member.path.last()).expect("a member");
                    self.json_value(c.kind, found.get(name), field)
                }
                Field::Typename | Field::One { .. } | Field::Many { .. } => "null".to_owned(),
            };
            self.path.pop();
            members.push(format!("\"{key}\":{value}"));
        }
        format!("{{{}}}", members.join(","))
    }
}

/// Is there an item that is of another type, beside those that are null?
fn has_misfit(items: &[Datum], value: &Json) -> bool {
    let written = value.as_array().map_or(&[][..], Vec::as_slice);
    items.iter().zip(written).any(|(item, written)| *item == Datum::Null && !written.is_null())
}
