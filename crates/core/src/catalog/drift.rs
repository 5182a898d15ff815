//! Drift: how a live source differs from its survey file.

use std::collections::{HashMap, HashSet};

use super::renames::renames;
use super::{Catalog, Column, ColumnShape, ForeignKey, Shape, Table, TableKind};

/// One difference, as a sentence with its consequence.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Drift {
    /// The table that it is about.
    pub table: String,
    /// What changed, from the survey file to the database.
    pub text: String,
    /// Does it break requests that work with the survey file as it is?
    pub breaking: bool,
}

/// What changed between the survey file and what is there now. Row estimates do not count.
pub fn compare(surveyed: &Catalog, live: &Catalog) -> Vec<Drift> {
    let mut found = Vec::new();
    let renames = renames(surveyed, live);
    let hint = |before: &str| {
        let rename = renames.iter().find(|rename| rename.before() == before);
        let hint = |now: String| format!("; `{now}` is like it, and `puente survey --accept {now}` keeps its names");
        rename.map(|rename| hint(rename.now())).unwrap_or_default()
    };
    for old in &surveyed.tables {
        match live.table(&old.name) {
            None => found.push(drift(&old.name, format!("`{}` is gone{}", old.name, hint(&old.name)), true)),
            Some(new) => compare_tables(old, new, &hint, &mut found),
        }
    }
    for new in &live.tables {
        if surveyed.table(&new.name).is_none() {
            found.push(drift(&new.name, format!("`{}` is new", new.name), false));
        }
    }
    found
}

fn compare_tables(old: &Table, new: &Table, hint: &dyn Fn(&str) -> String, found: &mut Vec<Drift>) {
    let name = &old.name;
    for column in &old.columns {
        let place = format!("`{name}.{}`", column.name);
        match new.column(&column.name) {
            None => {
                let hint = hint(&format!("{name}.{}", column.name));
                found.push(drift(name, format!("{place} is gone{hint}"), true));
            }
            Some(now) if same_but_shape(now, column) => {}
            Some(now) if now.declared != column.declared => {
                let text = format!("{place} was declared `{}` and is now `{}`", column.declared, now.declared);
                found.push(drift(name, text, now.scalar != column.scalar));
            }
            Some(now) if now.scalar != column.scalar => {
                let text = format!(
                    "{place} was typed {} and its values now ask for {}",
                    column.scalar.name(),
                    now.scalar.name()
                );
                found.push(drift(name, text, true));
            }
            Some(now) if now.nullable != column.nullable => {
                let text = if now.nullable { "now allows null" } else { "no longer allows null" };
                let breaking = (column.enforced && !now.enforced) || is_needed(new, now);
                found.push(drift(name, format!("{place} {text}"), breaking));
            }
            Some(now) if now.values != column.values => {
                found.push(drift(name, format!("{place} allows other values than before"), true));
            }
            Some(_) => found.push(drift(name, format!("{place} changed in its default, comment or form"), false)),
        }
        if let (Some(old), Some(now)) = (&column.shape, new.column(&column.name).and_then(|now| now.shape.as_ref())) {
            let changes = compare_shapes(old, now).into_iter();
            // What a value does not have is null, and what does not fit is an error on that field alone.
            found.extend(changes.map(|change| drift(name, format!("{place}: {change}"), false)));
        }
    }
    for column in &new.columns {
        if old.column(&column.name).is_none() {
            let needed = is_needed(new, column);
            let text = if needed { ", and no row can be created without it" } else { "" };
            found.push(drift(name, format!("`{name}.{}` is new{text}", column.name), needed));
        }
    }
    for (what, changed, breaking) in [
        ("its kind", old.kind != new.kind, true),
        ("its primary key", old.primary_key != new.primary_key, true),
        ("its unique keys", old.unique_keys != new.unique_keys, true),
        ("its foreign keys", !keeps_foreign_keys(old, new), true),
        ("whether other tables inherit from it", old.inherited != new.inherited, true),
        ("its indexes", old.indexes != new.indexes, false),
        ("its comment", old.comment != new.comment, false),
    ] {
        if changed {
            found.push(drift(name, format!("`{name}` changed {what}"), breaking));
        }
    }
}

/// Are the foreign keys as they were, and still enforced where they were? A survey of before may not know that they are.
fn keeps_foreign_keys(old: &Table, new: &Table) -> bool {
    let alike = |(old, new): (&ForeignKey, &ForeignKey)| {
        *old == ForeignKey { enforced: old.enforced, ..new.clone() } && (new.enforced || !old.enforced)
    };
    old.foreign_keys.len() == new.foreign_keys.len() && old.foreign_keys.iter().zip(&new.foreign_keys).all(alike)
}

fn same_but_shape(one: &Column, other: &Column) -> bool {
    let plain = |column: &Column| Column { shape: None, ..column.clone() };
    one == other || plain(one) == plain(other)
}

