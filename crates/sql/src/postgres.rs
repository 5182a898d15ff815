//! PostgreSQL's SQL.

use super::{Dialect, Fragment, Slot, Strategy};
use puente_core::access::TextTest;
use puente_core::model::{Column, FieldType};
use puente_core::plan::{Function, GroupUnit};
use puente_core::value::{Scalar, StorageFormat};

/// PostgreSQL, 12 or later.
#[derive(Debug, Clone, Copy)]
pub struct Postgres;

/// Parameters of one statement: the protocol counts them with 16 bits.
const MOST_PARAMETERS: usize = 65_535;

/// The type to which a value is cast where it meets a column.
fn cast_of(column: &Column) -> &str {
    column.cast.as_deref().unwrap_or("text")
}

/// Is it filled up with blanks: `char(n)`?
fn is_padded(column: &Column) -> bool {
    column.cast.as_deref() == Some("bpchar")
}

/// A bound value of a type.
fn cast(slot: Slot, ty: &str, list: &str) -> Fragment {
    Fragment::join([Fragment::bound(slot), Fragment::text(format!("::{ty}{list}"))], "")
}

impl Dialect for Postgres {
    fn strategy(&self, indexed: bool) -> Strategy {
        if indexed { Strategy::SingleStatement } else { Strategy::Batched }
    }

    fn placeholder(&self, number: usize) -> String {
        format!("${number}")
    }

    fn nulls_are_smallest(&self) -> bool {
        false
    }

    fn row_number(&self) -> Option<&'static str> {
        Some("ctid")
    }

    fn delivered(&self, column: &Column, expression: String) -> String {
        match column.form {
            StorageFormat::EngineText => format!("{expression}::text"),
            // Domains are read as what they are made of: only those types have a known form in binary.
            _ if column.domain => format!("{expression}::{}", cast_of(column)),
            _ => expression,
        }
    }

    fn compared(&self, column: &Column, expression: String) -> String {
        match column.form {
            StorageFormat::EngineText => format!("{expression}::text collate \"C\""),
            _ => expression,
        }
    }

    fn value(&self, slot: Slot, column: &Column) -> Fragment {
        cast(slot, cast_of(column), "")
    }

    fn is_in(&self, value: Fragment, list: Slot, column: &Column, ignore_case: bool) -> Fragment {
        let list = cast(list, cast_of(column), "[]");
        if ignore_case {
            let folded = self.folded(Fragment::text("v"));
            return Fragment::format("{} in (select {} from unnest({}) as l(v))", [value, folded, list]);
        }
        Fragment::format("{} = any({})", [value, list])
    }

    fn includes(&self, value: Fragment, list: Slot, column: &Column, all: bool) -> Fragment {
        let list = cast(list, cast_of(column), "[]");
        Fragment::format(if all { "{} @> {}" } else { "{} && {}" }, [value, list])
    }

    fn is_empty_list(&self, value: Fragment) -> Fragment {
        Fragment::format("cardinality({}) = 0", [value])
    }

    fn folded(&self, text: Fragment) -> Fragment {
        // One collation on both sides of a comparison: the database's own, whatever the column's is.
        Fragment::format("lower({}::text collate \"default\")", [text])
    }

    fn as_text(&self, column: &Column, value: Fragment) -> Fragment {
        // A cast to text would take the blanks away that are served.
        if is_padded(column) { Fragment::format("textin(bpcharout({}))", [value]) } else { value }
    }

    fn part(&self, slot: Slot, column: &Column) -> Fragment {
        if is_padded(column) { cast(slot, "text", "") } else { self.value(slot, column) }
    }

    fn says_null(&self, _: &Column, value: Fragment) -> Fragment {
        Fragment::format("(btrim({}::text, E' \\t\\n\\r') = 'null')", [value])
    }

    fn text_test(&self, test: TextTest, text: Fragment, part: Fragment) -> Fragment {
        // By code points: the collation of the column has no say in what a text contains.
        let by_code_points = |text| Fragment::format("{}::text collate \"C\"", [text]);
        let (text, part) = (by_code_points(text), by_code_points(part));
        match test {
            TextTest::Contains => Fragment::format("strpos({}, {}) > 0", [text, part]),
            TextTest::StartsWith => Fragment::format("starts_with({}, {})", [text, part]),
            TextTest::EndsWith => Fragment::format("right({}, length({})) = {}", [text, part.clone(), part]),
        }
    }

    fn limit(&self, size: Slot, constant: Option<i64>) -> Fragment {
        // A number that the planner knows is worth more than one plan for every number.
        constant.map_or_else(|| cast(size, "int8", ""), |size| Fragment::text(size.to_string()))
    }

    fn keys(&self, columns: &[&Column]) -> Fragment {
        let arrays = columns.iter().enumerate().map(|(at, column)| cast(Slot::KeyColumn(at), cast_of(column), "[]"));
        let names: Vec<String> = (0..columns.len()).map(|at| format!("k{at}")).collect();
        let names = Fragment::text(names.join(", "));
        Fragment::format("unnest({}) with ordinality as k({}, o)", [Fragment::join(arrays, ", "), names])
    }

    fn equals_key(&self, child: &str, column: &Column, number: usize) -> String {
        let key = format!("k.k{number}");
        format!("{} = {}", self.compared(column, child.to_owned()), self.compared(column, key))
    }

    fn lock(&self, alias: &str) -> String {
        format!(" for update of {alias}")
    }

    fn rows_per_insert(&self, columns: usize) -> usize {
        MOST_PARAMETERS / columns.max(1)
    }

    fn types_rows(&self, columns: &[&Column]) -> bool {
        // A list would be taken apart, and what is read as text has to be written to its own type.
        columns
            .iter()
            .all(|column| !matches!(column.kind, FieldType::List(_)) && column.form != StorageFormat::EngineText)
    }

    fn rows_as_arrays(&self, columns: &[&Column]) -> Option<Fragment> {
        if !self.types_rows(columns) {
            return None;
        }
        let arrays = columns.iter().enumerate().map(|(at, column)| cast(Slot::KeyColumn(at), cast_of(column), "[]"));
        Some(Fragment::format("unnest({})", [Fragment::join(arrays, ", ")]))
    }

    fn summary(&self, function: Function, column: &Column, expression: String) -> String {
        let scalar = if let FieldType::Scalar(scalar) = column.kind { scalar } else { Scalar::String };
        match function {
            Function::Sum => match scalar {
                Scalar::Int => format!("sum({expression})::int8"),
                Scalar::Float => format!("sum({expression}::float8)"),
                _ => format!("sum({expression}::numeric)"),
            },
            Function::Avg => format!("avg({expression}::float8)"),
            Function::Min | Function::Max => {
                let name = if function == Function::Min { "min" } else { "max" };
                let inner = self.compared(column, expression);
                self.delivered(column, format!("{name}({inner})"))
            }
        }
    }

    fn truncated(&self, unit: GroupUnit, column: &Column, expression: String) -> String {
        let unit = match unit {
            GroupUnit::Value => return self.delivered(column, self.compared(column, expression)),
            GroupUnit::Day => "day",
            GroupUnit::Month => "month",
            GroupUnit::Year => "year",
        };
        match column.kind {
            FieldType::Scalar(Scalar::DateTime) => {
                format!("date_trunc('{unit}', {expression} at time zone 'UTC') at time zone 'UTC'")
            }
            FieldType::Scalar(Scalar::LocalDateTime) => format!("date_trunc('{unit}', {expression})"),
            _ => format!("date_trunc('{unit}', {expression}::timestamp)::date"),
        }
    }
}
