//! From the database's names to GraphQL's: singular PascalCase types, plural camelCase lists, camelCase fields,
//! UPPER_CASE enum values.

use heck::{ToLowerCamelCase, ToPascalCase, ToShoutySnakeCase};

/// Is it a name that GraphQL allows and does not reserve?
pub fn is_graphql_name(name: &str) -> bool {
    let mut bytes = name.bytes();
    bytes.next().is_some_and(|first| first.is_ascii_alphabetic() || first == b'_')
        && bytes.all(|byte| byte.is_ascii_alphanumeric() || byte == b'_')
        && !name.starts_with("__")
}

/// `mountain_huts` → `MountainHut`.
pub(super) fn type_name(table: &str) -> String {
    legal(&inflect_last(table, 1).to_pascal_case(), "Type")
}

/// `MountainHut` → `mountainHut`.
pub(super) fn one_name(type_name: &str) -> String {
    legal(&type_name.to_lower_camel_case(), "one")
}

/// `MountainHut` → `mountainHuts`; a word without a plural gets `List`.
pub(super) fn list_name(type_name: &str) -> String {
    let one = one_name(type_name);
    let many = legal(&inflect_last(type_name, 2).to_lower_camel_case(), "list");
    if many == one { format!("{one}List") } else { many }
}

/// `starts_on` → `startsOn`.
pub(super) fn field_name(column: &str) -> String {
    legal(&words(column).to_lower_camel_case(), "column")
}

/// `hut_id` → `hut`; `hutId` → `hut`; other names as they are.
pub(super) fn link_stem(column: &str) -> Option<String> {
    let name = field_name(column);
    ["Id", "Uuid", "Code", "Key", "No", "Ref"]
        .iter()
        .find_map(|suffix| name.strip_suffix(suffix).filter(|stem| !stem.is_empty()).map(str::to_owned))
}

/// `hut` → `Hut`.
pub(super) fn pascal(field: &str) -> String {
    field.to_pascal_case()
}

/// `not yet open` → `NOT_YET_OPEN`; none where nothing legal is left.
pub(super) fn enum_value_name(text: &str) -> Option<String> {
    let name = words(text).to_shouty_snake_case();
    let name = if name.starts_with(|c: char| c.is_ascii_digit()) { format!("_{name}") } else { name };
    is_graphql_name(&name).then_some(name)
}

fn inflect_last(name: &str, count: isize) -> String {
    let snake = heck::ToSnakeCase::to_snake_case(words(name).as_str());
    let (head, last) = snake.rsplit_once('_').map_or(("", snake.as_str()), |(head, last)| (head, last));
    let is_word = last.chars().all(|c| c.is_ascii_alphabetic()) && last.len() > 1;
    let last = if is_word { pluralizer::pluralize(last, count, false) } else { last.to_owned() };
    format!("{head}_{last}")
}

fn words(name: &str) -> String {
    deunicode::deunicode(name).chars().map(|c| if c.is_ascii_alphanumeric() { c } else { '_' }).collect()
}

fn legal(name: &str, or: &str) -> String {
    match name.chars().next() {
        None => or.to_owned(),
        Some(first) if first.is_ascii_digit() => format!("_{name}"),
        Some(_) => name.to_owned(),
    }
}

/// What comes with an object type of this name, now or once it can be written to.
pub(super) const COMPANIONS: &[&str] = &[
    "",
    "Filter",
    "ListFilter",
    "Order",
    "Key",
    "Connection",
    "Edge",
    "Create",
    "Set",
    "Change",
    "Changes",
    "Add",
    "Target",
    "IfExists",
    "KeyName",
    "Link",
    "Links",
    "Summary",
    "SummaryGroup",
    "SummaryKey",
    "SummaryBy",
    "SummaryOrder",
];

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    #[rstest]
    #[case("bookings", "Booking", "booking", "bookings")]
    #[case("mountain_huts", "MountainHut", "mountainHut", "mountainHuts")]
    #[case("weather_readings", "WeatherReading", "weatherReading", "weatherReadings")]
    #[case("equipment", "Equipment", "equipment", "equipmentList")]
    #[case("hut supplies", "HutSupply", "hutSupply", "hutSupplies")]
    #[case("2024-report", "_2024Report", "_2024report", "_2024reportList")]
    #[case("Höhenwege", "Hohenwege", "hohenwege", "hohenweges")]
    fn tables_get_the_names_of_one_and_of_many(
        #[case] table: &str,
        #[case] name: &str,
        #[case] one: &str,
        #[case] list: &str,
    ) {
        let found = type_name(table);
        assert_eq!(found, name);
        assert!(is_graphql_name(&found));
        assert_eq!(list_name(&found), list);
        assert!(one_name(&found).eq_ignore_ascii_case(one));
    }

    #[test]
    fn enum_values_are_upper_case_and_legal() {
        assert_eq!(enum_value_name("not yet open").as_deref(), Some("NOT_YET_OPEN"));
        assert_eq!(enum_value_name("2nd").as_deref(), Some("_2ND"));
        assert_eq!(enum_value_name("—").as_deref(), None);
    }
}
