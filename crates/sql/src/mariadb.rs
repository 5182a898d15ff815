//! MariaDB's SQL, as far as possible what MySQL 8 understands too.

use super::dialect::{json_path, json_step, scalar_of, truncation, within_digits};
use super::{Dialect, Fragment, Slot, Strategy};
use puente_core::access::TextTest;
use puente_core::model::{Column, FieldType};
use puente_core::plan::{Function, GroupUnit};
use puente_core::value::{JsonType, Scalar, StorageFormat};

/// MariaDB, 10.6 or later.
#[derive(Debug, Clone, Copy)]
pub struct Mariadb;

/// Parameters of one statement: the protocol counts them with 16 bits.
const MOST_PARAMETERS: usize = 65_535;
/// Rows of one INSERT: more make it longer, not quicker.
const MOST_ROWS: usize = 1_000;

/// As many rows as there are.
const EVERY_ROW: u64 = u64::MAX;

/// Characters of a text that count for its place in an order. The engine sorts by so many bytes as `max_sort_length` says, but
/// compares the whole: a page would begin elsewhere than the last one ended. Sessions sort by 8 bytes to each of these.
const SORTED_CHARACTERS: u32 = 1_000;

/// Could a column's values be longer than what the engine sorts by?
fn is_long(column: &Column) -> bool {
    matches!(scalar_of(column), Scalar::String | Scalar::Bytes)
        && column.cast.as_deref() != Some("enum")
        && column.input.length.is_none_or(|length| length > SORTED_CHARACTERS)
}

/// The type of a text inside JSON_TABLE: with its charset, or it would have that of the database, which may lack half of the letters.
const TEXT: &str = "longtext character set utf8mb4";

/// How a column's values are typed inside JSON_TABLE: wide enough that no value, of a caller or of another database, is cut to fit.
/// A number that an integer type does not hold would become its nearest one there, and -1 would find the row of 0; as a decimal it
/// equals none.
fn json_type(column: &Column) -> &'static str {
    match scalar_of(column) {
        Scalar::Boolean => "bigint",
        Scalar::Int | Scalar::BigInt => "decimal(65)",
        Scalar::Float if column.form == StorageFormat::Single => "float",
        Scalar::Float => "double",
        Scalar::Decimal => "decimal(65,30)",
        Scalar::Date => "date",
        Scalar::Time => "time(6)",
        Scalar::LocalDateTime => "datetime(6)",
        Scalar::DateTime => "varchar(40)",
        // Text, and bytes as hexadecimal digits.
        _ => TEXT,
    }
}

/// A value out of JSON_TABLE, as it meets a column.
fn from_json(column: &Column, value: &str) -> String {
    match (scalar_of(column), &column.collation) {
        (Scalar::Bytes, _) => format!("unhex({value})"),
        (Scalar::DateTime, _) => instant(Fragment::text(value)).as_text().to_owned(),
        // What is compared as the engine writes it is compared by code points.
        (Scalar::String, _) if column.form == StorageFormat::EngineText => format!("{value} collate utf8mb4_bin"),
        // The column's own collation, said explicitly: neither side has one that yields.
        (_, Some(collation)) if json_type(column) == TEXT => match collation.split_once('_') {
            Some(("utf8mb4", _)) | None => format!("{value} collate {collation}"),
            Some((charset, _)) => format!("convert({value} using {charset}) collate {collation}"),
        },
        _ => value.to_owned(),
    }
}

/// A value of a type that the API does not have, as MariaDB writes it. Groups are ordered by what is written already.
fn as_written(column: &Column, expression: &str) -> String {
    match column.cast.as_deref() {
        Some(GEOMETRY) if expression.starts_with("st_astext(") => expression.to_owned(),
        Some(GEOMETRY) => format!("st_astext({expression})"),
        _ => format!("cast({expression} as char)"),
    }
}

/// What a column of points, lines, areas and the like is cast as.
pub const GEOMETRY: &str = "geometry";

/// An instant in the session's zone, which is UTC: MariaDB's dates and times know no `Z`.
fn instant(value: Fragment) -> Fragment {
    Fragment::format("cast(trim(trailing 'Z' from {}) as datetime(6))", [value])
}

