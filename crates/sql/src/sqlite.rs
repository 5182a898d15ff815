//! SQLite's SQL.

use super::dialect::{MOST_NUMBER, json_path, json_step, literal, relation, scalar_of};
use super::{Dialect, Fragment, Slot, Strategy};
use puente_core::access::{Arithmetic, TextTest};
use puente_core::model::{Column, FieldType, Type};
use puente_core::plan::{Function, GroupUnit};
use puente_core::value::{JsonType, Scalar, StorageFormat};

/// SQLite, 3.45 or later.
#[derive(Debug, Clone, Copy)]
pub struct Sqlite;

/// The aggregate that sums up decimals and big integers exactly; the source adds it to every connection.
pub const DECIMAL_SUM: &str = "decimal_sum_of";
/// The function that calculates one decimal of two, by the sign of how: SQLite's own arithmetic is one of doubles.
pub const DECIMAL_CALCULATION: &str = "decimal_calculation_of";
/// The function that tells the microseconds since 1970 of a text that is a time.
pub const MICROSECONDS: &str = "microseconds_of";
/// The function that compares two decimals: less than, equal to or more than zero.
pub const DECIMAL_ORDER: &str = "decimal_order_of";

impl Dialect for Sqlite {
    fn strategy(&self, indexed: bool) -> Strategy {
        if indexed { Strategy::NestedLoop } else { Strategy::Batched }
    }

    fn nulls_are_smallest(&self) -> bool {
        true
    }

    fn chooses_sides_blindly(&self) -> bool {
        true
    }

