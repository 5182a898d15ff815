//! What a survey finds in samples joined with what the one before it found: a sample is not everything, so what was seen once is not
//! forgotten because it was not seen again. Types become wider and members more, and never the other way round.

use indexmap::IndexMap;

use super::advice::WORTH_AN_INDEX;
use super::{Catalog, Column, ColumnShape, Engine, Shape, ShapeType, Table};
use crate::value::Scalar;

impl Catalog {
    /// What this survey found by samples, with what an earlier one knew. What definitions say is as they say it now.
    #[must_use]
    pub fn widened(mut self, before: &Catalog) -> Self {
        let engine = self.engine;
        if before.engine == engine {
            for table in &mut self.tables {
                if let Some(known) = before.table(&table.name) {
                    table.widen(known, engine);
                }
            }
        }
        self
    }
}

impl Table {
    fn widen(&mut self, before: &Table, engine: Engine) {
        self.about_rows = match (before.about_rows, self.about_rows) {
            (Some(before), Some(now)) if is_about(before, now) => Some(before),
            (_, now) => now,
        };
        for column in &mut self.columns {
            if let Some(known) = before.column(&column.name).filter(|known| known.declared == column.declared) {
                column.widen(known, engine);
            }
        }
        if engine.holds_documents() {
            self.recall(before);
        }
    }

    /// Members of documents that were seen before and not now, each where it was.
    fn recall(&mut self, before: &Table) {
        for (at, known) in before.columns.iter().enumerate() {
            if self.column(&known.name).is_none() {
                let column = Column { nullable: true, enforced: false, ..known.clone() };
                self.columns.insert(at.min(self.columns.len()), column);
            }
        }
        // In the order in which they were first seen.
        let place = |column: &Column| before.columns.iter().position(|known| known.name == column.name);
        self.columns.sort_by_key(|column| place(column).unwrap_or(usize::MAX));
    }
}

/// Is one number of rows about the other, and as many to whoever plans with it? Engines estimate, and no two of their estimates are
/// the same.
fn is_about(before: u64, now: u64) -> bool {
    let is_near = now < before.saturating_mul(2) && before < now.saturating_mul(2) || now == before;
    is_near && (before < WORTH_AN_INDEX) == (now < WORTH_AN_INDEX)
}

impl Column {
    fn widen(&mut self, before: &Column, engine: Engine) {
        // Where the engine itself says what values are, samples decide nothing of it.
        let is_sampled = engine.holds_documents() || engine == Engine::Sqlite;
        if is_sampled && self.scalar != before.scalar {
            self.join_scalar(before);
        }
        match (&before.shape, &mut self.shape) {
            (Some(known), Some(now)) => now.widen(known),
            // It is of several types by now, or was so before.
            (Some(_), None) if self.scalar == Scalar::Json && self.notice.is_none() => {
                self.shape.clone_from(&before.shape)
            }
            _ => {}
        }
    }

    fn join_scalar(&mut self, before: &Column) {
        let joined = joined(before.scalar, self.scalar);
        if joined == Some(before.scalar) || before.scalar == Scalar::Json && before.notice.is_some() {
            // It was as wide already.
            let Column { scalar, form, cast, notice, values, shape, .. } = before.clone();
            (self.scalar, self.form, self.cast, self.values, self.shape) = (scalar, form, cast, values, shape);
            self.notice = notice.or_else(|| self.notice.take());
            return;
        }
        match joined {
            Some(scalar) => self.scalar = scalar,
            None => {
                let text =
                    format!("values are of several types: {} before, {} now", before.scalar.name(), self.scalar.name());
                (self.scalar, self.shape, self.notice) = (Scalar::Json, None, Some(text));
            }
        }
    }
}

/// The narrowest scalar that holds the values of both; none but JSON does where there is none.
fn joined(one: Scalar, other: Scalar) -> Option<Scalar> {
    let rank = |scalar: Scalar| match scalar {
        Scalar::Int => Some(0),
        Scalar::BigInt => Some(1),
        Scalar::Float => Some(2),
        Scalar::Decimal => Some(3),
        _ => None,
    };
    let is_text = |scalar: Scalar| {
        matches!(
            scalar,
            Scalar::String | Scalar::Date | Scalar::Time | Scalar::DateTime | Scalar::LocalDateTime | Scalar::Uuid
        )
    };
    match (rank(one), rank(other)) {
        _ if one == other => Some(one),
        (Some(a), Some(b)) => Some(if a > b { one } else { other }),
        _ if is_text(one) && is_text(other) => Some(Scalar::String),
        _ => None,
    }
}

impl ColumnShape {
    fn widen(&mut self, before: &ColumnShape) {
        self.unreadable = self.unreadable.max(before.unreadable);
        self.largest = self.largest.max(before.largest);
        self.shape = Shape::joined(&before.shape, &self.shape);
    }
}

/// What samples say of a place of which they saw no value.
const NOTHING_SEEN: [&str; 3] =
    ["nothing but null was found", "its lists have no items", "its objects have no members"];

