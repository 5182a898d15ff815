//! What another schema means to those who ask by one: which requests would fail, and what is new.

use apollo_compiler::ast::{FieldDefinition, InputValueDefinition, Type};
use apollo_compiler::schema::ExtendedType;
use apollo_compiler::{Node, Schema};

/// One difference between two schemas.
#[derive(Debug, Clone, PartialEq, Eq)]
pub struct Difference {
    /// What differs, by its schema coordinate: `Hut.name`, `Query.huts(filter:)`.
    pub coordinate: String,
    /// What is different, as a sentence without its subject: "is gone".
    pub text: String,
    /// Can a request fail now that did not, or be answered in a form that its client does not expect?
    pub breaking: bool,
}

/// The differences, those that break requests first, else in the order of the schemas.
pub fn differences(before: &Schema, after: &Schema) -> Vec<Difference> {
    let mut found = Found::default();
    for (name, was) in &before.types {
        match after.types.get(name) {
            None => found.breaks(name, "is gone"),
            Some(is) => found.in_type(name, was, is),
        }
    }
    for name in after.types.keys().filter(|name| !before.types.contains_key(*name)) {
        found.adds(name, "is new");
    }
    // Of two with one meaning the first is enough: `sort_by_key` keeps the order otherwise.
    found.0.sort_by_key(|difference| !difference.breaking);
    found.0
}

#[derive(Default)]
struct Found(Vec<Difference>);

impl Found {
    fn breaks(&mut self, coordinate: impl ToString, text: impl Into<String>) {
        self.0.push(Difference { coordinate: coordinate.to_string(), text: text.into(), breaking: true });
    }

    fn adds(&mut self, coordinate: impl ToString, text: impl Into<String>) {
        self.0.push(Difference { coordinate: coordinate.to_string(), text: text.into(), breaking: false });
    }

    fn in_type(&mut self, name: &str, was: &ExtendedType, is: &ExtendedType) {
        if was.description() != is.description() {
            self.adds(name, "is described otherwise");
        }
        match (was, is) {
            (ExtendedType::Object(was), ExtendedType::Object(is)) => self.in_fields(
                name,
                was.fields.values(),
                |field| is.fields.get(field),
                is.fields.keys().filter(|field| !was.fields.contains_key(*field)).map(|field| field.as_str()).collect(),
            ),
            (ExtendedType::Interface(was), ExtendedType::Interface(is)) => self.in_fields(
                name,
                was.fields.values(),
                |field| is.fields.get(field),
                is.fields.keys().filter(|field| !was.fields.contains_key(*field)).map(|field| field.as_str()).collect(),
            ),
            (ExtendedType::InputObject(was), ExtendedType::InputObject(is)) => {
                for field in was.fields.values() {
                    let coordinate = format!("{name}.{}", field.name);
                    match is.fields.get(&field.name) {
                        None => self.breaks(coordinate, "is gone"),
                        Some(now) => self.in_input(&coordinate, field, now),
                    }
                }
                for field in is.fields.values().filter(|field| !was.fields.contains_key(&field.name)) {
                    self.new_input(&format!("{name}.{}", field.name), field);
                }
            }
            (ExtendedType::Enum(was), ExtendedType::Enum(is)) => {
                for value in was.values.keys().filter(|value| !is.values.contains_key(*value)) {
                    self.breaks(format!("{name}.{value}"), "is gone");
                }
                for value in is.values.keys().filter(|value| !was.values.contains_key(*value)) {
                    self.adds(format!("{name}.{value}"), "is new");
                }
            }
            (ExtendedType::Union(was), ExtendedType::Union(is)) => {
                for member in was.members.iter().filter(|member| !is.members.contains(*member)) {
                    self.breaks(name, format!("is never a `{}` any more", member));
                }
                for member in is.members.iter().filter(|member| !was.members.contains(*member)) {
                    self.adds(name, format!("may be a `{}`, too", member));
                }
            }
            (ExtendedType::Scalar(_), ExtendedType::Scalar(_)) => {}
            _ => self.breaks(name, "is another kind of type"),
        }
    }

