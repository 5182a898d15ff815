//! Random summaries and groups of a list, and what they must be: all of a list's rows summed up, one obvious step at a
//! time.

use std::cmp::Ordering;

use puente_core::catalog::Engine;
use puente_core::model::{FieldType, TypeId};
use puente_core::value::{Datum, Scalar};
use rand::RngExt as _;

use super::ask::Drawing;
use super::interpret::Interpreter;
use super::rule::{Collation, compare, hundredths};
use super::world::World;

/// `summary { … }`: fields under their response keys.
pub(super) type Summary = Vec<(String, SummaryField)>;

#[derive(Debug)]
pub(super) enum SummaryField {
    Count,
    /// `inside` are the response keys of what is inside JSON.
    Column {
        column: usize,
        inside: Vec<String>,
        words: Vec<(String, &'static str)>,
    },
}

/// `groups(by: …) { key { … } summary { … } }`.
#[derive(Debug)]
pub(super) struct Groups {
    by: Vec<(usize, &'static str)>,
    order: Vec<(GroupValue, &'static str)>,
    first: Option<usize>,
    skip: usize,
    /// Response keys, from the outermost on, and column.
    keys: Vec<(Vec<String>, usize)>,
    summary: Summary,
}

#[derive(Debug, Clone, PartialEq)]
enum GroupValue {
    Count,
    Key(usize),
    Function(usize, &'static str),
}

/// What may be asked of a column: the functions whose result does not hang on the order of additions.
fn words(world: &World, of: TypeId, column: usize) -> Vec<&'static str> {
    let c = &world.model.types[of].columns[column];
    let FieldType::Scalar(scalar) = c.kind else { return Vec::new() };
    let single = c.cast.as_deref() == Some("float4");
    match scalar {
        // What is equal regardless of case has no one smallest text.
        _ if world.collation(of, column).folds() => Vec::new(),
        Scalar::Int | Scalar::Decimal => vec!["sum", "avg", "min", "max"],
        Scalar::Float if !single && is_exact(world, of, column) => vec!["sum", "avg", "min", "max"],
        Scalar::BigInt => vec!["sum", "min", "max"],
        Scalar::Float | Scalar::String | Scalar::Date | Scalar::LocalDateTime | Scalar::DateTime => vec!["min", "max"],
        _ => Vec::new(),
    }
}

/// Do the numbers of a column add up to the same in every order? Those with few digits do.
fn is_exact(world: &World, of: TypeId, column: usize) -> bool {
    let is_quarter = |cell: &Datum| match cell {
        Datum::Real(value) => value.abs() < 1e15 && (value * 4.0).fract() == 0.0,
        _ => true,
    };
    world.rows[of].iter().all(|row| is_quarter(&row[column]))
}

/// What summaries and groups call a field. No table of a world has columns of the longer names.
fn summary_name(field: &str) -> String {
    let clashes = ["count", "id"].contains(&field);
    if clashes { format!("{field}Value") } else { field.to_owned() }
}

const DIRECTIONS: &[&str] = &["ASC", "DESC", "ASC_NULLS_LAST", "DESC_NULLS_FIRST"];

impl Drawing<'_> {
    /// A summary, as a tree and as text.
    pub(super) fn summary(&mut self, of: TypeId) -> (Summary, String) {
        let key = self.key();
        let mut summary = vec![(key.clone(), SummaryField::Count)];
        let mut text = format!("{key}: count ");
        for (column, ..) in self.values(of) {
            let words = words(self.world, of, column);
            if words.is_empty() || self.random.random_bool(0.5) {
                continue;
            }
            let asked: Vec<(String, &'static str)> = words.into_iter().map(|word| (self.key(), word)).collect();
            let inner: Vec<String> = asked.iter().map(|(key, word)| format!("{key}: {word}")).collect();
            let (mut keys, written) = self.selected(of, column, &format!(" {{ {} }}", inner.join(" ")));
            text.push_str(&written);
            let key = keys.remove(0);
            summary.push((key, SummaryField::Column { column, inside: keys, words: asked }));
        }
        (summary, text)
    }

    /// A value's field with what is asked of it, inside the objects that it is a member of; and the response keys.
    fn selected(&mut self, of: TypeId, column: usize, inner: &str) -> (Vec<String>, String) {
        let names: Vec<String> =
            self.world.model.types[of].columns[column].label().split('.').map(summary_name).collect();
        let keys: Vec<String> = names.iter().map(|_| self.key()).collect();
        let mut text = inner.to_owned();
        for (at, (key, name)) in keys.iter().zip(&names).enumerate().rev() {
            let is_last = at + 1 == names.len();
            text = if is_last { format!("{key}: {name}{text}") } else { format!("{key}: {name} {{ {text} }}") };
        }
        (keys, format!("{text} "))
    }

    /// Groups, as a tree, their arguments and their fields as text; none where nothing can be grouped by.
    pub(super) fn groups(&mut self, of: TypeId) -> Option<(Groups, String, String)> {
        let mut columns = self.values(of);
        columns.retain(|(column, ..)| {
            let c = &self.world.model.types[of].columns[*column];
            c.is_comparable() && !self.world.collation(of, *column).folds()
        });
        let mut by: Vec<(usize, &'static str)> = Vec::new();
        let (mut by_text, mut keys, mut key_text) = (Vec::new(), Vec::new(), String::new());
        for _ in 0..self.random.random_range(1..=2) {
            let (column, field, (before, after)) = self.pick(&columns)?;
            if by.iter().any(|(known, _)| *known == column) {
                continue;
            }
            let is_date = matches!(
                self.world.model.types[of].columns[column].kind,
                FieldType::Scalar(Scalar::Date | Scalar::DateTime | Scalar::LocalDateTime)
            );
            let units: &[&str] = if is_date { &["VALUE", "DAY", "MONTH", "YEAR"] } else { &["VALUE"] };
            let (unit, written) = self.word(if is_date { "DateGrouping!" } else { "Grouping!" }, units);
            by.push((column, unit));
            by_text.push(format!("{{ {before}{}: {written}{after} }}", summary_name(&field)));
            let (responses, written) = self.selected(of, column, "");
            key_text.push_str(&written);
            keys.push((responses, column));
        }
        let (order, order_text) = self.group_order(of, &by);
        let most = self.view.type_view(of).and_then(|view| view.max_page).map_or(7, |most| most as usize);
        let mut arguments = vec![format!("by: [{}]", by_text.join(", "))];
        if !order.is_empty() {
            arguments.push(format!("orderBy: [{order_text}]"));
        }
        let mut first = None;
        if self.random.random_bool(0.5) {
            let (number, written) = self.number(0, most);
            arguments.push(format!("first: {written}"));
            first = Some(number);
        }
        let mut skip = 0;
        if self.random.random_bool(0.3) {
            let (number, written) = self.number(0, 2);
            arguments.push(format!("skip: {written}"));
            skip = number;
        }
        let (summary, summary_text) = self.summary(of);
        let fields = format!("key {{ {key_text} }} summary {{ {summary_text} }}");
        Some((Groups { by, order, first, skip, keys, summary }, arguments.join(", "), fields))
    }

    fn group_order(&mut self, of: TypeId, by: &[(usize, &'static str)]) -> (Vec<(GroupValue, &'static str)>, String) {
        let mut order: Vec<(GroupValue, &'static str)> = Vec::new();
        let mut parts = Vec::new();
        for _ in 0..self.random.random_range(0..=2) {
            let columns = self.values(of);
            let (value, before, after) = match self.random.random_range(0..3) {
                0 => (GroupValue::Count, "{ count: ".to_owned(), " }".to_owned()),
                1 => {
                    let (column, _) = by[self.random.random_range(0..by.len())];
                    let (_, field, (before, after)) =
                        columns.iter().find(|(known, ..)| *known == column).expect("it is visible");
                    let opened = format!("{{ {before}{}: {{ key: ", summary_name(field));
                    (GroupValue::Key(column), opened, format!(" }}{after} }}"))
                }
                _ => {
                    let Some((column, field, (before, after))) = self.pick(&columns) else { continue };
                    let Some(word) = self.pick(&words(self.world, of, column)) else { continue };
                    let opened = format!("{{ {before}{}: {{ {word}: ", summary_name(&field));
                    (GroupValue::Function(column, word), opened, format!(" }}{after} }}"))
                }
            };
            if !order.iter().any(|(known, _)| *known == value) {
                let (direction, written) = self.word("Direction!", DIRECTIONS);
                order.push((value, direction));
                parts.push(format!("{before}{written}{after}"));
            }
        }
        (order, parts.join(", "))
    }
}

impl Interpreter<'_> {
    /// The summary of some rows, as JSON.
    pub(super) fn summary(&mut self, of: TypeId, rows: &[usize], summary: &Summary) -> String {
        let mut members = Vec::new();
        for (key, field) in summary {
            self.path.push(key.clone());
            let value = match field {
                SummaryField::Count => rows.len().to_string(),
                SummaryField::Column { column, inside, words } => {
                    self.path.extend(inside.iter().cloned());
                    let mut inner = Vec::new();
                    for (key, word) in words {
                        self.path.push(key.clone());
                        let cell = self.function(of, rows, *column, word);
                        inner.push(format!("\"{key}\":{}", self.written(of, *column, word, &cell)));
                        self.path.pop();
                    }
                    self.path.truncate(self.path.len() - inside.len());
                    within(inside, format!("{{{}}}", inner.join(",")))
                }
            };
            self.path.pop();
            members.push(format!("\"{key}\":{value}"));
        }
        format!("{{{}}}", members.join(","))
    }

    fn written(&mut self, of: TypeId, column: usize, word: &str, cell: &Datum) -> String {
        match (word, cell) {
            ("sum" | "avg", Datum::Null) => "null".to_owned(),
            ("avg", Datum::Real(value)) => serde_json::Value::from(*value).to_string(),
            ("sum", Datum::Real(value)) => serde_json::Value::from(*value).to_string(),
            ("sum", Datum::Text(text)) => format!("\"{text}\""),
            _ => self.column(of, column, cell),
        }
    }

    /// A function of a column's values; null where there are none.
    fn function(&self, of: TypeId, rows: &[usize], column: usize, word: &str) -> Datum {
        let cells = rows.iter().map(|row| &self.shown[of][*row][column]).filter(|cell| **cell != Datum::Null);
        let collation = self.world.collation(of, column);
        let kind = self.world.model.types[of].columns[column].kind;
        match word {
            "min" => cells.min_by(|a, b| compare(a, b, collation)).cloned().unwrap_or(Datum::Null),
            "max" => cells.max_by(|a, b| compare(a, b, collation)).cloned().unwrap_or(Datum::Null),
            _ if kind == FieldType::Scalar(Scalar::Float) => {
                let values: Vec<f64> =
                    cells.filter_map(|cell| if let Datum::Real(v) = cell { Some(*v) } else { None }).collect();
                let sum: f64 = values.iter().sum();
                match (values.len(), word) {
                    (0, _) => Datum::Null,
                    (_, "sum") => Datum::Real(sum),
                    (count, _) => Datum::Real(sum / as_real(count)),
                }
            }
            _ => {
                // A decimal number keeps the digits that the most exact of its parts has.
                let digits = |cell: &&Datum| match cell {
                    Datum::Text(text) => text.split_once('.').map_or(0, |(_, fraction)| fraction.len()),
                    _ => 0,
                };
                let scale = cells.clone().map(|cell| digits(&cell)).max().unwrap_or(0);
                // What is not a number does not count.
                let values: Vec<i128> = cells.filter_map(hundredths).collect();
                let sum: i128 = values.iter().sum();
                match (values.len(), word) {
                    (0, _) => Datum::Null,
                    (_, "sum") => Datum::Text(self.sum_text(of, kind, sum, scale)),
                    (count, _) => Datum::Real(hundred_fold(sum) / 100.0 / as_real(count)),
                }
            }
        }
    }

    /// A sum of hundredths in the form of the engine: SQLite knows no scale, MongoDB that of the values, the others keep the column's.
    fn sum_text(&self, of: TypeId, kind: FieldType, sum: i128, scale: usize) -> String {
        let sign = if sum < 0 { "-" } else { "" };
        let (whole, fraction) = (sum.abs() / 100, sum.abs() % 100);
        let is_decimal = kind == FieldType::Scalar(Scalar::Decimal);
        match (is_decimal, self.world.engine(of)) {
            (true, Engine::Postgres | Engine::Mariadb) => format!("{sign}{whole}.{fraction:02}"),
            (true, Engine::Mongodb) if scale > 0 => {
                let text = format!("{sign}{whole}.{fraction:02}");
                text[..text.len() + scale - 2].to_owned()
            }
            (true, Engine::Sqlite) if fraction != 0 => {
                format!("{sign}{whole}.{fraction:02}").trim_end_matches('0').to_owned()
            }
            _ => format!("{sign}{whole}"),
        }
    }

    /// The groups of some rows, as JSON.
    pub(super) fn groups(&mut self, of: TypeId, rows: &[usize], asked: &Groups) -> String {
        let mut groups: Vec<(Vec<Datum>, Vec<usize>)> = Vec::new();
        for row in rows {
            let key: Vec<Datum> = asked
                .by
                .iter()
                .map(|(column, unit)| self.truncated(of, *column, unit, &self.shown[of][*row][*column]))
                .collect();
            match groups.iter_mut().find(|(known, _)| *known == key) {
                Some((_, members)) => members.push(*row),
                None => groups.push((key, vec![*row])),
            }
        }
        groups.sort_by(|a, b| self.order_groups(of, asked, a, b));
        let most = self.view.type_view(of).and_then(|view| view.max_page).map_or(50, |most| most as usize);
        let page = groups.into_iter().skip(asked.skip).take(asked.first.unwrap_or(most));
        let mut written = Vec::new();
        for (at, (key, members)) in page.enumerate() {
            self.path.push(at.to_string());
            self.path.push("key".to_owned());
            let mut keys = Vec::new();
            for (response, column) in &asked.keys {
                let place = asked.by.iter().position(|(by, _)| by == column).expect("it is grouped by");
                self.path.extend(response.iter().cloned());
                let value = self.column(of, *column, &key[place]);
                keys.push(format!("\"{}\":{}", response[0], within(&response[1..], value)));
                self.path.truncate(self.path.len() - response.len());
            }
            self.path.pop();
            self.path.push("summary".to_owned());
            let summary = self.summary(of, &members, &asked.summary);
            self.path.pop();
            self.path.pop();
            written.push(format!("{{\"key\":{{{}}},\"summary\":{summary}}}", keys.join(",")));
        }
        format!("[{}]", written.join(","))
    }

    fn order_groups(
        &self,
        of: TypeId,
        asked: &Groups,
        a: &(Vec<Datum>, Vec<usize>),
        b: &(Vec<Datum>, Vec<usize>),
    ) -> Ordering {
        let place = |column: usize| asked.by.iter().position(|(by, _)| *by == column).expect("it is grouped by");
        let value = |group: &(Vec<Datum>, Vec<usize>), value: &GroupValue| match value {
            GroupValue::Count => Datum::Integer(i64::try_from(group.1.len()).unwrap_or(0)),
            GroupValue::Key(column) => group.0[place(*column)].clone(),
            GroupValue::Function(column, word) => self.function(of, &group.1, *column, word),
        };
        let collation = |value: &GroupValue| match value {
            GroupValue::Count => Collation::Plain,
            GroupValue::Function(_, "sum" | "avg") => Collation::Number,
            GroupValue::Key(column) | GroupValue::Function(column, _) => self.world.collation(of, *column).clone(),
        };
        let rest = asked.by.iter().map(|(column, _)| (GroupValue::Key(*column), "ASC"));
        for (by, word) in asked.order.iter().cloned().chain(rest) {
            let (x, y) = (value(a, &by), value(b, &by));
            let descending = word.starts_with("DESC");
            let usual = self.world.nulls_are_smallest(of) != descending;
            let nulls_first = if word.contains("NULLS") { word.ends_with("FIRST") } else { usual };
            let null_order = if nulls_first { Ordering::Less } else { Ordering::Greater };
            let found = match (x == Datum::Null, y == Datum::Null) {
                (true, true) => Ordering::Equal,
                (true, false) => null_order,
                (false, true) => null_order.reverse(),
                (false, false) if descending => compare(&y, &x, &collation(&by)),
                (false, false) => compare(&x, &y, &collation(&by)),
            };
            if found.is_ne() {
                return found;
            }
        }
        Ordering::Equal
    }

    /// The part of a value that makes a group.
    fn truncated(&self, of: TypeId, column: usize, unit: &str, cell: &Datum) -> Datum {
        let Datum::Text(text) = cell else { return cell.clone() };
        let (length, rest) = match unit {
            "DAY" => (10, ""),
            "MONTH" => (7, "-01"),
            "YEAR" => (4, "-01-01"),
            _ => return cell.clone(),
        };
        if text == "infinity" {
            return cell.clone();
        }
        let time = match self.world.model.types[of].columns[column].kind {
            FieldType::Scalar(Scalar::LocalDateTime) => " 00:00:00",
            FieldType::Scalar(Scalar::DateTime) => " 00:00:00Z",
            _ => "",
        };
        Datum::Text(format!("{}{rest}{time}", &text[..length.min(text.len())]))
    }
}

/// A value inside objects, by the response keys.
fn within(keys: &[String], value: String) -> String {
    keys.iter().rev().fold(value, |value, key| format!("{{\"{key}\":{value}}}"))
}

#[expect(clippy::cast_precision_loss, reason = "the worlds are small")]
fn as_real(count: usize) -> f64 {
    count as f64
}

#[expect(
    clippy::cast_precision_loss,
    reason = "sums of small numbers only; those of big integers have no average here"
)]
fn hundred_fold(sum: i128) -> f64 {
    sum as f64
}
