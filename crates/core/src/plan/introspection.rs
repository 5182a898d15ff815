//! What introspection would answer, counted before it is: aliases and nested lists multiply, and what executes it asks no
//! budget. The count is exact but for selections that are merged, which it counts each.

use std::collections::HashMap;

use apollo_compiler::Schema;
use apollo_compiler::ast::{Argument, DirectiveDefinition, FieldDefinition, InputValueDefinition, Type, Value as Ast};
use apollo_compiler::executable::{Field, Selection, SelectionSet};
use apollo_compiler::schema::{EnumValueDefinition, ExtendedType};

use super::document::Document;
use crate::error::{Code, Problem};

/// Bytes that a member of an answer takes at the least, for its punctuation and the shortest of values.
const PER_MEMBER: u64 = 5;
/// Bytes of an answer to a member of it: each is a small object in memory before it is written.
const BYTES_TO_A_MEMBER: u64 = 40;

/// How large an answer, or a part of it, is.
#[derive(Debug, Clone, Copy, Default, PartialEq, Eq)]
struct Size {
    members: u64,
    bytes: u64,
}

impl Size {
    fn and(self, other: Size) -> Size {
        Size { members: self.members.saturating_add(other.members), bytes: self.bytes.saturating_add(other.bytes) }
    }
}

