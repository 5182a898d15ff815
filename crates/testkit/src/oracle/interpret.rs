//! The interpreter: answers a request from rows in memory, one obvious step at a time.

use std::cmp::Ordering;

use base64::Engine as _;
use puente_core::access::View;
use puente_core::model::{FieldType, Model, TypeId};
use puente_core::plan::Sealer;
use puente_core::value::{Datum, Scalar, StorageFormat};

use super::ask::{EdgeField, Field, Fields, Filter, List, ListField, OrderBy, RandomAsk, Root, Size};
use super::json::over_items;
use super::rule::{all, compare, judge, linked, quantify, test_cell};
use super::world::World;

/// Rows of a page when a request names no size.
const DEFAULT_PAGE: usize = 50;

/// Answers asks as one role.
#[derive(Debug)]
pub struct Interpreter<'a> {
    pub(super) world: &'a World,
    pub(super) view: &'a View,
    /// The rows as the role sees their values: null where a mask hides one.
    pub(super) shown: Vec<Vec<Vec<Datum>>>,
    /// Paths of fields whose stored value does not fit.
    pub(super) problems: Vec<String>,
    pub(super) path: Vec<String>,
    /// Is what is being written null, up to the nearest place that may be?
    is_null: bool,
}

/// One row of a list: its number, and that of its row in the join table.
type Found = (usize, Option<usize>);

impl<'a> Interpreter<'a> {
    /// An interpreter for a role.
    pub fn new(world: &'a World, view: &'a View) -> Self {
        let shown = (0..world.rows.len())
            .map(|of| world.rows[of].iter().map(|row| shown(world, view, of, row)).collect())
            .collect();
        Interpreter { world, view, shown, problems: Vec::new(), path: Vec::new(), is_null: false }
    }

    /// A row as the role sees its values.
    pub(super) fn shown_row(&self, of: TypeId, row: &[Datum]) -> Vec<Datum> {
        shown(self.world, self.view, of, row)
    }

    /// The answer's data as JSON, with cursors written out, and the paths of its errors.
    pub fn answer(mut self, ask: &RandomAsk) -> (String, Vec<String>) {
        let mut members = Vec::new();
        for (key, root) in &ask.roots {
            self.path.push(key.clone());
            let value = match root {
                Root::List { of, list } => {
                    let rows = self.visible(*of).into_iter().map(|row| (row, None)).collect();
                    self.list(*of, list, (rows, None), true)
                }
                Root::ByKey { of, .. } if self.world.is_away(*of) => {
                    self.problems.push(self.path.join("."));
                    "null".to_owned()
                }
                Root::ByKey { of, key, values, fields } => {
                    let columns = &self.world.model.types[*of].keys[*key].columns;
                    let found = self.visible(*of).into_iter().find(|row| {
                        columns.iter().zip(values).all(|(column, value)| self.world.rows[*of][*row][*column] == *value)
                    });
                    found.map_or("null".to_owned(), |row| self.object(*of, row, fields))
                }
            };
            self.path.pop();
            let value = self.nullable(value);
            members.push(format!("\"{key}\":{value}"));
        }
        if members.is_empty() {
            members.push("\"__typename\":\"Query\"".to_owned());
        }
        (format!("{{{}}}", members.join(",")), self.problems)
    }

    /// The value of a place that may be null.
    fn nullable(&mut self, value: String) -> String {
        if std::mem::take(&mut self.is_null) { "null".to_owned() } else { value }
    }

    /// Has a filter to ask a source that is away? Then nobody knows what it says. What asks nothing asks nobody.
    fn asks_away(&self, of: TypeId, filter: &Filter) -> bool {
        match filter {
            Filter::And(parts) | Filter::Or(parts) => parts.iter().any(|part| self.asks_away(of, part)),
            Filter::Not(inner) => self.asks_away(of, inner),
            Filter::Column { .. } | Filter::Items { .. } => false,
            Filter::One { inner, .. } if asks_nothing(inner) => false,
            Filter::One { link, inner } | Filter::Many { link, inner, .. } => {
                let link = &self.world.model.types[of].links[*link];
                link.crosses && self.world.is_away(link.target) || self.asks_away(link.target, inner)
            }
        }
    }

    /// The rows of a type that the role may see.
    fn visible(&self, of: TypeId) -> Vec<usize> {
        (0..self.world.rows[of].len()).filter(|row| self.sees(of, *row)).collect()
    }