impl Mariadb {
    /// A text as its bytes in UTF-8, which are compared as they are.
    fn bytes(text: Fragment) -> Fragment {
        Fragment::format("cast(convert({} using utf8mb4) as binary)", [text])
    }

    fn binary(text: Fragment) -> Fragment {
        Fragment::format("convert({} using utf8mb4) collate utf8mb4_bin", [text])
    }
}

impl Dialect for Mariadb {
    fn strategy(&self, _: bool) -> Strategy {
        Strategy::Batched
    }

    fn quote(&self, identifier: &str) -> String {
        format!("`{}`", identifier.replace('`', "``"))
    }

    fn nulls_are_smallest(&self) -> bool {
        true
    }

    fn order_term(&self, value: &str, descending: bool, nulls_first: Option<bool>) -> String {
        let direction = if descending { " desc" } else { "" };
        match nulls_first {
            None => format!("{value}{direction}"),
            Some(true) => format!("{value} is null desc, {value}{direction}"),
            Some(false) => format!("{value} is null, {value}{direction}"),
        }
    }

    fn delivered(&self, column: &Column, expression: String) -> String {
        match column.form {
            StorageFormat::EngineText => as_written(column, &expression),
            StorageFormat::Bits => format!("{expression} + 0"),
            StorageFormat::JsonValue => match column.kind {
                // It has no type where functions cannot read it: what is no JSON, or is nested deeper than they go.
                FieldType::Object(_) => {
                    format!(
                        "ifnull(lower(json_type({expression})), if({expression} is null, null, 'what is not JSON'))"
                    )
                }
                _ => expression,
            },
            _ => expression,
        }
    }

    fn compared(&self, column: &Column, expression: String) -> String {
        match column.form {
            StorageFormat::EngineText => format!("{} collate utf8mb4_bin", as_written(column, &expression)),
            StorageFormat::Bits => format!("{expression} + 0"),
            StorageFormat::JsonValue => typed(column, &expression),
            _ => expression,
        }
    }

    fn most_json_parts(&self) -> usize {
        1
    }

    fn most_json_levels(&self) -> usize {
        31
    }

    fn json_whole(&self, _: &Column, expression: String) -> String {
        expression
    }

    fn json_member(&self, json: &str, path: &[String]) -> String {
        format!("json_extract({json}, {})", json_path(path))
    }

