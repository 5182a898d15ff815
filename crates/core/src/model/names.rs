//! From the database's names to GraphQL's: singular PascalCase types, plural camelCase lists, camelCase fields,
//! UPPER_CASE enum values; and a register that makes newcomers yield.

use std::collections::HashSet;

use heck::{ToLowerCamelCase, ToPascalCase, ToShoutySnakeCase};

use crate::value::Scalar;

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

/// Names that are taken in one scope.
#[derive(Debug, Default)]
pub(super) struct Register {
    taken: HashSet<String>,
}

/// What comes with an object type of this name, now or once it can be written to.
const COMPANIONS: &[&str] = &[
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

impl Register {
    /// A register of type names in which the names that every schema has are taken.
    pub(super) fn of_types() -> Self {
        let mut register = Register::default();
        for name in [
            "Query",
            "Mutation",
            "Subscription",
            "ID",
            "PageInfo",
            "Direction",
            "Grouping",
            "DateGrouping",
            "KeySummaryOrder",
            "ExistingRow",
        ] {
            register.taken.insert(name.to_owned());
        }
        for scalar in Scalar::ALL {
            register.taken.insert(scalar.name().to_owned());
            for companion in ["Filter", "ListFilter", "Summary", "SummaryOrder"] {
                register.taken.insert(format!("{}{companion}", scalar.name()));
            }
        }
        register
    }

    /// Takes a name as it is; false where it is taken already.
    pub(super) fn take(&mut self, name: &str) -> bool {
        self.taken.insert(name.to_owned())
    }

    /// Takes `wanted`, or the first free of `wanted2`, `wanted3`, ….
    pub(super) fn take_or_number(&mut self, wanted: &str) -> String {
        let name = numbered(wanted).find(|name| !self.taken.contains(name)).expect("there is always a next number");
        self.taken.insert(name.clone());
        name
    }

    /// Takes an object type's name with all its companions as they are; false where one is taken.
    pub(super) fn take_type(&mut self, name: &str) -> bool {
        let free = self.is_type_free(name);
        self.taken.extend(COMPANIONS.iter().map(|companion| format!("{name}{companion}")));
        free
    }

    /// Takes an object type's name with all its companions, with a number where needed.
    pub(super) fn take_type_or_number(&mut self, wanted: &str) -> String {
        let name = numbered(wanted).find(|name| self.is_type_free(name)).expect("there is always a next number");
        self.take_type(&name);
        name
    }

    fn is_type_free(&self, name: &str) -> bool {
        !COMPANIONS.iter().any(|companion| self.taken.contains(&format!("{name}{companion}")))
    }
}

fn numbered(wanted: &str) -> impl Iterator<Item = String> + '_ {
    std::iter::once(wanted.to_owned()).chain((2..).map(move |number| format!("{wanted}{number}")))
}

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
    fn a_newcomer_yields() {
        let mut register = Register::of_types();
        assert_eq!(register.take_type_or_number("Booking"), "Booking");
        assert_eq!(register.take_type_or_number("BookingFilter"), "BookingFilter2");
        assert_eq!(register.take_type_or_number("PageInfo"), "PageInfo2");
    }

    #[test]
    fn enum_values_are_upper_case_and_legal() {
        assert_eq!(enum_value_name("not yet open").as_deref(), Some("NOT_YET_OPEN"));
        assert_eq!(enum_value_name("2nd").as_deref(), Some("_2ND"));
        assert_eq!(enum_value_name("—").as_deref(), None);
    }
}