    /// Does a mask hide a row's value?
    pub(super) fn hides(&self, of: TypeId, row: usize, column: usize) -> bool {
        let masks = self.view.masks(of);
        let mask = masks.iter().find(|(masked, _)| *masked == column);
        mask.is_some_and(|(_, mask)| judge(self.world, of, &self.world.rows[of][row], mask) != Some(true))
    }

    pub(super) fn sees(&self, of: TypeId, row: usize) -> bool {
        self.view.rows(of).is_none_or(|rule| judge(self.world, of, &self.world.rows[of][row], rule) == Some(true))
    }

    /// The visible rows at the end of a link.
    fn follow(&self, of: TypeId, link: usize, row: &[Datum]) -> Vec<Found> {
        let l = &self.world.model.types[of].links[link];
        let mut found = linked(self.world, of, link, row);
        found.retain(|(target, join)| {
            let join_seen = match (&l.through, join) {
                (Some(through), Some(join)) => self.sees(through.join, *join),
                _ => true,
            };
            join_seen && self.sees(l.target, *target)
        });
        found
    }

    pub(super) fn object(&mut self, of: TypeId, row: usize, fields: &Fields) -> String {
        let cells = self.shown[of][row].clone();
        let mut members = Vec::new();
        for (key, field) in fields {
            if self.is_null {
                break;
            }
            self.path.push(key.clone());
            let value = match field {
                Field::Typename => format!("{:?}", self.world.model.types[of].name),
                Field::Column(column) | Field::Object { column, .. } | Field::Items { column, .. }
                    if self.world.model.types[of].columns[*column].form == StorageFormat::JsonValue =>
                {
                    self.json_field(of, (row, *column), field)
                }
                Field::Column(column) | Field::Object { column, .. } | Field::Items { column, .. } => {
                    self.column(of, *column, &cells[*column])
                }
                Field::One { link, fields } => {
                    let target = self.world.model.types[of].links[*link].target;
                    let found = self.follow(of, *link, &cells).first().copied();
                    if self.world.is_away(target) && self.has_key(of, *link, &cells) {
                        self.problems.push(self.path.join("."));
                        self.is_null = true;
                    }
                    let value = match found.filter(|_| !self.is_null) {
                        Some((target_row, _)) => self.object(target, target_row, fields),
                        None => "null".to_owned(),
                    };
                    self.nullable(value)
                }
                Field::Many { link, list } => {
                    let l = &self.world.model.types[of].links[*link];
                    let (target, join) = (l.target, l.through.as_ref().map(|through| through.join));
                    let rows = self.follow(of, *link, &cells);
                    let crosses = l.crosses;
                    let has_key = self.has_key(of, *link, &cells);
                    let value = self.list(target, list, (rows, join), has_key);
                    if crosses { self.nullable(value) } else { value }
                }
            };
            self.path.pop();
            members.push(format!("\"{key}\":{value}"));
        }
        format!("{{{}}}", members.join(","))
    }

    pub(super) fn column(&mut self, of: TypeId, column: usize, cell: &Datum) -> String {
        leaf(&self.world.model, self.world.model.types[of].columns[column].kind, cell).unwrap_or_else(|| {
            self.problems.push(self.path.join("."));
            "null".to_owned()
        })
    }

    /// Is there anything to be looked for at the end of a link?
    fn has_key(&self, of: TypeId, link: usize, row: &[Datum]) -> bool {
        let model = &self.world.model;
        let link = &model.types[of].links[link];
        let own = |(own, other): &(usize, usize)| {
            let target = &model.types[link.target].columns[*other];
            match link.crosses {
                true => target.key_of(model, &model.types[of].columns[*own], row[*own].as_ref()).is_some(),
                false => row[*own] != Datum::Null,
            }
        };
        let near = link.through.iter().flat_map(|through| &through.near);
        link.pairs.iter().all(own) && near.into_iter().all(|(own, _)| row[*own] != Datum::Null)
    }