    fn row_number(&self) -> Option<&'static str> {
        Some("rowid")
    }

    fn delivered(&self, column: &Column, expression: String) -> String {
        if column.form == StorageFormat::JsonValue {
            match column.kind {
                FieldType::Object(_) => format!("json_type({expression})"),
                _ if column.binary_json => format!("json({expression})"),
                _ => expression,
            }
        } else if column.form == StorageFormat::EngineText {
            format!("cast({expression} as text)")
        } else if column.binary_json {
            text_of_binary(&expression)
        } else {
            expression
        }
    }

    fn compared(&self, column: &Column, expression: String) -> String {
        match column.form {
            StorageFormat::EngineText => format!("cast({expression} as text)"),
            StorageFormat::JsonValue => {
                let (value, kind) = (format!("({expression} ->> '$')"), format!("json_type({expression})"));
                Part { json: expression, value, kind }.typed(column)
            }
            // Said where the column has another one, which is not here.
            _ if column.collation.as_deref() == Some("BINARY") => format!("{expression} collate binary"),
            _ => expression,
        }
    }

    fn most_json_parts(&self) -> usize {
        0
    }

    fn json_whole(&self, column: &Column, expression: String) -> String {
        if column.binary_json { text_of_binary(&expression) } else { expression }
    }

    fn json_root(&self, _: &Column, expression: String) -> String {
        // 9: well-formed text, or strictly valid JSONB. What is neither is a text.
        format!(
            "case when json_valid({expression}, 9) then {expression} \
             when {expression} is not null then json_quote(cast({expression} as text)) end"
        )
    }

    fn json_member(&self, json: &str, path: &[String]) -> String {
        format!("({json} -> {})", json_path(path))
    }

    fn delivered_member(&self, column: &Column, json: &str, path: &[String]) -> String {
        match column.kind {
            FieldType::Object(_) => format!("json_type({json}, {})", json_path(path)),
            _ => self.json_member(json, path),
        }
    }

    fn compared_member(&self, column: &Column, json: &str, path: &[String]) -> String {
        // By the way from the whole, which is parsed once and remembered: a part that is a text of its own would be parsed again.
        let path = json_path(path);
        Part {
            json: format!("({json} -> {path})"),
            value: format!("({json} ->> {path})"),
            kind: format!("json_type({json}, {path})"),
        }
        .typed(column)
    }

    fn json_items(&self, list: Fragment, alias: &str) -> Fragment {
        Fragment::format("json_each({}) as {}", [list, Fragment::text(alias)])
    }

    fn json_item(&self, alias: &str) -> String {
        // Other items are values of SQL, and no JSON.
        format!("case {alias}.type when 'object' then {alias}.value end")
    }

    fn json_items_where(
        &self,
        json: &str,
        list: Fragment,
        alias: &str,
        condition: Fragment,
        beside: Vec<Fragment>,
    ) -> Fragment {
        let from = self.json_items(list.clone(), alias);
        let [mut item, json] = [whole_item(json, alias), json.to_owned()].map(Fragment::text);
        if !beside.is_empty() {
            let beside = beside.into_iter().map(|json| Fragment::format("json({})", [json]));
            item = Fragment::format("json_array({})", [Fragment::join([item].into_iter().chain(beside), ", ")]);
        }
        Fragment::format(
            "case when {} is null then {} else (select json_group_array({}) from {} where {}) end",
            [list, json, item, from, condition],
        )
    }

    fn json_fits(&self, column: &Column, json: &str) -> String {
        let typed = self.compared(column, json.to_owned());
        format!("(coalesce(json_type({json}), 'null') = 'null' or {typed} is not null)")
    }

    fn json_index(&self, t: &Type, column: &Column, path: &[String], _: Scalar) -> Option<String> {
        let name = self.quote(&format!("{}_{}_{}", t.relation, column.name, path.join("_")));
        let (table, column) = (relation(self, t), self.quote(&column.name));
        Some(format!("create index {name} on {table} ({column} ->> {})", json_path(path)))
    }

    fn json_given(&self, slot: Slot) -> Fragment {
        Fragment::format("json({})", [Fragment::bound(slot)])
    }

    fn json_stored(&self, column: &Column, json: Fragment) -> Fragment {
        if column.binary_json { Fragment::format("jsonb({})", [json]) } else { json }
    }

    fn json_object(&self, json: &str) -> String {
        format!("case json_type({json}) when 'object' then {json} else '{{}}' end")
    }

    fn json_with(&self, object: Fragment, name: &str, value: Fragment, made: bool) -> Fragment {
        let template = if made { "json_set({}, {}, {})" } else { "json_replace({}, {}, {})" };
        Fragment::format(template, [object, json_step(name), value])
    }

    fn json_without(&self, object: Fragment, name: &str) -> Fragment {
        Fragment::format("json_remove({}, {})", [object, json_step(name)])
    }

    fn json_sum(&self, json: &str, slot: Slot, _: Scalar) -> Fragment {
        let parts = [json, json].map(Fragment::text).into_iter().chain([Fragment::bound(slot)]);
        Fragment::format("case when json_type({}) in ('integer', 'real') then ({} ->> '$') + {} end", parts)
    }

    fn json_pushed(&self, json: &str, slot: Slot) -> Fragment {
        // Put together as texts: so whatever is there stays as it is written.
        let list = || Fragment::text(format!("case json_type({json}) when 'array' then json({json}) else '[]' end"));
        let given = || Fragment::bound(slot.clone());
        let parts = [list(), list(), list(), given(), given()];
        Fragment::format(
            "json(substr({}, 1, length({}) - 1) || case when {} = '[]' or {} = '[]' then '' else ',' end \
             || substr({}, 2))",
            parts,
        )
    }

    fn json_is_item(&self, alias: &str, slot: Slot) -> Fragment {
        let [atom, is_boolean] = [format!("{alias}.atom"), format!("({alias}.type in ('true', 'false'))")];
        Fragment::format(
            "exists (select 1 from json_each({}) as l where l.atom = {} and (l.type in ('true', 'false')) = {})",
            [Fragment::bound(slot), Fragment::text(atom), Fragment::text(is_boolean)],
        )
    }

    fn json_kept(&self, json: &str, alias: &str, condition: Fragment) -> Fragment {
        let item = Fragment::text(whole_item(json, alias));
        let [list, json] = [self.json_items(Fragment::text(json), alias), Fragment::text(json)];
        Fragment::format(
            "json(case json_type({}) when 'array' then (select json_group_array({}) from {} where {}) else {} end)",
            [json.clone(), item, list, condition, json],
        )
    }

    fn includes(&self, value: Fragment, list: Slot, _: &Column, all: bool) -> Fragment {
        let list = Fragment::bound(list);
        // Objects and lists have no atom. Truth values are numbers here.
        let template = if all {
            "case when {} is not null then not exists (select 1 from json_each({}) as l where not exists \
             (select 1 from json_each({}) as i where i.atom = l.atom \
             and (i.type in ('true', 'false')) = (l.type in ('true', 'false')))) end"
        } else {
            "case when {} is not null then exists (select 1 from json_each({}) as l \
             join json_each({}) as i on i.atom = l.atom \
             and (i.type in ('true', 'false')) = (l.type in ('true', 'false'))) end"
        };
        Fragment::format(template, [value.clone(), list, value])
    }

    fn list_size(&self, value: Fragment, _: &Column) -> Fragment {
        Fragment::format("json_array_length({})", [value])
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

    fn number(&self, value: Fragment, _: Scalar) -> Fragment {
        value
    }

    fn microseconds(&self, value: Fragment, _: Scalar) -> Fragment {
        Fragment::format("{}({})", [Fragment::text(MICROSECONDS), value])
    }

    fn bound_number(&self, slot: Slot) -> Fragment {
        Fragment::bound(slot)
    }

    fn calculated(&self, left: Fragment, arithmetic: Arithmetic, right: Fragment) -> Fragment {
        let sign = Fragment::text(literal(arithmetic.sign()));
        Fragment::format("{}({}, {}, {})", [Fragment::text(DECIMAL_CALCULATION), left, sign, right])
    }

    fn compared_numbers(&self, [left, right]: [Fragment; 2], operator: &'static str) -> Fragment {
        let order = Fragment::format("{}({}, {})", [Fragment::text(DECIMAL_ORDER), left, right]);
        Fragment::join([order, Fragment::text("0")], operator)
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

    fn exact(&self, column: &Column, text: Fragment) -> Option<Fragment> {
        let is_text = column.kind == FieldType::Scalar(Scalar::String);
        (is_text && column.collation.is_some()).then(|| Fragment::format("{} collate binary", [text]))
    }

    fn is_in_exactly(&self, exact: Fragment, list: Slot) -> Fragment {
        Fragment::format("{} in (select value from json_each({}))", [exact, Fragment::bound(list)])
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
        match unit {
            GroupUnit::Value => self.compared(column, expression),
            GroupUnit::Day | GroupUnit::Month | GroupUnit::Year => self.truncated_text(unit, column, expression),
        }
    }
}

/// The item of a row of `json_each`, as JSON that it is in other JSON.
fn whole_item(json: &str, alias: &str) -> String {
    // An integer of more than 64 bits is a double to SQLite, but not where it is written.
    format!(
        "case when {alias}.type in ('object', 'array') then json({alias}.value) \
         when {alias}.type in ('true', 'false') then json({alias}.type) \
         when {alias}.type = 'integer' and typeof({alias}.value) = 'real' then {json} -> {alias}.fullkey \
         else {alias}.value end"
    )
}

/// JSON that is stored in binary form, as text.
fn text_of_binary(expression: &str) -> String {
    // 8: strictly valid JSONB, so that `json()` cannot fail the whole statement.
    format!(
        "case when typeof({expression}) = 'blob' and json_valid({expression}, 8) then json({expression}) \
         else {expression} end"
    )
}

/// A part of JSON: itself, as a value of SQL, and the name of its type.
struct Part {
    json: String,
    value: String,
    kind: String,
}

impl Part {
    /// It as a value of SQL of a column's type; null where it is of another one.
    fn typed(&self, column: &Column) -> String {
        let Part { json, value, kind } = self;
        let scalar = match column.kind {
            FieldType::Object(_) => return format!("case {kind} when 'object' then {json} end"),
            FieldType::List(_) | FieldType::Items(_) => return format!("case {kind} when 'array' then {json} end"),
            FieldType::Enum(_) => Scalar::String,
            FieldType::Scalar(scalar) => scalar,
        };
        match scalar.json_type() {
            JsonType::Boolean => format!("case {kind} when 'true' then 1 when 'false' then 0 end"),
            // An integer of more than 64 bits is a double to SQLite.
            JsonType::Integer => format!(
                "case {kind} when 'integer' then case when typeof({value}) = 'integer' then {value} end \
                 when 'real' then case when {value} = cast({value} as integer) \
                 and abs({value}) <= 9007199254740992.0 then cast({value} as integer) end end"
            ),
            JsonType::Number => {
                format!("case when {kind} in ('integer', 'real') and abs({value}) <= {MOST_NUMBER} then {value} end")
            }
            JsonType::Text => format!("case {kind} when 'text' then {value} end"),
            JsonType::Any => format!("nullif({json}, 'null')"),
        }
    }
}
