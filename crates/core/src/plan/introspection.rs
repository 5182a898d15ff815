//! What a document asks about the schema. The library executes it, but into a tree of small objects that takes many times
//! the memory of what is written, and without asking a budget. So everything is counted before, and each root field is
//! executed by itself, that of `__schema` by its own fields, and `types` type by type: a piece is written, and dropped.
//!
//! The count is exact but for selections that are merged, which it counts each.

use std::collections::HashMap;
use std::sync::Arc;

use apollo_compiler::ast::{Argument, DirectiveDefinition, FieldDefinition, InputValueDefinition, Type, Value as Ast};
use apollo_compiler::collections::HashMap as Implementers;
use apollo_compiler::executable::{Field, Selection, SelectionSet};
use apollo_compiler::response::{JsonMap, JsonValue};
use apollo_compiler::schema::{EnumValueDefinition, ExtendedType};
use apollo_compiler::validation::Valid;
use apollo_compiler::{Name, Node, Schema, introspection, name, schema};
use serde_json::Value as Json;

use super::build::Collected;
use super::document::Document;
use super::variables::Variables;
use crate::error::{Code, Problem};

/// Bytes that a member of an answer takes at the least, for its punctuation and the shortest of values.
const PER_MEMBER: u64 = 5;
/// Members of one piece: each is a small object of about 300 bytes before it is written.
const MOST_MEMBERS_AT_ONCE: u64 = 150_000;
/// Bytes that may be answered for each definition of the schema, whatever `answer_bytes` says. The whole schema, asked for once as
/// tools ask for it, takes about 200, and 12 members.
const BYTES_PER_DEFINITION: u64 = 800;
/// Bytes that may be answered to a member that may be: how long a member takes does not depend on its length.
const BYTES_TO_A_MEMBER: u64 = 40;

/// What a plan asks about the schema.
#[derive(Debug)]
pub(super) struct Introspection {
    document: Arc<Document>,
    roots: Vec<Root>,
}

/// A field of the operation, under its response key.
#[derive(Debug)]
struct Root {
    key: String,
    asked: Asked,
}

#[derive(Debug)]
enum Asked {
    /// `__type`.
    Type(Fields),
    /// `__schema`, by its own fields.
    Schema(Vec<Fields>),
}

/// Fields of one response key.
type Fields = Vec<Node<Field>>;

/// What introspection answers, by response key: JSON.
pub(super) type Answers = Vec<(String, Vec<u8>)>;

impl Introspection {
    pub(super) fn new(document: &Arc<Document>, roots: Roots) -> Self {
        Introspection { document: Arc::clone(document), roots: roots.0 }
    }

    /// Bytes that it keeps in memory: the document stays as long as it does.
    pub(super) fn weight(&self) -> usize {
        self.document.weight()
    }

    /// Answers everything.
    ///
    /// # Errors
    /// `TOO_COSTLY` where it is more than may be answered.
    pub(super) fn answer(&self, variables: &Variables, answer_bytes: usize) -> Result<Answers, Problem> {
        let document = &*self.document;
        introspection::check_max_depth(&document.executable, &document.operation)
            .map_err(|error| Problem::new(Code::TooCostly, error.message().to_string()))?;
        let values = serde_json::from_value(Json::Object(variables.values().clone())).map_err(|error| wrong(&error))?;
        let values = apollo_compiler::request::coerce_variable_values(&document.schema, &document.operation, &values)
            .map_err(|error| wrong(&error.message()))?;
        let most = (answer_bytes as u64).max(definitions(&document.schema) * BYTES_PER_DEFINITION);
        let mut answering = Answering {
            document,
            values,
            implementers: document.schema.implementers_map(),
            counting: Counting { schema: &document.schema, document, known: HashMap::new() },
            left: most,
            most,
        };
        let whole = self.roots.iter().fold(Size::default(), |size, root| size.and(answering.size(root)));
        if whole.bytes > most || whole.members > most / BYTES_TO_A_MEMBER {
            return Err(answering.too_large());
        }
        self.roots.iter().map(|root| Ok((root.key.clone(), answering.root(root)?))).collect()
    }
}

/// The roots that planning has met so far.
#[derive(Debug, Default)]
pub(super) struct Roots(Vec<Root>);

impl Roots {
    pub(super) fn is_empty(&self) -> bool {
        self.0.is_empty()
    }

    /// Adds a `__type` under its response key.
    pub(super) fn push_type(&mut self, key: &str, fields: &[&Node<Field>]) {
        self.0.push(Root { key: key.to_owned(), asked: Asked::Type(owned(fields)) });
    }

    /// Adds a `__schema` with what is selected of it.
    pub(super) fn push_schema(&mut self, key: &str, selected: &Collected<'_>) {
        let asked = Asked::Schema(selected.values().map(|fields| owned(fields)).collect());
        self.0.push(Root { key: key.to_owned(), asked });
    }
}

fn owned(fields: &[&Node<Field>]) -> Fields {
    fields.iter().copied().cloned().collect()
}

/// Definitions that introspection tells of.
fn definitions(schema: &Schema) -> u64 {
    let types = schema.types.values().map(|of| match of {
        ExtendedType::Object(of) => 1 + of.fields.values().map(|field| 1 + field.arguments.len()).sum::<usize>(),
        ExtendedType::Interface(of) => 1 + of.fields.values().map(|field| 1 + field.arguments.len()).sum::<usize>(),
        ExtendedType::InputObject(of) => 1 + of.fields.len(),
        ExtendedType::Enum(of) => 1 + of.values.len(),
        ExtendedType::Scalar(_) | ExtendedType::Union(_) => 1,
    });
    types.sum::<usize>() as u64
}

