//! What a rule says of a row: over the whole model and unrestricted rows, in three-valued logic.

use std::cmp::Ordering;

use bigdecimal::num_bigint::BigInt;
use bigdecimal::{BigDecimal, RoundingMode};
use puente_core::access::{Arithmetic, Condition, Number, Operand, Path, Quantifier, Test, TextComparison, TextTest};
use puente_core::catalog::Engine;
use puente_core::model::{FieldType, TypeId};
use puente_core::value::{Datum, Scalar, decimal_digits};

use super::interpret::leaf;
use super::json::over_items;
use super::world::World;

/// What a condition says of a row: true, false or unknown.
pub(super) fn judge(world: &World, of: TypeId, row: &[Datum], condition: &Condition) -> Option<bool> {
    match condition {
        Condition::Constant(value) => Some(*value),
        Condition::And(parts) => all(parts.iter().map(|part| judge(world, of, row, part))),
        Condition::Or(parts) => all(parts.iter().map(|part| judge(world, of, row, part).map(|v| !v))).map(|v| !v),
        Condition::Not(inner) => judge(world, of, row, inner).map(|value| !value),
        Condition::NotTrue(inner) => Some(judge(world, of, row, inner) != Some(true)),
        // What the claims leave open is unknown.
        Condition::ClaimPredicate(_) => None,
        Condition::Test { path, test } => {
            let (target, cell) = value(world, of, row, path);
            let collation = world.collation(target, path.column);
            match test {
                Test::Compare { comparison, operand: Operand::Value(other), by } => {
                    let collation = if *by == TextComparison::Exact { &Collation::Plain } else { collation };
                    let (_, other) = value(world, of, row, other);
                    let known = cell != Datum::Null && other != Datum::Null;
                    known.then(|| comparison.holds(compare(&cell, &other, collation)))
                }
                test => test_cell(&cell, test, collation),
            }
        }
        Condition::Numbers { left, comparison, right } => {
            let sides = calculated(world, of, row, left).zip(calculated(world, of, row, right));
            sides.map(|(left, right)| comparison.holds(left.cmp(&right)))
        }
        Condition::Quantified { hop, quantifier, inner, .. } => {
            let target = world.model.types[of].links[hop.link].target;
            let judged = linked(world, of, hop.link, row)
                .into_iter()
                .map(|(found, _)| judge(world, target, &world.rows[target][found], inner));
            quantify(*quantifier, judged)
        }
        Condition::OverItems { path, quantifier, inner } => {
            let (target, list) = value(world, of, row, path);
            let kind = world.model.types[target].columns[path.column].kind;
            over_items(&world.model, kind, &list, *quantifier, |items, item| judge(world, items, item, inner))
        }
    }
}

/// A number that a rule calculates, as far as the engine counts; none where it is unknown.
fn calculated(world: &World, of: TypeId, row: &[Datum], number: &Number) -> Option<BigDecimal> {
    let exact = exact(world, of, row, number)?;
    Some(match world.engine(of) {
        Engine::Sqlite | Engine::Postgres => exact,
        Engine::Mariadb => match number {
            Number::Calculated { .. } => exact.with_scale(38),
            Number::Value(_) | Number::Time(_) | Number::Parameter(_) | Number::Constant(_) => {
                exact.with_scale_round(30, RoundingMode::HalfUp)
            }
        },
        Engine::Mongodb => exact.with_prec(34),
    })
}

fn exact(world: &World, of: TypeId, row: &[Datum], number: &Number) -> Option<BigDecimal> {
    match number {
        Number::Value(path) => decimal(&value(world, of, row, path).1),
        Number::Time(path) => microseconds(&value(world, of, row, path).1),
        Number::Constant(cell) => decimal(cell),
        Number::Parameter(_) => unreachable!("the oracle states values"),
        Number::Calculated { arithmetic, left, right } => {
            let (left, right) = (calculated(world, of, row, left)?, calculated(world, of, row, right)?);
            let divides = matches!(arithmetic, Arithmetic::Divide | Arithmetic::Remainder);
            if divides && right == 0 {
                return None;
            }
            Some(match arithmetic {
                Arithmetic::Add => left + right,
                Arithmetic::Subtract => left - right,
                Arithmetic::Multiply => left * right,
                // Only whole numbers are divided.
                Arithmetic::Divide => BigDecimal::from(whole(&left) / whole(&right)),
                Arithmetic::Remainder => BigDecimal::from(whole(&left) % whole(&right)),
            })
        }
    }
}

