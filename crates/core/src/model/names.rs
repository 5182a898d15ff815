//! From the database's names to GraphQL's: singular PascalCase types, plural camelCase lists, camelCase fields,
//! UPPER_CASE enum values. Names are taken apart into words, and put together again.

use heck::{ToLowerCamelCase, ToPascalCase, ToShoutySnakeCase, ToSnakeCase};

use super::inflection::{plural, singular};
use crate::catalog::Table;
use crate::project::is_graphql_name;

/// The words of a name, in lower case: `hutId`, `HUT_ID` and `hut id` → `hut`, `id`.
/// Of what cannot be written in ASCII, `neutral` is one.
pub(super) fn words(name: &str, neutral: &str) -> Vec<String> {
    let snake = plain(name, neutral).to_snake_case();
    snake.split('_').filter(|word| !word.is_empty()).map(str::to_owned).collect()
}

/// The words of a table's name, its schema's before them where tables of several are served; what both say is said once.
pub(super) fn table_words(table: &Table) -> Vec<String> {
    let own = words(table.relation(), TABLE);
    let Some(schema) = table.schema.as_ref().filter(|_| table.name != table.relation()) else { return own };
    let mut schema = words(schema, "schema");
    let alike = |a: &[String], b: &[String]| a.iter().map(|w| singular(w)).eq(b.iter().map(|w| singular(w)));
    let said =
        (1..=schema.len().min(own.len())).rev().find(|count| alike(&schema[schema.len() - count..], &own[..*count]));
    schema.truncate(schema.len() - said.unwrap_or(0));
    schema.into_iter().chain(own).collect()
}

/// `mountain`, `huts` → `mountain`, `hut`.
pub(super) fn one(words: &[String]) -> Vec<String> {
    let mut words = words.to_vec();
    if let Some(last) = words.last_mut() {
        *last = singular(last);
    }
    words
}

/// `mountain`, `hut` → `mountain`, `huts`; words for many stay as they are; none where there is no word for many.
pub(super) fn many(words: &[String]) -> Option<Vec<String>> {
    let last = words.last()?;
    let one = singular(last);
    let many = if one == *last { plural(last)? } else { last.clone() };
    Some(words[..words.len() - 1].iter().cloned().chain([many]).collect())
}

/// `mountain`, `huts` → `MountainHut`.
pub(super) fn type_name(words: &[String]) -> String {
    legal(&one(words).join("_").to_pascal_case(), "Table")
}

/// `mountain`, `huts` → `mountainHut`.
pub(super) fn one_name(words: &[String]) -> String {
    legal(&one(words).join("_").to_lower_camel_case(), "table")
}

/// `mountain`, `hut` → `mountainHuts`; where there is no word for many, `List` stands behind the one for one.
pub(super) fn list_name(words: &[String]) -> String {
    let one = one_name(words);
    match many(words).map(|many| legal(&many.join("_").to_lower_camel_case(), "table")) {
        Some(many) if many != one => many,
        _ => format!("{one}List"),
    }
}

/// `starts_on` → `startsOn`.
pub(super) fn field_name(column: &str) -> String {
    legal(&plain(column, COLUMN).to_lower_camel_case(), COLUMN)
}

/// The same of a member of JSON.
pub(super) fn member_name(member: &str) -> String {
    legal(&plain(member, MEMBER).to_lower_camel_case(), MEMBER)
}

/// A name as it is, where GraphQL allows it.
pub(super) fn as_it_is(name: &str) -> Option<String> {
    (is_graphql_name(name) && !name.starts_with("__")).then(|| name.to_owned())
}

/// `begin`, `area` → `beginArea`.
pub(super) fn link_name(words: &[String]) -> String {
    legal(&words.join("_").to_lower_camel_case(), "link")
}

/// `booking_status`, `public.booking_status` → `BookingStatus`.
pub(super) fn enum_name(declared: &str) -> String {
    let relation = declared.rsplit_once('.').map_or(declared, |(_, relation)| relation);
    legal(&plain(relation, "enum").to_pascal_case(), "Enum")
}

/// `hut` → `Hut`.
pub(super) fn pascal(field: &str) -> String {
    field.to_pascal_case()
}

/// `not yet open` → `NOT_YET_OPEN`; none where nothing legal is left.
pub(super) fn enum_value_name(text: &str) -> Option<String> {
    if text.chars().any(needs_its_language) {
        return None;
    }
    let name = plain(text, "").to_shouty_snake_case();
    let name = if name.starts_with(|c: char| c.is_ascii_digit()) { format!("VALUE_{name}") } else { name };
    is_graphql_name(&name).then_some(name)
}

/// Letters and digits that GraphQL allows, `_` for all others. What can be written in ASCII only by those who know its language is
/// the `neutral` word.
fn plain(name: &str, neutral: &str) -> String {
    let mut text = String::new();
    let mut was_neutral = false;
    for c in name.chars() {
        let is_neutral = needs_its_language(c);
        if !is_neutral {
            text.push(c);
        } else if !was_neutral {
            text.push_str(&format!("_{neutral}_"));
        }
        was_neutral = is_neutral;
    }
    deunicode::deunicode(&text).chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect()
}

