//! What differs between the SQL of one engine and another: one question a method, and what most engines answer.

use super::{Fragment, Slot};
use puente_core::access::TextTest;
use puente_core::model::{Column, FieldType, Type};
use puente_core::plan::{Capabilities, Function, GroupUnit};
use puente_core::value::{Scalar, StorageFormat};

/// How the selects of one request are run.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Strategy {
    /// A statement per select, executed once per parent's row: for engines in process, where that costs no round trip.
    NestedLoop,
    /// A statement per select, executed once for all parents' rows, which are ranked in one pass.
    Batched,
    /// One statement for the whole request, children nested as arrays of records.
    SingleStatement,
}

/// The questions that a dialect answers; a default is what most engines do.
pub trait Dialect: std::fmt::Debug + Send + Sync {
    /// How requests are run. `indexed`: does an index find the children of a parent, on every link of the request?
    fn strategy(&self, indexed: bool) -> Strategy;

    /// An identifier in quotes. The one place where identifiers enter SQL.
    fn quote(&self, identifier: &str) -> String {
        format!("\"{}\"", identifier.replace('"', "\"\""))
    }

    /// The placeholder of this number, from 1.
    fn placeholder(&self, number: usize) -> String {
        let _ = number;
        "?".to_owned()
    }

    /// Are nulls smaller than everything else in this engine's indexes?
    fn nulls_are_smallest(&self) -> bool;

    /// What planning has to know of an engine that speaks so.
    fn capabilities(&self) -> Capabilities {
        Capabilities { nulls_are_smallest: self.nulls_are_smallest() }
    }

    /// A term of ORDER BY. `nulls_first` is said where it is not what the engine does anyway.
    fn order_term(&self, value: &str, descending: bool, nulls_first: Option<bool>) -> String {
        let direction = if descending { " desc" } else { "" };
        let nulls = match nulls_first {
            None => "",
            Some(true) => " nulls first",
            Some(false) => " nulls last",
        };
        format!("{value}{direction}{nulls}")
    }