impl Shape {
    /// Was no value seen there?
    fn is_nothing(&self) -> bool {
        self.notice.as_deref().is_some_and(|notice| NOTHING_SEEN.contains(&notice))
    }

    /// What values of both are.
    fn joined(before: &Shape, now: &Shape) -> Shape {
        let nullable = before.nullable || now.nullable;
        let share = now.share;
        let of = |shape: &Shape| Shape { nullable, share, ..shape.clone() };
        match (before.kind, now.kind) {
            _ if now.is_nothing() => of(before),
            _ if before.is_nothing() => of(now),
            (ShapeType::Object, ShapeType::Object) => {
                Shape { members: members(&before.members, &now.members), ..of(now) }
            }
            (ShapeType::List, ShapeType::List) => {
                let items = match (&before.items, &now.items) {
                    (Some(before), Some(now)) => Some(Box::new(Shape::joined(before, now))),
                    (before, now) => now.clone().or_else(|| before.clone()),
                };
                Shape { items, ..of(now) }
            }
            // Of several types before, or not to be looked into.
            (ShapeType::Scalar(Scalar::Json), _) => of(before),
            (_, ShapeType::Scalar(Scalar::Json)) => of(now),
            (ShapeType::Scalar(one), ShapeType::Scalar(other)) if joined(one, other).is_some() => {
                let kind = ShapeType::Scalar(joined(one, other).unwrap_or(Scalar::Json));
                Shape { kind, ..of(now) }
            }
            (one, other) => {
                // How many are of which is not known of two samples together: each is there.
                let types = [(one.name().to_owned(), 50), (other.name().to_owned(), 50)];
                Shape { nullable, share, types: types.into_iter().collect(), ..Shape::json() }
            }
        }
    }
}

/// The members of objects of both, in the order in which they were first seen.
fn members(before: &IndexMap<String, Shape>, now: &IndexMap<String, Shape>) -> IndexMap<String, Shape> {
    const NOT_ALL: u8 = 99;
    let mut all = IndexMap::new();
    for (name, known) in before {
        let member = match now.get(name) {
            Some(found) => {
                Shape { share: found.share.min(known.share.max(found.share)), ..Shape::joined(known, found) }
            }
            None => Shape { share: known.share.min(NOT_ALL), ..known.clone() },
        };
        // Some object did not have it once: it is not in all.
        let share = if known.share < 100 { member.share.min(NOT_ALL) } else { member.share };
        all.insert(name.clone(), Shape { share, ..member });
    }
    for (name, found) in now {
        if !before.contains_key(name) {
            all.insert(name.clone(), Shape { share: found.share.min(NOT_ALL), ..found.clone() });
        }
    }
    all
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::catalog::ShapeSample;

    fn shape(values: &[&str]) -> Shape {
        let mut sample = ShapeSample::default();
        values.iter().for_each(|value| sample.see(value.as_bytes()));
        sample.shape().unwrap().shape
    }

    fn places(shape: &Shape) -> Vec<String> {
        shape
            .places()
            .iter()
            .map(|(way, shape)| format!("{} {} {}", way.join("/"), shape.describe(), shape.share))
            .collect()
    }

    #[test]
    fn what_was_seen_is_not_forgotten_and_types_become_wider() {
        let before = shape(&[r#"{"a": 1, "b": "x", "d": "2026-01-01", "l": [1], "o": {"p": 1}, "n": null}"#]);
        let now = shape(&[r#"{"a": 3000000000, "c": true, "d": "soon", "l": [], "o": {"q": 2}, "n": 5}"#]);
        let joined = Shape::joined(&before, &now);
        assert_eq!(
            places(&joined),
            [
                " object 100",
                "a BigInt 100",
                "b String 99",
                "d String 100",
                "l list of Int 100",
                "l/[] Int 100",
                "o object 100",
                "o/p Int 99",
                "o/q Int 99",
                "n Int 100",
                "c Boolean 99",
            ]
        );
        assert_eq!(Shape::joined(&joined, &now), joined, "again is no more");
        assert_eq!(places(&Shape::joined(&joined, &before)), places(&joined));
        let conflict = Shape::joined(&shape(&[r#"{"a": 1}"#]), &shape(&[r#"{"a": "x"}"#]));
        assert_eq!(conflict.members["a"].kind, ShapeType::Scalar(Scalar::Json));
        assert_eq!(Shape::joined(&conflict, &shape(&[r#"{"a": 1}"#])), conflict);
    }

    #[rstest::rstest]
    #[case(1_000, 1_300, true)]
    #[case(1_000, 2_000, false)]
    #[case(900, 1_100, false)]
    #[case(0, 0, true)]
    #[case(0, 1, false)]
    fn an_estimate_is_kept_while_it_is_about_right(#[case] before: u64, #[case] now: u64, #[case] kept: bool) {
        assert_eq!(is_about(before, now), kept);
    }
}