/// What a selection set is about.
#[derive(Clone, Copy)]
enum About<'s> {
    Schema,
    /// A named type.
    Named(&'s ExtendedType),
    /// A list, or what cannot be null.
    Wrapped(&'s Type),
    /// A list of this, out of one that cannot be null.
    ListOf(&'s Type),
    Field(&'s FieldDefinition),
    InputValue(&'s InputValueDefinition),
    EnumValue(&'s EnumValueDefinition),
    Directive(&'s DirectiveDefinition),
}

/// Checks that what introspection answers stays within the bytes of an answer.
///
/// # Errors
/// `TOO_COSTLY`.
pub(super) fn check_size(document: &Document, most_bytes: usize) -> Result<(), Problem> {
    let mut counting = Counting { schema: &document.schema, document, known: HashMap::new() };
    let size = counting.set(&document.operation.selection_set, None);
    let most = most_bytes as u64;
    if size.bytes <= most && size.members.saturating_mul(BYTES_TO_A_MEMBER) <= most {
        return Ok(());
    }
    let text = format!(
        "introspection would answer more than `answer_bytes`, {most_bytes}, is good for; raise that limit, ask for `__type`s one at a time, or print the schema with `puente schema`"
    );
    Err(Problem::new(Code::TooCostly, text))
}

struct Counting<'s> {
    schema: &'s Schema,
    document: &'s Document,
    /// What a selection set of something comes to, by where both are in memory.
    known: HashMap<(usize, u8, usize), Size>,
}

fn address<T: ?Sized>(of: &T) -> usize {
    std::ptr::from_ref(of).cast::<()>().addr()
}

impl<'s> Counting<'s> {
    /// A selection set of something; at the root, where it is about nothing of the schema, only introspection counts.
    fn set(&mut self, set: &'s SelectionSet, about: Option<About<'s>>) -> Size {
        let (kind, what) = match about {
            None => (0, 0),
            Some(About::Schema) => (1, 0),
            Some(About::Named(of)) => (2, address(of)),
            Some(About::Wrapped(of)) => (3, address(of)),
            Some(About::ListOf(of)) => (4, address(of)),
            Some(About::Field(of)) => (5, address(of)),
            Some(About::InputValue(of)) => (6, address(of)),
            Some(About::EnumValue(of)) => (7, address(of)),
            Some(About::Directive(of)) => (8, address(of)),
        };
        let key = (address(set), kind, what);
        if let Some(known) = self.known.get(&key) {
            return *known;
        }
        let document = self.document;
        let mut size = Size::default();
        for selection in &set.selections {
            size = size.and(match selection {
                Selection::Field(field) => self.field(field, about),
                Selection::InlineFragment(fragment) => self.set(&fragment.selection_set, about),
                Selection::FragmentSpread(spread) => {
                    let fragment = document.executable.fragments.get(&spread.fragment_name);
                    fragment.map_or(Size::default(), |fragment| self.set(&fragment.selection_set, about))
                }
            });
        }
        self.known.insert(key, size);
        size
    }

    fn field(&mut self, field: &'s Field, about: Option<About<'s>>) -> Size {
        let schema = self.schema;
        let inner = field.selection_set.as_ref();
        let named = |name: &str| schema.types.get(name).map(About::Named);
        let name = field.name.as_str();
        let below = match (about, name) {
            (None, "__schema") => self.all(inner, Some(About::Schema)),
            (None, "__type") => match argument(&field.arguments, "name") {
                // Whichever it is that a variable names.
                Some(Ast::Variable(_)) => {
                    let sizes = schema.types.values().map(|of| self.all(inner, Some(About::Named(of))));
                    sizes.max_by_key(|size| size.bytes).unwrap_or_default()
                }
                Some(Ast::String(of)) => self.all(inner, named(of)),
                _ => Size::default(),
            },
            // What else is asked for at the root is no introspection.
            (None, _) => return Size::default(),
            (Some(About::Schema), "types") => self.all(inner, schema.types.values().map(About::Named)),
            (Some(About::Schema), "directives") => {
                self.all(inner, schema.directive_definitions.values().map(|of| About::Directive(of)))
            }
            (Some(About::Schema), "queryType") => {
                self.all(inner, schema.schema_definition.query.as_ref().and_then(|name| named(name)))
            }
            (Some(About::Schema), "mutationType") => {
                self.all(inner, schema.schema_definition.mutation.as_ref().and_then(|name| named(name)))
            }
            (Some(About::Named(of)), _) => self.of_type(of, field),
            (Some(About::Wrapped(of)), "ofType") => {
                let of = match of {
                    Type::List(of) => self.about_type(of),
                    Type::NonNullList(of) => Some(About::ListOf(of)),
                    Type::NonNullNamed(name) | Type::Named(name) => named(name),
                };
                self.all(inner, of)
            }
            (Some(About::ListOf(of)), "ofType") => {
                let of = self.about_type(of);
                self.all(inner, of)
            }
            (Some(About::Field(of)), "type") => {
                let about = self.about_type(&of.ty);
                self.all(inner, about)
            }
            (Some(About::Field(of)), "args") => self.all(inner, of.arguments.iter().map(|of| About::InputValue(of))),
            (Some(About::InputValue(of)), "type") => {
                let about = self.about_type(&of.ty);
                self.all(inner, about)
            }
            (Some(About::Directive(of)), "args") => {
                self.all(inner, of.arguments.iter().map(|of| About::InputValue(of)))
            }
            (Some(about), _) => Size { members: 0, bytes: leaf(about, name) },
        };
        below.and(Size { members: 1, bytes: field.response_name().len() as u64 + PER_MEMBER })
    }

    /// A field of a named type.
    fn of_type(&mut self, of: &'s ExtendedType, field: &'s Field) -> Size {
        let schema = self.schema;
        let inner = field.selection_set.as_ref();
        match (field.name.as_str(), of) {
            ("fields", ExtendedType::Object(of)) => self.all(inner, of.fields.values().map(|of| About::Field(of))),
            ("fields", ExtendedType::Interface(of)) => self.all(inner, of.fields.values().map(|of| About::Field(of))),
            ("inputFields", ExtendedType::InputObject(of)) => {
                self.all(inner, of.fields.values().map(|of| About::InputValue(of)))
            }
            ("enumValues", ExtendedType::Enum(of)) => {
                self.all(inner, of.values.values().map(|of| About::EnumValue(of)))
            }
            ("interfaces" | "possibleTypes", ExtendedType::Interface(_) | ExtendedType::Union(_)) => {
                // Our schemas have none; if they had, every type could be one.
                self.all(inner, schema.types.values().map(About::Named))
            }
            (name, _) => Size { members: 0, bytes: leaf(About::Named(of), name) },
        }
    }

    fn about_type(&self, of: &'s Type) -> Option<About<'s>> {
        match of {
            Type::Named(name) => self.schema.types.get(name).map(About::Named),
            wrapped => Some(About::Wrapped(wrapped)),
        }
    }

    fn all(&mut self, set: Option<&'s SelectionSet>, of: impl IntoIterator<Item = About<'s>>) -> Size {
        let Some(set) = set else { return Size::default() };
        of.into_iter().fold(Size::default(), |size, about| {
            size.and(self.set(set, Some(about))).and(Size { members: 0, bytes: 1 })
        })
    }
}

fn argument<'a>(arguments: &'a [apollo_compiler::Node<Argument>], name: &str) -> Option<&'a Ast> {
    arguments.iter().find(|argument| argument.name == name).map(|argument| argument.value.as_ref())
}

/// Bytes of a value that has no fields.
fn leaf(about: About<'_>, name: &str) -> u64 {
    let (own, description) = match about {
        About::Schema => ("", None),
        About::Named(of) => (of.name().as_str(), of.description().map(|text| text.len())),
        About::Wrapped(_) | About::ListOf(_) => ("", None),
        About::Field(of) => (of.name.as_str(), of.description.as_ref().map(|text| text.len())),
        About::InputValue(of) => (of.name.as_str(), of.description.as_ref().map(|text| text.len())),
        About::EnumValue(of) => (of.value.as_str(), of.description.as_ref().map(|text| text.len())),
        About::Directive(of) => (of.name.as_str(), of.description.as_ref().map(|text| text.len())),
    };
    const OTHER: u64 = 6;
    match name {
        "name" => own.len() as u64,
        "description" => description.unwrap_or_default() as u64,
        "defaultValue" => match about {
            About::InputValue(of) => of.default_value.as_ref().map_or(OTHER, |value| value.to_string().len() as u64),
            _ => OTHER,
        },
        _ => OTHER,
    }
}
