//! What differs between the SQL of one engine and another: one question a method, and what most engines answer.

use super::{Fragment, Slot};
use puente_core::access::{Arithmetic, MOST_DIGITS, TextTest};
use puente_core::model::{Column, Element, FieldType, Type};
use puente_core::plan::{Capabilities, Function, GroupUnit};
use puente_core::value::{JsonType, Scalar, StorageFormat};

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
        Capabilities {
            nulls_are_smallest: self.nulls_are_smallest(),
            most_json_parts: self.most_json_parts(),
            most_json_levels: self.most_json_levels(),
            joins: true,
        }
    }

    /// How many parts of one small JSON value are taken out of it by the engine before that costs more than to deliver it as a
    /// whole; measured.
    fn most_json_parts(&self) -> usize;

    /// How many levels of objects and lists functions go into JSON.
    fn most_json_levels(&self) -> usize {
        puente_core::value::MOST_LEVELS
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

    /// The same of a part of JSON, of which the expression is that of [`Dialect::compared`].
    fn ordered_part(&self, column: &Column, compared: String) -> String {
        let _ = column;
        compared
    }

    /// A bound value that meets a column.
    fn value(&self, slot: Slot, column: &Column) -> Fragment;

    /// A bound value of a position in an order, which came from the column itself.
    fn position_value(&self, slot: Slot, column: &Column) -> Fragment {
        self.value(slot, column)
    }

    /// A value of a column with numbers as rules calculate with it: a decimal, null with more digits than
    /// [`MOST_DIGITS`](puente_core::access::MOST_DIGITS) before the point.
    fn number(&self, value: Fragment, scalar: Scalar) -> Fragment;

    /// A column's time as rules calculate with it: microseconds since 1970; null for what is no time, or none that is counted.
    fn microseconds(&self, value: Fragment, scalar: Scalar) -> Fragment;

    /// The same of a decimal that is bound.
    fn bound_number(&self, slot: Slot) -> Fragment;

    /// What comes of two of them; null where it is divided by zero.
    fn calculated(&self, left: Fragment, arithmetic: Arithmetic, right: Fragment) -> Fragment {
        match arithmetic {
            Arithmetic::Add | Arithmetic::Subtract | Arithmetic::Multiply => {
                Fragment::format("({} {} {})", [left, Fragment::text(arithmetic.sign()), right])
            }
            // Without what is left over it is exact, whatever the engine rounds.
            Arithmetic::Divide => Fragment::format(
                "(({} - mod({}, nullif({}, 0))) / nullif({}, 0))",
                [left.clone(), left, right.clone(), right],
            ),
            Arithmetic::Remainder => Fragment::format("mod({}, nullif({}, 0))", [left, right]),
        }
    }

    /// A condition that compares two of them.
    fn compared_numbers(&self, sides: [Fragment; 2], operator: &'static str) -> Fragment {
        Fragment::join(sides, operator)
    }

    /// Membership in a bound list of values that meet a column.
    fn is_in(&self, value: Fragment, list: Slot, column: &Column, ignore_case: bool) -> Fragment;

    /// A column's text by its bytes in UTF-8, as it is served; none where the column's own comparison is one of bytes already.
    fn exact(&self, column: &Column, text: Fragment) -> Option<Fragment>;

    /// A bound text that meets such bytes.
    fn exact_value(&self, slot: Slot) -> Fragment {
        Fragment::bound(slot)
    }

    /// Membership of such bytes in a bound list of texts.
    fn is_in_exactly(&self, exact: Fragment, list: Slot) -> Fragment;

    /// The JSON that a column holds, for [`Dialect::json_member`]: nothing but JSON, whatever the column holds.
    fn json_root(&self, column: &Column, expression: String) -> String {
        let _ = column;
        expression
    }

    /// The whole JSON of a column, as text; what is no JSON as it is.
    fn json_whole(&self, column: &Column, expression: String) -> String;

    /// The part of a JSON value that these members lead to; null where they lead nowhere.
    fn json_member(&self, json: &str, path: &[String]) -> String;

    /// [`Dialect::delivered`] of such a part.
    fn delivered_member(&self, column: &Column, json: &str, path: &[String]) -> String {
        self.delivered(column, self.json_member(json, path))
    }

    /// [`Dialect::compared`] of such a part.
    fn compared_member(&self, column: &Column, json: &str, path: &[String]) -> String {
        self.compared(column, self.json_member(json, path))
    }

    /// A FROM item with a row per item of a JSON list, which is null or a list.
    fn json_items(&self, list: Fragment, alias: &str) -> Fragment;

    /// The item of such a row, as [`Dialect::json_member`] takes it.
    fn json_item(&self, alias: &str) -> String;

    /// Those items of a JSON list that satisfy a condition on the rows of [`Dialect::json_items`], as a JSON list; `json` where that
    /// is no list. With JSON to come beside them, each item is a list of itself and that.
    fn json_items_where(
        &self,
        json: &str,
        list: Fragment,
        alias: &str,
        condition: Fragment,
        beside: Vec<Fragment>,
    ) -> Fragment;

    /// JSON that was made of other JSON, as it is delivered.
    fn json_delivered(&self, json: Fragment) -> Fragment {
        json
    }

    /// Is a part of JSON null, or missing, or of its column's type?
    fn json_fits(&self, column: &Column, json: &str) -> String;

    /// A bound text as the JSON that it is.
    fn json_given(&self, slot: Slot) -> Fragment;

    /// JSON in the form in which a column holds it.
    fn json_stored(&self, column: &Column, json: Fragment) -> Fragment {
        let _ = column;
        json
    }

    /// The object that a part of JSON is; an empty one where it is none.
    fn json_object(&self, json: &str) -> String;

    /// An object with a member: another value of the one that it has, or, where it has none and one is `made`, a new one.
    fn json_with(&self, object: Fragment, name: &str, value: Fragment, made: bool) -> Fragment;

    /// An object without a member.
    fn json_without(&self, object: Fragment, name: &str) -> Fragment;

    /// The sum of a number in JSON and a bound one; null where it is no number.
    fn json_sum(&self, json: &str, slot: Slot, scalar: Scalar) -> Fragment;

    /// A list with the items of a bound one behind its own; where it is no list, that one.
    fn json_pushed(&self, json: &str, slot: Slot) -> Fragment;

    /// Does the item of a row of [`Dialect::json_items`] equal one of a bound list?
    fn json_is_item(&self, alias: &str, slot: Slot) -> Fragment;

    /// A list of those of its items that satisfy a condition on the rows of [`Dialect::json_items`]; what is no list as it is.
    fn json_kept(&self, json: &str, alias: &str, condition: Fragment) -> Fragment;

    /// The statement that makes an index by which rows are found by a member of JSON; none where the engine has no such index.
    fn json_index(&self, t: &Type, column: &Column, path: &[String], scalar: Scalar) -> Option<String> {
        let _ = (t, column, path, scalar);
        None
    }

    /// The part of a date or a date and time that makes a group, of one that is a text in JSON.
    fn truncated_text(&self, unit: GroupUnit, column: &Column, expression: String) -> String {
        match truncation(unit, column) {
            Some((length, rest)) => format!("substr({expression}, 1, {length}) || '{rest}'"),
            None => expression,
        }
    }

    /// Do the items of a list column include some, or all, of a bound list?
    fn includes(&self, value: Fragment, list: Slot, column: &Column, all: bool) -> Fragment {
        let _ = (list, column, all);
        Fragment::format("{} is null and false", [value])
    }

    /// How many items a list column has.
    fn list_size(&self, value: Fragment, column: &Column) -> Fragment;

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
        if column.kind == FieldType::Scalar(Scalar::Json) && column.form != StorageFormat::JsonValue {
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

    /// Does the engine choose the side from which a condition over a link is found without knowing how many rows are on either?
    fn chooses_sides_blindly(&self) -> bool {
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

/// A number where its value has no more digits than rules calculate with, and null elsewhere.
pub(super) fn within_digits(value: Fragment, number: Fragment) -> Fragment {
    let most = Fragment::text(format!("1e{MOST_DIGITS}"));
    Fragment::format("case when abs({}) < {} then {} end", [value, most, number])
}

/// The largest finite double.
pub(super) const MOST_NUMBER: &str = "1.7976931348623157e308";

/// A text as SQL says it, in quotes.
pub(super) fn literal(text: &str) -> String {
    format!("'{}'", text.replace('\'', "''"))
}

/// A member as SQL/JSON says it, such as `$."weather"`, in quotes.
pub(super) fn json_step(name: &str) -> Fragment {
    Fragment::text(json_path(&[name.to_owned()]))
}

/// A way through members as SQL/JSON says it, such as `$."weather"."snow"`, in quotes.
pub(super) fn json_path(path: &[String]) -> String {
    let steps: String = path.iter().map(|name| format!(".\"{name}\"")).collect();
    literal(&format!("${steps}"))
}

/// How many characters of a date, or a date and time, make a group, and what stands behind them; none where all make it.
pub(super) fn truncation(unit: GroupUnit, column: &Column) -> Option<(usize, String)> {
    let (length, rest) = match unit {
        GroupUnit::Value => return None,
        GroupUnit::Day => (10, ""),
        GroupUnit::Month => (7, "-01"),
        GroupUnit::Year => (4, "-01-01"),
    };
    let separator = if matches!(column.form, StorageFormat::WithT | StorageFormat::JsonValue) { "T" } else { " " };
    let time = match column.kind {
        FieldType::Scalar(Scalar::LocalDateTime) => format!("{separator}00:00:00"),
        FieldType::Scalar(Scalar::DateTime) => format!("{separator}00:00:00Z"),
        _ => String::new(),
    };
    Some((length, format!("{rest}{time}")))
}

/// The scalar that a column's values are compared as.
pub(super) fn scalar_of(column: &Column) -> Scalar {
    match column.kind {
        // In JSON dates and times are texts, and are ordered as such.
        FieldType::Scalar(scalar) | FieldType::List(Element::Scalar(scalar))
            if column.form == StorageFormat::JsonValue && scalar.json_type() == JsonType::Text =>
        {
            Scalar::String
        }
        // UUIDs kept as bytes travel like bytes.
        FieldType::Scalar(Scalar::Uuid) if column.form == StorageFormat::Binary => Scalar::Bytes,
        FieldType::Scalar(scalar) => scalar,
        FieldType::List(element) => element.scalar(),
        FieldType::Enum(_) => Scalar::String,
        FieldType::Object(_) | FieldType::Items(_) => Scalar::Json,
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