    fn in_fields<'s>(
        &mut self,
        name: &str,
        was: impl Iterator<Item = &'s Node<FieldDefinition>>,
        is: impl Fn(&str) -> Option<&'s Node<FieldDefinition>>,
        new: Vec<&str>,
    ) {
        for field in was {
            let coordinate = format!("{name}.{}", field.name);
            match is(&field.name) {
                None => self.breaks(coordinate, "is gone"),
                Some(now) => self.in_field(&coordinate, field, now),
            }
        }
        for field in new {
            self.adds(format!("{name}.{field}"), "is new");
        }
    }

    fn in_field(&mut self, coordinate: &str, was: &FieldDefinition, is: &FieldDefinition) {
        if was.ty != is.ty {
            let text = format!("was `{}`, is `{}`", was.ty, is.ty);
            if is_narrower(&is.ty, &was.ty) { self.adds(coordinate, text) } else { self.breaks(coordinate, text) }
        }
        if was.description != is.description {
            self.adds(coordinate, "is described otherwise");
        }
        for argument in &was.arguments {
            let coordinate = format!("{coordinate}({}:)", argument.name);
            match is.argument_by_name(&argument.name) {
                None => self.breaks(coordinate, "is gone"),
                Some(now) => self.in_input(&coordinate, argument, now),
            }
        }
        for argument in is.arguments.iter().filter(|argument| was.argument_by_name(&argument.name).is_none()) {
            self.new_input(&format!("{coordinate}({}:)", argument.name), argument);
        }
    }

    fn in_input(&mut self, coordinate: &str, was: &InputValueDefinition, is: &InputValueDefinition) {
        if was.ty != is.ty {
            let text = format!("was `{}`, is `{}`", was.ty, is.ty);
            if is_narrower(&was.ty, &is.ty) { self.adds(coordinate, text) } else { self.breaks(coordinate, text) }
        }
    }

    fn new_input(&mut self, coordinate: &str, input: &InputValueDefinition) {
        match input.is_required() {
            true => self.breaks(coordinate, "is new, and required"),
            false => self.adds(coordinate, "is new"),
        }
    }
}

/// Is every value of one type a value of the other? (A non-null type is narrower than the one that allows null.)
fn is_narrower(one: &Type, other: &Type) -> bool {
    match (one, other) {
        (Type::NonNullNamed(one), Type::NonNullNamed(other) | Type::Named(other))
        | (Type::Named(one), Type::Named(other)) => one == other,
        (Type::NonNullList(one), Type::NonNullList(other) | Type::List(other))
        | (Type::List(one), Type::List(other)) => is_narrower(one, other),
        _ => false,
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    const BEFORE: &str = "type Query { huts(first: Int, only: Only): [Hut!] hut(id: ID!): Hut }\n\
                          type Hut { name: String beds: Int! grade: Grade }\n\
                          enum Grade { T1 T2 }\ninput Only { label: String beds: Int }\n";

    fn said(after: &str) -> Vec<String> {
        let schema = |text: &str| Schema::parse_and_validate(text, "s.graphql").expect("a schema");
        let found = differences(&schema(BEFORE), &schema(after));
        found.iter().map(|d| format!("{}{} {}", if d.breaking { "! " } else { "" }, d.coordinate, d.text)).collect()
    }

    #[rstest::rstest]
    #[case::nothing(("", ""), &[])]
    #[case::a_field_gone(("name: String beds", "beds"), &["! Hut.name is gone"])]
    #[case::a_field_more(("beds: Int!", "beds: Int! rooms: Int"), &["Hut.rooms is new"])]
    #[case::null_where_there_was_none(("beds: Int!", "beds: Int"), &["! Hut.beds was `Int!`, is `Int`"])]
    #[case::no_null_any_more(("name: String", "name: String!"), &["Hut.name was `String`, is `String!`"])]
    #[case::a_value_gone(("T1 T2", "T2"), &["! Grade.T1 is gone"])]
    #[case::an_argument_that_must_be((("first: Int"), "first: Int, near: ID!"), &["! Query.huts(near:) is new, and required"])]
    #[case::an_argument_more(("first: Int", "first: Int, near: ID"), &["Query.huts(near:) is new"])]
    #[case::an_input_that_must_be(("beds: Int }", "beds: Int! }"), &["! Only.beds was `Int`, is `Int!`"])]
    #[case::an_argument_that_need_not_be(("id: ID!", "id: ID"), &["Query.hut(id:) was `ID!`, is `ID`"])]
    fn a_change_is_told_with_what_it_breaks(#[case] (out, put): (&str, &str), #[case] expected: &[&str]) {
        // The last occurrence: of what is alike the input's is meant.
        let at = BEFORE.rfind(out).filter(|_| !out.is_empty());
        let after = at.map_or(BEFORE.to_owned(), |at| format!("{}{put}{}", &BEFORE[..at], &BEFORE[at + out.len()..]));
        assert_eq!(said(&after), expected);
    }
}