/// Is a letter one of a script whose letters are read in one way or another by the language that they are used for, or written without
/// the vowels: `日本` is not `riBen`?
pub(super) fn needs_its_language(c: char) -> bool {
    matches!(c,
        // Hebrew, Arabic, Syriac and what belongs to them.
        '\u{0590}'..='\u{08FF}' | '\u{FB1D}'..='\u{FDFF}' | '\u{FE70}'..='\u{FEFC}'
        // Thai, Lao, Burmese, Khmer.
        | '\u{0E00}'..='\u{0EFF}' | '\u{1000}'..='\u{109F}' | '\u{1780}'..='\u{17FF}'
        // Han.
        | '\u{2E80}'..='\u{2FDF}' | '\u{3005}'..='\u{3007}' | '\u{3400}'..='\u{4DBF}' | '\u{4E00}'..='\u{9FFF}'
        | '\u{F900}'..='\u{FAFF}' | '\u{20000}'..='\u{3FFFF}')
}

/// What a table is called of which nobody can say what it is called.
pub(super) const TABLE: &str = "table";
/// The same of a column.
pub(super) const COLUMN: &str = "column";
/// The same of a member of JSON.
pub(super) const MEMBER: &str = "member";

/// A name that begins with a letter: with a word before it, where it does not.
fn legal(name: &str, word: &str) -> String {
    match name.chars().next() {
        None => word.to_owned(),
        Some(first) if first.is_ascii_digit() => format!("{word}{name}"),
        Some(_) => name.to_owned(),
    }
}

/// What the names of an object type's helper types end with, now or once it can be written to.
pub(super) const TYPE_HELPERS: &[&str] = &[
    "Filter",
    "ListFilter",
    "Order",
    "Key",
    "Connection",
    "Rows",
    "Edge",
    "Create",
    "Set",
    "Change",
    "Changes",
    "Add",
    "Push",
    "Pull",
    "Unset",
    "Target",
    "IfExists",
    "KeyName",
    "Summary",
    "SummaryGroup",
    "SummaryKey",
    "SummaryBy",
    "SummaryOrder",
];

/// What the names of the helper types of an object inside JSON, and of items of a list there, end with.
pub(super) const OBJECT_HELPERS: &[&str] = &[
    "Filter",
    "ListFilter",
    "Order",
    "Create",
    "Set",
    "Add",
    "Push",
    "Pull",
    "Unset",
    "Summary",
    "SummaryKey",
    "SummaryBy",
    "SummaryOrder",
];

/// What the names of the helper types of a link over a join table end with.
pub(super) const LINK_HELPERS: &[&str] = &["Connection", "Rows", "Edge", "Link", "Links"];

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;
    use crate::catalog::{Catalog, Table};

    #[rstest]
    #[case("bookings", "Booking", "booking", "bookings")]
    #[case("mountain_huts", "MountainHut", "mountainHut", "mountainHuts")]
    #[case("weather_readings", "WeatherReading", "weatherReading", "weatherReadings")]
    #[case("equipment", "Equipment", "equipment", "equipmentList")]
    #[case("hut supplies", "HutSupply", "hutSupply", "hutSupplies")]
    #[case("indices", "Index", "index", "indices")]
    #[case("oauth2_tokens", "Oauth2Token", "oauth2Token", "oauth2Tokens")]
    #[case("address2", "Address2", "address2", "address2List")]
    #[case("2024-report", "Table2024Report", "table2024Report", "table2024Reports")]
    #[case("Höhenwege", "Hohenwege", "hohenwege", "hohenweges")]
    #[case("--", "Table", "table", "tableList")]
    #[case("userdata", "Userdata", "userdata", "userdataList")]
    #[case("日本", "Table", "table", "tables")]
    #[case("города", "Goroda", "goroda", "gorodas")]
    fn tables_get_the_names_of_one_and_of_many(
        #[case] table: &str,
        #[case] name: &str,
        #[case] one: &str,
        #[case] list: &str,
    ) {
        let words = words(table, TABLE);
        assert_eq!(
            (type_name(&words).as_str(), one_name(&words).as_str(), list_name(&words).as_str()),
            (name, one, list)
        );
        assert!(is_graphql_name(name));
    }

    #[rstest]
    #[case("sales", "orders", "SalesOrder")]
    #[case("sales", "sales_orders", "SalesOrder")]
    #[case("sale", "sales_orders", "SalesOrder")]
    #[case("crm_sales", "sales_orders", "CrmSalesOrder")]
    #[case("sales", "sales", "Sale")]
    fn schemas_and_tables_say_a_word_once(#[case] schema: &str, #[case] relation: &str, #[case] name: &str) {
        let known = Catalog::from_text(include_str!("../../tests/data/huts.json")).unwrap().tables.remove(0);
        let (schema, relation) = (Some(schema.to_owned()), Some(relation.to_owned()));
        let table = Table { name: "qualified".to_owned(), schema, relation, ..known };
        assert_eq!(type_name(&table_words(&table)), name);
    }

    #[rstest]
    #[case("日本", "column", "member")]
    #[case("价格_usd", "columnUsd", "memberUsd")]
    #[case("2fa", "column2fa", "member2fa")]
    #[case("имя", "imia", "imia")]
    fn what_cannot_be_written_has_a_neutral_name(#[case] name: &str, #[case] column: &str, #[case] member: &str) {
        assert_eq!((field_name(name).as_str(), member_name(name).as_str()), (column, member));
        assert_eq!(enum_value_name("日本"), None);
    }

    #[test]
    fn enum_values_are_upper_case_and_legal() {
        assert_eq!(enum_value_name("not yet open").as_deref(), Some("NOT_YET_OPEN"));
        assert_eq!(enum_value_name("2nd").as_deref(), Some("VALUE_2ND"));
        assert_eq!(enum_value_name("—").as_deref(), None);
    }
}