    fn json_items(&self, list: Fragment, alias: &str) -> Fragment {
        let alias = Fragment::text(alias);
        Fragment::format("json_table({}, '$[*]' columns (n for ordinality, value json path '$')) as {}", [list, alias])
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
            let beside = beside.into_iter().map(|json| Fragment::format("ifnull({}, 'null')", [json]));
            let parts = Fragment::join([item].into_iter().chain(beside), ", ',', ");
            item = Fragment::format("concat('[', {}, ']')", [parts]);
        }
        let items = Fragment::format("group_concat({} order by {}.n separator ',')", [item, Fragment::text(alias)]);
        let from = self.json_items(list.clone(), alias);
        let template = "case when {} is not null then (select concat('[', ifnull({}, ''), ']') from {} where {}) when json_valid({}) then {} \
             when {} is not null then 'not JSON' end";
        let json = || Fragment::text(json);
        Fragment::format(template, [list, items, from, condition, json(), json(), json()])
    }

    fn json_fits(&self, column: &Column, json: &str) -> String {
        // Functions give null for JSON that is nested deeper than they go.
        let typed = typed(column, json);
        format!("({json} is null or json_type({json}) = 'NULL' or json_valid({json}) and {typed} is not null)")
    }

    fn json_given(&self, slot: Slot) -> Fragment {
        as_json(Fragment::bound(slot))
    }

    fn json_object(&self, json: &str) -> String {
        format!("if(json_type({json}) = 'OBJECT', {json}, '{{}}')")
    }

    fn json_with(&self, object: Fragment, name: &str, value: Fragment, made: bool) -> Fragment {
        let template = if made { "json_set({}, {}, {})" } else { "json_replace({}, {}, {})" };
        Fragment::format(template, [object, json_step(name), value])
    }

    fn json_without(&self, object: Fragment, name: &str) -> Fragment {
        Fragment::format("json_remove({}, {})", [object, json_step(name)])
    }

    fn json_sum(&self, json: &str, slot: Slot, scalar: Scalar) -> Fragment {
        let own = match scalar {
            Scalar::Float => format!("cast({json} as double)"),
            Scalar::Decimal => format!("cast({json} as decimal(65,30))"),
            _ => format!("cast({json} as decimal(65,0))"),
        };
        let sum = Fragment::join([Fragment::text(own), Fragment::bound(slot)], " + ");
        let sum = match scalar {
            Scalar::Decimal => as_json(Fragment::format("trim(trailing '.' from trim(trailing '0' from {}))", [sum])),
            _ => sum,
        };
        let parts = [Fragment::text(json), sum];
        Fragment::format("case when json_type({}) in ('INTEGER', 'DOUBLE') then {} end", parts)
    }

    fn json_pushed(&self, json: &str, slot: Slot) -> Fragment {
        let list = format!("if(json_type({json}) = 'ARRAY', {json}, '[]')");
        Fragment::format("json_merge_preserve({}, {})", [Fragment::text(list), Fragment::bound(slot)])
    }

    fn json_is_item(&self, alias: &str, slot: Slot) -> Fragment {
        let item = || Fragment::text(format!("{alias}.value"));
        let parts = [item(), Fragment::bound(slot), item()];
        Fragment::format("(json_type({}) not in ('ARRAY', 'OBJECT') and json_contains({}, {}))", parts)
    }

    fn json_kept(&self, json: &str, alias: &str, condition: Fragment) -> Fragment {
        let items = Fragment::text(format!("group_concat({alias}.value order by {alias}.n separator ',')"));
        let from = self.json_items(Fragment::text(json), alias);
        let json = || Fragment::text(json);
        let template = "case when json_type({}) = 'ARRAY' \
                        then (select concat('[', ifnull({}, ''), ']') from {} where {}) else {} end";
        as_json(Fragment::format(template, [json(), items, from, condition, json()]))
    }

    fn includes(&self, value: Fragment, list: Slot, _: &Column, all: bool) -> Fragment {
        let list = Fragment::bound(list);
        if all {
            return Fragment::format("json_contains({}, {})", [value, list]);
        }
        Fragment::format(
            "case when {} is not null then exists (select 1 from \
             json_table({}, '$[*]' columns (v json path '$')) as l where json_contains({}, l.v)) end",
            [value.clone(), list, value],
        )
    }

    fn list_size(&self, value: Fragment, _: &Column) -> Fragment {
        Fragment::format("json_length({})", [value])
    }

    fn truncated_text(&self, unit: GroupUnit, column: &Column, expression: String) -> String {
        match truncation(unit, column) {
            Some((length, rest)) => format!("concat(left({expression}, {length}), '{rest}')"),
            None => expression,
        }
    }

    fn ordered(&self, column: &Column, expression: String) -> String {
        // Enums are ordered by their number and compared by their text, unless they are made text first.
        if column.cast.as_deref() == Some("enum") {
            return format!("concat({expression})");
        }
        self.ordered_part(column, self.compared(column, expression))
    }

    fn ordered_part(&self, column: &Column, compared: String) -> String {
        if is_long(column) { format!("left({compared}, {SORTED_CHARACTERS})") } else { compared }
    }

    fn position_value(&self, slot: Slot, column: &Column) -> Fragment {
        let value = self.value(slot, column);
        if !is_long(column) {
            return value;
        }
        Fragment::format("left({}, {})", [value, Fragment::text(SORTED_CHARACTERS.to_string())])
    }

    fn value(&self, slot: Slot, column: &Column) -> Fragment {
        let bound = Fragment::bound(slot);
        match scalar_of(column) {
            // A string would turn the comparison into one of doubles.
            Scalar::Decimal => Fragment::format("cast({} as decimal(65,30))", [bound]),
            Scalar::BigInt if matches!(column.form, StorageFormat::Unsigned | StorageFormat::Bits) => {
                Fragment::format("cast({} as unsigned)", [bound])
            }
            // The digits that are served are those of 32 bits: as a double they are another number.
            Scalar::Float if column.form == StorageFormat::Single => Fragment::format("cast({} as float)", [bound]),
            Scalar::Date => Fragment::format("cast({} as date)", [bound]),
            Scalar::Time => Fragment::format("cast({} as time(6))", [bound]),
            Scalar::LocalDateTime => Fragment::format("cast({} as datetime(6))", [bound]),
            Scalar::DateTime => instant(bound),
            _ => bound,
        }
    }

    fn number(&self, value: Fragment, scalar: Scalar) -> Fragment {
        match scalar {
            Scalar::Int | Scalar::BigInt => Fragment::format("cast({} as decimal(20,0))", [value]),
            // By its digits: as a double it would be another number, and arithmetic one of doubles.
            Scalar::Float => {
                let digits = Fragment::format("cast(cast({} as char) as decimal(65,30))", [value.clone()]);
                within_digits(value, digits)
            }
            _ => within_digits(value.clone(), value),
        }
    }

    fn microseconds(&self, value: Fragment, _: Scalar) -> Fragment {
        Fragment::format("cast(timestampdiff(microsecond, '1970-01-01', {}) as decimal(20,0))", [value])
    }

    fn bound_number(&self, slot: Slot) -> Fragment {
        Fragment::format("cast({} as decimal(65,30))", [Fragment::bound(slot)])
    }

    fn is_in(&self, value: Fragment, list: Slot, column: &Column, ignore_case: bool) -> Fragment {
        let item = from_json(column, "j.v");
        let item = if ignore_case { format!("lower({item})") } else { item };
        let [item, json_type] = [Fragment::text(item), Fragment::text(json_type(column))];
        Fragment::format(
            "{} in (select {} from json_table({}, '$[*]' columns (v {} path '$')) as j)",
            [value, item, Fragment::bound(list), json_type],
        )
    }

    fn exact(&self, column: &Column, text: Fragment) -> Option<Fragment> {
        // Collations by code points pad with blanks, unless they say that they do not; inside JSON texts have one that does not.
        let is_exact =
            column.form == StorageFormat::JsonValue || column.collation.as_deref() == Some("utf8mb4_nopad_bin");
        (column.kind == FieldType::Scalar(Scalar::String) && !is_exact).then(|| Mariadb::bytes(text))
    }

    fn exact_value(&self, slot: Slot) -> Fragment {
        Mariadb::bytes(Fragment::bound(slot))
    }

    fn is_in_exactly(&self, exact: Fragment, list: Slot) -> Fragment {
        let item = Mariadb::bytes(Fragment::text("j.v"));
        let template = "{} in (select {} from json_table({}, '$[*]' columns (v {} path '$')) as j)";
        Fragment::format(template, [exact, item, Fragment::bound(list), Fragment::text(TEXT)])
    }

    fn says_null(&self, _: &Column, value: Fragment) -> Fragment {
        Fragment::format("(json_compact({}) = 'null')", [value])
    }

    fn text_test(&self, test: TextTest, text: Fragment, part: Fragment) -> Fragment {
        // By code points: the collation of the column has no say in what a text contains.
        let (text, part) = (Mariadb::binary(text), Mariadb::binary(part));
        match test {
            TextTest::Contains => Fragment::format("locate({}, {}) > 0", [part, text]),
            TextTest::StartsWith => Fragment::format("locate({}, {}) = 1", [part, text]),
            TextTest::EndsWith => Fragment::format(
                "locate({}, right({}, char_length({}))) = 1 and char_length({}) >= char_length({})",
                [part.clone(), text.clone(), part.clone(), text, part],
            ),
        }
    }

    fn prefers_union(&self) -> bool {
        // There are no lateral joins, and numbering rows reads every child of every parent: 13 times the time, measured.
        true
    }

    fn keys(&self, columns: &[&Column]) -> Fragment {
        let values: Vec<String> = columns
            .iter()
            .enumerate()
            .map(|(at, column)| format!("k{at} {} path '$[{at}]'", json_type(column)))
            .collect();
        // With a limit it is taken apart once and kept under a key, not once for every row of a child without an index.
        let [values, every_row] = [values.join(", "), EVERY_ROW.to_string()].map(Fragment::text);
        Fragment::format(
            "(select * from json_table({}, '$[*]' columns (o for ordinality, {})) as j limit {}) as k",
            [Fragment::bound(Slot::Keys), values, every_row],
        )
    }

    fn equals_key(&self, child: &str, column: &Column, number: usize) -> String {
        format!("{} = {}", self.compared(column, child.to_owned()), from_json(column, &format!("k.k{number}")))
    }

    fn lock(&self, _: &str) -> String {
        " for update".to_owned()
    }

    fn stored(&self, slot: Slot, column: &Column) -> Fragment {
        match scalar_of(column) {
            Scalar::DateTime => self.value(slot, column),
            // Digits would be taken for the letters that they are.
            Scalar::BigInt if column.form == StorageFormat::Bits => self.value(slot, column),
            _ => Fragment::bound(slot),
        }
    }

    fn rows_per_insert(&self, columns: usize) -> usize {
        (MOST_PARAMETERS / columns.max(1)).min(MOST_ROWS)
    }

    fn nothing_given(&self) -> &'static str {
        "() values ()"
    }

    fn update_from(&self, table: Fragment, values: Fragment, set: Fragment, keys: Fragment) -> Fragment {
        Fragment::format("update {} as t join ({}) as v on {} set {}", [table, values, keys, set])
    }

    fn set_name(&self, quoted: &str) -> String {
        format!("t.{quoted}")
    }

    fn summary(&self, function: Function, column: &Column, expression: String) -> String {
        let expression = match (function, column.kind) {
            (Function::Avg, _) | (Function::Sum, FieldType::Scalar(Scalar::Float)) => {
                format!("cast({expression} as double)")
            }
            (Function::Min | Function::Max, _) => self.compared(column, expression),
            _ => expression,
        };
        match function {
            Function::Sum if column.kind == FieldType::Scalar(Scalar::Int) => {
                format!("cast(sum({expression}) as signed)")
            }
            Function::Sum => format!("sum({expression})"),
            Function::Avg => format!("avg({expression})"),
            Function::Min => format!("min({expression})"),
            Function::Max => format!("max({expression})"),
        }
    }

    fn truncated(&self, unit: GroupUnit, column: &Column, expression: String) -> String {
        let form = match unit {
            GroupUnit::Value => return self.delivered(column, expression),
            GroupUnit::Day => "%Y-%m-%d",
            GroupUnit::Month => "%Y-%m-01",
            GroupUnit::Year => "%Y-01-01",
        };
        let ty = if column.kind == FieldType::Scalar(Scalar::Date) { "date" } else { "datetime" };
        format!("cast(date_format({expression}, '{form}') as {ty})")
    }
}