    /// `has_key`: is there anything to be looked for?
    fn list(
        &mut self,
        of: TypeId,
        list: &List,
        (mut rows, join): (Vec<Found>, Option<TypeId>),
        has_key: bool,
    ) -> String {
        let asks_away = || list.filter.as_ref().is_some_and(|filter| self.asks_away(of, filter));
        if has_key && (self.world.is_away(of) || asks_away()) {
            // The first that needs rows is where it fails; a list that shows rows, before anything of it.
            let shows =
                |field: &ListField| matches!(field, ListField::Nodes(_) | ListField::Edges(_) | ListField::PageInfo);
            let first = list.fields.first().filter(|_| !list.fields.iter().any(|(_, field)| shows(field)));
            let path: Vec<String> = self.path.iter().cloned().chain(first.map(|(key, _)| key.clone())).collect();
            self.problems.push(path.join("."));
            self.is_null = true;
            return String::new();
        }
        if let Some(filter) = &list.filter {
            rows.retain(|(row, _)| self.passes(of, &self.shown[of][*row], filter) == Some(true));
        }
        rows.sort_by(|a, b| self.order(of, &list.order, a.0, b.0));
        let total = rows.len();
        let all: Vec<usize> = rows.iter().map(|(row, _)| *row).collect();
        // A position is a row of the whole visible list in the same order.
        let mut whole = self.visible(of);
        whole.sort_by(|a, b| self.order(of, &list.order, *a, *b));
        let place = |number: Option<usize>| number.and_then(|number| whole.get(number).copied());
        let (after, before) = (place(list.after), place(list.before));
        if let Some(after) = after {
            rows.retain(|(row, _)| self.order(of, &list.order, *row, after) == Ordering::Greater);
        }
        if let Some(before) = before {
            rows.retain(|(row, _)| self.order(of, &list.order, *row, before) == Ordering::Less);
        }
        let most = self.view.type_view(of).and_then(|view| view.max_page);
        let default =
            most.and_then(|most| usize::try_from(most).ok()).map_or(DEFAULT_PAGE, |most| most.min(DEFAULT_PAGE));
        let (size, backward) = match list.size {
            Size::Default => (default, false),
            Size::First(size) => (size, false),
            Size::Last(size) => (size, true),
        };
        if backward {
            rows.reverse();
        }
        let mut rows: Vec<Found> = rows.into_iter().skip(list.skip.unwrap_or(0)).collect();
        let more = rows.len() > size;
        rows.truncate(size);
        if backward {
            rows.reverse();
        }
        let skipped = list.skip.unwrap_or(0) > 0;
        let (next, previous) = if backward {
            (before.is_some() || skipped, more)
        } else {
            (more || before.is_some(), after.is_some() || skipped)
        };
        let mut members = Vec::new();
        for (key, field) in &list.fields {
            if self.is_null {
                break;
            }
            self.path.push(key.clone());
            let value = match field {
                ListField::TotalCount => total.to_string(),
                ListField::Summary(summary) => self.summary(of, &all, summary),
                ListField::Groups(groups) => self.groups(of, &all, groups),
                ListField::Nodes(fields) => {
                    let rows: Vec<String> = rows
                        .iter()
                        .enumerate()
                        .map(|(at, (row, _))| self.at(at, |me| me.object(of, *row, fields)))
                        .collect();
                    format!("[{}]", rows.join(","))
                }
                ListField::Edges(edge) => {
                    let rows: Vec<String> = rows
                        .iter()
                        .enumerate()
                        .map(|(at, row)| self.at(at, |me| me.edge(of, list, *row, edge, join)))
                        .collect();
                    format!("[{}]", rows.join(","))
                }
                ListField::PageInfo => {
                    let pages = self.world.model.types[of].row_key().is_some();
                    let end = |found: Option<&Found>| match found {
                        Some((row, _)) if pages => self.cursor(of, &list.order, *row),
                        _ => "null".to_owned(),
                    };
                    format!(
                        "{{\"hasNextPage\":{next},\"hasPreviousPage\":{previous},\"zz_start\":{},\"zz_end\":{}}}",
                        end(rows.first()),
                        end(rows.last())
                    )
                }
            };
            self.path.pop();
            members.push(format!("\"{key}\":{value}"));
        }
        format!("{{{}}}", members.join(","))
    }

    fn at(&mut self, index: usize, write: impl FnOnce(&mut Self) -> String) -> String {
        if self.is_null {
            return String::new();
        }
        self.path.push(index.to_string());
        let text = write(self);
        self.path.pop();
        text
    }

    fn edge(
        &mut self,
        of: TypeId,
        list: &List,
        (row, join_row): Found,
        edge: &[(String, EdgeField)],
        join: Option<TypeId>,
    ) -> String {
        let mut members = Vec::new();
        for (key, field) in edge {
            if self.is_null {
                break;
            }
            self.path.push(key.clone());
            let value = match field {
                EdgeField::Cursor => self.cursor(of, &list.order, row),
                EdgeField::Node(fields) => self.object(of, row, fields),
                EdgeField::Join(column) => {
                    let (join, join_row) = join.zip(join_row).expect("an edge of a direct link has a join row");
                    let cell = self.shown[join][join_row][*column].clone();
                    self.column(join, *column, &cell)
                }
            };
            self.path.pop();
            members.push(format!("\"{key}\":{value}"));
        }
        format!("{{{}}}", members.join(","))
    }