/// A value that rules calculate with; none for what is no number, or has too many digits.
fn decimal(cell: &Datum) -> Option<BigDecimal> {
    let text = match cell {
        Datum::Integer(value) => value.to_string(),
        Datum::Real(value) => decimal_digits(*value),
        Datum::Text(text) => text.clone(),
        Datum::Null | Datum::Blob(_) | Datum::List(_) => return None,
    };
    let most = BigDecimal::from(10_i64.pow(10)).square();
    text.parse().ok().filter(|number: &BigDecimal| number.abs() < most)
}

/// A time of the worlds, in microseconds since 1970; none for what is no time, and for what is infinite.
fn microseconds(cell: &Datum) -> Option<BigDecimal> {
    let Datum::Text(text) = cell else { return None };
    let time: jiff::civil::DateTime = text.trim_end_matches('Z').parse().ok()?;
    let instant = jiff::tz::Offset::UTC.to_timestamp(time).ok()?;
    Some(BigDecimal::from(instant.as_microsecond()))
}

fn whole(number: &BigDecimal) -> BigInt {
    number.with_scale(0).into_bigint_and_exponent().0
}

/// The value at the end of a rule's path, and the type that it is of; null where a hop leads nowhere.
pub(super) fn value(world: &World, of: TypeId, row: &[Datum], path: &Path) -> (TypeId, Datum) {
    let (mut of, mut row) = (of, Some(row));
    for hop in &path.hops {
        let target = world.model.types[of].links[hop.link].target;
        row = row.and_then(|row| {
            linked(world, of, hop.link, row).into_iter().next().map(|(found, _)| &world.rows[target][found][..])
        });
        of = target;
    }
    (of, row.map_or(Datum::Null, |row| row[path.column].clone()))
}

/// All of three-valued values: false wins, then unknown.
pub(super) fn all(values: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let mut sum = Some(true);
    for value in values {
        match value {
            Some(true) => {}
            Some(false) => sum = Some(false),
            None if sum == Some(true) => sum = None,
            None => {}
        }
    }
    sum
}

/// A quantifier in three-valued logic: `exists` is a disjunction over the rows, `all` a conjunction.
pub(super) fn quantify(quantifier: Quantifier, judged: impl Iterator<Item = Option<bool>>) -> Option<bool> {
    let not = |value: Option<bool>| value.map(|value| !value);
    match quantifier {
        Quantifier::All => all(judged),
        Quantifier::ExistsFalse => not(all(judged)),
        Quantifier::Exists => not(all(judged.map(not))),
        Quantifier::None => all(judged.map(not)),
    }
}

/// The rows at the end of a link, whoever may see them, each with its row of the join table where there is one.
pub(super) fn linked(world: &World, of: TypeId, link: usize, row: &[Datum]) -> Vec<(usize, Option<usize>)> {
    let link = &world.model.types[of].links[link];
    let equal = |a: &Datum, b: &Datum| *a != Datum::Null && a == b;
    let targets = &world.rows[link.target];
    let linked = |(own, other): &(usize, usize), target: &Vec<Datum>| {
        let ends = (&row[*own], &target[*other]);
        match link.crosses {
            false => equal(ends.0, ends.1),
            true => {
                let columns = [(of, *own), (link.target, *other)];
                let [own, other] = columns.map(|(of, column)| world.model.types[of].columns[column].kind);
                is_same_key(world, (own, ends.0), (other, ends.1))
            }
        }
    };
    match &link.through {
        None => (0..targets.len())
            .filter(|target| link.pairs.iter().all(|pair| linked(pair, &targets[*target])))
            .map(|target| (target, None))
            .collect(),
        Some(through) => {
            let joins = &world.rows[through.join];
            let near = (0..joins.len())
                .filter(|join| through.near.iter().all(|(own, column)| equal(&row[*own], &joins[*join][*column])));
            near.flat_map(|join| {
                (0..targets.len())
                    .filter(move |target| {
                        through
                            .far
                            .iter()
                            .all(|(column, other)| equal(&joins[join][*column], &targets[*target][*other]))
                    })
                    .map(move |target| (target, Some(join)))
            })
            .collect()
        }
    }
}

