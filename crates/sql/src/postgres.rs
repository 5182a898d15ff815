//! PostgreSQL's SQL.

use super::dialect::{MOST_NUMBER, literal, relation, scalar_of, within_digits};
use super::{Dialect, Fragment, Slot, Strategy};
use puente_core::access::TextTest;
use puente_core::model::{Column, Element, FieldType, Type};
use puente_core::plan::{Function, GroupUnit};
use puente_core::value::{JsonType, Scalar, StorageFormat};

/// PostgreSQL, 12 or later.
#[derive(Debug, Clone, Copy)]
pub struct Postgres;

/// Parameters of one statement: the protocol counts them with 16 bits.
const MOST_PARAMETERS: usize = 65_535;

fn is_list(column: &Column) -> bool {
    matches!(column.kind, FieldType::List(_))
}

/// What makes a list of its type.
fn brackets(column: &Column) -> &'static str {
    if is_list(column) { "[]" } else { "" }
}

/// The type to which a value is cast where it meets a column.
fn cast_of(column: &Column) -> &str {
    if column.form == StorageFormat::JsonValue {
        return match scalar_of(column) {
            Scalar::Boolean => "bool",
            Scalar::Int | Scalar::BigInt => "int8",
            Scalar::Float => "float8",
            Scalar::Decimal => "numeric",
            Scalar::Json => "jsonb",
            _ => "text",
        };
    }
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
            StorageFormat::EngineText => format!("{expression}::text{}", brackets(column)),
            StorageFormat::JsonValue => match column.kind {
                FieldType::Object(_) => format!("jsonb_typeof({expression})"),
                _ => format!("({expression})::text"),
            },
            // Domains are read as what they are made of: only those types have a known form in binary.
            // So are the items of arrays; those of enums are texts.
            _ if matches!(column.kind, FieldType::List(Element::Enum(_))) => format!("{expression}::text[]"),
            _ if column.domain => {
                format!("{expression}::{}{}", cast_of(column), brackets(column))
            }
            _ => expression,
        }
    }

    fn compared(&self, column: &Column, expression: String) -> String {
        match column.form {
            StorageFormat::EngineText if is_list(column) => format!("{expression}::text[]"),
            StorageFormat::EngineText => format!("{expression}::text collate \"C\""),
            StorageFormat::JsonValue => typed(column, &expression),
            _ => expression,
        }
    }

    fn most_json_parts(&self) -> usize {
        3
    }

    fn json_whole(&self, _: &Column, expression: String) -> String {
        format!("{expression}::text")
    }

    fn json_root(&self, column: &Column, expression: String) -> String {
        if column.cast.as_deref() == Some("json") { format!("({expression})::jsonb") } else { expression }
    }

    fn json_member(&self, json: &str, path: &[String]) -> String {
        let steps: String = path.iter().map(|name| format!(" -> {}", literal(name))).collect();
        format!("({json}{steps})")
    }

    fn json_items(&self, list: Fragment, alias: &str) -> Fragment {
        let alias = Fragment::text(alias);
        Fragment::format("jsonb_array_elements({}) with ordinality as {}(value, n)", [list, alias])
    }

    fn json_item(&self, alias: &str) -> String {
        format!("{alias}.value")
    }

    fn json_items_where(
        &self,
        json: &str,
        list: Fragment,
        alias: &str,
        condition: Fragment,
        beside: Vec<Fragment>,
    ) -> Fragment {
        let mut item = Fragment::text(format!("{alias}.value"));
        if !beside.is_empty() {
            let parts = Fragment::join([item].into_iter().chain(beside), ", ");
            // A function takes 100 arguments, an array more.
            item = Fragment::format("to_jsonb(array[{}])", [parts]);
        }
        let items = Fragment::format("jsonb_agg({} order by {}.n)", [item, Fragment::text(alias)]);
        let from = self.json_items(list.clone(), alias);
        let template = "case when {} is null then {} else (select coalesce({}, '[]'::jsonb) from {} where {}) end";
        Fragment::format(template, [list, Fragment::text(json), items, from, condition])
    }

    fn json_delivered(&self, json: Fragment) -> Fragment {
        Fragment::format("({})::text", [json])
    }

    fn json_fits(&self, column: &Column, json: &str) -> String {
        format!("(coalesce(jsonb_typeof({json}), 'null') = 'null' or {} is not null)", typed(column, json))
    }

    fn json_index(&self, t: &Type, column: &Column, path: &[String], scalar: Scalar) -> Option<String> {
        let (last, before) = path.split_last()?;
        let steps: String = before.iter().map(|name| format!(" -> {}", literal(name))).collect();
        let cast = match scalar.json_type() {
            JsonType::Integer | JsonType::Number => "::numeric",
            JsonType::Boolean => "::boolean",
            JsonType::Text => "",
            JsonType::Any => return None,
        };
        let taken = format!("({}{steps} ->> {}){cast}", self.quote(&column.name), literal(last));
        Some(format!("create index on {} (({taken}))", relation(self, t)))
    }

    fn json_given(&self, slot: Slot) -> Fragment {
        cast(slot, "jsonb", "")
    }

    fn json_stored(&self, column: &Column, json: Fragment) -> Fragment {
        if column.cast.as_deref() == Some("json") { Fragment::format("({})::json", [json]) } else { json }
    }

    fn json_object(&self, json: &str) -> String {
        format!("case when jsonb_typeof({json}) = 'object' then {json} else '{{}}'::jsonb end")
    }

    fn json_with(&self, object: Fragment, name: &str, value: Fragment, made: bool) -> Fragment {
        let template = if made {
            "jsonb_set({}, array[{}], coalesce({}, 'null'::jsonb))"
        } else {
            "jsonb_set({}, array[{}], coalesce({}, 'null'::jsonb), false)"
        };
        Fragment::format(template, [object, Fragment::text(literal(name)), value])
    }

    fn json_without(&self, object: Fragment, name: &str) -> Fragment {
        Fragment::format("({} - {}::text)", [object, Fragment::text(literal(name))])
    }

    fn json_sum(&self, json: &str, slot: Slot, scalar: Scalar) -> Fragment {
        // Doubles are added as such, as on the other engines.
        let (own, given) = match scalar {
            Scalar::Float => ("float8", "float8"),
            Scalar::Decimal => ("numeric", "numeric"),
            _ => ("numeric", "int8"),
        };
        let sum = Fragment::join([Fragment::text(format!("({json})::{own}")), cast(slot, given, "")], " + ");
        Fragment::format("case when jsonb_typeof({}) = 'number' then to_jsonb({}) end", [Fragment::text(json), sum])
    }

    fn json_pushed(&self, json: &str, slot: Slot) -> Fragment {
        let list = format!("case when jsonb_typeof({json}) = 'array' then {json} else '[]'::jsonb end");
        Fragment::format("(({}) || {})", [Fragment::text(list), self.json_given(slot)])
    }

    fn json_is_item(&self, alias: &str, slot: Slot) -> Fragment {
        let item = || Fragment::text(format!("{alias}.value"));
        let parts = [item(), self.json_given(slot), item()];
        Fragment::format("(jsonb_typeof({}) not in ('array', 'object') and {} @> {})", parts)
    }

    fn json_kept(&self, json: &str, alias: &str, condition: Fragment) -> Fragment {
        let items = Fragment::text(format!("jsonb_agg({alias}.value order by {alias}.n)"));
        let from = self.json_items(Fragment::text(json), alias);
        let json = || Fragment::text(json);
        let template = "case when jsonb_typeof({}) = 'array' \
                        then (select coalesce({}, '[]'::jsonb) from {} where {}) else {} end";
        Fragment::format(template, [json(), items, from, condition, json()])
    }

    fn value(&self, slot: Slot, column: &Column) -> Fragment {
        cast(slot, cast_of(column), "")
    }

    fn number(&self, value: Fragment, scalar: Scalar) -> Fragment {
        match scalar {
            Scalar::Int | Scalar::BigInt => Fragment::format("({})::numeric", [value]),
            // By all of its digits: a cast alone keeps fifteen.
            Scalar::Float => within_digits(value.clone(), Fragment::format("({})::text::numeric", [value])),
            _ => within_digits(value.clone(), Fragment::format("({})::numeric", [value])),
        }
    }

    fn microseconds(&self, value: Fragment, _: Scalar) -> Fragment {
        let seconds = Fragment::format("extract(epoch from {})", [value]);
        let number = Fragment::format("({})::numeric * 1000000", [seconds.clone()]);
        // What is infinite has no such number.
        within_digits(seconds, number)
    }

    fn bound_number(&self, slot: Slot) -> Fragment {
        cast(slot, "numeric", "")
    }

    fn is_in(&self, value: Fragment, list: Slot, column: &Column, ignore_case: bool) -> Fragment {
        let list = cast(list, cast_of(column), "[]");
        if ignore_case {
            let folded = self.folded(Fragment::text("v"));
            return Fragment::format("{} in (select {} from unnest({}) as l(v))", [value, folded, list]);
        }
        Fragment::format("{} = any({})", [value, list])
    }

    fn exact(&self, column: &Column, text: Fragment) -> Option<Fragment> {
        // The collation of a database is deterministic: what is equal there has the same bytes. A column's own may not be, and
        // types such as `citext` compare in their own way. `char(n)` is served with the blanks that fill it up.
        const EXACT: [&str; 3] = ["text", "varchar", "name"];
        let is_plain = column.collation.is_none() && EXACT.contains(&cast_of(column));
        let is_text = column.kind == FieldType::Scalar(Scalar::String) && column.form == StorageFormat::Usual;
        (is_text && !is_plain).then(|| match is_padded(column) {
            true => Fragment::format("textin(bpcharout({})) collate \"C\"", [text]),
            false => Fragment::format("{}::text collate \"C\"", [text]),
        })
    }

    fn exact_value(&self, slot: Slot) -> Fragment {
        cast(slot, "text", "")
    }

    fn is_in_exactly(&self, exact: Fragment, list: Slot) -> Fragment {
        Fragment::format("{} = any({})", [exact, cast(list, "text", "[]")])
    }

    fn includes(&self, value: Fragment, list: Slot, column: &Column, all: bool) -> Fragment {
        let list = cast(list, cast_of(column), "[]");
        if column.form == StorageFormat::JsonValue {
            let template = if all {
                "{} @> to_jsonb({})"
            } else {
                "case when {} is not null then exists (select 1 from unnest({}) as l(v) where {} @> to_jsonb(l.v)) end"
            };
            return Fragment::format(template, [value.clone(), list].into_iter().chain((!all).then_some(value)));
        }
        Fragment::format(if all { "{} @> {}" } else { "{} && {}" }, [value, list])
    }

    fn list_size(&self, value: Fragment, column: &Column) -> Fragment {
        let template =
            if column.form == StorageFormat::JsonValue { "jsonb_array_length({})" } else { "cardinality({})" };
        Fragment::format(template, [value])
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
        columns.iter().all(|column| !is_list(column) && column.form != StorageFormat::EngineText)
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

/// A part of JSON as a value of SQL; null where it is of another type. A cast is tried only where it cannot fail.
fn typed(column: &Column, json: &str) -> String {
    let scalar = match column.kind {
        FieldType::Object(_) => return format!("case when jsonb_typeof({json}) = 'object' then {json} end"),
        FieldType::List(_) | FieldType::Items(_) => {
            return format!("case when jsonb_typeof({json}) = 'array' then {json} end");
        }
        FieldType::Enum(_) => Scalar::String,
        FieldType::Scalar(scalar) => scalar,
    };
    let number = format!("({json})::numeric");
    let finite = |ty: &str| {
        format!(
            "case when jsonb_typeof({json}) = 'number' then \
             case when abs({number}) <= {MOST_NUMBER} then ({json})::{ty} end end"
        )
    };
    match scalar.json_type() {
        JsonType::Boolean => format!("case when jsonb_typeof({json}) = 'boolean' then ({json})::boolean end"),
        JsonType::Integer => format!(
            "case when jsonb_typeof({json}) = 'number' then \
             case when {number} % 1 = 0 and abs({number}) <= 9223372036854775807 then {number}::int8 end end"
        ),
        JsonType::Number if scalar == Scalar::Decimal => finite("numeric"),
        JsonType::Number => finite("float8"),
        JsonType::Text => {
            format!("(case when jsonb_typeof({json}) = 'string' then {json} #>> '{{}}' end) collate \"C\"")
        }
        JsonType::Any => format!("nullif({json}, 'null'::jsonb)"),
    }
}