    /// The values of the order's terms, written out: what a cursor stands for.
    fn cursor(&self, of: TypeId, order: &[OrderBy], row: usize) -> String {
        let mut cells: Vec<Datum> = order.iter().map(|by| self.value(of, &by.hops, by.column, row)).collect();
        for column in self.key_columns(of, order) {
            cells.push(self.shown[of][row][column].clone());
        }
        format!("\"{}\"", write_cursor(&cells))
    }

    fn key_columns(&self, of: TypeId, order: &[OrderBy]) -> Vec<usize> {
        let key = self.world.model.types[of].row_key().map_or(Vec::new(), |key| key.columns.clone());
        key.into_iter().filter(|column| !order.iter().any(|by| by.hops.is_empty() && by.column == *column)).collect()
    }

    /// The value at the end of to-one hops over visible rows; null where a hop leads nowhere.
    fn value(&self, of: TypeId, hops: &[usize], column: usize, row: usize) -> Datum {
        let (mut of, mut row) = (of, row);
        for link in hops {
            match self.follow(of, *link, &self.shown[of][row]).first() {
                Some((target, _)) => {
                    of = self.world.model.types[of].links[*link].target;
                    row = *target;
                }
                None => return Datum::Null,
            }
        }
        self.shown[of][row][column].clone()
    }

    fn order(&self, of: TypeId, order: &[OrderBy], a: usize, b: usize) -> Ordering {
        for by in order {
            let target = by.hops.iter().fold(of, |of, link| self.world.model.types[of].links[*link].target);
            let collation = self.world.collation(target, by.column);
            let (x, y) = (self.value(of, &by.hops, by.column, a), self.value(of, &by.hops, by.column, b));
            let descending = by.word.starts_with("DESC");
            let usual = self.world.nulls_are_smallest(of) != descending;
            let nulls_first = if by.word.contains("NULLS") { by.word.ends_with("FIRST") } else { usual };
            let null_order = if nulls_first { Ordering::Less } else { Ordering::Greater };
            let found = match (x == Datum::Null, y == Datum::Null) {
                (true, true) => Ordering::Equal,
                (true, false) => null_order,
                (false, true) => null_order.reverse(),
                (false, false) if descending => compare(&y, &x, collation),
                (false, false) => compare(&x, &y, collation),
            };
            if found.is_ne() {
                return found;
            }
        }
        let rows = &self.shown[of];
        for column in self.key_columns(of, order) {
            let found = compare(&rows[a][column], &rows[b][column], self.world.collation(of, column));
            if found.is_ne() {
                return found;
            }
        }
        // Without a key: the order in which the rows are stored.
        a.cmp(&b)
    }

    pub(super) fn passes(&self, of: TypeId, row: &[Datum], filter: &Filter) -> Option<bool> {
        match filter {
            Filter::And(parts) => all(parts.iter().map(|part| self.passes(of, row, part))),
            Filter::Or(parts) => all(parts.iter().map(|part| self.passes(of, row, part).map(|v| !v))).map(|v| !v),
            Filter::Not(inner) => self.passes(of, row, inner).map(|value| !value),
            Filter::Column { column, negated, test } => {
                test_cell(&row[*column], test, self.world.collation(of, *column)).map(|value| value != *negated)
            }
            Filter::Items { column, quantifier, inner } => {
                let kind = self.world.model.types[of].columns[*column].kind;
                let judge = |items: TypeId, item: &[Datum]| self.passes(items, item, inner);
                over_items(&self.world.model, kind, &row[*column], *quantifier, judge)
            }
            Filter::One { link, inner } => {
                let target = self.world.model.types[of].links[*link].target;
                let nothing = vec![Datum::Null; self.world.model.types[target].columns.len()];
                let found = self.follow(of, *link, row).first().copied();
                let row = found.map_or(&nothing, |(found, _)| &self.shown[target][found]);
                self.passes(target, row, inner)
            }
            Filter::Many { link, quantifier, inner } => {
                let target = self.world.model.types[of].links[*link].target;
                let found = self.follow(of, *link, row);
                let judged = found.iter().map(|(found, _)| self.passes(target, &self.shown[target][*found], inner));
                quantify(*quantifier, judged)
            }
        }
    }
}

/// Is a filter true whatever it is asked of?
fn asks_nothing(filter: &Filter) -> bool {
    match filter {
        Filter::And(parts) => parts.iter().all(asks_nothing),
        Filter::One { inner, .. } => asks_nothing(inner),
        Filter::Or(_) | Filter::Not(_) | Filter::Column { .. } | Filter::Items { .. } | Filter::Many { .. } => false,
    }
}