/// A text as the JSON that it is: what functions put into JSON is a text otherwise.
fn as_json(text: Fragment) -> Fragment {
    Fragment::format("json_extract({}, '$')", [text])
}

/// A part of JSON as a value of SQL; null where it is of another type.
fn typed(column: &Column, json: &str) -> String {
    let scalar = match column.kind {
        FieldType::Object(_) => return format!("case json_type({json}) when 'OBJECT' then {json} end"),
        FieldType::List(_) | FieldType::Items(_) => {
            return format!("case json_type({json}) when 'ARRAY' then {json} end");
        }
        FieldType::Enum(_) => Scalar::String,
        FieldType::Scalar(scalar) => scalar,
    };
    let is_number = format!("json_type({json}) in ('INTEGER', 'DOUBLE')");
    let exact = format!("cast({json} as decimal(65,20))");
    match scalar.json_type() {
        JsonType::Boolean => format!("case when json_type({json}) = 'BOOLEAN' then {json} = 'true' end"),
        JsonType::Integer => format!(
            "case when {is_number} and {exact} = truncate({exact}, 0) and abs({exact}) <= 9223372036854775807 \
             then cast({exact} as signed) end"
        ),
        JsonType::Number if scalar == Scalar::Decimal => format!("case when {is_number} then {exact} end"),
        JsonType::Number => format!("case when {is_number} then cast({json} as double) end"),
        JsonType::Text => format!(
            "case when json_type({json}) = 'STRING' then \
             convert(json_unquote({json}) using utf8mb4) end collate utf8mb4_nopad_bin"
        ),
        JsonType::Any => format!("case when json_type({json}) <> 'NULL' then {json} end"),
    }
}