/// Which members of JSON came, went, or are of another type now.
fn compare_shapes(old: &ColumnShape, now: &ColumnShape) -> Vec<String> {
    let places = |shape| Shape::places(shape).into_iter().map(|(way, shape)| (way.join("/"), shape));
    let before: HashMap<String, &Shape> = places(&old.shape).collect();
    let after: Vec<(String, &Shape)> = places(&now.shape).collect();
    let there: HashSet<&str> = after.iter().map(|(way, _)| way.as_str()).collect();
    let called = |way: &str| if way.is_empty() { "the whole value".to_owned() } else { format!("member `{way}`") };
    // What is inside of what came, or went, came and went with it.
    let is_inside = |way: &str, known: &dyn Fn(&str) -> bool| {
        way.rsplit_once('/').is_some_and(|(outer, _)| !known(outer)) || way.is_empty()
    };
    let mut found = Vec::new();
    for (way, shape) in places(&old.shape) {
        if !there.contains(way.as_str()) && !is_inside(&way, &|outer| there.contains(outer)) {
            found.push(format!("{} ({}) was in none of {} samples", called(&way), shape.describe(), now.samples));
        }
    }
    for (way, shape) in &after {
        match before.get(way) {
            None if is_inside(way, &|outer| before.contains_key(outer)) => {}
            None => found.push(format!(
                "{} ({}) is new, in {} % of {} samples",
                called(way),
                shape.describe(),
                shape.share,
                now.samples
            )),
            Some(old) if old.kind != shape.kind => found.push(format!(
                "{} was {} and is {} in {} samples",
                called(way),
                old.describe(),
                shape.describe(),
                now.samples
            )),
            Some(_) => {}
        }
    }
    found
}

/// Has every new row to say something of a column?
fn is_needed(table: &Table, column: &Column) -> bool {
    let filled = column.default.is_some() || column.automatic || column.generated;
    table.kind == TableKind::Table && !column.nullable && !filled
}

fn drift(table: &str, text: String, breaking: bool) -> Drift {
    Drift { table: table.to_owned(), text, breaking }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::{Catalog, ShapeSample};

    fn catalog(columns: &str) -> Catalog {
        let text = format!(
            r#"{{"format": 1, "engine": "sqlite", "tables": [
                {{"name": "huts", "kind": "table", "columns": [{columns}], "primary_key": ["id"]}}]}}"#
        );
        Catalog::from_text(&text).unwrap()
    }

    const ID: &str = r#"{"name": "id", "declared": "INTEGER", "scalar": "Int", "enforced": true}"#;
    const NAME: &str = r#"{"name": "name", "declared": "TEXT", "scalar": "String", "nullable": true}"#;

    #[test]
    fn members_that_came_went_or_changed_are_told_and_shares_are_not() {
        let report = |values: &[&str]| {
            let mut sample = ShapeSample::default();
            values.iter().for_each(|value| sample.see(value.as_bytes()));
            let shape = serde_json::to_string(&sample.shape()).unwrap();
            catalog(&format!(r#"{ID}, {{"name": "report", "declared": "JSON", "scalar": "JSON", "shape": {shape}}}"#))
        };
        let before = report(&[r#"{"snow": 1, "wind": {"from": "N"}, "by": "Ida"}"#]);
        let after = report(&[r#"{"snow": "deep", "by": "Ida", "ice": [{"at": 1}]}"#, r#"{"by": "Ida"}"#]);
        let found: Vec<String> = compare(&before, &after).into_iter().map(|drift| drift.text).collect();
        assert_eq!(
            found,
            [
                "`huts.report`: member `wind` (object) was in none of 2 samples",
                "`huts.report`: member `snow` was Int and is String in 2 samples",
                "`huts.report`: member `ice` (list of object) is new, in 50 % of 2 samples",
            ]
        );
        assert!(compare(&before, &before).is_empty());
        let more = report(&[r#"{"snow": 1, "wind": {"from": "N"}, "by": "Ida"}"#, r#"{"wind": {}}"#]);
        assert!(compare(&before, &more).is_empty(), "shares change with every row");
    }

    #[test]
    fn a_lost_column_breaks_and_a_new_one_does_not() {
        let both = catalog(&format!("{ID}, {NAME}"));
        let lost = compare(&both, &catalog(ID));
        assert_eq!(lost.len(), 1);
        assert!(lost[0].breaking && lost[0].text.contains("`huts.name` is gone"));
        let gained = compare(&catalog(ID), &both);
        assert!(!gained[0].breaking && gained[0].text.contains("is new"));
        assert!(compare(&both, &both).is_empty());
        let needed = NAME.replace("true", "false");
        let gained = compare(&catalog(ID), &catalog(&format!("{ID}, {needed}")));
        assert!(gained[0].breaking && gained[0].text.contains("no row can be created without it"), "{gained:?}");
    }
}
