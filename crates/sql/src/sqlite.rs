//! SQLite's SQL.

use super::dialect::scalar_of;
use super::{Dialect, Fragment, Slot, Strategy};
use puente_core::access::TextTest;
use puente_core::model::{Column, FieldType};
use puente_core::plan::{Function, GroupUnit};
use puente_core::value::{Scalar, StorageFormat};

/// SQLite, 3.45 or later.
#[derive(Debug, Clone, Copy)]
pub struct Sqlite;

/// The aggregate that sums up decimals and big integers exactly; the source adds it to every connection.
pub const DECIMAL_SUM: &str = "decimal_sum_of";

impl Dialect for Sqlite {
    fn strategy(&self, indexed: bool) -> Strategy {
        if indexed { Strategy::NestedLoop } else { Strategy::Batched }
    }

    fn nulls_are_smallest(&self) -> bool {
        true
    }

    fn row_number(&self) -> Option<&'static str> {
        Some("rowid")
    }

    fn delivered(&self, column: &Column, expression: String) -> String {
        if column.form == StorageFormat::EngineText {
            format!("cast({expression} as text)")
        } else if column.binary_json {
            // 8: strictly valid JSONB, so that `json()` cannot fail the whole statement.
            format!(
                "case when typeof({expression}) = 'blob' and json_valid({expression}, 8) then json({expression}) \
                 else {expression} end"
            )
        } else {
            expression
        }
    }

    fn compared(&self, column: &Column, expression: String) -> String {
        if column.form == StorageFormat::EngineText { format!("cast({expression} as text)") } else { expression }
    }

    fn masked(&self, column: &Column, value: &str, mask: Fragment) -> Fragment {
        // CASE has no affinity, a scalar subquery has that of its column; but neither has the column's collation.
        let collation =
            column.collation.as_ref().map_or_else(String::new, |name| format!(" collate {}", self.quote(name)));
        Fragment::format("(select {} where {}){}", [Fragment::text(value), mask, Fragment::text(collation)])
    }

    fn value(&self, slot: Slot, column: &Column) -> Fragment {
        let bound = Fragment::bound(slot);
        if scalar_of(column) == Scalar::Decimal { Fragment::format("cast({} as numeric)", [bound]) } else { bound }
    }

    fn position_value(&self, slot: Slot, _: &Column) -> Fragment {
        // As it was stored, also where that does not fit the column.
        Fragment::bound(slot)
    }

    fn is_in(&self, value: Fragment, list: Slot, column: &Column, ignore_case: bool) -> Fragment {
        let item = match scalar_of(column) {
            Scalar::Decimal => "cast(value as numeric)",
            // JSON has no bytes: they travel as hexadecimal digits.
            Scalar::Bytes => "unhex(value)",
            _ if ignore_case => "lower(value)",
            _ => "value",
        };
        let item = Fragment::text(item);
        Fragment::format("{} in (select {} from json_each({}))", [value, item, Fragment::bound(list)])
    }

    fn size(&self, text: Fragment) -> Fragment {
        Fragment::format("length({})", [text])
    }

    fn says_null(&self, column: &Column, value: Fragment) -> Fragment {
        let as_text = Fragment::format("trim({}, ' ' || char(9, 10, 13)) = 'null'", [value.clone()]);
        if column.binary_json {
            // There it is a byte of zero, unless it was stored as a text.
            return Fragment::format("({} = x'00' or {})", [value, as_text]);
        }
        Fragment::format("({})", [as_text])
    }

    fn text_test(&self, test: TextTest, text: Fragment, part: Fragment) -> Fragment {
        let template = match test {
            TextTest::Contains => return Fragment::format("instr({}, {}) > 0", [text, part]),
            TextTest::StartsWith => {
                return Fragment::format("substr({}, 1, length({})) = {}", [text, part.clone(), part]);
            }
            TextTest::EndsWith => "substr({}, length({}) - length({}) + 1) = {}",
        };
        Fragment::format(template, [text.clone(), text, part.clone(), part])
    }

    fn passes_children(&self) -> bool {
        true
    }

    fn looks_up_key(&self, child: &str, number: usize) -> String {
        // An index that SQLite makes by itself is over keys as they are: without `+` it would have to fit them to the column's
        // affinity, and makes none.
        format!("+{child} = k.k{number}")
    }

    fn limits_keys(&self) -> bool {
        // There are no lateral joins, and numbering rows reads every child of every parent: twice the time, measured.
        true
    }

    fn keys(&self, columns: &[&Column]) -> Fragment {
        let one = || "case type when 'object' then unhex(value ->> '$.bytes') else value end as k0".to_owned();
        let values: Vec<String> = (0..columns.len())
            .map(|at| {
                // A key of one value is no array.
                if columns.len() == 1 {
                    return one();
                }
                // Bytes travel as hexadecimal digits in an object of their own.
                format!(
                    "case json_type(value, '$[{at}]') when 'object' then unhex(value ->> '$[{at}].bytes') \
                     else value ->> '$[{at}]' end as k{at}"
                )
            })
            .collect();
        // With a limit it is taken apart once and kept, not once for every row of a child without an index.
        let values = Fragment::text(values.join(", "));
        let keys = Fragment::bound(Slot::Keys);
        Fragment::format("(select key + 1 as o, {} from json_each({}) limit -1) as k", [values, keys])
    }

    fn stored(&self, slot: Slot, column: &Column) -> Fragment {
        let bound = Fragment::bound(slot);
        if column.binary_json { Fragment::format("jsonb({})", [bound]) } else { bound }
    }

    fn rows_per_insert(&self, _: usize) -> usize {
        // In process a prepared statement per row is the quickest, and gives the rows their numbers in their order.
        1
    }

    fn summary(&self, function: Function, column: &Column, expression: String) -> String {
        // A text that is not a number counts as 0 in SQLite's own summaries; here it does not count.
        let number = format!("case when typeof({expression}) in ('integer', 'real') then {expression} end");
        match function {
            Function::Sum if matches!(column.kind, FieldType::Scalar(Scalar::Decimal | Scalar::BigInt)) => {
                format!("{DECIMAL_SUM}({expression})")
            }
            Function::Sum => format!("sum({number})"),
            Function::Avg => format!("avg({number})"),
            Function::Min => format!("min({})", self.compared(column, expression)),
            Function::Max => format!("max({})", self.compared(column, expression)),
        }
    }

    fn ordered_summary(&self, function: Function, column: &Column, expression: String) -> String {
        let summary = self.summary(function, column, expression);
        // An exact sum comes as text.
        if summary.starts_with(DECIMAL_SUM) { format!("cast({summary} as numeric)") } else { summary }
    }

    fn truncated(&self, unit: GroupUnit, column: &Column, expression: String) -> String {
        let (length, rest) = match unit {
            GroupUnit::Value => return self.compared(column, expression),
            GroupUnit::Day => (10, ""),
            GroupUnit::Month => (7, "-01"),
            GroupUnit::Year => (4, "-01-01"),
        };
        let separator = if column.form == StorageFormat::WithT { "T" } else { " " };
        let time = match column.kind {
            FieldType::Scalar(Scalar::LocalDateTime) => format!("{separator}00:00:00"),
            FieldType::Scalar(Scalar::DateTime) => format!("{separator}00:00:00Z"),
            _ => String::new(),
        };
        format!("substr({expression}, 1, {length}) || '{rest}{time}'")
    }
}