fn wrong(error: &dyn std::fmt::Display) -> Problem {
    Problem::new(Code::Internal, "introspection failed").with_detail(crate::error::Detail::plain(error))
}

/// One request that is being answered.
struct Answering<'d> {
    document: &'d Document,
    values: Valid<JsonMap>,
    implementers: Implementers<Name, schema::Implementers>,
    counting: Counting<'d>,
    /// Bytes that may still be written, of how many.
    left: u64,
    most: u64,
}

impl<'d> Answering<'d> {
    /// What a root would come to.
    fn size(&mut self, root: &'d Root) -> Size {
        match &root.asked {
            Asked::Type(fields) => self.counting.fields(fields, None),
            Asked::Schema(selected) => {
                let about = Some(About::Schema);
                selected.iter().fold(Size::default(), |size, fields| size.and(self.counting.fields(fields, about)))
            }
        }
    }

    fn root(&mut self, root: &'d Root) -> Result<Vec<u8>, Problem> {
        match &root.asked {
            Asked::Type(fields) => {
                let size = self.counting.fields(fields, None);
                self.check(size)?;
                self.piece(fields.clone())
            }
            Asked::Schema(selected) => self.schema(selected),
        }
    }

    fn schema(&mut self, selected: &'d [Fields]) -> Result<Vec<u8>, Problem> {
        let mut out = b"{".to_vec();
        for fields in selected {
            if out.len() > 1 {
                out.push(b',');
            }
            let field = &fields[0];
            serde_json::to_writer(&mut out, field.response_name().as_str()).map_err(|error| wrong(&error))?;
            out.push(b':');
            if field.name == "types" {
                self.types(fields, &mut out)?;
            } else {
                let size = self.counting.fields(fields, Some(About::Schema));
                self.check(size)?;
                let mut of_schema = self.field(name!("__schema"))?;
                let selections = fields.iter().cloned().map(Selection::Field).collect();
                of_schema.selection_set = Some(SelectionSet { ty: name!("__Schema"), selections });
                let value = self.value(vec![of_schema.into()])?;
                let below = value.as_object().and_then(|members| members.get(field.response_name().as_str()));
                self.write(below.unwrap_or(&JsonValue::Null), &mut out)?;
            }
        }
        out.push(b'}');
        Ok(out)
    }

    /// Every type as a piece of its own.
    fn types(&mut self, fields: &'d [Node<Field>], out: &mut Vec<u8>) -> Result<(), Problem> {
        let sets = || fields.iter().filter_map(|field| field.selection_set.as_ref());
        let selections = sets().flat_map(|set| set.selections.iter().cloned()).collect();
        let mut of_type = self.field(name!("__type"))?;
        of_type.selection_set = Some(SelectionSet { ty: name!("__Type"), selections });
        out.push(b'[');
        for (number, (name, of)) in self.document.schema.types.iter().enumerate() {
            if number > 0 {
                out.push(b',');
            }
            let about = Some(About::Named(of));
            let size = sets().fold(Size::default(), |size, set| size.and(self.counting.set(set, about)));
            self.check(size)?;
            let argument = Argument { name: name!("name"), value: Ast::String(name.to_string()).into() };
            of_type.arguments = vec![argument.into()];
            let value = self.value(vec![of_type.clone().into()])?;
            self.write(&value, out)?;
        }
        out.push(b']');
        Ok(())
    }

    /// A field of the root type.
    fn field(&self, name: Name) -> Result<Field, Problem> {
        let root = &self.document.operation.selection_set;
        root.new_field(&self.document.schema, name).map_err(|_| wrong(&"the schema has no introspection"))
    }

    /// What is written of fields of the root type that have one response key.
    fn piece(&mut self, fields: Fields) -> Result<Vec<u8>, Problem> {
        let value = self.value(fields)?;
        let mut out = Vec::new();
        self.write(&value, &mut out)?;
        Ok(out)
    }

    /// What fields of the root type that have one response key come to.
    fn value(&self, fields: Fields) -> Result<JsonValue, Problem> {
        let mut operation = self.document.operation.as_ref().clone();
        operation.selection_set.selections = fields.into_iter().map(Selection::Field).collect();
        let Document { schema, executable, .. } = self.document;
        let answer = introspection::partial_execute(schema, &self.implementers, executable, &operation, &self.values)
            .map_err(|error| wrong(&error.message()))?;
        Ok(answer.data.unwrap_or_default().into_iter().next().map_or(JsonValue::Null, |(_, value)| value))
    }

    fn write(&mut self, value: &JsonValue, out: &mut Vec<u8>) -> Result<(), Problem> {
        crate::value::make_room(out);
        let before = out.len();
        serde_json::to_writer(&mut *out, value).map_err(|error| wrong(&error))?;
        self.left = self.left.checked_sub((out.len() - before) as u64).ok_or_else(|| self.too_large())?;
        Ok(())
    }

    /// Checks that a piece may be executed at once.
    fn check(&self, piece: Size) -> Result<(), Problem> {
        if piece.bytes <= self.left && piece.members <= MOST_MEMBERS_AT_ONCE { Ok(()) } else { Err(self.too_large()) }
    }

    fn too_large(&self) -> Problem {
        let text = format!(
            "introspection would answer more than it may, {} bytes; raise `answer_bytes`, ask for `__type`s one at a time, or print the schema with `puente schema`",
            self.most
        );
        Problem::new(Code::TooCostly, text)
    }
}

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
    /// Fields of one response key.
    fn fields(&mut self, fields: &'s [Node<Field>], about: Option<About<'s>>) -> Size {
        fields.iter().fold(Size::default(), |size, field| size.and(self.field(field, about)))
    }

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
            // What else is asked for at the root is not introspection.
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
