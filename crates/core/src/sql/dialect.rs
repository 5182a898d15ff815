//! What differs between the SQL of one engine and another.

use super::{Fragment, Slot};
use crate::access::TextTest;
use crate::value::Scalar;

/// The questions that a dialect answers; a default is what most engines do.
pub trait Dialect: std::fmt::Debug + Send + Sync {
    /// An identifier in quotes. The one place where identifiers enter SQL.
    fn quote(&self, identifier: &str) -> String {
        format!("\"{}\"", identifier.replace('"', "\"\""))
    }

    /// Are nulls smaller than everything else in this engine's indexes?
    fn nulls_are_smallest(&self) -> bool;

    /// The expression of a column's value as it is delivered.
    fn delivered(&self, column: String, binary_json: bool) -> String {
        let _ = binary_json;
        column
    }

    /// The implicit row number of a table without a key, if the engine has one.
    fn row_number(&self) -> Option<&'static str> {
        None
    }
}

/// Pieces of a condition that engines write differently.
pub(super) trait Expressions {
    /// A bound value of a scalar type.
    fn value(&self, slot: Slot, scalar: Scalar) -> Fragment;
    /// Membership in a bound list.
    fn is_in(&self, value: Fragment, list: Slot, scalar: Scalar, ignore_case: bool) -> Fragment;
    /// A text without the difference between upper and lower case of ASCII letters.
    fn folded(&self, text: Fragment) -> Fragment;
    /// A text test.
    fn text_test(&self, test: TextTest, text: Fragment, part: Fragment) -> Fragment;
}

/// SQLite.
#[derive(Debug, Clone, Copy)]
pub struct Sqlite;

impl Dialect for Sqlite {
    fn nulls_are_smallest(&self) -> bool {
        true
    }

    fn delivered(&self, column: String, binary_json: bool) -> String {
        if binary_json {
            // 8: strictly valid JSONB, so that `json()` cannot fail the whole statement.
            format!(
                "case when typeof({column}) = 'blob' and json_valid({column}, 8) then json({column}) else {column} end"
            )
        } else {
            column
        }
    }

    fn row_number(&self) -> Option<&'static str> {
        Some("rowid")
    }
}

impl Expressions for dyn Dialect + '_ {
    fn value(&self, slot: Slot, scalar: Scalar) -> Fragment {
        let text = if scalar == Scalar::Decimal { "cast(? as numeric)" } else { "?" };
        Fragment { text: text.to_owned(), slots: vec![slot] }
    }

    fn is_in(&self, value: Fragment, list: Slot, scalar: Scalar, ignore_case: bool) -> Fragment {
        let item = match scalar {
            Scalar::Decimal => "cast(value as numeric)",
            // JSON has no bytes: they travel as hexadecimal digits.
            Scalar::Bytes => "unhex(value)",
            _ if ignore_case => "lower(value)",
            _ => "value",
        };
        let list = Fragment { text: format!("(select {item} from json_each(?))"), slots: vec![list] };
        Fragment::format("{} in {}", [value, list])
    }

    fn folded(&self, text: Fragment) -> Fragment {
        Fragment::format("lower({})", [text])
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
}