    /// The implicit row number of a table without a key, if the engine has one.
    fn row_number(&self) -> Option<&'static str> {
        None
    }

    /// The expression of a column's value as it is delivered.
    fn delivered(&self, column: &Column, expression: String) -> String {
        let _ = column;
        expression
    }

    /// A column's value where a condition is true, and null elsewhere: of the same type, and compared in the same way.
    fn masked(&self, column: &Column, value: &str, mask: Fragment) -> Fragment {
        let _ = column;
        Fragment::format("case when {} then {} end", [mask, Fragment::text(value)])
    }

    /// The expression of a column's value as it is compared and ordered.
    fn compared(&self, column: &Column, expression: String) -> String {
        let _ = column;
        expression
    }

    /// The expression of a column's value as rows are ordered by it: in the same order as it compares.
    fn ordered(&self, column: &Column, expression: String) -> String {
        self.compared(column, expression)
    }

    /// A bound value that meets a column.
    fn value(&self, slot: Slot, column: &Column) -> Fragment;

    /// A bound value of a position in an order, which came from the column itself.
    fn position_value(&self, slot: Slot, column: &Column) -> Fragment {
        self.value(slot, column)
    }

    /// Membership in a bound list of values that meet a column.
    fn is_in(&self, value: Fragment, list: Slot, column: &Column, ignore_case: bool) -> Fragment;

    /// Do the items of a list column include some, or all, of a bound list?
    fn includes(&self, value: Fragment, list: Slot, column: &Column, all: bool) -> Fragment {
        let _ = (list, column, all);
        Fragment::format("{} is null and false", [value])
    }

    /// Has a list column no items?
    fn is_empty_list(&self, value: Fragment) -> Fragment {
        Fragment::format("{} is null and false", [value])
    }

    /// A text without the difference between upper and lower case.
    fn folded(&self, text: Fragment) -> Fragment {
        Fragment::format("lower({})", [text])
    }

    /// How many characters a text has.
    fn size(&self, text: Fragment) -> Fragment {
        Fragment::format("char_length({})", [text])
    }

    /// A column's value as the text that is served.
    fn as_text(&self, _column: &Column, value: Fragment) -> Fragment {
        value
    }

    /// A bound part of such a text.
    fn part(&self, slot: Slot, column: &Column) -> Fragment {
        self.value(slot, column)
    }

    /// Is a column's value null, or is it not, as it is served: JSON that says `null` is.
    fn is_null(&self, column: &Column, value: Fragment, expected: bool) -> Fragment {
        if column.kind == FieldType::Scalar(Scalar::Json) {
            let says_null = self.says_null(column, value.clone());
            let template = if expected { "({} is null or {})" } else { "({} is not null and not {})" };
            return Fragment::format(template, [value, says_null]);
        }
        Fragment::format(if expected { "{} is null" } else { "{} is not null" }, [value])
    }

    /// Is a JSON value that is there `null`?
    fn says_null(&self, column: &Column, value: Fragment) -> Fragment;

    /// A text test, by code points.
    fn text_test(&self, test: TextTest, text: Fragment, part: Fragment) -> Fragment;

    /// A number of rows: bound, also where it is the same for every request.
    fn limit(&self, size: Slot, constant: Option<i64>) -> Fragment {
        let _ = constant;
        Fragment::bound(size)
    }

    /// Are the limited children of a few parents better read by a union of one select per parent than in one pass over
    /// all of them?
    fn prefers_union(&self) -> bool {
        false
    }

    /// Are the limited children of parents better found by a limited subquery of their keys, for each parent, than in one pass over
    /// all of them?
    fn limits_keys(&self) -> bool {
        false
    }

    /// A FROM item `k` with a row per parent: its ordinal `o`, from 1, and its linking values `k0`, `k1`, ….
    fn keys(&self, columns: &[&Column]) -> Fragment;

    /// A child's linking column equals a parent's linking value of this number.
    fn equals_key(&self, child: &str, column: &Column, number: usize) -> String {
        let _ = column;
        format!("{child} = k.k{number}")
    }

    /// Are children without an index read in one pass that looks each one's parent up, rather than once for every parent?
    fn passes_children(&self) -> bool {
        false
    }

    /// The same as [`Dialect::equals_key`], for a pass over children.
    fn looks_up_key(&self, child: &str, number: usize) -> String {
        format!("{child} = k.k{number}")
    }

    /// What locks the selected rows of an alias until the transaction ends.
    fn lock(&self, alias: &str) -> String {
        let _ = alias;
        String::new()
    }

    /// A bound value that is written to a column: the engine knows the column's type.
    fn stored(&self, slot: Slot, column: &Column) -> Fragment {
        let _ = column;
        Fragment::bound(slot)
    }

    /// How many rows of so many columns one statement inserts at most.
    fn rows_per_insert(&self, columns: usize) -> usize;

    /// VALUES of a row that leaves every column to the database.
    fn nothing_given(&self) -> &'static str {
        "default values"
    }

    /// Rows to insert as columns `k0`, `k1`, … of a FROM item, in their order; none where they have to be listed.
    fn rows_as_arrays(&self, columns: &[&Column]) -> Option<Fragment> {
        let _ = columns;
        None
    }

    /// Can rows of such columns be a FROM item, typed like the columns themselves?
    fn types_rows(&self, columns: &[&Column]) -> bool {
        let _ = columns;
        true
    }

    /// An update of each row `t` from a row `v`: FROM, SET and WHERE in the engine's order.
    fn update_from(&self, table: Fragment, values: Fragment, set: Fragment, keys: Fragment) -> Fragment {
        Fragment::format("update {} as t set {} from ({}) as v where {}", [table, set, values, keys])
    }

    /// The name of a column after SET, where the table has the alias `t`.
    fn set_name(&self, quoted: &str) -> String {
        quoted.to_owned()
    }

    /// A summary of a column's values, in the result's scalar of [`puente_core::plan::summary_functions`].
    fn summary(&self, function: Function, column: &Column, expression: String) -> String;

    /// A summary as groups are ordered by it.
    fn ordered_summary(&self, function: Function, column: &Column, expression: String) -> String {
        self.summary(function, column, expression)
    }

    /// The part of a date or a date and time that makes a group, in the column's own scalar.
    fn truncated(&self, unit: GroupUnit, column: &Column, expression: String) -> String;
}

/// The scalar that a column's values are compared as.
pub(super) fn scalar_of(column: &Column) -> Scalar {
    match column.kind {
        // UUIDs kept as bytes travel like bytes.
        FieldType::Scalar(Scalar::Uuid) if column.form == StorageFormat::Binary => Scalar::Bytes,
        FieldType::Scalar(scalar) | FieldType::List(scalar) => scalar,
        FieldType::Enum(_) => Scalar::String,
    }
}

/// A type's table, by its full name.
pub(super) fn relation(dialect: &dyn Dialect, t: &Type) -> String {
    let schema = t.schema.as_ref().map_or_else(String::new, |schema| format!("{}.", dialect.quote(schema)));
    format!("{schema}{}", dialect.quote(&t.relation))
}

/// The rows of a type's table, and not those of tables that inherit from it: its keys say nothing about them.
pub(super) fn rows_of(dialect: &dyn Dialect, t: &Type) -> String {
    let only = if t.inherited { "only " } else { "" };
    format!("{only}{}", relation(dialect, t))
}