/// Are two values of different sources the same, as the API writes them? What does not fit its type is nothing's key.
fn is_same_key(world: &World, (own, a): (FieldType, &Datum), (other, b): (FieldType, &Datum)) -> bool {
    let is_number = |kind: FieldType| matches!(kind, FieldType::Scalar(Scalar::Int | Scalar::BigInt | Scalar::Decimal));
    let written = |kind: FieldType, value: &Datum| match (kind, value) {
        (_, Datum::Null) => None,
        // An enum's names are the API's own; what is stored is a text.
        (FieldType::Enum(_), Datum::Text(text)) => Some(text.clone()),
        _ => {
            let json: serde_json::Value = serde_json::from_str(&leaf(&world.model, kind, value)?).expect("JSON");
            Some(json.as_str().map_or_else(|| json.to_string(), str::to_owned))
        }
    };
    match (written(own, a), written(other, b)) {
        (Some(_), Some(_)) if is_number(own) && is_number(other) => hundredths(a) == hundredths(b),
        (Some(a), Some(b)) => a == b,
        _ => false,
    }
}

/// How the values of a column are compared.
#[derive(Debug, Clone, PartialEq)]
pub(super) enum Collation {
    /// By code points.
    Plain,
    /// Regardless of the case of ASCII letters.
    NoCase,
    /// Regardless of case and accents, and of blanks at the end where it `pads`.
    Folded {
        /// Does it take blanks at the end for nothing?
        pads: bool,
    },
    /// As numbers, also where they come as text.
    Number,
    /// Bytes: shorter ones first.
    Length,
    /// By the place among these texts.
    Rank(Vec<String>),
}

impl Collation {
    /// Are there different texts that are the same to it?
    pub(super) fn folds(&self) -> bool {
        match self {
            Collation::NoCase | Collation::Folded { .. } => true,
            Collation::Plain | Collation::Number | Collation::Length | Collation::Rank(_) => false,
        }
    }
}

/// A text without what a collation takes for nothing: of the letters that the worlds have.
fn folded(text: &str, pads: bool) -> String {
    let text = if pads { text.trim_end_matches(' ') } else { text };
    text.to_lowercase().replace('á', "a")
}

/// Numbers, texts, bytes: SQLite's order of what is of different classes. Null is not compared.
pub(super) fn compare(a: &Datum, b: &Datum, collation: &Collation) -> Ordering {
    let class = |cell: &Datum| match cell {
        Datum::Null | Datum::List(_) => 0,
        Datum::Integer(_) | Datum::Real(_) => 1,
        Datum::Text(_) => 2,
        Datum::Blob(_) => 3,
    };
    #[expect(
        clippy::cast_precision_loss,
        reason = "the random worlds have no integers beside reals that are this large"
    )]
    let as_real = |integer: i64| integer as f64;
    if *collation == Collation::Number
        && let (Some(a), Some(b)) = (hundredths(a), hundredths(b))
    {
        return a.cmp(&b);
    }
    match (a, b) {
        (Datum::Integer(a), Datum::Integer(b)) => a.cmp(b),
        (Datum::Real(a), Datum::Real(b)) => a.total_cmp(b),
        (Datum::Integer(a), Datum::Real(b)) => as_real(*a).total_cmp(b),
        (Datum::Real(a), Datum::Integer(b)) => a.total_cmp(&as_real(*b)),
        (Datum::Text(a), Datum::Text(b)) => match collation {
            Collation::NoCase => a.to_ascii_lowercase().cmp(&b.to_ascii_lowercase()),
            Collation::Folded { pads } => folded(a, *pads).cmp(&folded(b, *pads)),
            Collation::Rank(texts) => {
                let rank = |text: &String| texts.iter().position(|known| known == text);
                rank(a).cmp(&rank(b))
            }
            // Infinity is after every date.
            _ if a == "infinity" || b == "infinity" => (a == "infinity").cmp(&(b == "infinity")),
            _ => a.cmp(b),
        },
        (Datum::Blob(a), Datum::Blob(b)) if *collation == Collation::Length => (a.len(), a).cmp(&(b.len(), b)),
        (Datum::Blob(a), Datum::Blob(b)) => a.cmp(b),
        _ => class(a).cmp(&class(b)),
    }
}