/// A row with null wherever a mask hides the value.
fn shown(world: &World, view: &View, of: TypeId, row: &[Datum]) -> Vec<Datum> {
    let mut shown = row.to_vec();
    for (column, mask) in view.masks(of).iter() {
        if judge(world, of, row, mask) != Some(true) {
            shown[*column] = Datum::Null;
        }
    }
    shown
}

/// Writes out what a cursor stands for. A number is one however it is kept: JSON has `2` and `2.0` for the same.
pub(super) fn write_cursor(cells: &[Datum]) -> String {
    let written = cells.iter().map(|cell| match cell {
        Datum::Integer(number) => format!("Number({number})"),
        Datum::Real(number) => format!("Number({number})"),
        other => format!("{other:?}"),
    });
    format!("[{}]", written.collect::<Vec<_>>().join(", ")).replace(['"', '\\'], "'")
}

/// A stored value as JSON; none where it does not fit its type.
pub(super) fn leaf(model: &Model, kind: FieldType, cell: &Datum) -> Option<String> {
    let quote = |text: &str| serde_json::Value::from(text).to_string();
    if *cell == Datum::Null {
        return Some("null".to_owned());
    }
    let scalar = match kind {
        FieldType::Enum(id) => {
            let Datum::Text(text) = cell else { return None };
            return model.enums[id].values.iter().find(|(_, value)| value == text).map(|(name, _)| quote(name));
        }
        FieldType::Scalar(scalar) => scalar,
        FieldType::List(element) => {
            let Datum::List(items) = cell else { return None };
            let items: Option<Vec<String>> = items.iter().map(|item| leaf(model, element.kind(), item)).collect();
            return items.map(|items| format!("[{}]", items.join(",")));
        }
        FieldType::Object(_) | FieldType::Items(_) => return None,
    };
    match (scalar, cell) {
        (Scalar::Boolean, Datum::Integer(0)) => Some("false".to_owned()),
        (Scalar::Boolean, Datum::Integer(1)) => Some("true".to_owned()),
        (Scalar::Int, Datum::Integer(value)) => Some(value.to_string()),
        (Scalar::BigInt | Scalar::Decimal, Datum::Integer(value)) => Some(format!("\"{value}\"")),
        (Scalar::Float, Datum::Real(value)) => serde_json::Number::from_f64(*value).map(|number| number.to_string()),
        (Scalar::Decimal, Datum::Real(value)) => Some(format!("\"{value}\"")),
        (Scalar::String, Datum::Text(text)) => Some(quote(text)),
        (Scalar::Json, Datum::Text(text)) => Some(text.clone()),
        (Scalar::Json, Datum::Integer(value)) => Some(value.to_string()),
        // The random worlds store three texts that are not dates.
        (Scalar::Date, Datum::Text(text)) => {
            (!text.starts_with("soon") && !["2026-02-30", "infinity"].contains(&text.as_str())).then(|| quote(text))
        }
        (Scalar::LocalDateTime | Scalar::DateTime, Datum::Text(text)) => Some(quote(&text.replace(' ', "T"))),
        // A time of MariaDB's may be longer than a day.
        (Scalar::Time, Datum::Text(text)) => (text != "30:00:00").then(|| quote(text)),
        (Scalar::Uuid | Scalar::ObjectId | Scalar::BigInt | Scalar::Decimal, Datum::Text(text)) => Some(quote(text)),
        (Scalar::Bytes, Datum::Blob(bytes)) => Some(quote(&base64::engine::general_purpose::STANDARD.encode(bytes))),
        _ => None,
    }
}

/// Replaces every sealed cursor by what it stands for.
///
/// # Panics
/// Where one was not sealed by this sealer.
pub fn open_cursors(sealer: &Sealer, text: &str) -> String {
    let mut whole = String::new();
    let mut rest = text;
    let marks = ["\"zz_cursor\":\"", "\"zz_start\":\"", "\"zz_end\":\""];
    while let Some((at, mark)) = marks.iter().filter_map(|mark| rest.find(mark).map(|at| (at, mark))).min() {
        let (before, after) = rest.split_at(at + mark.len());
        let (cursor, tail) = after.split_once('"').expect("a string ends");
        whole.push_str(before);
        whole.push_str(&write_cursor(&sealer.open(cursor).expect("a cursor of ours").cells));
        whole.push('"');
        rest = tail;
    }
    whole + rest
}