/// A number in hundredths; none for what is not a number.
pub(super) fn hundredths(cell: &Datum) -> Option<i128> {
    let text = match cell {
        Datum::Integer(value) => return Some(i128::from(*value) * 100),
        Datum::Real(value) => value.to_string(),
        Datum::Text(text) => text.clone(),
        _ => return None,
    };
    let (sign, digits) = text.strip_prefix('-').map_or((1, text.as_str()), |digits| (-1, digits));
    let (whole, fraction) = digits.split_once('.').unwrap_or((digits, ""));
    if fraction.len() > 2 {
        return None;
    }
    let whole: i128 = whole.parse().ok()?;
    let fraction: i128 = format!("{fraction:0<2}").parse().ok()?;
    Some(sign * (whole * 100 + fraction))
}

/// What a test says of a cell.
pub(super) fn test_cell(cell: &Datum, test: &Test, collation: &Collation) -> Option<bool> {
    let constant = |operand: &Operand| match operand {
        Operand::Constant(cell) => cell.clone(),
        Operand::Parameter(_) | Operand::Value(_) => unreachable!("the oracle states values"),
    };
    let fold = |cell: &Datum, ignore_case: bool| match cell {
        Datum::Text(text) if ignore_case => Datum::Text(text.to_ascii_lowercase()),
        other => other.clone(),
    };
    let compared = |by: TextComparison| match by {
        TextComparison::Collation => (false, collation),
        // On MariaDB small letters have the column's collation all the same.
        TextComparison::IgnoreCase if matches!(collation, Collation::Folded { pads: true }) => (true, collation),
        TextComparison::IgnoreCase => (true, &Collation::Plain),
        TextComparison::Exact => (false, &Collation::Plain),
    };
    match test {
        Test::IsNull(expected) => return Some((*cell == Datum::Null) == *expected),
        Test::In { operand, by } => {
            let Datum::List(items) = constant(operand) else { return None };
            if items.is_empty() {
                return Some(false);
            }
            if *cell == Datum::Null {
                return None;
            }
            let (folds, collation) = compared(*by);
            let cell = fold(cell, folds);
            return Some(items.iter().any(|item| compare(&cell, &fold(item, folds), collation).is_eq()));
        }
        _ if *cell == Datum::Null => return None,
        _ => {}
    }
    match test {
        Test::Compare { comparison, operand, by } => {
            let (folds, collation) = compared(*by);
            let order = compare(&fold(cell, folds), &fold(&constant(operand), folds), collation);
            Some(comparison.holds(order))
        }
        Test::Size { comparison, size } => {
            let count = match cell {
                Datum::Text(text) => text.chars().count(),
                Datum::List(items) => items.len(),
                _ => return None,
            };
            Some(comparison.holds(i64::try_from(count).expect("a short one").cmp(size)))
        }
        Test::Text { test, operand, ignore_case } => {
            let (Datum::Text(text), Datum::Text(part)) =
                (fold(cell, *ignore_case), fold(&constant(operand), *ignore_case))
            else {
                return None;
            };
            Some(match test {
                TextTest::Contains => text.contains(&part),
                TextTest::StartsWith => text.starts_with(&part),
                TextTest::EndsWith => text.ends_with(&part),
            })
        }
        Test::Includes { operand, all } => {
            let (Datum::List(items), Datum::List(wanted)) = (cell, constant(operand)) else { return None };
            let has = |value: &Datum| items.contains(value);
            Some(if *all { wanted.iter().all(has) } else { wanted.iter().any(has) })
        }
        Test::IsEmpty(expected) => {
            let Datum::List(items) = cell else { return None };
            Some(items.is_empty() == *expected)
        }
        // Neither filters nor rules ask it.
        Test::Fits => None,
        Test::IsNull(_) | Test::In { .. } => None,
    }
}
